"""Which changes touch what, in a table of which the database itself refuses two that may not stand side by
side.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sqlalchemy import (
    BigInteger,
    ColumnElement,
    Select,
    and_,
    bindparam,
    case,
    delete,
    func,
    select,
    update,
)
from sqlalchemy.dialects.postgresql import ARRAY, array, insert
from sqlalchemy.orm import aliased

from foldbarn.core.touching import Thing, Touch
from foldbarn.store.database import Session
from foldbarn.store.tables import ChangeRow, TouchRow

# advisory lock: one takes at a time, so that of two that want the same the older comes first
TAKING_LOCK = 0xBA54
_NUMBERS = ARRAY(BigInteger)


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
    other = session.execute(_WAITING_TO_BEGIN, {"only": change}).first()
    if other is None:
        mine = TouchRow.change_id == change, ~TouchRow.passing
        session.execute(update(TouchRow).where(*mine).values(held=True))
    return None if other is None else int(other[1])


def take_also(session: Session, change: int, touch: Touch) -> int | None:
    """Takes one thing more for as long as a step needs it. Returns the number of the change that has it, or
    that has waited for the same for longer; None once it is taken. That it is wanted is written down: who
    takes the same again and again lets those go first that have come meanwhile.
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
    """The number of the change that this one waits for: one that holds what it touches, or one that has
    waited for the same for longer.
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


def _waiting(*, only: bool = False, lasting: bool = False) -> Select[int, int]:
    """By change that waits, and for whom: first those that hold something, then those that have waited for
    longer.

    Each thing is looked at once, however many wait for it. only: of one change, bound as "only". lasting:
    for what is wanted for the whole change. Made once: to make such a statement takes longer than to carry
    it out.
    """
    open_ = (
        select(TouchRow)
        .join(ChangeRow, ChangeRow.id == TouchRow.change_id)
        .where(ChangeRow.state.in_(("waiting", "running")))
        .cte("open")
    )
    wanted = aliased(TouchRow, open_)

    def oldest(which: ColumnElement[bool]) -> ColumnElement[int]:
        return func.min(wanted.change_id).filter(which)

    def first(which: ColumnElement[bool]) -> ColumnElement[Any]:
        return func.min(array([wanted.turn, wanted.change_id]), type_=_NUMBERS).filter(which)

    things = (
        select(
            wanted.what,
            wanted.number,
            oldest(and_(wanted.held)).label("holds"),
            oldest(and_(wanted.held, wanted.alone)).label("holds_alone"),
            first(~wanted.held).label("wants"),
            first(and_(~wanted.held, wanted.alone)).label("wants_alone"),
        )
        .group_by(wanted.what, wanted.number)
        .subquery()
    )
    mine = aliased(TouchRow, open_)
    holder = case((mine.alone, things.c.holds), else_=things.c.holds_alone)
    earlier = case((mine.alone, things.c.wants), else_=things.c.wants_alone)
    longest = func.min(earlier, type_=_NUMBERS).filter(earlier < array([mine.turn]))
    other = func.coalesce(func.min(holder), longest[2])
    found = (
        select(mine.change_id, other)
        .join(things, (things.c.what == mine.what) & (things.c.number == mine.number))
        .where(~mine.held)
        .group_by(mine.change_id)
        .having(other.is_not(None))
    )
    if only:
        found = found.where(mine.change_id == bindparam("only"))
    return found.where(~mine.passing) if lasting else found


_WAITING, _WAITING_ONE, _WAITING_TO_BEGIN = _waiting(), _waiting(only=True), _waiting(only=True, lasting=True)


def of_change(session: Session, change: int) -> list[Touch]:
    """What a change touches, or touched."""
    rows = session.scalars(select(TouchRow).where(TouchRow.change_id == change, ~TouchRow.passing))
    return [Touch(Thing(row.what), row.number, row.alone) for row in rows]


def open_touching(session: Session, what: Thing, number: int) -> list[int]:
    """Numbers of changes that have not ended and touch a thing."""
    rows = select(TouchRow.change_id).join(ChangeRow, ChangeRow.id == TouchRow.change_id)
    open_ = rows.where(ChangeRow.state.in_(("waiting", "running", "paused")))
    return list(
        session.scalars(open_.where(TouchRow.what == what.value, TouchRow.number == number).distinct())
    )


def open_numbers(session: Session, what: Thing) -> dict[int, int]:
    """Numbers of the things of a kind that changes touch which have not ended, with the newest of these."""
    rows = select(TouchRow.number, func.max(TouchRow.change_id))
    mine = rows.join(ChangeRow, ChangeRow.id == TouchRow.change_id).where(TouchRow.what == what.value)
    open_ = mine.where(ChangeRow.state.in_(("waiting", "running", "paused"))).group_by(TouchRow.number)
    return {int(number): int(change) for number, change in session.execute(open_)}
