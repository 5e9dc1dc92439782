"""The one row of the site, and how busy its disks are."""

from __future__ import annotations

from sqlalchemy import extract, func, select, text, update

from foldbarn.store.database import Session, glance, transaction
from foldbarn.store.tables import DiskRow, DiskWorkRow, NodeRow, SiteRow

_NOTE_WATCHED = text(
    """
    update site set watched_at = now() from (select watched_at from site) as before
    returning extract(epoch from now() - before.watched_at)
    """
)


def row(session: Session) -> SiteRow:
    return session.scalars(select(SiteRow)).one()


def revision(session: Session) -> int:
    return session.scalars(select(SiteRow.revision)).one()


def revision_now() -> int:
    """The same, for whom nothing else is to be of the same moment."""
    found = glance().revision()
    if found is not None:
        return found
    with transaction() as session:
        return revision(session)


def grace_and_unwatched(session: Session) -> tuple[float, float]:
    """Seconds of grace, and seconds since a round of the watch ended, by the database's clock; 0 where none
    ever did.
    """
    away = extract("epoch", func.now() - SiteRow.watched_at)
    grace, unwatched = session.execute(select(SiteRow.grace_seconds, away)).one()
    return float(grace), float(unwatched or 0.0)


def watched_now(session: Session) -> float:
    """Notes that everything was looked at just now. Returns the seconds since the round before; 0 for the
    first.
    """
    return float(session.scalar(_NOTE_WATCHED) or 0.0)


def note_ports(session: Session, shut: list[list[object]]) -> None:
    """What the last test of the port plan found shut."""
    session.execute(update(SiteRow).values(closed_ports=shut, ports_tested_at=func.now()))


def keep_text(session: Session, text: str) -> None:
    session.execute(update(SiteRow).values(description=text))


def disk_work(session: Session) -> dict[str, tuple[float | None, float | None]]:
    """Bytes per second read and written by disk name; None where not known. Of a disk that is gone, or whose
    node is not heard, only what it did last is known, which is nothing about now.
    """
    rates = (
        select(DiskRow.name, DiskWorkRow.read_rate, DiskWorkRow.write_rate)
        .join(DiskWorkRow, DiskWorkRow.disk_id == DiskRow.id)
        .join(NodeRow, NodeRow.id == DiskRow.node_id)
        .where(DiskRow.present, NodeRow.contact == "heard")
    )
    rows = session.execute(rates)
    return {name: (read, write) for name, read, write in rows}
