"""Inventory files dropped on the page or sent to the API: many at once, each judged by itself."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

from foldbarn.core.actors import Actor
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.machines.hardware import Inventory
from foldbarn.core.machines.reading import (
    kind_of_file,
    node_of_file,
    read_disks,
    read_health,
    read_inventory,
    read_ports,
    serial_of_smart,
)
from foldbarn.core.names import check_name
from foldbarn.core.site import Contact
from foldbarn.core.units import MB, say_count
from foldbarn.links.bmc import Bmc
from foldbarn.store import records
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.intake import (
    UNPLACED_RACK,
    UNPLACED_ROOM,
    add_node,
    find_node,
    find_nodes,
    find_rack,
    take_disks,
    take_facts,
    take_inventory,
    take_ports,
)
from foldbarn.store.nodes import disks_by_serial
from foldbarn.store.tables import NodeRow

WHOLE = {"agent", "lsblk"}  # kinds of file that list all of a node's disks
LARGEST_FILE = 16 * MB  # an lsblk of 2,048 disks has about 6 MB


@dataclass(frozen=True, slots=True)
class File:
    name: str
    text: str


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of one file. taken: its facts are written down; skipped: they were not needed; refused:
    something is wrong with it.
    """

    file: str
    result: Literal["taken", "skipped", "refused"]
    sentence: str
    next_step: str = ""
    node: str = ""


def take_files(actor: Actor, files: Sequence[File]) -> list[Outcome]:
    """Takes each file that makes sense, refuses each that does not with a sentence, in the order given. One
    transaction for all that are taken.

    A node's files belong together whatever their order: its block devices, the health of its disks, its
    links.
    """
    outcomes: dict[int, Outcome] = {}
    by_node: dict[str, list[tuple[int, str, Any]]] = defaultdict(list)
    for i, file in enumerate(files):
        try:
            for node, kind, content in _read(file):
                by_node[node].append((i, kind, content))
        except BarnError as error:
            outcomes[i] = Outcome(file.name, "refused", error.sentence, error.next_step or "")
    with transaction() as session:
        rows = find_nodes(session, by_node)
        rack = None
        taken: list[tuple[NodeRow, Inventory, list[tuple[int, str, Any]]]] = []
        for name, parts in by_node.items():
            try:
                row = rows.get(name)
                if row is not None and row.contact != Contact.AWAITED:
                    for i, _, _ in parts:
                        outcomes[i] = Outcome(
                            files[i].name,
                            "skipped",
                            f"{row.name}'s own agent reports, and knows better than a file.",
                            node=row.name,
                        )
                    continue
                inventory = _merge(name, parts)
                if row is None:
                    if not {kind for _, kind, _ in parts} & WHOLE:
                        raise NotPossible(f"{name} is not known yet; what lsblk says of it is needed first.")
                    if not inventory.rack:
                        rack = rack or find_rack(session, UNPLACED_ROOM, UNPLACED_RACK)
                    row = add_node(session, inventory, source="files", rack=None if inventory.rack else rack)
                taken.append((row, inventory, parts))
            except BarnError as error:
                for i, _, _ in parts:
                    outcomes[i] = Outcome(
                        files[i].name, "refused", error.sentence, error.next_step or "", name
                    )
        session.flush()
        for row, inventory, parts in taken:
            row.source = "files"
            for kind, (result, sentence) in _take(session, row, inventory, parts).items():
                for i in (i for i, k, _ in parts if k == kind):
                    outcomes.setdefault(i, Outcome(files[i].name, result, sentence, node=row.name))
        take_disks(
            session,
            [
                (row, inventory.disks)
                for row, inventory, parts in taken
                if {kind for _, kind, _ in parts} & WHOLE
            ],
        )
        announce(session, "site")
    return [outcomes[i] for i in range(len(files))]


def _read(file: File) -> list[tuple[str, str, Any]]:
    """(node, kind, content) of what a file holds. Raises NotPossible."""
    if len(file.text) > LARGEST_FILE:
        raise NotPossible(
            f"It is too large: {len(file.text) / MB:.0f} MB, where a node's inventory has "
            f"{LARGEST_FILE // MB} MB at the most."
        )
    try:
        content = json.loads(file.text)
    except (ValueError, RecursionError) as error:
        bare = file.text.strip()
        whole = {"{": "}", "[": "]"}.get(bare[:1]) == bare[-1:] or bare[:1] not in ("{", "[", "")
        cut = "It is not JSON" if whole else "It ends in the middle"
        where = f" (line {error.lineno})" if isinstance(error, json.JSONDecodeError) else ""
        raise NotPossible(f"{cut}{where}.", next_step="Write it anew, with --json.") from error
    kind = kind_of_file(content)
    if kind == "several":
        several = content["nodes"] if isinstance(content, dict) else content
        return [(read_inventory(c).node, "agent", c) for c in several]
    node = read_inventory(content).node if kind == "agent" else node_of_file(file.name)
    if not node:
        raise NotPossible(
            "Neither the file nor its name says which node it is of.",
            next_step="Name it after the node: fulmar.lsblk.json.",
        )
    return [(check_name(node, "node", []), kind, content)]


def _merge(name: str, parts: list[tuple[int, str, Any]]) -> Inventory:
    """One node's facts from all its files. Raises NotPossible where two contradict one another in kind."""
    smart = {serial_of_smart(c): c for _, kind, c in parts if kind == "smartctl"}
    for content in smart.values():
        read_health(content)
    whole = [c for _, kind, c in parts if kind == "agent"]
    if len(whole) > 1:
        raise NotPossible(f"There are {len(whole)} inventories of {name}.", next_step="Keep the newest.")
    if whole:
        found = read_inventory(whole[0])
        return replace(
            found,
            disks=tuple(
                replace(d, health=read_health(smart[d.serial])) if d.serial in smart else d
                for d in found.disks
            ),
        )
    lsblk = [c for _, kind, c in parts if kind == "lsblk"]
    links = [c for _, kind, c in parts if kind == "ip"]
    if len(lsblk) > 1 or len(links) > 1:
        raise NotPossible(
            f"There are several outputs of the same tool for {name}.", next_step="Keep the newest of each."
        )
    return Inventory(
        name,
        disks=read_disks(name, lsblk[0], smart) if lsblk else (),
        ports=read_ports(links[0]) if links else (),
    )


Said = dict[str, tuple[Literal["taken", "skipped", "refused"], str]]


def _take(session: Session, row: NodeRow, inventory: Inventory, parts: list[tuple[int, str, Any]]) -> Said:
    """Writes down what is said of a node itself, and of disks that are known already; what to say of each
    kind of file.
    """
    kinds = {kind for _, kind, _ in parts}
    said: Said = {}
    if kinds & WHOLE:
        take_facts(row, inventory)
        said["lsblk"] = said["agent"] = ("taken", f"{say_count(len(inventory.disks), 'disk')} of {row.name}.")
        said["smartctl"] = ("taken", f"Health of a disk of {row.name}.")
    elif "smartctl" in kinds:
        said["smartctl"] = _take_health(session, row, [c for _, kind, c in parts if kind == "smartctl"])
    if "ip" in kinds:
        take_ports(row, inventory.ports)
        said["ip"] = ("taken", f"{say_count(len(inventory.ports), 'network port')} of {row.name}.")
    return said


def _take_health(
    session: Session, row: NodeRow, contents: list[Any]
) -> tuple[Literal["taken", "refused"], str]:
    """Health of disks that are known already."""
    known = disks_by_serial(session, row.id)
    serials = [serial_of_smart(c) for c in contents]
    strangers = [s for s in serials if s not in known]
    if strangers:
        return "refused", f"{row.name} has no disk with serial number {strangers[0]}."
    for serial, content in zip(serials, contents, strict=True):
        health = read_health(content)
        disk = known[serial]
        disk.watch = health.watch()
        disk.reasons = [r for r in disk.reasons if r[0] != "failing"] + [
            ["failing", s] for s in health.failing()
        ]
        if disk.pool_id is None and disk.role != "boot":
            disk.role = "unfit" if disk.reasons else "unclaimed"
    return "taken", f"Health of {say_count(len(contents), 'disk')} of {row.name}."


def read_bmc(actor: Actor, url: str, user: str, password: str) -> tuple[str, int, bool]:
    """Reads a node's hardware from its BMC. The password is used once and kept nowhere. Returns the node, how
    many disks, and whether it is new.

    Where the node's own agent reports, only the BMC's address is noted. Raises Unreachable, NotAllowed,
    NotPossible.
    """
    bmc = Bmc(url, user, password)
    inventory = bmc.inventory()
    check_name(inventory.node, "node", [])
    with transaction() as session:
        row = find_node(session, inventory.node)
        new = row is None
        row = row or add_node(session, inventory, source="bmc")
        row.bmc_url = bmc.url
        if row.contact == Contact.AWAITED:
            row.source = "bmc"
            take_inventory(session, row, inventory)
        records.note(session, actor, f"{row.name} was read from its BMC.")
        announce(session, "site")
        return row.name, len(inventory.disks), new
