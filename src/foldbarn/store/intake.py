"""Writing down what is known of nodes and their disks: each disk once, with its verdict, its paths and the
box it stands in.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import asdict
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import ARRAY, String, any_, cast, delete, func, insert, select
from sqlalchemy.orm import Session
from sqlalchemy.sql.elements import CollectionAggregate

from foldbarn.core.machines.hardware import Inventory, Reason, ReportedDisk, ReportedPort, judge
from foldbarn.core.machines.identity import Sight, find_boxes
from foldbarn.core.site import Contact, Role
from foldbarn.core.units import say_size
from foldbarn.store import outages, pools
from foldbarn.store.outages import Out
from foldbarn.store.tables import DiskRow, EnclosureRow, NodeRow, PoolRow, RackRow, RoomRow, SiteRow

UNPLACED_ROOM, UNPLACED_RACK = "Unplaced", "unplaced"  # where a node stands until someone arranges it


def find_node(session: Session, name: str) -> NodeRow | None:
    """By what its agent calls it, else by its name here; case does not tell names apart."""
    found = session.scalars(select(NodeRow).where(func.lower(NodeRow.agent_name) == name.lower())).first()
    return (
        found
        or session.scalars(select(NodeRow).where(func.lower(NodeRow.name) == name.lower())).one_or_none()
    )


def find_nodes(session: Session, names: Collection[str]) -> dict[str, NodeRow]:
    """Those of these names that are known, by the name asked for; as find_node does it, all at once."""
    lowered = {name.lower(): name for name in names}
    rows = session.scalars(
        select(NodeRow).where(
            func.lower(NodeRow.agent_name).in_(lowered) | func.lower(NodeRow.name).in_(lowered)
        )
    ).all()
    found = {lowered[row.name.lower()]: row for row in rows if row.name.lower() in lowered}
    return found | {lowered[row.agent_name.lower()]: row for row in rows if row.agent_name.lower() in lowered}


def add_node(session: Session, inventory: Inventory, *, source: str, rack: int | None = None) -> NodeRow:
    """A node that has just become known, in this rack or the one its inventory names. Without an agent it is
    awaited. The caller flushes.
    """
    contact = Contact.HEARD if source == "agent" else Contact.AWAITED
    node = NodeRow(
        name=inventory.node,
        agent_name=inventory.node,
        agent_url="",
        position=inventory.position,
        contact=contact.value,
        source=source,
        rack_id=rack or find_rack(session, inventory.room or UNPLACED_ROOM, inventory.rack or UNPLACED_RACK),
    )
    session.add(node)
    return node


def settle(session: Session, node: NodeRow, inventory: Inventory) -> None:
    """A node that stood nowhere is put where its inventory says, if it says; the place for such nodes goes
    when none is left in it.
    """
    unplaced = session.scalars(select(RackRow).where(RackRow.name == UNPLACED_RACK)).one_or_none()
    if (
        unplaced is None
        or node.rack_id != unplaced.id
        or not inventory.rack
        or inventory.rack == UNPLACED_RACK
    ):
        return
    node.rack_id, node.position = (
        find_rack(session, inventory.room or UNPLACED_ROOM, inventory.rack),
        inventory.position,
    )
    session.flush()
    if not session.scalar(select(func.count()).where(NodeRow.rack_id == unplaced.id)):
        session.delete(unplaced)
        session.flush()
        if not session.scalar(select(func.count()).where(RackRow.room_id == unplaced.room_id)):
            session.execute(delete(RoomRow).where(RoomRow.id == unplaced.room_id))


def find_rack(session: Session, room_name: str, rack_name: str) -> int:
    """The rack's key; room and rack are made where there are none."""
    rack = session.scalars(select(RackRow).where(func.lower(RackRow.name) == rack_name.lower())).one_or_none()
    if rack is None:
        room = session.scalars(
            select(RoomRow).where(func.lower(RoomRow.name) == room_name.lower())
        ).one_or_none()
        if room is None:
            room = RoomRow(name=room_name)
            session.add(room)
            session.flush()
        rack = RackRow(name=rack_name, room_id=room.id)
        session.add(rack)
        session.flush()
    return rack.id


def take_inventory(session: Session, node: NodeRow, inventory: Inventory) -> None:
    """Brings a node's facts and disks up to what is reported of it."""
    session.flush()
    take_facts(node, inventory)
    take_disks(session, [(node, inventory.disks)])


def take_facts(node: NodeRow, inventory: Inventory) -> None:
    """What is reported of the node itself; what the source does not know stays."""
    node.cores, node.memory_bytes = inventory.cores or node.cores, inventory.memory_bytes or node.memory_bytes
    if inventory.ports or node.contact == Contact.HEARD:
        take_ports(node, inventory.ports)


def take_ports(node: NodeRow, ports: Sequence[ReportedPort]) -> None:
    """A node's ports as reported; what a person said of their purpose stays."""
    said = node.purposes or {}
    node.ports = [
        asdict(p) | {"addresses": list(p.addresses), "purpose": said.get(p.name, p.purpose)} for p in ports
    ]


def take_disks(session: Session, reports: Sequence[tuple[NodeRow, Sequence[ReportedDisk]]]) -> None:
    """Brings the disks of nodes up to what is reported of each: all of a node's disks, so what is not listed
    is gone.

    Everything known is read once and everything new written at once, so that many nodes cost little more than
    one.
    """
    mark = session.scalars(select(SiteRow.mark)).one()
    pools = {number: name for number, name in session.execute(select(PoolRow.id, PoolRow.name))}
    known = _Known(session, reports)
    found: list[DiskRow] = []
    for node, disks in reports:
        serials = Counter(d.serial for d in disks if d.serial)
        seen: set[int] = set()
        for disk in disks:
            row = known.row_of(node, disk)
            verdict = judge(disk, site_mark=mark, pool=pools.get(row.pool_id) if row.pool_id else None)
            reasons = list(verdict.reasons)
            if serials[disk.serial] > 1:
                reasons.append(
                    Reason(
                        "serial-twice",
                        "another disk of its node shows the same serial number, so orders could "
                        "reach the wrong one",
                    )
                )
            if not disk.inspected:
                reasons.append(
                    Reason("not-inspected", "its node's agent has not yet looked at what it carries")
                )
            _take_disk(row, node, disk, reasons, list(verdict.watch))
            if not row.present:
                _came_back(session, row)
            seen.add(id(row))
            found.append(row)
        for row in known.of(node):
            if id(row) not in seen:
                _not_seen(session, row, node)
                found.append(row)
    session.flush()
    if known.new:  # in one go, and without asking for keys that nobody needs yet
        session.execute(
            insert(DiskRow), [{name: getattr(row, name) for name in NEW_DISK} for row in known.new]
        )
    if any(row.box or row.enclosure_id or len({p.partition(":")[0] for p in row.paths}) > 1 for row in found):
        arrange_boxes(session)


def _any(values: list[str]) -> CollectionAggregate[Any]:
    """Any of many values, as one array: thousands of single parameters would be read one by one."""
    return any_(cast(values, ARRAY(String)))


# What is written of a new disk; everything else begins with its default.
NEW_DISK = (
    "node_id",
    "name",
    "bay",
    "kernel_name",
    "paths",
    "serial",
    "wwn",
    "model",
    "media",
    "size_bytes",
    "role",
    "present",
    "reasons",
    "watch",
    "identity",
    "box",
    "bus",
    "rated_bytes",
    "health",
)


class _Known:
    """The rows that reports may be about, read once: those of their nodes, those with the same identities,
    and the names that are taken.
    """

    def __init__(self, session: Session, reports: Sequence[tuple[NodeRow, Sequence[ReportedDisk]]]) -> None:
        self.new: list[DiskRow] = []
        numbers = [node.id for node, _ in reports]
        identities = [self._identity(node, d) for node, disks in reports for d in disks]
        of_nodes = DiskRow.node_id.in_(numbers)
        rows = {
            row.id: row
            for row in session.scalars(select(DiskRow).where(of_nodes | DiskRow.enclosure_id.is_not(None)))
        }
        rows |= {
            row.id: row
            for row in session.scalars(select(DiskRow).where(DiskRow.identity == _any(identities)))
        }
        self._by_identity = {row.identity: row for row in rows.values()}
        self._by_serial = {(row.node_id, row.serial, row.model): row for row in rows.values()}
        # Every name that one of these disks could get, so that the index can be asked: its own, and its own
        # with a number.
        wanted = [
            f"{node.name}-{d.bay}{n}".lower()
            for node, disks in reports
            for d in disks
            for n in ("", ".2", ".3", ".4", ".5")
        ]
        self._names = set(
            session.scalars(select(func.lower(DiskRow.name)).where(func.lower(DiskRow.name) == _any(wanted)))
        )

    @staticmethod
    def _identity(node: NodeRow, disk: ReportedDisk) -> str:
        return disk.identity or f"name:{node.name}/{disk.kernel_name}"

    def of(self, node: NodeRow) -> list[DiskRow]:
        """Rows that the node carries, or has a path to."""
        return [
            r
            for r in self._by_identity.values()
            if r.node_id == node.id
            or (r.enclosure_id and node.name in (p.partition(":")[0] for p in r.paths))
        ]

    def row_of(self, node: NodeRow, disk: ReportedDisk) -> DiskRow:
        """The row of a disk: known by its identity, else by serial number and model where one side shows no
        world-wide name, else new.
        """
        identity = self._identity(node, disk)
        row = self._by_identity.get(identity)
        twin = self._by_serial.get((node.id, disk.serial, disk.model)) if disk.serial else None
        if row is None and twin is not None and not (twin.wwn and disk.wwn):
            row = twin
        if row is None:
            name = _free_name(self._names, f"{node.name}-{disk.bay}")
            row = DiskRow(
                node_id=node.id,
                serial=disk.serial or f"unnumbered {disk.kernel_name}",
                name=name,
                role="unclaimed",
                identity=identity,
                paths=[],
                present=True,
                box="",
            )
            self.new.append(row)
        elif (disk.wwn or row.identity.startswith("name:")) and row.identity != identity:
            self._by_identity.pop(row.identity, None)
            row.identity = identity
        self._by_identity[identity] = row
        return row


def _free_name(taken: set[str], wanted: str) -> str:
    """The name, or the name with a number where another disk has it: a new disk in the bay of one that was
    pulled. Notes it as taken.
    """
    name, number = wanted, 1
    while name.lower() in taken:
        number += 1
        name = f"{wanted}.{number}"
    taken.add(name.lower())
    return name


def _take_disk(
    row: DiskRow, node: NodeRow, disk: ReportedDisk, reasons: list[Reason], watch: list[str]
) -> None:
    others = [p for p in row.paths if p.partition(":")[0] != node.name]
    row.paths = [*(f"{node.name}:{p}" for p in disk.paths or (disk.kernel_name,)), *others]
    row.box = disk.enclosure or row.box or ""
    if row.node_id != node.id:
        return  # its facts come from the node that carries it
    row.bay, row.kernel_name, row.wwn, row.model = (
        disk.bay,
        disk.kernel_name,
        disk.wwn or row.wwn or "",
        disk.model,
    )
    row.media, row.bus, row.rated_bytes = (
        disk.media,
        disk.bus or row.bus or "",
        disk.rated_bytes or row.rated_bytes or 0,
    )
    if row.pool_id is not None and disk.size_bytes < row.size_bytes:
        # What it holds was placed by its old size, so that stays on record until a person has looked.
        words = (
            f"it reports {say_size(disk.size_bytes)}, where it had {say_size(row.size_bytes)} when its "
            "pool took it"
        )
        reasons = [*reasons, Reason("shrunk", words)]
    else:
        row.size_bytes = disk.size_bytes
    row.reasons, row.watch, row.health = [list(r) for r in reasons], watch, asdict(disk.health)
    if row.pool_id is None:
        row.role = (Role.BOOT if disk.boot else Role.UNCLAIMED if not reasons else Role.UNFIT).value


def _not_seen(session: Session, row: DiskRow, node: NodeRow) -> None:
    """A node no longer sees a disk: gone, or, where another node still sees it, carried by that one."""
    row.paths = [p for p in row.paths if p.partition(":")[0] != node.name] if row.enclosure_id else row.paths
    others = [p.partition(":")[0] for p in row.paths if p.partition(":")[0] != node.name]
    if row.node_id != node.id:
        return
    carrier = find_node(session, others[0]) if others and row.enclosure_id else None
    if carrier is not None:
        row.node_id = carrier.id
    elif row.present:
        row.present, row.missing_since = False, datetime.now(UTC)
        outages.begin(session, Out.DISK, row.id, "Its node reports without it.", row.missing_since)
        if row.role == Role.CACHE:  # what it had not settled is missing from the disks it served
            pools.look(session, [row.pool_id or 0], f"Cache device {row.name} is gone")


def arrange_boxes(session: Session) -> None:
    """Finds the enclosures among disks that several nodes see, and the paths they lack."""
    rows = [
        r
        for r in session.scalars(
            select(DiskRow).where(
                (DiskRow.box != "")
                | DiskRow.enclosure_id.is_not(None)
                | (func.jsonb_array_length(DiskRow.paths) > 1)
            )
        )
        if r.box or r.enclosure_id or len({p.partition(":")[0] for p in r.paths}) > 1
    ]
    sights: list[Sight] = []
    groups: list[list[int]] = []
    for row in rows:
        groups.append(list(range(len(sights), len(sights) + len(row.paths))))
        sights += [
            Sight(p.partition(":")[0], p.partition(":")[2], row.wwn, row.serial, row.model) for p in row.paths
        ]
    known = {e.id: e.name for e in session.scalars(select(EnclosureRow))}
    said = {
        sights[g[0]].identity: r.box or known.get(r.enclosure_id or 0, "")
        for g, r in zip(groups, rows, strict=True)
        if g
    }
    said = {identity: box for identity, box in said.items() if box}
    filled = [(g, r) for g, r in zip(groups, rows, strict=True) if g]
    boxes = find_boxes(sights, [g for g, _ in filled], said)
    for row in rows:
        row.missing_paths = []
    for box in boxes:
        enclosure = session.scalars(
            select(EnclosureRow).where(func.lower(EnclosureRow.name) == box.name.lower())
        ).one_or_none()
        if enclosure is None:
            first = find_node(session, box.nodes[0])
            enclosure = EnclosureRow(
                name=box.name,
                rack_id=first.rack_id if first else find_rack(session, UNPLACED_ROOM, UNPLACED_RACK),
                nodes=[],
            )
            session.add(enclosure)
            session.flush()
        enclosure.nodes = list(box.nodes)
        for g in box.disks:
            filled[g][1].enclosure_id = enclosure.id
        for g, _, sentence in box.missing:
            row = filled[g][1]
            row.missing_paths = [*row.missing_paths, sentence]


def _came_back(session: Session, row: DiskRow) -> None:
    row.present, row.missing_since, row.given_up = True, None, False
    outages.end(session, Out.DISK, row.id)
    if row.pool_id is not None:
        pools.look(session, [row.pool_id], f"{row.name} is back")
