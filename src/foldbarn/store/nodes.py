"""Nodes, as the changes and the watch read and write them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from sqlalchemy import select, update
from sqlalchemy.orm import InstrumentedAttribute

from foldbarn.core.site import Contact
from foldbarn.store.database import Session
from foldbarn.store.tables import DiskRow, EnclosureRow, NodeRow


def addresses(session: Session) -> dict[int, tuple[str, str]]:
    """Name and agent address of every node, by number."""
    rows = session.execute(select(NodeRow.id, NodeRow.name, NodeRow.agent_url))
    return {number: (name, url) for number, name, url in rows}


# Limits of a ply that is none: a node that may remember others than it should is told again.
UNSURE: dict[str, list[float]] = {"0": [0.0, 0.0]}
UNSURE_MARKS: dict[str, list[int]] = {"0": []}  # the same of snapshots


class Told(NamedTuple):
    """What a node was last told of some matter, and how often it has been told of that."""

    url: str
    what: dict[str, Any]
    times: int


def limits_told(session: Session) -> dict[int, Told]:
    """Of limits and caches; by number, of the nodes that have an agent."""
    return _told(session, NodeRow.limits, NodeRow.limits_told)


def targets_told(session: Session) -> dict[int, Told]:
    """Of what it serves to hosts; by number, of the nodes that have an agent."""
    return _told(session, NodeRow.targets, NodeRow.targets_told)


def files_told(session: Session) -> dict[int, Told]:
    """Of the file service; by number, of the nodes that have an agent."""
    return _told(session, NodeRow.files, NodeRow.files_told)


def note_files(session: Session, node: int, digest: str, order: str) -> None:
    """What a node (by number) has been told of the file service, and by which order."""
    told = {"files": {"order": order, "digest": digest}, "files_told": NodeRow.files_told + 1}
    session.execute(update(NodeRow).where(NodeRow.id == node).values(**told))


def unsure_files(order: str) -> dict[str, Any]:
    """Of a node that goes by an order other than it was told last: what it knows of that is not known."""
    return {"order": order, "digest": None}


def marks_told(session: Session) -> dict[int, Told]:
    """Of snapshots; by number, of the nodes that have an agent."""
    return _told(session, NodeRow.marks, NodeRow.marks_told)


def note_marks(session: Session, node: int, marks: dict[str, Any]) -> None:
    """What a node (by number) has been told of snapshots."""
    told = {"marks": marks, "marks_told": NodeRow.marks_told + 1}
    session.execute(update(NodeRow).where(NodeRow.id == node).values(**told))


def _told(
    session: Session,
    what: InstrumentedAttribute[dict[str, Any]],
    times: InstrumentedAttribute[int],
) -> dict[int, Told]:
    rows = session.execute(select(NodeRow.id, NodeRow.agent_url, what, times).where(NodeRow.agent_url != ""))
    return {number: Told(url, known, often) for number, url, known, often in rows}


def note_targets(session: Session, node: int, targets: dict[str, Any], order: str) -> None:
    """What a node (by number) has been told of what it serves to hosts, and by which order."""
    told = {"targets": {"order": order, "targets": targets}, "targets_told": NodeRow.targets_told + 1}
    session.execute(update(NodeRow).where(NodeRow.id == node).values(**told))


def unsure_targets(order: str) -> dict[str, Any]:
    """Of a node that goes by an order other than it was told last: what it serves is not known."""
    return {"order": order, "targets": None}


def note_limits(session: Session, node: int, limits: dict[str, list[Any]], order: str) -> None:
    """What a node (by number) has been told of limits, caches and what it withholds, and by which order."""
    told = {"limits": limits, "limits_told": NodeRow.limits_told + 1, "terms": order}
    session.execute(update(NodeRow).where(NodeRow.id == node).values(**told))


def owe(session: Session, nodes: Iterable[int]) -> None:
    """Notes that these nodes (by number) could not be asked, or told to drop something; they are compared
    when they are next heard.
    """
    session.execute(update(NodeRow).where(NodeRow.id.in_(list(nodes))).values(owes=True))


def ask_inventory(session: Session, nodes: Iterable[int]) -> None:
    """What these nodes (by number) have is read and judged anew when they are next heard, though it may be
    as it was.
    """
    session.execute(update(NodeRow).where(NodeRow.id.in_(list(nodes))).values(inventory_version=""))


def locked(session: Session, nodes: Iterable[int] | None = None) -> list[NodeRow]:
    """Nodes by number, or all, in the order of their numbers, which nobody else alters until the transaction
    ends.
    """
    query = select(NodeRow).order_by(NodeRow.id).with_for_update()
    return list(session.scalars(query if nodes is None else query.where(NodeRow.id.in_(list(nodes)))))


def all_nodes(session: Session) -> list[NodeRow]:
    return list(session.scalars(select(NodeRow)))


def purpose(session: Session, nodes: Iterable[int], port: str, purpose: str) -> int:
    """What the port of that name is for, on each of these nodes. Returns how many were noted."""
    rows = locked(session, nodes)
    for row in rows:
        row.purposes = row.purposes | {port: purpose}
        row.ports = [p | {"purpose": row.purposes.get(p["name"], p["purpose"])} for p in row.ports]
    return len(rows)


def set_member(session: Session, nodes: Iterable[int], *, member: bool, keepers: Iterable[int] = ()) -> None:
    """Whether these nodes (by number) belong to the cluster, and which of them have a vote."""
    mine = update(NodeRow).where(NodeRow.id.in_(list(nodes)))
    if member:
        session.execute(mine.values(member=True, keeper=NodeRow.id.in_(list(keepers))))
    else:
        session.execute(mine.values(member=False, keeper=False, dedicated=False))


def give_vote(session: Session, node: int) -> None:
    session.execute(update(NodeRow).where(NodeRow.id == node).values(keeper=True))


def dedicate(session: Session, nodes: Iterable[int]) -> None:
    """Nothing but storage is meant to run on these."""
    session.execute(update(NodeRow).where(NodeRow.id.in_(list(nodes))).values(dedicated=True))


def rename(session: Session, names: Mapping[int, str]) -> None:
    """Gives nodes (by number) new names, at once, so that names can be swapped. Disks named after them
    follow, and what names their paths.
    """
    rows = {n.id: n for n in locked(session)}
    disks = list(session.scalars(select(DiskRow)))
    renamed = {rows[number].name: new for number, new in names.items()}
    new_names = {
        disk.id: f"{names[disk.node_id]}-{disk.name.removeprefix(f'{rows[disk.node_id].name}-')}"
        for disk in disks
        if disk.node_id in names and disk.name.startswith(f"{rows[disk.node_id].name}-")
    }
    for number in names:  # all aside first
        rows[number].name = f"{number} (being renamed)"
    for disk in disks:
        if disk.id in new_names:
            disk.name = f"{disk.id} (being renamed)"
    session.flush()
    for number, new in names.items():
        rows[number].name = new
    for disk in disks:
        disk.name = new_names.get(disk.id, disk.name)
        ways = [path.partition(":") for path in disk.paths]
        disk.paths = [f"{renamed.get(node, node)}:{way}" for node, _, way in ways]
    for box in session.scalars(select(EnclosureRow)):
        box.nodes = [renamed.get(n, n) for n in box.nodes]


class AgentOf(NamedTuple):
    """What is known of a node's agent: its address, which inventory of it was read (empty: none, or it is to
    be read again), and whether its next report may be news though it says the same as before.
    """

    url: str
    version: str
    owes: bool


def with_agents(session: Session) -> dict[int, AgentOf]:
    """The agents of all nodes that have one, by the node's number."""
    owes = NodeRow.owes | (NodeRow.contact != Contact.HEARD.value)
    rows = select(NodeRow.id, NodeRow.agent_url, NodeRow.inventory_version, owes)
    known = session.execute(rows.where(NodeRow.agent_url != ""))
    return {number: AgentOf(url, version, owing) for number, url, version, owing in known}


def give_up(session: Session, nodes: Iterable[int]) -> None:
    """What these nodes (by number) held is to be rebuilt elsewhere."""
    session.execute(update(NodeRow).where(NodeRow.id.in_(list(nodes))).values(given_up=True))


def disks_by_serial(session: Session, node: int) -> dict[str, DiskRow]:
    return {d.serial: d for d in session.scalars(select(DiskRow).where(DiskRow.node_id == node))}
