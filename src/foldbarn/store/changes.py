"""Changes and their steps, as recorded."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass, replace
from datetime import datetime
from itertools import takewhile
from typing import Any

from sqlalchemy import bindparam, exists, func, or_, select, text, update

from foldbarn.core.actors import Actor
from foldbarn.core.errors import BarnError, NotFound
from foldbarn.core.touching import Thing, Touch
from foldbarn.store import touching
from foldbarn.store.database import Session, tell
from foldbarn.store.tables import ChangeRow, SiteRow, StepRow, TouchRow

Payload = dict[str, Any] | None  # of a step, as recorded; None where an older version recorded none
DIGEST_LOCK = 0xBA53  # advisory lock space: one that carries out a preview
JOB = "change "  # with its number: what the one job of a change is known by
OPEN_STATES = ("waiting", "running", "paused")
ENDED_STATES = ("done", "withdrawn")
OPEN = ChangeRow.state.in_(OPEN_STATES)


class Fenced(BarnError):
    """Another runner has taken the change over; this one may write nothing more."""


# Recording. --------------------------------------------------------------------------------------------


def record(session: Session, row: ChangeRow, steps: Iterable[StepRow], touches: Iterable[Touch]) -> int:
    """Writes a new change down, with its steps and what it will touch. Returns its number."""
    session.add(row)
    session.flush()
    for number, step in enumerate(steps, 1):
        step.change_id, step.number = row.id, number
        session.add(step)
    session.flush()
    touching.note(session, row.id, touches)
    tell(session, "changes")
    return row.id


def operator(session: Session) -> Actor:
    """The person who uses this Fold Barn."""
    return Actor(session.scalars(select(SiteRow.operator)).one())


def open_with_digest(session: Session, digest: str) -> int | None:
    """The number of an open change that carries out the preview with this digest. Two that ask at once wait
    for one another.
    """
    session.execute(select(func.pg_advisory_xact_lock(DIGEST_LOCK, func.hashtext(digest))))
    same = ChangeRow.preview["digest"].astext == digest
    return session.scalars(select(ChangeRow.id).where(same, OPEN)).first()


# Reading. ----------------------------------------------------------------------------------------------


def one(session: Session, change: int) -> tuple[ChangeRow, list[StepRow]]:
    """Raises NotFound."""
    row = session.get(ChangeRow, change)
    if row is None:
        raise NotFound(f"There is no change {change}.", about="change")
    return row, steps_of(session, change)


def locked(session: Session, change: int) -> ChangeRow:
    """The change, which nobody else alters until the transaction ends. Raises NotFound."""
    row = session.get(ChangeRow, change, with_for_update=True)
    if row is None:
        raise NotFound(f"There is no change {change}.", about="change")
    return row


def steps_of(session: Session, change: int) -> list[StepRow]:
    return list(session.scalars(select(StepRow).where(StepRow.change_id == change).order_by(StepRow.number)))


def recent(session: Session, limit: int) -> list[tuple[ChangeRow, list[StepRow]]]:
    """The newest changes, and all that have not ended however old, newest first, with their steps in
    order.
    """
    newest = select(ChangeRow.id).order_by(ChangeRow.id.desc()).limit(limit)
    rows = session.scalars(
        select(ChangeRow).where(OPEN | ChangeRow.id.in_(newest)).order_by(ChangeRow.id.desc())
    ).all()
    steps: dict[int, list[StepRow]] = {row.id: [] for row in rows}
    for step in session.scalars(select(StepRow).where(StepRow.change_id.in_(steps)).order_by(StepRow.number)):
        steps[step.change_id].append(step)
    return [(row, steps[row.id]) for row in rows]


def that_touched(session: Session, what: Collection[Thing], number: int, limit: int) -> list[ChangeRow]:
    """The newest changes that touched any of these things (of one number), or will, newest first."""
    mine = TouchRow.what.in_([one.value for one in what]), TouchRow.number == number
    touched = select(TouchRow.change_id).where(*mine)
    rows = select(ChangeRow).where(ChangeRow.id.in_(touched)).order_by(ChangeRow.id.desc())
    return list(session.scalars(rows.limit(limit)))


def unfinished(session: Session) -> list[ChangeRow]:
    """Changes that have not ended, oldest first."""
    return list(session.scalars(select(ChangeRow).where(OPEN).order_by(ChangeRow.id)))


def open_of_kind(session: Session, kind: str) -> list[ChangeRow]:
    return list(session.scalars(select(ChangeRow).where(ChangeRow.kind == kind, OPEN).order_by(ChangeRow.id)))


def pools_of_open(session: Session) -> set[int]:
    """Numbers of the pools that some open change is about."""
    rows = session.scalars(select(ChangeRow.meant).where(OPEN))
    return {number for meant in rows for number in (meant or {}).get("pool", {}).values()}


def moved_lately(session: Session, kind: str, seconds: float) -> dict[int, int]:
    """Bytes that changes of a kind which ended so many seconds ago or later have moved, by number of the
    pool.
    """
    since = func.now() - func.make_interval(0, 0, 0, 0, 0, 0, seconds)
    rows = select(ChangeRow.meant, ChangeRow.moved).where(ChangeRow.kind == kind, ChangeRow.ended_at > since)
    found: Counter[int] = Counter()
    for meant, moved in session.execute(rows):
        for number in (meant or {}).get("pool", {}).values():
            found[number] += moved
    return dict(found)


def of_kinds(session: Session, kinds: Iterable[str]) -> list[ChangeRow]:
    """All changes of some kinds, newest first."""
    return list(
        session.scalars(
            select(ChangeRow).where(ChangeRow.kind.in_(list(kinds))).order_by(ChangeRow.id.desc())
        )
    )


def steps_under_way(session: Session, name: str) -> list[StepRow]:
    """Steps of a name that are being carried out."""
    rows = select(StepRow).join(ChangeRow, ChangeRow.id == StepRow.change_id)
    under_way = rows.where(ChangeRow.state == "running", StepRow.state == "running", StepRow.name == name)
    return list(session.scalars(under_way))


def to_be_run(session: Session, *, held_up: bool = False) -> list[int]:
    """Numbers of changes that wait for nobody, or are to pause, oldest first. held_up: only those that have
    not got all they touch.
    """
    rows = select(ChangeRow.id, ChangeRow.asked).where(ChangeRow.state.in_(("waiting", "running")))
    if held_up:
        rows = rows.where(or_(ChangeRow.state == "waiting", ChangeRow.id.in_(touching.wanting())))
    found = session.execute(rows.order_by(ChangeRow.id)).all()
    waiting = touching.waiting_for_others(session) if found else {}
    return [number for number, asked in found if asked == "pause" or number not in waiting]


def jobs_of(session: Session) -> set[int]:
    """Numbers of the changes that have a job which waits: to be run, nothing more need be done for them."""
    waiting = text(
        "select queueing_lock from procrastinate_jobs where status = 'todo' and queueing_lock like :job"
    )
    locks = session.scalars(waiting, {"job": f"{JOB}%"})
    return {int(lock.removeprefix(JOB)) for lock in locks}


def asked_of(session: Session, change: int) -> str | None:
    return session.scalar(select(ChangeRow.asked).where(ChangeRow.id == change))


def keep_payload(session: Session, change: int, step: int, payload: dict[str, Any]) -> None:
    """What a step was planned with, from here on."""
    where = StepRow.change_id == change, StepRow.number == step
    session.execute(update(StepRow).where(*where).values(payload=payload))


def rate_cap(session: Session, change: int) -> int | None:
    """Bytes per second that a person allows it; None for as many as its pool does."""
    return session.scalar(select(ChangeRow.rate_cap).where(ChangeRow.id == change))


# Running. ----------------------------------------------------------------------------------------------


def new_token(session: Session, change: int) -> int | None:
    """A token for a new runner; whoever has an older one may write nothing more. None where there is no such
    change.
    """
    renewed = update(ChangeRow).where(ChangeRow.id == change).values(token=ChangeRow.token + 1)
    return session.scalar(renewed.returning(ChangeRow.token))


def untouching(session: Session, change: int) -> ChangeRow | None:
    """The change, where it has not told what it touches."""
    told = select(TouchRow.change_id).where(TouchRow.change_id == change)
    return session.scalars(select(ChangeRow).where(ChangeRow.id == change, ~told.exists())).one_or_none()


def fence(session: Session, change: int, token: int) -> None:
    """Raises Fenced where a newer runner has taken over. Until this transaction ends none does."""
    now = session.scalar(select(ChangeRow.token).where(ChangeRow.id == change).with_for_update(read=True))
    if now != token:
        raise Fenced(f"Change {change} is carried out by another runner now.")


@dataclass(frozen=True, slots=True)
class Turn:
    """A change as its runner finds it. waits_for: the number of the change whose end it has to await; begun:
    whether any step has begun.
    """

    asked: str | None
    actor: str
    begun: bool
    waits_for: int | None = None


def take_turn(session: Session, change: int, *, first: bool = True) -> Turn | None:
    """What is to be done with a change now; None where nothing is. It runs once it has taken what it touches.

    first: of this runner. Later ones of a change that runs need not look: it has taken what it touches.
    """
    row = session.execute(_TURN, {"change": change}).one_or_none()
    if row is None or row.state not in ("waiting", "running"):
        return None
    turn = Turn(row.asked, row.actor, row.begun)
    if row.asked == "pause" or (row.asked == "withdraw" and not row.begun):
        return turn  # for which it needs nothing
    if first or row.state == "waiting":
        other = touching.take(session, change)
        if other is not None:
            return replace(turn, waits_for=other)
    if row.state == "waiting":
        since = func.coalesce(ChangeRow.started_at, func.now())
        runs = update(ChangeRow).where(ChangeRow.id == change).values(state="running", started_at=since)
        session.execute(runs)
        tell(session, "changes")
    return turn


# What a turn is made of; the change is locked, as in `locked`. Made once: it is asked at every step.
_TURN = (
    select(
        ChangeRow.state,
        ChangeRow.asked,
        ChangeRow.actor,
        exists().where(StepRow.change_id == ChangeRow.id, StepRow.started_at.is_not(None)).label("begun"),
    )
    .where(ChangeRow.id == bindparam("change"))
    .with_for_update(of=ChangeRow)
)


def begin_next_step(session: Session, change: int) -> StepRow | None:
    """The first step that is not done, under way from now on; None where all are done."""
    undone = select(StepRow).where(StepRow.change_id == change, StepRow.state != "done")
    step = session.scalars(undone.order_by(StepRow.number)).first()
    if step is not None:
        step.state, step.started_at = "running", step.started_at or func.now()
        tell(session, "changes")
    return step


def end_step(session: Session, change: int, step: int, outcome: str, state: str = "done") -> None:
    """state: done or failed."""
    values = {"state": state, "outcome": outcome} | ({"ended_at": func.now()} if state == "done" else {})
    session.execute(update(StepRow).where(StepRow.change_id == change, StepRow.number == step).values(values))


def say(session: Session, change: int, step: int, outcome: str) -> None:
    """What a step is doing or waiting for."""
    where = StepRow.change_id == change, StepRow.number == step
    session.execute(update(StepRow).where(*where).values(outcome=outcome))
    tell(session, "changes")


def unsay(session: Session, change: int, step: int) -> None:
    """What a step was waiting for has come."""
    said = StepRow.change_id == change, StepRow.number == step, StepRow.outcome != ""
    unsaid = update(StepRow).where(*said, StepRow.state != "done").values(outcome="")
    if session.scalar(unsaid.returning(StepRow.number)) is not None:
        tell(session, "changes")


def progress(session: Session, change: int, done: int, total: int, rate: float | None) -> None:
    """done, total: bytes; rate: bytes per second."""
    session.execute(update(ChangeRow).where(ChangeRow.id == change).values(done=done, total=total, rate=rate))
    tell(session, "changes")


def add_moved(session: Session, change: int, moved: int) -> None:
    session.execute(update(ChangeRow).where(ChangeRow.id == change).values(moved=ChangeRow.moved + moved))


def add_work(session: Session, change: int, seconds: float) -> None:
    added = ChangeRow.work_seconds + seconds
    session.execute(update(ChangeRow).where(ChangeRow.id == change).values(work_seconds=added))


def end(session: Session, change: int, state: str, problem: str = "") -> None:
    """Done or withdrawn, and what it touched is free for others. problem: why it ended by itself, where it
    did.
    """
    values = {"state": state, "ended_at": func.now(), "asked": None, "rate": None, "problem": problem}
    session.execute(update(ChangeRow).where(ChangeRow.id == change).values(values))
    touching.let_go(session, change)
    tell(session, "site", "changes")  # states of volumes and pools say what is under way


def give_up(session: Session, change: int) -> None:
    """It is to be withdrawn, as if a person had asked for that."""
    session.execute(update(ChangeRow).where(ChangeRow.id == change).values(asked="withdraw"))
    tell(session, "changes")


def pause(session: Session, change: int, why: str, *, by_person: bool = False, again: bool = False) -> None:
    """Others may touch what it touches. by_person: it goes on when resumed. again: it is tried again by
    itself.
    """
    values = {
        "state": "paused",
        "asked": None,
        "rate": None,
        "problem": why,
        "paused_at": None if by_person else func.now(),
        "again": again and not by_person,
    }
    session.execute(update(ChangeRow).where(ChangeRow.id == change).values(values))
    # A step that it was stopped in goes on from its start.
    stopped = StepRow.change_id == change, StepRow.state == "running"
    session.execute(update(StepRow).where(*stopped).values(state="waiting"))
    touching.let_go(session, change)
    tell(session, "site", "changes")  # states of volumes and pools say what is under way


def resume(session: Session, row: ChangeRow, done_again: Callable[[str, Payload], bool]) -> None:
    """Makes a paused change wait for its turn again; a failed step is a new attempt, with new orders.

    done_again: whether a step (name, payload) is, where it was the last that was done.
    """
    steps = steps_of(session, row.id)
    done = [step for step in steps if step.state == "done"]
    last = list(takewhile(lambda step: done_again(step.name, step.payload), reversed(done)))
    for step in [*last, *(step for step in steps if step.state == "failed")]:
        step.state, step.attempt, step.outcome = "waiting", step.attempt + 1, ""
    row.state, row.problem, row.asked, row.paused_at, row.again = "waiting", "", None, None, False


def resting(session: Session) -> list[ChangeRow]:
    """Paused changes that are tried again by themselves. Locked; those that others alter at this moment are
    left out.
    """
    rests = select(ChangeRow).where(
        ChangeRow.state == "paused", ChangeRow.paused_at.is_not(None), ChangeRow.again
    )
    return list(session.scalars(rests.with_for_update(skip_locked=True)))


def now(session: Session) -> datetime:
    """The database's clock, which is the same for everybody."""
    return session.scalars(select(func.now())).one()
