"""Around the cluster: testing the port plan through the agents, lighting a disk, trying the passphrase."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor

from foldbarn.changes.kinds.cluster.sealing import open_key
from foldbarn.core.actors import Actor
from foldbarn.core.errors import BarnError, NotFound, NotPossible
from foldbarn.core.machines.network import PORT_PLAN, check_address
from foldbarn.core.site import Contact, Node
from foldbarn.core.units import say_count
from foldbarn.links.agents import Agent, read_witness
from foldbarn.store import cluster as store_cluster
from foldbarn.store import disks, records
from foldbarn.store import site as store_site
from foldbarn.store.database import announce, transaction
from foldbarn.store.views import current_view


def try_ports(actor: Actor) -> int:
    """Has every node that is heard try every opening of the port plan that leads to another; writes down what
    is shut. Returns how many tries were made.
    """
    view = current_view()
    heard = [n for n in view.nodes if n.contact == Contact.HEARD]
    if len(heard) < 2:
        raise NotPossible(
            "At least two nodes must be heard to test the ports between them.",
            next_step="Start agents on more nodes.",
        )
    tries = {node.name: _targets(node, heard) for node in heard}
    shut: list[list[object]] = []
    with ThreadPoolExecutor(max_workers=16) as crew:

        def ask(node: Node) -> list[list[object]]:
            targets = tries[node.name]
            try:
                answers = Agent(node.agent_url).probe([(address, port) for _, address, port in targets])
            except BarnError as error:
                return [
                    [node.name, name, port, f"it could not try: {error.sentence.removesuffix('.').lower()}"]
                    for name, _, port in targets[:1]
                ]
            return [
                [node.name, name, port, why]
                for (name, _, port), (is_open, why) in zip(targets, answers, strict=True)
                if not is_open
            ]

        for found in crew.map(ask, heard):
            shut += found
    with transaction() as session:
        store_site.note_ports(session, shut)
        records.note(
            session, actor, f"The port plan was tested; {say_count(len(shut), 'opening')} found shut."
        )
        announce(session, "site")
    return sum(map(len, tries.values()))


def _targets(node: Node, others: list[Node]) -> list[tuple[str, str, int]]:
    """(node, address, port) of everything this node must be able to reach."""
    found = []
    for other in others:
        if other.name == node.name:
            continue
        for opening in PORT_PLAN:
            if not opening.tested:
                continue
            addresses = [
                a.split("/")[0]
                for p in other.ports
                if p.purpose == opening.purpose and p.up
                for a in p.addresses
            ][:1]
            found += [
                (other.name, address, port)
                for address in addresses
                for port in range(opening.first, opening.last + 1)
            ]
    return found


def light(actor: Actor, disk_name: str, on: bool) -> None:
    """Turns a disk's location light on or off, through its node's agent. Raises NotFound, Unreachable,
    NotPossible.
    """
    view = current_view()
    disk = view.disk(disk_name)
    node = view.nodes[disk.node]
    if node.contact != Contact.HEARD:
        raise NotPossible(
            f"{node.name} is not heard, so its lights cannot be set.", next_step="Its BMC may still do it."
        )
    order = {"id": f"light-{disk.number}-{time.time_ns()}", "kind": "locate", "disk": disk.serial, "on": on}
    Agent(node.agent_url).send(order)
    with transaction() as session:
        disks.light(session, disk.number, on)
        records.note(session, actor, f"The location light of {disk.name} is {'on' if on else 'off'}.")
        announce(session, "site")


def try_passphrase(passphrase: str) -> None:
    """Raises NotAllowed where the passphrase does not open the cluster's key, NotFound where there is
    none.
    """
    with transaction() as session:
        row = store_cluster.row(session)
        kept = dict(row.sealed_key) if row else {}
    if not kept:
        raise NotFound(
            "The cluster has no sealed key: it was formed without encryption at rest.", about="passphrase"
        )
    open_key(passphrase, kept)


def ask_witness(url: str) -> str:
    """The name of the witness at an address."""
    return read_witness(check_address(url, "The witness's address", about="url"), stranger=True)
