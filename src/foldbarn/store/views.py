"""Builds the SiteView, and keeps the newest one. Placements are read again only for plies whose version
grew.
"""

from __future__ import annotations

import threading
from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np
from sqlalchemy import ColumnElement, Row, literal_column, select, text

from foldbarn.core.arrays import Disks
from foldbarn.core.claims.classes import StorageClass
from foldbarn.core.claims.grants import Grant
from foldbarn.core.claims.kept import KeptClaim, Orchestrator
from foldbarn.core.columns import Columns
from foldbarn.core.hosts.attachments import NO_SERVING, Serving, Target
from foldbarn.core.machines.hardware import Reason
from foldbarn.core.machines.network import Port
from foldbarn.core.names import natural_key
from foldbarn.core.policies.policy import Policy
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.shares.share import NO_FILES, FileService, Mount, Protocol, Serves, Share
from foldbarn.core.site import (
    Binned,
    Cluster,
    Contact,
    Disk,
    Enclosure,
    Host,
    Node,
    OnlyOn,
    PartOf,
    Ply,
    Pool,
    Priority,
    Purpose,
    Rack,
    Role,
    Room,
    Short,
    SiteView,
    Tier,
    Vm,
    VmHost,
    VmPart,
    Volume,
)
from foldbarn.core.units import say_list
from foldbarn.core.volumes.growth import Growth
from foldbarn.core.volumes.origins import as_read
from foldbarn.core.volumes.snapshots import Origin, Span
from foldbarn.core.volumes.tiers import in_tiers
from foldbarn.store import claims, hosts, moves, orchestrators, policies, shares, snapshots, vm_hosts, vms
from foldbarn.store.database import Session, glance, snapshot
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
        self.placements: dict[int, tuple[str, Disks]] = {}  # ply number -> version of its row, placement
        self.disks: dict[int, _KeptDisk] = {}
        self.volumes: dict[int, _KeptVolume] = {}
        self.listed: tuple[Versions, dict[int, int], tuple[Volume, ...]] | None = None
        self.ground: tuple[Versions, _Ground] | None = None
        self.pools: tuple[dict[int, str], tuple[Pool, ...]] | None = None
        self.policies: tuple[Versions, tuple[Policy, ...]] | None = None
        self.users: tuple[Versions, tuple[tuple[Host, ...], tuple[Target, ...]]] | None = None
        self.vms: tuple[Versions, tuple[tuple[Vm, ...], tuple[VmHost, ...]]] | None = None
        self.shares: tuple[Versions, tuple[FileService | None, tuple[Share, ...]]] | None = None
        self.offers: tuple[Versions, _Offers] | None = None
        # With the revision they are of, names of orchestrators, and each with its row's version and place.
        self.claims: tuple[int, _Names, dict[int, _SortedClaim], tuple[KeptClaim, ...]] | None = None

    def current(self) -> SiteView:
        kept, revision = self.view, glance().revision()
        if kept is not None and kept.revision == revision:
            return kept
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
            self.volumes.clear()
            self.ground = self.pools = self.policies = self.users = self.listed = None
            self.offers = self.claims = self.vms = self.shares = None

    def placements_of(
        self, session: Session, plies: list[PlyRow], versions: dict[int, str]
    ) -> dict[int, Disks]:
        """By ply number; read again only where the ply's row, which every change of its placement writes, is
        another one than that which is kept.
        """
        with self.lock:
            kept = {v.id: self.placements.get(v.id) for v in plies}
        found = {v.id: one[1] for v in plies if (one := kept[v.id]) is not None and one[0] == versions[v.id]}
        stale = {v.id: v for v in plies if v.id not in found}
        pieces: dict[int, list[bytes]] = {number: [] for number in stale}
        query = select(PlacementRow.ply_id, PlacementRow.disks).where(PlacementRow.ply_id.in_(stale))
        for number, data in session.execute(query.order_by(PlacementRow.ply_id, PlacementRow.chunk)):
            pieces[number].append(data)
        for number, ply in stale.items():
            matrix = np.frombuffer(b"".join(pieces[number]), dtype="<i4").reshape(-1, ply.k + ply.m)
            found[number] = matrix
        with self.lock:
            self.placements |= {number: (versions[number], found[number]) for number in stale}
        return found

    def versions_of(self, session: Session) -> Versions:
        """Of all rows but those of disks, of which there are many."""
        found: Versions = defaultdict(dict)
        for table, number, version in session.execute(_ALL_VERSIONS).all():
            found[table][number] = version
        return found

    def ground_of(self, session: Session, versions: Versions) -> _Ground:
        """Read again only where any of its rows is another one than that which is kept."""
        now = {table: versions[table] for table in _GROUND}
        with self.lock:
            kept = self.ground
        if kept is None or kept[0] != now:
            kept = now, _read_ground(session)
            with self.lock:
                self.ground = kept
        return kept[1]

    def pools_of(self, session: Session, versions: dict[int, str]) -> tuple[Pool, ...]:
        with self.lock:
            kept = self.pools
        if kept is None or kept[0] != versions:
            kept = versions, _read_pools(session)
            with self.lock:
                self.pools = kept
        return kept[1]

    def policies_of(self, session: Session, versions: Versions) -> tuple[Policy, ...]:
        now = {table: versions[table] for table in ("policy", "policy_version")}
        with self.lock:
            kept = self.policies
        if kept is None or kept[0] != now:
            kept = now, policies.every_version(session)
            with self.lock:
                self.policies = kept
        return kept[1]

    def users_of(
        self, session: Session, versions: Versions, nodes: dict[int, int]
    ) -> tuple[tuple[Host, ...], tuple[Target, ...]]:
        """Hosts, and what is attached to them. nodes: those there are, by number."""
        now = {table: versions[table] for table in _USERS} | {"nodes": dict.fromkeys(nodes, "")}
        with self.lock:
            kept = self.users
        if kept is None or kept[0] != now:
            kept = now, (hosts.read_hosts(session), hosts.read_targets(session, nodes))
            with self.lock:
                self.users = kept
        return kept[1]

    def vms_of(self, session: Session, versions: Versions) -> tuple[tuple[Vm, ...], tuple[VmHost, ...]]:
        """Virtual machines, and the hosts that run such."""
        now = {table: versions[table] for table in _VMS}
        with self.lock:
            kept = self.vms
        if kept is None or kept[0] != now:
            kept = now, (vms.read_vms(session), vm_hosts.read_vm_hosts(session))
            with self.lock:
                self.vms = kept
        return kept[1]

    def shares_of(self, session: Session, versions: Versions) -> tuple[FileService | None, tuple[Share, ...]]:
        """The file service, and its shares."""
        now = {table: versions[table] for table in _SHARES}
        with self.lock:
            kept = self.shares
        if kept is None or kept[0] != now:
            kept = now, (shares.read_service(session), shares.read_shares(session))
            with self.lock:
                self.shares = kept
        return kept[1]

    def offers_of(self, session: Session, versions: Versions) -> _Offers:
        now = {table: versions[table] for table in _OFFERS}
        with self.lock:
            kept = self.offers
        if kept is None or kept[0] != now:
            found = orchestrators.read_orchestrators(session)
            kept = now, (found, claims.read_classes(session), claims.read_grants(session))
            with self.lock:
                self.offers = kept
        return kept[1]

    def claims_of(
        self, session: Session, revision: int, connected: Sequence[Orchestrator]
    ) -> tuple[KeptClaim, ...]:
        """All claims; looked at only where what is known of any has changed, and read again where its row
        has. revision: of what is known of them.
        """
        with self.lock:
            kept = self.claims
        if kept is not None and kept[0] == revision:
            return kept[3]
        names = {one.number: natural_key(one.name) for one in connected}
        # They stand by the names of their orchestrators, which may be given others.
        known = {} if kept is None or kept[1] != names else kept[2]
        versions = claims.versions(session)
        same = {number: one for number, one in known.items() if versions.get(number) == one[0]}
        read: dict[int, _SortedClaim] = {}
        if stale := versions.keys() - same.keys():
            fresh = claims.read_claims(session, stale if same else None)
            for number in stale:
                one = fresh[number]
                read[number] = versions[number], claims.sort_key(one, names), one
        if all(number in known and known[number][1] == one[1] for number, one in read.items()):
            in_order = {n: read.get(n, one) for n, one in known.items() if n in versions}
        else:
            in_order = dict(sorted((same | read).items(), key=lambda one: one[1][1]))
        ordered = tuple(one for *_, one in in_order.values())
        with self.lock:
            self.claims = revision, names, in_order, ordered
        return ordered

    def volumes_of(
        self, session: Session, versions: Versions, pool_rows: dict[int, int]
    ) -> tuple[Volume, ...]:
        """All volumes, by name; read again only where their row or a ply's is another one than is kept."""
        now = {table: versions[table] for table in ("volume", "ply")}
        with self.lock:
            kept, listed = dict(self.volumes), self.listed
        if listed is not None and listed[:2] == (now, pool_rows):
            return listed[2]
        same = {n: one for n, one in kept.items() if versions["volume"].get(n) == one.version[0]}
        ply_versions = versions["ply"]
        same = {
            n: one
            for n, one in same.items()
            if [ply_versions.get(p.number) for p in one.volume.every_ply] == list(one.version[1:])
        }
        # What is on its way into a ply has the ply's number, and is counted once with it.
        held = {ply.number for one in same.values() for ply in one.volume.every_ply}
        if same and len(held) < len(ply_versions):
            changed = select(PlyRow.volume_id).where(PlyRow.id.in_(ply_versions.keys() - held))
            for number in session.scalars(changed):
                same.pop(number, None)
        if stale := versions["volume"].keys() - same.keys():
            rows = _read_volumes(session, pool_rows, stale if same else None)
            kept_by, taken = policies.version_ids(session), snapshots.read_all(session, stale)
            plies = [ply for _, mine in rows.values() for ply in mine]
            placements = self.placements_of(session, plies, ply_versions)
            for number, (row, mine) in rows.items():
                if number in stale:
                    one = _kept_volume(row, mine, placements, versions, kept_by)
                    volume = replace(one.volume, snapshots=taken.get(number, ()))
                    same[number] = replace(one, volume=volume)
        same = {number: _in_pool(one, pool_rows[one.pool]) for number, one in same.items()}
        same = {number: _from_origin(one, same) for number, one in same.items()}
        found = tuple(one.volume for one in sorted(same.values(), key=lambda one: one.key))
        with self.lock:
            self.volumes, self.listed = same, (now, pool_rows, found)
            for gone in self.placements.keys() - versions["ply"].keys():
                del self.placements[gone]
        return found

    def columns(self) -> Columns:
        """What was found of the volumes in the newest picture."""
        with self.lock:
            return Columns() if self.view is None else self.view.columns

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
        return list(found.values())

    def keep_disks(self, disks: list[_KeptDisk]) -> None:
        with self.lock:
            self.disks = {one.disk.number: one for one in disks}


_keeper = _Keeper()


def current_view() -> SiteView:
    """The site as it stands, built anew only when its revision has grown."""
    return _keeper.current()


def forget() -> None:
    """Drops what is kept; for tests that change databases."""
    _keeper.forget()


def load_view(session: Session) -> SiteView:
    """The SiteView of what this session sees. What is written down as it was is not read again."""
    site = session.execute(select(SiteRow.__table__)).one()
    versions = _keeper.versions_of(session)
    ground = _keeper.ground_of(session, versions)
    pools = _keeper.pools_of(session, versions["pool"])
    pool_rows = {p.number: i for i, p in enumerate(pools)}
    under_way = moves.under_way(session)
    users, targets = _keeper.users_of(session, versions, ground.node_rows)
    machines, runners = _keeper.vms_of(session, versions)
    service, offered = _keeper.shares_of(session, versions)
    connected, classes, grants = _keeper.offers_of(session, versions)
    return SiteView(
        name=site.name,
        revision=site.revision,
        rooms=ground.rooms,
        racks=ground.racks,
        nodes=ground.nodes,
        enclosures=ground.enclosures,
        disks=tuple(_disks(session, ground.node_rows, pool_rows, ground.box_rows)),
        cluster=ground.cluster,
        mark=site.mark,
        closed_ports=tuple((str(a), str(b), int(p), str(w)) for a, b, p, w in site.closed_ports),
        ports_tested_at=epoch(site.ports_tested_at),
        pools=pools,
        volumes=_keeper.volumes_of(session, versions, pool_rows),
        incoming=dict(Counter(under_way.values())),
        under_way=under_way,
        policies=_keeper.policies_of(session, versions),
        hosts=users,
        targets=targets,
        vms=machines,
        vm_hosts=runners,
        files=service,
        shares=offered,
        orchestrators=connected,
        classes=classes,
        grants=grants,
        claims=_keeper.claims_of(session, site.claims_revision, connected),
        before=_keeper.columns(),
    )


Versions = dict[str, dict[int, str]]  # of rows by number, by table
_GROUND = ("room", "rack", "node", "enclosure", "cluster")
_USERS = ("host", "initiator", "target", "attachment")
_VMS = ("vm", "vm_host")
_SHARES = ("file_service", "file_address", "share", "share_user")
_OFFERS = ("orchestrator", "orchestrator_secret", "storage_class", "policy_grant")
_Names = dict[int, Any]  # as they are sorted, by number
_SortedClaim = tuple[str, tuple[object, ...], KeptClaim]
_Offers = tuple[tuple[Orchestrator, ...], tuple[StorageClass, ...], tuple[Grant, ...]]
# Where a row lies and which transaction wrote it: another version of the row has another.
_ALL_VERSIONS = text(
    " union all ".join(
        f"select '{table}', id, ctid::text || ' ' || xmin::text from {table}"
        for table in (
            *(*_GROUND, *_USERS, *_VMS, *_SHARES, *_OFFERS),
            *("pool", "volume", "ply", "policy", "policy_version"),
        )
    )
)


@dataclass(frozen=True, slots=True)
class _Ground:
    """Where things stand, and the cluster; with rows by number of nodes and enclosures."""

    rooms: tuple[Room, ...]
    racks: tuple[Rack, ...]
    nodes: tuple[Node, ...]
    enclosures: tuple[Enclosure, ...]
    cluster: Cluster | None
    node_rows: dict[int, int]
    box_rows: dict[int, int]


def _read_ground(session: Session) -> _Ground:
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
    enclosures = sorted(session.scalars(select(EnclosureRow)), key=lambda e: natural_key(e.name))
    return _Ground(
        rooms=tuple(Room(r.id, r.name) for r in rooms),
        racks=tuple(Rack(r.id, r.name, room_rows[r.room_id]) for r in racks),
        nodes=tuple(_node(n, rack_rows[n.rack_id]) for n in nodes),
        enclosures=tuple(Enclosure(e.id, e.name, rack_rows[e.rack_id], tuple(e.nodes)) for e in enclosures),
        cluster=_cluster(session, nodes),
        node_rows={n.id: i for i, n in enumerate(nodes)},
        box_rows={e.id: i for i, e in enumerate(enclosures)},
    )


def _read_pools(session: Session) -> tuple[Pool, ...]:
    rows = sorted(session.scalars(select(PoolRow)), key=lambda p: natural_key(p.name))
    return tuple(
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
            tuple(p.labels),
            p.compress_unit,
        )
        for p in rows
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
        _serving(row),
        _files(row),
    )


def _files(row: NodeRow) -> Serves:
    said = row.files_said
    if not said:
        return NO_FILES
    return Serves(
        carries=frozenset(said["carries"]),
        mounts=tuple(
            Mount(share, client, Protocol(protocol), read_only, user)
            for share, client, protocol, read_only, user in said["mounts"]
        ),
        refuses=frozenset(said["refuses"]),
    )


def _serving(row: NodeRow) -> Serving:
    targets = row.targets.get("targets") or {}
    lets_in = frozenset((name, own) for name, said in targets.items() for own in said["allows"])
    sessions = frozenset((target, own, address) for target, own, address, *_ in row.sessions)
    proved = frozenset((own, by) for _, own, _, *name in row.sessions for by in name if by)
    return Serving(lets_in, sessions, proved) if lets_in or sessions else NO_SERVING


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
            kept = replace(kept, disk=disk)
        found.append((where[0], kept.key, kept))
    ordered = [kept for _, _, kept in sorted(found, key=lambda one: one[:2])]
    _keeper.keep_disks(ordered)
    return [kept.disk for kept in ordered]


@dataclass(frozen=True, slots=True)
class _KeptVolume:
    """A volume as it was read. version: of its row and its plies'; pool: its number."""

    version: tuple[str, ...]
    pool: int
    key: tuple[tuple[int, int, str], ...]  # its place among volumes
    volume: Volume


def _kept_volume(
    row: VolumeRow,
    plies: list[PlyRow],
    placements: dict[int, Disks],
    versions: Versions,
    kept_by: dict[int, tuple[int, int]],
) -> _KeptVolume:
    """Which row its pool has is filled in later: a pool that is made may move it. kept_by: number and version
    of each policy, by the row of that version.
    """
    read = tuple(
        Ply(
            number=ply.id,
            volume=row.id,
            name=row.name,
            pool=-1,
            scheme=Scheme(ply.k, ply.m, Level(ply.level), ply.per_domain),
            placement=placements[ply.id],
            tier=Tier(ply.tier),
            forming=row.forming or ply.forming,
            purpose=Purpose(ply.purpose),
            source=ply.source_id or 0,
        )
        for ply in plies
    )
    anew = next((ply for ply in read if ply.purpose == Purpose.ANEW), None)
    holds = next((np.frombuffer(ply.holds, dtype=np.bool_) for ply in plies if ply.holds is not None), None)
    if holds is not None:
        read, coming = in_tiers(read, holds)
        anew = anew or coming
    # What holds all of it comes first, whichever was made first.
    holding = tuple(
        sorted((p for p in read if p.purpose != Purpose.ANEW), key=lambda p: p.purpose != Purpose.WHOLE)
    )
    origin = _origin(row)
    if origin is not None:
        whole, anew = as_read(holding[0], origin, UNKNOWN)
        holding = (whole, *holding[1:])
    policy = kept_by[row.policy_version_id] if row.policy_version_id is not None else None
    volume = Volume(
        number=row.id,
        name=row.name,
        pool=-1,
        size_bytes=row.size_bytes,
        plies=holding,
        forming=row.forming,
        written_bytes=row.written,
        policy=policy,
        anew=anew,
        waiting_bytes=row.waiting,
        thin=row.thin,
        short=Short(row.short_extents, row.refuses) if row.short_extents else None,
        growth=Growth(**row.growth),
        asked=row.asked,
        offline=row.offline,
        spans=tuple(Span(*span) for span in row.spans),
        origin=origin,
        erasing=row.erasing,
        parked=row.parked,
        part=PartOf(row.vm_id, VmPart(row.vm_part), row.vm_place) if row.vm_id is not None else None,
        labels=tuple(row.labels),
        only_on=OnlyOn(frozenset(row.only_nodes), frozenset(row.only_disks)),
        operations=row.operations,
        throughput=row.throughput,
        serving_nodes=row.serving_nodes,
        binned=Binned(row.binned_at.timestamp(), row.kept_until.timestamp())
        if row.binned_at and row.kept_until
        else None,
    )
    version = (versions["volume"][row.id], *(versions["ply"][ply.number] for ply in volume.every_ply))
    return _KeptVolume(version, row.pool_id, natural_key(row.name), volume)


UNKNOWN = -1  # number of a ply, until the volume that it is of has been read too


def _origin(row: VolumeRow) -> Origin | None:
    if row.origin_id is None or row.origin_snapshot is None:
        return None
    return Origin(row.origin_id, row.origin_snapshot, row.shown, row.copying_left)


def _in_pool(kept: _KeptVolume, row: int) -> _KeptVolume:
    """With the row of its pool as it is now: nearly always what it was."""
    volume = kept.volume
    if volume.pool == row:
        return kept
    plies = tuple(replace(ply, pool=row) for ply in volume.plies)
    anew = replace(volume.anew, pool=row) if volume.anew else None
    return replace(kept, volume=replace(volume, pool=row, plies=plies, anew=anew))


def _from_origin(kept: _KeptVolume, others: Mapping[int, _KeptVolume]) -> _KeptVolume:
    """With the ply that it is copied from as that is now: the original may be held otherwise by now."""
    volume = kept.volume
    if volume.origin is None or volume.anew is None:
        return kept
    source = others[volume.origin.volume].volume.whole.number
    if volume.anew.source == source:
        return kept
    return replace(kept, volume=replace(volume, anew=replace(volume.anew, source=source)))


def _read_volumes(
    session: Session, pool_rows: dict[int, int], wanted: set[int] | None
) -> dict[int, tuple[VolumeRow, list[PlyRow]]]:
    """Volumes by number with the rows of their plies; all, or those wanted."""
    volumes, plies = select(VolumeRow), select(PlyRow).order_by(PlyRow.id)
    if wanted is not None:
        volumes, plies = volumes.where(VolumeRow.id.in_(wanted)), plies.where(PlyRow.volume_id.in_(wanted))
    found: dict[int, tuple[VolumeRow, list[PlyRow]]] = {v.id: (v, []) for v in session.scalars(volumes)}
    for ply in session.scalars(plies):
        found[ply.volume_id][1].append(ply)
    return found
