"""When nodes were not heard, and disks not seen."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import datetime, timedelta
from enum import StrEnum

from sqlalchemy import and_, delete, func, or_, select, update
from sqlalchemy.dialects.postgresql import insert

from foldbarn.store.database import Session
from foldbarn.store.tables import OutageRow

KEPT = timedelta(days=35)  # as long as the longest samples


class Out(StrEnum):
    """What may be out of reach."""

    NODE = "node"
    DISK = "disk"


def begin(session: Session, what: Out, number: int, reason: str, since: datetime) -> None:
    """A thing is out of reach from then on; nothing where that is known already."""
    row = {"what": what.value, "number": number, "since": since, "reason": reason}
    session.execute(insert(OutageRow).values(**row).on_conflict_do_nothing())


def end(session: Session, what: Out, number: int) -> None:
    """It is within reach again."""
    mine = OutageRow.what == what.value, OutageRow.number == number, OutageRow.until.is_(None)
    session.execute(update(OutageRow).where(*mine).values(until=func.now()))


def since(session: Session, moment: datetime, things: Mapping[Out, Collection[int]]) -> list[OutageRow]:
    """Those of some things, by number, that lasted beyond a moment; oldest first."""
    any_of = [
        and_(OutageRow.what == what.value, OutageRow.number.in_(list(of))) for what, of in things.items()
    ]
    lasted = or_(OutageRow.until.is_(None), OutageRow.until > moment)
    rows = select(OutageRow).where(or_(*any_of), lasted).order_by(OutageRow.since, OutageRow.id)
    return list(session.scalars(rows))


def forget_old(session: Session) -> None:
    session.execute(delete(OutageRow).where(OutageRow.until < func.now() - KEPT))
