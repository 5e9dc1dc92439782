"""What was altered, by whom and when, besides what changes record of themselves."""

from __future__ import annotations

from sqlalchemy import delete, func, select

from foldbarn.core.actors import Actor
from foldbarn.store.database import Session, tell
from foldbarn.store.tables import RecordRow

KEPT = 10_000  # records; older ones are forgotten


def note(session: Session, actor: Actor, what: str, change: int | None = None) -> None:
    """what: a sentence, of what is so from now on. change: the change that it was done to, where there is
    one.
    """
    session.add(RecordRow(actor=actor, what=what, change_id=change))
    tell(session, "changes")


def of_change(session: Session, change: int) -> list[RecordRow]:
    """What was asked of a change, oldest first."""
    return list(
        session.scalars(select(RecordRow).where(RecordRow.change_id == change).order_by(RecordRow.id))
    )


def recent(session: Session, limit: int) -> list[RecordRow]:
    """What was altered besides changes, newest first."""
    rows = select(RecordRow).where(RecordRow.change_id.is_(None)).order_by(RecordRow.id.desc())
    return list(session.scalars(rows.limit(limit)))


def forget_old(session: Session) -> int:
    """Keeps the newest; returns how many were forgotten."""
    newest = session.scalar(select(func.max(RecordRow.id))) or 0
    old = delete(RecordRow).where(RecordRow.id <= newest - KEPT)
    return int(session.execute(old).rowcount)  # type: ignore[attr-defined]
