"""Previewing, carrying out, pausing and reading changes."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from pydantic import ValidationError

import foldbarn.changes.kinds.all_kinds  # noqa: F401  (registers the kinds)
from foldbarn.changes.engine.kind import Kind, kind_named
from foldbarn.changes.engine.plan import Plan
from foldbarn.changes.engine.preview import Preview
from foldbarn.changes.engine.queue import enqueue
from foldbarn.changes.engine.runner import pause_between
from foldbarn.changes.engine.step import done_again, moves_strips
from foldbarn.core.actors import Actor
from foldbarn.core.errors import Conflict, NotPossible
from foldbarn.core.touching import Thing
from foldbarn.core.units import say_size
from foldbarn.store import changes as kept
from foldbarn.store import pools, records, touching
from foldbarn.store.database import Session, announce, tell, transaction
from foldbarn.store.tables import ChangeRow, StepRow
from foldbarn.store.touching import waiting_for_others
from foldbarn.store.views import current_view

unfinished, waiting = kept.unfinished, waiting_for_others
ASKED = {"resume": "Asked to go on.", "pause": "Asked to pause.", "withdraw": "Asked to be withdrawn."}


class Outdated(Conflict):
    """The site has moved on since the preview; a fresh one comes along."""

    def __init__(self, fresh: Preview) -> None:
        super().__init__(
            "The site has changed since this preview, and so has what the change would do.",
            about="digest",
            next_step="Look at the fresh preview, then carry that out.",
        )
        self.fresh = fresh


def _read(kind_name: str, params: dict[str, Any]) -> tuple[Kind[Any], Any]:
    kind = kind_named(kind_name)
    try:
        return kind, kind.params.model_validate(params)
    except ValidationError as error:
        first = error.errors()[0]
        field = ".".join(str(part) for part in first["loc"]) or "params"
        raise NotPossible(f"'{field}' is not usable: {first['msg'].lower()}.", about=field) from error


def preview(kind_name: str, params: dict[str, Any]) -> Preview:
    """What a change would do now. Raises NotFound for an unknown kind, NotPossible for parameters of another
    shape.
    """
    kind, wish = _read(kind_name, params)
    view = current_view()
    return Preview.of(kind.name, view.revision, kind.plan(view, wish))


def carry_out(
    actor: Actor, kind_name: str, params: dict[str, Any], digest: str | None = None, reason: str = ""
) -> int:
    """Records the change with its plan, and queues it; returns its number.

    Raises Outdated where a plan made now does something else than the preview of `digest`, or warns of more;
    NotPossible where something stands against it.
    """
    kind, wish = _read(kind_name, params)
    view = current_view()
    plan = kind.plan(view, wish)
    if plan.blockers:
        first = plan.blockers[0]
        raise NotPossible(
            " ".join(b.sentence for b in plan.blockers), about=first.about, next_step=first.next_step
        )
    fresh = Preview.of(kind.name, view.revision, plan)
    if digest is not None and not plan.was_seen(digest):
        raise Outdated(fresh)
    with transaction() as session:
        if digest is not None:
            _use(session, fresh.digest)
        row = ChangeRow(
            kind=kind.name,
            params=kind.to_keep(view, wish),
            about=plan.about,
            meant=plan.meant.numbers(),
            state="waiting",
            actor=actor,
            reason=reason,
            revision=fresh.revision,
            preview=fresh.model_dump(mode="json"),
        )
        change = kept.record(session, row, _step_rows(kind, wish, plan), plan.touches)
    enqueue(change)
    return change


def _step_rows(kind: Kind[Any], wish: Any, plan: Plan) -> list[StepRow]:
    return [
        StepRow(
            name=planned.step.name,
            title=planned.title,
            detail=planned.detail,
            about=planned.about,
            payload=planned.step.model_dump(mode="json"),
        )
        for planned in kind.with_secrets(wish, plan.steps)
    ]


def _use(session: Session, digest: str) -> None:
    """A preview is carried out once: a second press of the button, or a request sent again, is told of the
    first.

    Raises Conflict while a change of the same digest is open.
    """
    same = kept.open_with_digest(session, digest)
    if same is not None:
        raise Conflict(
            f"This preview is carried out already, as change {same}.",
            about="digest",
            next_step="Follow that change.",
        )


def recent(session: Session, limit: int = 100) -> list[tuple[ChangeRow, list[StepRow], ChangeRow | None]]:
    """The newest changes, and all that have not ended however old, newest first: with their steps, and whom
    they wait for.
    """
    found = kept.recent(session, limit)
    rows = {row.id: row for row, _ in found}
    others = waiting_for_others(session)
    return [(row, steps, rows.get(others.get(row.id, 0))) for row, steps in found]


def one(session: Session, change: int) -> tuple[ChangeRow, list[StepRow], ChangeRow | None]:
    """A change with its steps, and whom it waits for. Raises NotFound."""
    row, steps = kept.one(session, change)
    other = waiting_for_others(session, change).get(change)
    return row, steps, None if other is None else kept.one(session, other)[0]


def touching_pool(session: Session, pool: int) -> list[int]:
    """Numbers of the open changes that touch a pool (by number), or make it, oldest first."""
    touch = touching.open_touching(session, Thing.POOL, pool)
    made = pools.made_by(session, pool)
    return sorted({*touch, *(row.id for row in kept.unfinished(session) if row.id == made)})


def again_at(row: ChangeRow) -> datetime | None:
    """When a change that something keeps from going on is tried again by itself; None where it waits for a
    person.
    """
    if row.state != "paused" or row.paused_at is None or not row.again:
        return None
    return row.paused_at + timedelta(seconds=pause_between(row.tries))


def try_again() -> bool:
    """Lets each change go on whose rest is over. Its orders are new ones, so this is safe to repeat. Whether
    any rests still.
    """
    with transaction() as session:
        now = kept.now(session)
        # Locked, so that one which is withdrawn at this moment is not brought back; it is skipped and looked
        # at again.
        resting = kept.resting(session)
        ready = [row for row in resting if (at := again_at(row)) is not None and at <= now]
        for row in ready:
            kept.resume(session, row, done_again)
            row.tries += 1
        if ready:
            announce(session, "site", "changes")
    for row in ready:
        enqueue(row.id)
    return len(resting) > len(ready)


def limit(actor: Actor, change: int, bytes_per_second: int | None) -> None:
    """Slows a change down to this many bytes per second, or lets it go as fast as its pool allows. Raises
    NotFound, NotPossible.
    """
    with transaction() as session:
        row, steps = kept.one(session, change)
        _check_open(row)
        if not any(moves_strips(s.name) for s in steps):
            raise NotPossible(
                f"Change {change} moves no data, so there is nothing to slow down.", about="change"
            )
        row.rate_cap = bytes_per_second
        limit_ = (
            f"at most {say_size(bytes_per_second)}/s" if bytes_per_second else "as fast as its pool allows"
        )
        records.note(session, actor, f"It moves {limit_}.", change)
        tell(session, "changes")


def ask(actor: Actor, change: int, what: str) -> None:
    """pause, withdraw (both heard at the next safe place) or resume. Raises NotFound, and NotPossible where
    the state does not allow it.
    """
    with transaction() as session:
        row = kept.locked(session, change)
        _check_open(row)
        if what == "resume":
            if row.state != "paused":
                raise NotPossible(f"Change {change} is {row.state}, not paused.", about="change")
            kept.resume(session, row, done_again)
            row.tries = 0
        elif what == "pause" and row.state == "paused":
            raise NotPossible(f"Change {change} is paused already.", about="change")
        else:
            if row.state == "paused":
                row.state = "waiting"
            row.asked = what
        records.note(session, actor, ASKED[what], change)
        tell(session, "changes")
    enqueue(change)


def _check_open(row: ChangeRow) -> None:
    if row.state in kept.ENDED_STATES:
        raise NotPossible(f"Change {row.id} is {row.state}; it cannot be changed any more.", about="change")
