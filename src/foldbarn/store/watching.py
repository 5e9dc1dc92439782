"""What the watch finds out, written down."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping

from sqlalchemy import func, select, text, update

from foldbarn.core.machines.counters import rate
from foldbarn.core.pools.compressing import Measured
from foldbarn.store.database import Session
from foldbarn.store.tables import DiskRow, DiskWorkRow, NodeRow, PlyRow, PoolRow, SiteRow, VolumeRow

# A column each: of many disks one statement, where one for each would be the most that is asked at rest.
_WORK_OF_MANY = text(
    """
    insert into disk_work (disk_id, at, read_bytes, written_bytes, read_rate, write_rate)
    select *
    from unnest(
        cast(:disk_id as bigint[]), cast(:at as timestamptz[]),
        cast(:read_bytes as bigint[]), cast(:written_bytes as bigint[]),
        cast(:read_rate as float8[]), cast(:write_rate as float8[])
    )
    on conflict (disk_id) do update set
        at = excluded.at, read_bytes = excluded.read_bytes, written_bytes = excluded.written_bytes,
        read_rate = excluded.read_rate, write_rate = excluded.write_rate
    """
)


def node(session: Session, number: int) -> NodeRow | None:
    return session.get(NodeRow, number)


def heard(session: Session, nodes: Iterable[int]) -> None:
    """These nodes (by number) answered just now."""
    session.execute(update(NodeRow).where(NodeRow.id.in_(list(nodes))).values(heard_at=func.now()))


def seconds_since_heard(session: Session, number: int) -> float | None:
    """By the database's clock; none for a node that was never heard."""
    away = select(func.extract("epoch", func.now() - NodeRow.heard_at)).where(NodeRow.id == number)
    found = session.scalar(away)
    return None if found is None else float(found)


def pools_on(session: Session, node: int) -> list[int]:
    """Numbers of the pools that have a disk on a node."""
    pools = select(DiskRow.pool_id).where(DiskRow.node_id == node, DiskRow.pool_id.is_not(None))
    return [pool for pool in session.scalars(pools.distinct()) if pool is not None]


def keep_counters(session: Session, counters: Mapping[int, Mapping[str, tuple[int, int]]]) -> None:
    """What the disks of nodes (by number) have read and written so far, by serial number, and how fast since
    they were last asked.

    Most disks of a large site do nothing most of the time: those are only marked as asked.
    """
    now = session.scalars(select(func.now())).one()
    work = (
        DiskWorkRow.at,
        DiskWorkRow.read_bytes,
        DiskWorkRow.written_bytes,
        DiskWorkRow.read_rate,
        DiskWorkRow.write_rate,
    )
    known = session.execute(
        select(DiskRow.id, DiskRow.node_id, DiskRow.serial, *work)
        .outerjoin(DiskWorkRow, DiskWorkRow.disk_id == DiskRow.id)
        .where(DiskRow.node_id.in_(list(counters)))
    )
    rows: list[dict[str, object]] = []
    idle: list[int] = []
    for disk, node, serial, at, read_before, written_before, *rates in known:
        if serial not in counters[node]:
            continue
        read, written = counters[node][serial]
        if (read_before, written_before, *rates) == (read, written, 0.0, 0.0):
            idle.append(disk)
            continue
        seconds = (now - at).total_seconds() if at else 0.0
        rows.append(
            {
                "disk_id": disk,
                "at": now,
                "read_bytes": read,
                "written_bytes": written,
                "read_rate": rate(read_before, read, seconds) if at else None,
                "write_rate": rate(written_before, written, seconds) if at else None,
            }
        )
    if idle:
        session.execute(update(DiskWorkRow).where(DiskWorkRow.disk_id.in_(idle)).values(at=now))
    if rows:
        session.execute(_WORK_OF_MANY, {column: [row[column] for row in rows] for column in rows[0]})


def sum_written(session: Session, least_share: float) -> bool:
    """Brings each volume's written bytes, and those that wait in its landing, up to what all nodes have said
    of its plies, less what protects it. Less than this share of a volume is left.

    Returns whether anything was worth it.
    """
    totals: Counter[int] = Counter()
    for (found,) in session.execute(select(NodeRow.written).where(NodeRow.written != {})):
        totals.update({int(v): b for v, b in found.items()})
    changed = False
    data: dict[str, Counter[int]] = {"whole": Counter(), "landing": Counter()}
    room: Counter[int] = Counter()  # extents of each volume's landing
    # Nor is what snapshots hold data of the volume as it is now.
    for ply in session.scalars(select(PlyRow).where(PlyRow.purpose.not_in(("anew", "past")))):
        # What lies in a hot ply is data of the volume like the rest.
        part = "landing" if ply.purpose == "landing" else "whole"
        data[part][ply.volume_id] += totals[ply.id] * ply.k // (ply.k + ply.m)
        room[ply.volume_id] += ply.extents if ply.purpose == "landing" else 0
    strips = {pool: size for pool, size in session.execute(select(PoolRow.id, PoolRow.strip_bytes))}
    for volume in session.scalars(select(VolumeRow)):
        written = min(data["whole"][volume.id], volume.size_bytes)
        if abs(written - volume.written) > least_share * volume.size_bytes:
            volume.written, changed = written, True
        landing = room[volume.id] * strips[volume.pool_id]
        waiting = min(data["landing"][volume.id], landing)
        if abs(waiting - volume.waiting) > least_share * landing:
            volume.waiting, changed = waiting, True
    return changed


def compressed(session: Session, pool: int) -> Measured:
    """What compressing has come to in a pool (by number), as its nodes told last."""
    mine = (
        select(PlyRow.id).join(VolumeRow, VolumeRow.id == PlyRow.volume_id).where(VolumeRow.pool_id == pool)
    )
    plies = set(session.scalars(mine))
    before = after = 0
    for (found,) in session.execute(select(NodeRow.compressed).where(NodeRow.compressed != {})):
        for ply, (written, takes) in found.items():
            if int(ply) in plies:
                before, after = before + written, after + takes
    return Measured(before, after)


def hand_over_boxes(session: Session) -> int:
    """A disk in an enclosure whose carrying node is not heard is carried by another node that sees it.
    Returns how many were handed over.
    """
    silent = select(NodeRow.id).where(NodeRow.contact.in_(("silent", "garbled")))
    boxed = select(DiskRow).where(DiskRow.enclosure_id.is_not(None), DiskRow.node_id.in_(silent))
    rows = list(session.scalars(boxed))
    if not rows:
        return 0
    heard = {n.name: n.id for n in session.scalars(select(NodeRow).where(NodeRow.contact == "heard"))}
    moved = 0
    for row in rows:
        seen_by = (path.partition(":")[0] for path in row.paths)
        carrier = next((heard[name] for name in seen_by if name in heard), None)
        if carrier is not None:
            row.node_id, moved = carrier, moved + 1
    return moved


def give_up(session: Session, nodes_too: bool) -> bool:
    """Marks disks, and nodes where that is wished, that have been away longer than the grace time. Returns
    whether there were any.
    """
    grace = session.scalars(select(SiteRow.grace_seconds)).one()
    cutoff = func.now() - func.make_interval(0, 0, 0, 0, 0, 0, grace)
    silent = NodeRow.contact.in_(("silent", "garbled")), NodeRow.given_up.is_(False), NodeRow.since < cutoff
    missing = DiskRow.present.is_(False), DiskRow.given_up.is_(False), DiskRow.missing_since < cutoff
    found = session.execute(update(DiskRow).where(*missing).values(given_up=True)).rowcount  # type: ignore[attr-defined]
    if nodes_too:
        found += session.execute(update(NodeRow).where(*silent).values(given_up=True)).rowcount  # type: ignore[attr-defined]
    return bool(found)
