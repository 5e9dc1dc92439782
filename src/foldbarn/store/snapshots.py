"""Snapshots of volumes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import datetime

from sqlalchemy import delete, func, select, update

from foldbarn.core.site import Purpose
from foldbarn.core.volumes.snapshots import AskedFor, Snapshot, Span
from foldbarn.store.database import Session
from foldbarn.store.tables import PlyRow, SnapshotRow, VolumeRow

SPANS_STEP = 0.001  # of a volume: what its snapshots hold and differs by less is no news


def read_all(session: Session, volumes: Collection[int]) -> dict[int, tuple[Snapshot, ...]]:
    """By number of the volume, oldest first."""
    found: dict[int, list[Snapshot]] = defaultdict(list)
    rows = select(SnapshotRow).where(SnapshotRow.volume_id.in_(list(volumes))).order_by(SnapshotRow.number)
    for row in session.scalars(rows):
        at = row.taken_at.timestamp() if row.taken_at else 0.0
        found[row.volume_id].append(
            Snapshot(
                number=row.number,
                name=row.name,
                taken_at=at,
                forming=row.taken_at is None,
                lost=row.lost,
                scheduled=row.scheduled,
                bytes=row.size_bytes,
                asked=_asked(row),
            )
        )
    return {number: tuple(snapshots) for number, snapshots in found.items()}


def _asked(row: SnapshotRow) -> AskedFor | None:
    if row.orchestrator_id is None or row.asked_uid is None:
        return None
    return AskedFor(row.orchestrator_id, row.asked_uid, row.asked_path, row.fills)


def note(
    session: Session,
    volume: int,
    name: str,
    by: int,
    *,
    scheduled: bool = False,
    asked: AskedFor | None = None,
) -> int:
    """A snapshot of a volume (by number) is to be taken; by: the number of the change. Returns its own
    number: the same when asked again.
    """
    mine = SnapshotRow.volume_id == volume, SnapshotRow.made_by == by
    if (known := session.scalars(select(SnapshotRow.number).where(*mine)).first()) is not None:
        return known
    more = {"snapshots_taken": VolumeRow.snapshots_taken + 1}
    counted = update(VolumeRow).where(VolumeRow.id == volume).values(**more)
    row = session.execute(counted.returning(VolumeRow.snapshots_taken, VolumeRow.size_bytes)).one()
    number: int = row.snapshots_taken
    session.add(
        SnapshotRow(
            volume_id=volume,
            number=number,
            name=name,
            made_by=by,
            scheduled=scheduled,
            size_bytes=row.size_bytes,
            orchestrator_id=asked.orchestrator if asked else None,
            asked_uid=asked.uid if asked else None,
            asked_path=asked.path if asked else "",
            fills=bool(asked and asked.fills),
        )
    )
    session.flush()
    _altered(session, [volume])
    return number


def no_more_asked(session: Session, orchestrator: int) -> None:
    """What an orchestrator (by number) asked for stays, and is nobody's wish any more."""
    mine = update(SnapshotRow).where(SnapshotRow.orchestrator_id == orchestrator)
    nobodys = {"orchestrator_id": None, "asked_uid": None, "asked_path": "", "fills": False}
    _altered(session, session.scalars(mine.values(**nobodys).returning(SnapshotRow.volume_id)).all())


def numbers_by(session: Session, by: int) -> dict[int, int]:
    """Of the snapshots that a change takes: their number, by that of the volume."""
    rows = session.execute(select(SnapshotRow.volume_id, SnapshotRow.number).where(SnapshotRow.made_by == by))
    return {row.volume_id: row.number for row in rows}


def taken(session: Session, by: int) -> None:
    """Those that a change takes are there, all from this one moment on."""
    mine = SnapshotRow.made_by == by, SnapshotRow.taken_at.is_(None)
    at = {"taken_at": func.statement_timestamp()}
    rows = update(SnapshotRow).where(*mine).values(**at).returning(SnapshotRow.volume_id)
    _altered(session, session.scalars(rows).all())


def take_back(session: Session, by: int) -> None:
    """Those that a change takes, or has taken, are no more."""
    gone = delete(SnapshotRow).where(SnapshotRow.made_by == by).returning(SnapshotRow.volume_id)
    _altered(session, session.scalars(gone).all())


def forget(session: Session, volume: int, numbers: Collection[int]) -> int:
    """Some snapshots of a volume (by number) are no more; returns how many there were."""
    mine = SnapshotRow.volume_id == volume, SnapshotRow.number.in_(list(numbers))
    gone = session.scalars(delete(SnapshotRow).where(*mine).returning(SnapshotRow.id)).all()
    _altered(session, [volume])
    return len(gone)


def rename(session: Session, volume: int, number: int, name: str) -> None:
    mine = SnapshotRow.volume_id == volume, SnapshotRow.number == number
    session.execute(update(SnapshotRow).where(*mine).values(name=name))
    _altered(session, [volume])


def note_spans(session: Session, found: Mapping[int, Sequence[Span]]) -> bool:
    """What the snapshots of volumes (by number) hold beside them. Returns whether that is news."""
    news = False
    rows = select(VolumeRow).where(VolumeRow.id.in_(list(found))).order_by(VolumeRow.id).with_for_update()
    for row in session.scalars(rows):
        known = {(first, last): size for first, last, size in row.spans}
        now = {(span.first, span.last): span.bytes for span in found[row.id]}
        step = SPANS_STEP * row.size_bytes
        if known.keys() != now.keys() or any(abs(now[ends] - known[ends]) > step for ends in now):
            row.spans, news = [[*ends, size] for ends, size in sorted(now.items())], True
    return news


def lose(session: Session, volume: int, there: Collection[int], before: datetime, why: str) -> list[str]:
    """Of the snapshots of a volume (by number) that had been taken before a moment, those that its nodes do
    not know of are lost. Returns their names.
    """
    mine = SnapshotRow.volume_id == volume, SnapshotRow.lost == "", SnapshotRow.taken_at < before
    gone = update(SnapshotRow).where(*mine, SnapshotRow.number.not_in(list(there))).values(lost=why)
    names = list(session.scalars(gone.returning(SnapshotRow.name)))
    if names:
        _altered(session, [volume])
    return names


def forming_pasts(session: Session, volumes: Iterable[int]) -> list[int]:
    """Of volumes (by number), the plies for what is overwritten whose strips have still to be made."""
    mine = PlyRow.volume_id.in_(list(volumes)), PlyRow.purpose == Purpose.PAST.value, PlyRow.forming
    return list(session.scalars(select(PlyRow.id).where(*mine).order_by(PlyRow.id)))


def _altered(session: Session, volumes: Iterable[int]) -> None:
    """The picture of these volumes is read anew."""
    more = {"snapshots_altered": VolumeRow.snapshots_altered + 1}
    session.execute(update(VolumeRow).where(VolumeRow.id.in_(list(volumes))).values(**more))
