"""Builds the SiteView, and keeps the newest one. Placements are read again only for plies whose version
grew.
"""

from __future__ import annotations

import threading
from collections import Counter, defaultdict
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np
from sqlalchemy import ColumnElement, Row, literal_column, select

from foldbarn.core.arrays import Disks
from foldbarn.core.machines.hardware import Reason
from foldbarn.core.machines.network import Port
from foldbarn.core.names import natural_key
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.site import (
    Cluster,
    Contact,
    Disk,
    Enclosure,
    Node,
    Ply,
    Pool,
    Priority,
    Purpose,
    Rack,
    Role,
    Room,
    SiteView,
    Tier,
    Volume,
)
from foldbarn.core.units import say_list
from foldbarn.store import moves
from foldbarn.store.database import Session, snapshot
from foldbarn.store.tables import (
    ClusterRow,
    DiskRow,
    EnclosureRow,
    NodeRow,
    PlacementRow,
    PlyRow,
    PoolRow,
    RackRow,
    RoomRow,
    SiteRow,
    VolumeRow,
)

CHUNK = 4096  # extents per placement row


class _Keeper:
    """The newest picture of the site, and the placements that it was made with. One lock for all of it."""

    def __init__(self) -> None:
        self.lock = threading.RLock()
        self.view: SiteView | None = None
        self.placements: dict[int, tuple[int, Disks]] = {}  # ply number -> version, placement
        self.disks: dict[int, _KeptDisk] = {}

    def current(self) -> SiteView:
        with snapshot() as session:
            revision = session.scalar(select(SiteRow.revision))
            with self.lock:
                if self.view is None or self.view.revision != revision:
                    self.view = load_view(session)
                return self.view

    def forget(self) -> None:
        with self.lock:
            self.view = None
            self.placements.clear()
            self.disks.clear()

    def placements_of(self, session: Session, plies: list[PlyRow]) -> dict[int, Disks]:
        """By ply number; read again only where the version is another one than that which is kept."""
        with self.lock:
            kept = {v.id: self.placements.get(v.id) for v in plies}
        found = {v.id: one[1] for v in plies if (one := kept[v.id]) is not None and one[0] == v.version}
        stale = {v.id: v for v in plies if v.id not in found}
        pieces: dict[int, list[bytes]] = {number: [] for number in stale}
        query = select(PlacementRow.ply_id, PlacementRow.disks).where(PlacementRow.ply_id.in_(stale))
        for number, data in session.execute(query.order_by(PlacementRow.ply_id, PlacementRow.chunk)):
            pieces[number].append(data)
        for number, ply in stale.items():
            matrix = np.frombuffer(b"".join(pieces[number]), dtype="<i4").reshape(-1, ply.k + ply.m)
            found[number] = matrix
        with self.lock:
            for gone in self.placements.keys() - found.keys():
                del self.placements[gone]
            self.placements |= {number: (v.version, found[number]) for number, v in stale.items()}
        return found

    def disks_of(self, session: Session) -> list[_KeptDisk]:
        """All disks; read again only where their row is another one than that which is kept."""
        versions = {number: version for number, version in session.execute(select(DiskRow.id, _VERSION))}
        with self.lock:
            found = {n: one for n, v in versions.items() if (one := self.disks.get(n)) and one.version == v}
        if stale := versions.keys() - found.keys():
            rows = select(DiskRow.__table__)  # plain rows: there may be ten thousand
            for row in session.execute(rows.where(DiskRow.id.in_(stale)) if found else rows):
                if row.id in stale:
                    found[row.id] = _read_disk(row, versions[row.id])
            with self.lock:
                self.disks = dict(found)
        return list(found.values())


_keeper = _Keeper()


def current_view() -> SiteView:
    """The site as it stands, built anew only when its revision has grown."""
    return _keeper.current()


def forget() -> None:
    """Drops what is kept; for tests that change databases."""
    _keeper.forget()


def load_view(session: Session) -> SiteView:
    """The SiteView of what this session sees."""
    site = session.scalars(select(SiteRow)).one()
    rooms = sorted(session.scalars(select(RoomRow)), key=lambda r: natural_key(r.name))
    room_rows = {r.id: i for i, r in enumerate(rooms)}
    racks = sorted(
        session.scalars(select(RackRow)), key=lambda r: (room_rows[r.room_id], natural_key(r.name))
    )
    rack_rows = {r.id: i for i, r in enumerate(racks)}
    nodes = sorted(
        session.scalars(select(NodeRow)),
        key=lambda n: (rack_rows[n.rack_id], n.position, natural_key(n.name)),
    )
    node_rows = {n.id: i for i, n in enumerate(nodes)}
    enclosures = sorted(session.scalars(select(EnclosureRow)), key=lambda e: natural_key(e.name))
    box_rows = {e.id: i for i, e in enumerate(enclosures)}
    pools = sorted(session.scalars(select(PoolRow)), key=lambda p: natural_key(p.name))
    pool_rows = {p.id: i for i, p in enumerate(pools)}
    under_way = moves.under_way(session)
    return SiteView(
        name=site.name,
        revision=site.revision,
        rooms=tuple(Room(r.id, r.name) for r in rooms),
        racks=tuple(Rack(r.id, r.name, room_rows[r.room_id]) for r in racks),
        nodes=tuple(_node(n, rack_rows[n.rack_id]) for n in nodes),
        enclosures=tuple(Enclosure(e.id, e.name, rack_rows[e.rack_id], tuple(e.nodes)) for e in enclosures),
        disks=tuple(_disks(session, node_rows, pool_rows, box_rows)),
        cluster=_cluster(session, nodes),
        mark=site.mark,
        closed_ports=tuple((str(a), str(b), int(p), str(w)) for a, b, p, w in site.closed_ports),
        ports_tested_at=epoch(site.ports_tested_at),
        pools=tuple(
            Pool(
                p.id,
                p.name,
                p.strip_bytes,
                Scheme(p.k, p.m, Level(p.level), p.per_domain),
                Level(p.headroom) if p.headroom else None,
                p.fill_line,
                p.forming,
                p.headroom_losses,
                p.allocation_bytes,
                p.overcommit_cap,
                p.encrypted,
                p.rebuild_rate,
                p.level_rate,
                Priority(p.priority),
                p.daily_writes,
                p.closing,
            )
            for p in pools
        ),
        volumes=tuple(_volumes(session, pool_rows)),
        incoming=dict(Counter(under_way.values())),
        under_way=under_way,
    )


def epoch(moment: datetime | None) -> float:
    """Seconds since 1970; 0 for never."""
    return moment.timestamp() if moment else 0.0


def _node(row: NodeRow, rack: int) -> Node:
    storage = [p for p in row.ports if p["purpose"] == "storage"]
    down = [p["name"] for p in storage if not p["up"]]
    reason = row.reason
    if row.contact == Contact.AWAITED:
        told = {"files": "inventory files", "bmc": "its BMC", "text": "the site's text"}.get(
            row.source, "a description"
        )
        reason = f"Known from {told}; its agent has not reported yet."
    elif row.contact == Contact.HEARD and down:
        reason = (
            f"Storage port {say_list(down)} is down; {len(storage) - len(down)} of {len(storage)} carry "
            "its traffic."
        )
    speed = sum(p["bytes_per_second"] for p in storage if p["up"])
    ports = tuple(
        Port(
            row.name,
            p["name"],
            p["purpose"],
            p["up"],
            p["bytes_per_second"],
            p.get("mtu", 1500),
            tuple(p.get("addresses", ())),
            p.get("neighbour", ""),
        )
        for p in row.ports
    )
    return Node(
        row.id,
        row.name,
        rack,
        Contact(row.contact),
        reason,
        epoch(row.since),
        row.given_up,
        speed,
        row.cores,
        row.memory_bytes,
        row.clock_offset,
        ports,
        row.member,
        row.keeper,
        row.dedicated,
        row.agent_url,
        row.agent_name,
    )


def _cluster(session: Session, nodes: list[NodeRow]) -> Cluster | None:
    """The cluster; its leader is who the members heard now name with the highest term."""
    row = session.get(ClusterRow, 1)
    if row is None:
        return None
    said = [
        n.says for n in nodes if n.member and n.contact == Contact.HEARD and n.says.get("name") == row.name
    ]
    newest = max(said, key=lambda s: int(s.get("term", 0)), default={})
    return Cluster(
        row.name,
        row.service_address,
        row.witness,
        row.witness_url,
        row.witness_room,
        row.witness_rack,
        bool(row.sealed_key),
        row.forming,
        str(newest.get("leader") or ""),
        int(newest.get("term", 0)),
        str(row.mail.get("to", "")),
        row.witness_silent,
        row.witness_reason,
    )


@dataclass(frozen=True, slots=True)
class _KeptDisk:
    """A disk as it was read. version: of its row in the database; key: its place among its node's disks."""

    version: str
    node: int
    pool: int | None
    box: int | None
    key: tuple[bool, bool, tuple[tuple[int, int, str], ...]]
    disk: Disk


# Where a row lies and which transaction wrote it: another version of the row has another.
_VERSION: ColumnElement[str] = literal_column("disk.ctid::text || ' ' || disk.xmin::text")


def _read_disk(row: Row[Any], version: str) -> _KeptDisk:
    disk = Disk(
        number=row.id,
        name=row.name,
        bay=row.bay,
        node=-1,
        media=row.media,
        size_bytes=row.size_bytes,
        serial=row.serial,
        role=Role(row.role),
        present=row.present,
        missing_since=epoch(row.missing_since),
        given_up=row.given_up,
        reasons=tuple(Reason(*reason) for reason in row.reasons),
        watch=tuple(row.watch),
        model=row.model,
        wwn=row.wwn,
        paths=tuple(row.paths),
        missing_paths=tuple(row.missing_paths),
        lit=row.lit,
        bus=row.bus,
        tier=Tier(row.tier),
        retiring=row.retiring,
        rated_bytes=row.rated_bytes,
        role_reason=row.role_reason,
    )
    key = disk.role != Role.BOOT, disk.media != "nvme", natural_key(disk.bay)
    return _KeptDisk(version, row.node_id, row.pool_id, row.enclosure_id, key, disk)


def _disks(
    session: Session, node_rows: dict[int, int], pool_rows: dict[int, int], box_rows: dict[int, int]
) -> list[Disk]:
    """Node by node: what it boots from, then NVMe, then the others, by bay."""
    found = []
    for kept in _keeper.disks_of(session):
        disk = kept.disk
        where = (
            node_rows[kept.node],
            pool_rows[kept.pool] if kept.pool else -1,
            box_rows[kept.box] if kept.box else -1,
        )
        if (disk.node, disk.pool, disk.enclosure) != where:
            disk = replace(disk, node=where[0], pool=where[1], enclosure=where[2])
        found.append((where[0], kept.key, disk))
    return [disk for _, _, disk in sorted(found, key=lambda one: one[:2])]


def _volumes(session: Session, pool_rows: dict[int, int]) -> list[Volume]:
    rows = sorted(session.scalars(select(VolumeRow)), key=lambda v: natural_key(v.name))
    ply_rows = list(session.scalars(select(PlyRow).order_by(PlyRow.id)))
    placements = _keeper.placements_of(session, ply_rows)
    by_volume: dict[int, list[PlyRow]] = defaultdict(list)
    for ply in ply_rows:
        by_volume[ply.volume_id].append(ply)

    def plies_of(volume: VolumeRow) -> tuple[Ply, ...]:
        return tuple(
            Ply(
                number=ply.id,
                volume=volume.id,
                name=volume.name,
                pool=pool_rows[volume.pool_id],
                scheme=Scheme(ply.k, ply.m, Level(ply.level), ply.per_domain),
                placement=placements[ply.id],
                tier=Tier(ply.tier),
                forming=volume.forming,
                purpose=Purpose(ply.purpose),
            )
            for ply in by_volume[volume.id]
        )

    return [
        Volume(v.id, v.name, pool_rows[v.pool_id], v.size_bytes, plies_of(v), v.forming, v.written)
        for v in rows
    ]
