"""Builds the SiteView, and keeps the newest one. Placements are read again only for volumes whose version grew."""

from __future__ import annotations

import threading
from collections import Counter
from datetime import datetime

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from foldbarn.core.arrays import Disks
from foldbarn.core.names import natural_key
from foldbarn.core.protection import Level, Protection
from foldbarn.core.site import Contact, Disk, Node, Pool, Rack, Role, Room, SiteView, Volume
from foldbarn.core.units import say_list
from foldbarn.store.database import snapshot
from foldbarn.store.tables import DiskRow, MoveRow, NodeRow, PlacementRow, PoolRow, RackRow, RoomRow, SiteRow, VolumeRow

CHUNK = 4096  # extents per placement row

_kept: SiteView | None = None
_placements: dict[int, tuple[int, Disks]] = {}  # volume number -> version, placement
_lock = threading.Lock()


def current_view() -> SiteView:
    """The site as it stands, built anew only when its revision has grown."""
    global _kept
    with snapshot() as session:
        revision = session.scalar(select(SiteRow.revision))
        with _lock:
            if _kept is None or _kept.revision != revision:
                _kept = load_view(session)
            return _kept


def forget() -> None:
    """Drops what is kept; for tests that change databases."""
    global _kept
    with _lock:
        _kept = None
        _placements.clear()


def load_view(session: Session) -> SiteView:
    """The SiteView of what this session sees."""
    site = session.scalars(select(SiteRow)).one()
    rooms = sorted(session.scalars(select(RoomRow)), key=lambda r: natural_key(r.name))
    room_rows = {r.id: i for i, r in enumerate(rooms)}
    racks = sorted(session.scalars(select(RackRow)), key=lambda r: (room_rows[r.room_id], natural_key(r.name)))
    rack_rows = {r.id: i for i, r in enumerate(racks)}
    nodes = sorted(session.scalars(select(NodeRow)), key=lambda n: (rack_rows[n.rack_id], n.position, natural_key(n.name)))
    node_rows = {n.id: i for i, n in enumerate(nodes)}
    pools = sorted(session.scalars(select(PoolRow)), key=lambda p: natural_key(p.name))
    pool_rows = {p.id: i for i, p in enumerate(pools)}
    return SiteView(
        name=site.name,
        revision=site.revision,
        rooms=tuple(Room(r.id, r.name) for r in rooms),
        racks=tuple(Rack(r.id, r.name, room_rows[r.room_id]) for r in racks),
        nodes=tuple(_node(n, rack_rows[n.rack_id]) for n in nodes),
        disks=tuple(_disks(session, node_rows, pool_rows)),
        pools=tuple(
            Pool(p.id, p.name, p.extent_bytes, Protection(p.copies, Level(p.level)), Level(p.headroom) if p.headroom else None, p.fill_line, p.forming)
            for p in pools
        ),
        volumes=tuple(_volumes(session, pool_rows)),
        incoming=dict(Counter(session.scalars(select(MoveRow.to_disk).where(MoveRow.state.in_(("waiting", "ordered")))).all())),
    )


def epoch(moment: datetime | None) -> float:
    """Seconds since 1970; 0 for never."""
    return moment.timestamp() if moment else 0.0


def _node(row: NodeRow, rack: int) -> Node:
    storage = [p for p in row.ports if p["purpose"] == "storage"]
    down = [p["name"] for p in storage if not p["up"]]
    reason = row.reason
    if row.contact == Contact.HEARD and down:
        reason = f"Storage port {say_list(down)} is down; {len(storage) - len(down)} of {len(storage)} carry its traffic."
    speed = sum(p["bytes_per_second"] for p in storage if p["up"])
    return Node(row.id, row.name, rack, Contact(row.contact), reason, epoch(row.since), row.given_up, speed)


def _disks(session: Session, node_rows: dict[int, int], pool_rows: dict[int, int]) -> list[Disk]:
    columns = (
        DiskRow.id, DiskRow.name, DiskRow.bay, DiskRow.node_id, DiskRow.media, DiskRow.size_bytes, DiskRow.serial, DiskRow.role,
        DiskRow.pool_id, DiskRow.present, DiskRow.missing_since, DiskRow.given_up, DiskRow.reasons, DiskRow.watch,
    )  # fmt: skip
    found = [
        Disk(
            number,
            name,
            bay,
            node_rows[node],
            media,
            size,
            serial,
            Role(role),
            pool_rows[pool] if pool else -1,
            present,
            epoch(missing),
            given_up,
            tuple(reasons),
            tuple(watch),
        )
        for number, name, bay, node, media, size, serial, role, pool, present, missing, given_up, reasons, watch in session.execute(select(*columns))
    ]
    return sorted(found, key=lambda d: (d.node, d.role != Role.BOOT, d.media != "nvme", natural_key(d.bay)))


def _volumes(session: Session, pool_rows: dict[int, int]) -> list[Volume]:
    rows = sorted(session.scalars(select(VolumeRow)), key=lambda v: natural_key(v.name))
    _read_placements(session, {v.id: v for v in rows})
    return [Volume(v.id, v.name, pool_rows[v.pool_id], v.size_bytes, Protection(v.copies, Level(v.level)), _placements[v.id][1], v.forming) for v in rows]


def _read_placements(session: Session, volumes: dict[int, VolumeRow]) -> None:
    for gone in _placements.keys() - volumes.keys():
        del _placements[gone]
    stale = [number for number, v in volumes.items() if _placements.get(number, (0,))[0] != v.version]
    pieces: dict[int, list[bytes]] = {number: [] for number in stale}
    query = select(PlacementRow.volume_id, PlacementRow.disks).where(PlacementRow.volume_id.in_(stale))
    for number, data in session.execute(query.order_by(PlacementRow.volume_id, PlacementRow.chunk)):
        pieces[number].append(data)
    for number in stale:
        matrix = np.frombuffer(b"".join(pieces[number]), dtype="<i4").reshape(-1, volumes[number].copies)
        _placements[number] = (volumes[number].version, matrix)
