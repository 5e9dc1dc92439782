"""Forming a cluster: room to run, who reaches which disks, and everything that is checked before."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Literal

from foldbarn.core.cluster.quorum import Voter, doubts, majority, tolerates, vote_sentence
from foldbarn.core.errors import BarnError
from foldbarn.core.machines.network import PORT_PLAN, Finding, hand_out, port_findings, read_interface
from foldbarn.core.site import Contact, Disk, Node, Role, SiteView
from foldbarn.core.units import GIB, say_count, say_list

KEEPERS = (3, 5)  # or 2 and a witness
CLOCK_DOUBT, CLOCK_FAIL = 0.25, 2.0  # seconds of offset; votes are timed in tenths of a second
# What the storage service needs of a node, by rule of thumb (our own, from common practice for such
# services).
BASE_MEMORY, MEMORY_PER_DISK, MEMORY_PER_VOTE = 4 * GIB, GIB // 2, GIB
BASE_CORES, DISKS_PER_CORE = 2, 4


@dataclass(frozen=True, slots=True)
class Need:
    """What storage takes of a node, and what is left for other work; memory in bytes."""

    node: str
    cores: int
    memory_bytes: int
    cores_left: int
    memory_left: int


@dataclass(frozen=True, slots=True)
class Wish:
    """A cluster as wished for. keepers, dedicated, members: node names."""

    name: str
    members: tuple[str, ...]
    keepers: tuple[str, ...]
    service_address: str
    witness: str = ""
    witness_room: str = ""
    witness_rack: str = ""
    dedicated: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Check:
    """One precheck: pass, doubt (warns) or fail (blocks), with what would cure it."""

    name: str
    result: Literal["pass", "doubt", "fail"]
    sentence: str
    cure: str = ""
    about: str = ""  # the node it is about, where it is about one


def need_of(node: Node, disks: int, keeper: bool, dedicated: bool) -> Need:
    """What storage needs of a node with this many disks. A dedicated node has nothing left for other work."""
    cores = BASE_CORES + math.ceil(disks / DISKS_PER_CORE)
    memory = BASE_MEMORY + disks * MEMORY_PER_DISK + (MEMORY_PER_VOTE if keeper else 0)
    left = (0, 0) if dedicated else (node.cores - cores, node.memory_bytes - memory)
    return Need(node.name, cores, memory, *left)


def needs(view: SiteView, wish: Wish) -> list[Need]:
    """By member, in the view's order."""
    disks = Counter(view.nodes[d.node].name for d in view.disks if d.role in (Role.UNCLAIMED, Role.CAPACITY))
    return [
        need_of(n, disks[n.name], n.name in wish.keepers, n.name in wish.dedicated)
        for n in view.nodes
        if n.name in wish.members
    ]


def voters(view: SiteView, wish: Wish) -> list[Voter]:
    """The votes a wish would make."""
    rack_of = {n.name: view.racks[n.rack] for n in view.nodes}
    found = [
        Voter(k, view.rooms[rack_of[k].room].name, rack_of[k].name) for k in wish.keepers if k in rack_of
    ]
    return (
        [*found, Voter(wish.witness, wish.witness_room, wish.witness_rack, witness=True)]
        if wish.witness
        else found
    )


def wish_of(view: SiteView) -> Wish:
    """The cluster that stands, as a wish."""
    cluster = view.cluster
    if cluster is None:
        raise ValueError("no cluster is formed")
    return Wish(
        cluster.name,
        tuple(n.name for n in view.nodes if n.member),
        tuple(n.name for n in view.nodes if n.keeper),
        cluster.service_address,
        cluster.witness,
        cluster.witness_room,
        cluster.witness_rack,
        tuple(n.name for n in view.nodes if n.dedicated),
    )


def network_findings(view: SiteView, members: Collection[str]) -> list[Finding]:
    """What is wrong or doubtful about the ports of these nodes."""
    return port_findings(
        [p for n in view.nodes for p in n.ports], [n.name for n in view.nodes if n.name in members]
    )


def closed_between(view: SiteView, members: Collection[str]) -> list[tuple[str, str, int, str]]:
    """Ports that the last test of the port plan found shut between these nodes."""
    return [c for c in view.closed_ports if c[0] in members and c[1] in members]


@dataclass(frozen=True, slots=True)
class Reach:
    """How many of one node's pooled (or poolable) disks another reaches; why names what is in the way."""

    source: str
    target: str
    reached: int
    of: int
    why: str = ""


def reach_matrix(view: SiteView, members: Sequence[str]) -> list[Reach]:
    """Every node against every node's disks, itself included: 4 nodes of 6 disks are 24 from each."""
    strips = next(o for o in PORT_PLAN if o.name == "strips")
    shut = {(a, b): port for a, b, port, _ in view.closed_ports if strips.first <= port <= strips.last}
    found = []
    nodes = {n.name: n for n in view.nodes}
    by_node: dict[str, list[Disk]] = {name: [] for name in members}
    for disk in view.disks:
        name = view.nodes[disk.node].name
        if name in by_node and disk.role in (Role.CAPACITY, Role.UNCLAIMED):
            by_node[name].append(disk)
    for source in members:
        for target, disks in by_node.items():
            present = sum(d.present for d in disks)
            if nodes[source].contact != Contact.HEARD:
                found.append(Reach(source, target, 0, len(disks), f"{source} is not heard"))
            elif nodes[target].contact != Contact.HEARD:
                found.append(Reach(source, target, 0, len(disks), f"{target} is not heard"))
            elif source != target and (source, target) in shut:
                found.append(
                    Reach(
                        source,
                        target,
                        0,
                        len(disks),
                        f"port {shut[source, target]} of {target} is shut to {source}",
                    )
                )
            else:
                why = (
                    ""
                    if present == len(disks)
                    else f"{say_list([d.name for d in disks if not d.present])} missing from {target}"
                )
                found.append(Reach(source, target, present, len(disks), why))
    return found


def prechecks(view: SiteView, wish: Wish) -> list[Check]:
    """Everything that is checked before a cluster is formed, in the order a person would ask."""
    members = [n for n in view.nodes if n.name in wish.members]
    found = [*_membership(view, wish, members), *_votes(view, wish), *_address(view, wish)]
    found += _heard(members)
    found += findings_as_checks(network_findings(view, wish.members))
    found += _open_ports(view, wish)
    found += _clocks(members)
    found += _room_to_run(view, wish)
    return found


def _membership(view: SiteView, wish: Wish, members: list[Node]) -> list[Check]:
    unknown = sorted(set(wish.members) - {n.name for n in view.nodes})
    if unknown:
        return [
            Check(
                "nodes",
                "fail",
                f"There is no node named {say_list(unknown)}.",
                "Choose nodes that have reported in.",
            )
        ]
    if len(members) < 2:
        return [
            Check(
                "nodes",
                "fail",
                f"{say_count(len(members), 'node')} chosen; a cluster has at least two.",
                "Choose more nodes.",
            )
        ]
    others = [n.name for n in view.nodes if n.name not in wish.members]
    left = f" {say_list(others)} stay{'s' if len(others) == 1 else ''} outside." if others else ""
    return [Check("nodes", "pass", f"{say_count(len(members), 'node')} will form it.{left}")]


def _votes(view: SiteView, wish: Wish) -> list[Check]:
    outside = sorted(set(wish.keepers) - set(wish.members))
    if outside:
        return [
            Check(
                "votes",
                "fail",
                f"{say_list(outside)} would be a keeper, but is not among the chosen nodes.",
                "Choose keepers among the nodes.",
            )
        ]
    if len(wish.keepers) == 2 and not wish.witness:
        return [
            Check(
                "votes",
                "fail",
                "Two keepers alone decide nothing once one is lost.",
                "Add a witness, or a third keeper.",
            )
        ]
    if len(wish.keepers) not in (2, *KEEPERS):
        return [
            Check(
                "votes",
                "fail",
                f"{say_count(len(wish.keepers), 'keeper')} chosen; a cluster has 3 or 5, or 2 and a witness.",
                "Choose keepers.",
            )
        ]
    votes = voters(view, wish)
    found = [Check("votes", "pass", f"{vote_sentence(votes)}.".capitalize())]
    return found + [
        Check(
            "votes",
            "doubt",
            f"{sentence[0].upper()}{sentence[1:]}.",
            "Choose keepers in other racks or rooms, or place the witness apart.",
        )
        for sentence in doubts(votes)
    ]


def _address(view: SiteView, wish: Wish) -> list[Check]:
    if not wish.service_address:
        return [
            Check(
                "service address",
                "fail",
                "No service address is given.",
                "Choose one that nothing uses, in a network of every keeper.",
            )
        ]
    try:
        service = read_interface(wish.service_address)
        hand_out(wish.service_address, 1)
    except BarnError as error:
        return [Check("service address", "fail", error.sentence, error.next_step or "")]
    if str(hand_out(wish.service_address, 1)[0]) != str(service):
        return [
            Check(
                "service address",
                "fail",
                f"{service.ip} cannot be given to a port: it stands for its whole network.",
                "Take another address of the same network.",
            )
        ]
    owners = [
        f"{p.name} of {n.name}"
        for n in view.nodes
        for p in n.ports
        for a in p.addresses
        if a.split("/")[0] == str(service.ip)
    ]
    if owners:
        return [
            Check(
                "service address",
                "fail",
                f"{service.ip} is the address of {say_list(owners)} already.",
                "Take an address that nothing uses.",
            )
        ]
    strangers = [
        k
        for n in view.nodes
        if (k := n.name) in wish.keepers
        and not any(read_interface(a).network == service.network for p in n.ports for a in p.addresses)
    ]
    if strangers:
        return [
            Check(
                "service address",
                "doubt",
                f"{say_list(strangers)} has no port in {service.network}, so it could not take the "
                "service address over.",
                "Give each keeper a port in that network.",
            )
        ]
    return [
        Check(
            "service address",
            "pass",
            f"{service.ip} is free, and every keeper has a port in {service.network}.",
        )
    ]


def _heard(members: list[Node]) -> list[Check]:
    found = []
    for node in members:
        if node.contact == Contact.AWAITED:
            found.append(
                Check(
                    "agents",
                    "fail",
                    f"{node.name} is only known from a description; its agent has not reported.",
                    "Start the agent there.",
                    node.name,
                )
            )
        elif node.contact != Contact.HEARD:
            found.append(
                Check(
                    "agents",
                    "fail",
                    f"{node.name} is not heard. {node.reason}".strip(),
                    "Bring it back, or leave it out.",
                    node.name,
                )
            )
    return found or [Check("agents", "pass", f"All {len(members)} agents report in time.")]


def findings_as_checks(findings: Sequence[Finding]) -> list[Check]:
    """Findings about the network as checks; one that passes where there are none."""
    well = Check("network", "pass", "Every node has storage ports that fit together.")
    return [Check("network", f.weight, f.sentence, f.cure, f.node) for f in findings] or [well]


def _open_ports(view: SiteView, wish: Wish) -> list[Check]:
    if not view.ports_tested_at:
        return [
            Check(
                "port plan",
                "doubt",
                "The port plan has not been tested.",
                "Test it: the agents try every opening.",
            )
        ]
    shut: dict[tuple[str, str], list[tuple[int, str]]] = {}
    for source, target, port, why in closed_between(view, wish.members):
        shut.setdefault((target, why), []).append((port, source))
    found = []
    for (target, why), what in sorted(shut.items()):
        ports, sources = sorted({p for p, _ in what}), sorted({s for _, s in what})
        words = f"{say_list(sources)} cannot reach {target} on {say_list([str(p) for p in ports])}: {why}."
        found.append(
            Check(
                "port plan",
                "fail",
                words,
                f"Open {say_count(len(ports), 'port')} on {target}, as the port plan lists.",
                target,
            )
        )
    return found or [
        Check("port plan", "pass", "Every opening of the port plan that agents can try is open.")
    ]


def _clocks(members: list[Node]) -> list[Check]:
    found = []
    for node in members:
        offset = node.clock_offset
        if offset is not None and abs(offset) >= CLOCK_DOUBT:
            weight: Literal["doubt", "fail"] = "fail" if abs(offset) >= CLOCK_FAIL else "doubt"
            words = f"The clock of {node.name} is {abs(offset):.1f} s {'ahead' if offset > 0 else 'behind'}."
            found.append(
                Check(
                    "clocks", weight, words, "Let it follow the same time servers as the others.", node.name
                )
            )
    return found or [Check("clocks", "pass", f"All clocks agree to within {CLOCK_DOUBT} s.")]


def _room_to_run(view: SiteView, wish: Wish) -> list[Check]:
    found = []
    asked = needs(view, wish)
    for need in asked:
        node = view.node(need.node)
        if node.cores < need.cores or node.memory_bytes < need.memory_bytes:
            has = f"it has {node.cores} and {node.memory_bytes / GIB:.1f} GiB"
            words = (
                f"Storage needs {need.cores} cores and {need.memory_bytes / GIB:.1f} GiB on {node.name}; "
                f"{has}."
            )
            found.append(
                Check(
                    "room to run",
                    "fail" if node.memory_bytes < need.memory_bytes else "doubt",
                    words,
                    "Add memory, or leave it out.",
                    node.name,
                )
            )
    if asked and all(n.node in wish.dedicated for n in asked):
        found.append(
            Check(
                "room to run",
                "doubt",
                f"All {say_count(len(asked), 'node')} are dedicated to storage: nothing is left for "
                "other work.",
                "Dedicate fewer nodes, or add some that carry no storage.",
            )
        )
    elif wish.dedicated and sum(n.memory_left for n in asked) < sum(n.memory_bytes for n in asked):
        found.append(
            Check(
                "room to run",
                "doubt",
                "Less is left for other work than storage takes.",
                "Dedicate fewer nodes.",
            )
        )
    if found:
        return found
    cores, memory = sum(max(0, n.cores_left) for n in asked), sum(max(0, n.memory_left) for n in asked)
    return [
        Check("room to run", "pass", f"{cores} cores and {memory / GIB:.0f} GiB are left for other work.")
    ]


class Tie(StrEnum):
    """What ties a member to its cluster."""

    DATA = "data"
    POOL = "pool"
    VOTE = "vote"  # its vote is needed: another keeper could take it over
    QUORUM = "quorum"  # too few of the other votes are heard now


@dataclass(frozen=True, slots=True)
class Bond:
    """Why a member cannot be let go."""

    tie: Tie
    sentence: str


def bond_of(view: SiteView, name: str, heir: str = "") -> Bond | None:
    """What keeps a member from being let go; None for nothing. heir: the member that gets its vote, where one
    does.
    """
    node = view.node(name)
    row = view.nodes.index(node)
    held = int(view.disk_used[view.disk_node == row].sum())
    if held:
        return Bond(Tie.DATA, f"{name} holds {say_count(held, 'strip')}.")
    pooled = [d.name for d in view.disks if d.node == row and d.pool >= 0]
    if pooled:
        return Bond(Tie.POOL, f"{say_list(pooled)} {'is' if len(pooled) == 1 else 'are'} in a pool.")
    if not node.keeper:
        return None
    wish = wish_of(view)
    left = sorted({k for k in (*wish.keepers, heir) if k and k != name})
    votes = len(left) + bool(wish.witness)
    if not tolerates(votes):
        words = f"{name} has a vote; {say_count(votes, 'vote')} would be left, which tolerate no loss."
        return Bond(Tie.VOTE, f"{words} Name another keeper first.")
    if len(left) not in KEEPERS and not (len(left) == 2 and wish.witness):
        words = (
            f"{name} has a vote; {say_count(len(left), 'keeper')} would be left, and a cluster has 3 or "
            "5, or 2 and a witness."
        )
        return Bond(Tie.VOTE, f"{words} Name another keeper first.")
    silent = [k for k in left if view.node(k).contact != Contact.HEARD]
    if wish.witness and view.cluster is not None and view.cluster.witness_silent:
        silent.append(f"the witness {wish.witness}")
    if votes - len(silent) < majority(votes):
        words = f"{name} has a vote, and {say_list(silent)} {'is' if len(silent) == 1 else 'are'} not heard"
        return Bond(Tie.QUORUM, f"{words}: of {say_count(votes, 'vote')} left, {majority(votes)} decide.")
    return None
