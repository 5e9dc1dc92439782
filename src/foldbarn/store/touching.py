"""Which changes touch what, in a table of which the database itself refuses two that may not stand side by
side.
"""

from __future__ import annotations

from collections.abc import Iterable

from sqlalchemy import ColumnElement, Select, and_, bindparam, delete, func, or_, select, update
from sqlalchemy.dialects.postgresql import distinct_on, insert
from sqlalchemy.orm import aliased

from foldbarn.core.touching import Thing, Touch
from foldbarn.store.database import Session
from foldbarn.store.tables import ChangeRow, TouchRow

# advisory lock: one takes at a time, so that of two that want the same the older comes first
TAKING_LOCK = 0xBA54


def note(session: Session, change: int, touches: Iterable[Touch]) -> None:
    """Writes down what a change will touch. It takes it when its turn has come."""
    rows = [
        {"change_id": change, "what": t.what.value, "number": t.number, "alone": t.alone}
        for t in set(touches)
    ]
    if rows:
        session.execute(insert(TouchRow), rows)


def take(session: Session, change: int) -> int | None:
    """Takes what a change touches, all of it or nothing. Returns the number of the change it has to wait for;
    None once it is taken.
    """
    session.execute(select(func.pg_advisory_xact_lock(TAKING_LOCK)))
    other = session.execute(_WAITING_ONE.where(~_MINE.passing), {"only": change}).first()
    if other is None:
        mine = TouchRow.change_id == change, ~TouchRow.passing
        session.execute(update(TouchRow).where(*mine).values(held=True))
    return None if other is None else int(other[1])


def take_also(session: Session, change: int, touch: Touch) -> int | None:
    """Takes one thing more for as long as a step needs it. Returns the number of the change that has it, or
    that came before and waits for the same; None once it is taken. That it is wanted is written down.
    """
    session.execute(select(func.pg_advisory_xact_lock(TAKING_LOCK)))
    row = {"change_id": change, "what": touch.what.value, "number": touch.number, "alone": touch.alone}
    session.execute(insert(TouchRow).values(**row, passing=True).on_conflict_do_nothing())
    other = in_the_way(session, change)
    if other is None:
        session.execute(update(TouchRow).where(_passing(change, touch)).values(held=True))
    return other


def let_go(session: Session, change: int) -> None:
    """What a change touched is free for others. What it would touch when it goes on stays written down."""
    session.execute(delete(TouchRow).where(TouchRow.change_id == change, TouchRow.passing))
    session.execute(update(TouchRow).where(TouchRow.change_id == change).values(held=False))


def let_go_of(session: Session, change: int, touch: Touch) -> None:
    """Frees one thing that was taken for a step."""
    session.execute(delete(TouchRow).where(_passing(change, touch)))


def _passing(change: int, touch: Touch) -> ColumnElement[bool]:
    same = and_(TouchRow.what == touch.what.value, TouchRow.number == touch.number)
    return and_(TouchRow.change_id == change, TouchRow.passing, same)


def in_the_way(session: Session, change: int) -> int | None:
    """The number of the change that this one waits for: one that holds what it touches, or one that came
    before and waits for the same.
    """
    return waiting_for_others(session, change).get(change)


def wanting() -> Select[int]:
    """Numbers of the changes that want something which they have not got."""
    return select(TouchRow.change_id).where(~TouchRow.held)


def waiting_for_others(session: Session, only: int | None = None) -> dict[int, int]:
    """For each change that has not taken what it touches and cannot now, or for one: the number of the one it
    waits for.
    """
    found = session.execute(_WAITING) if only is None else session.execute(_WAITING_ONE, {"only": only})
    return {int(change): int(other) for change, other in found.all()}


def _waiting() -> Select[int, int]:
    """Made once: to make such a statement takes longer than to carry it out."""
    mine, theirs, own = _MINE, aliased(TouchRow), aliased(ChangeRow)
    open_ = ("waiting", "running")
    return (
        select(mine.change_id, theirs.change_id)
        .join(theirs, (theirs.what == mine.what) & (theirs.number == mine.number))
        .join(own, own.id == mine.change_id)
        .join(ChangeRow, ChangeRow.id == theirs.change_id)
        .where(own.state.in_(open_), ~mine.held)
        .where(theirs.change_id != mine.change_id, or_(mine.alone, theirs.alone))
        .where(or_(theirs.held, ChangeRow.state.in_(open_) & (theirs.change_id < mine.change_id)))
        .order_by(mine.change_id, theirs.held.desc(), theirs.change_id)
        .ext(distinct_on(mine.change_id))
    )


_MINE = aliased(TouchRow)
_WAITING = _waiting()
_WAITING_ONE = _WAITING.where(_WAITING.selected_columns[0] == bindparam("only"))


def open_touching(session: Session, what: Thing, number: int) -> list[int]:
    """Numbers of changes that have not ended and touch a thing."""
    rows = select(TouchRow.change_id).join(ChangeRow, ChangeRow.id == TouchRow.change_id)
    open_ = rows.where(ChangeRow.state.in_(("waiting", "running", "paused")))
    return list(
        session.scalars(open_.where(TouchRow.what == what.value, TouchRow.number == number).distinct())
    )
