"""Previewing, carrying out, pausing and reading changes."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from pydantic import ValidationError
from sqlalchemy import func, select
from sqlalchemy.orm import Session

import foldbarn.changes.all_kinds  # noqa: F401  (registers the kinds)
from foldbarn.changes.kind import Kind, kind_named
from foldbarn.changes.preview import Preview
from foldbarn.changes.queue import enqueue
from foldbarn.changes.runner import pause_between, resume
from foldbarn.core.errors import Conflict, NotFound, NotPossible
from foldbarn.store.database import announce, tell, transaction
from foldbarn.store.tables import ChangeRow, SiteRow, StepRow
from foldbarn.store.views import current_view

OPEN_STATES = ("waiting", "running", "paused")
DIGEST_LOCK = 0xBA53  # advisory lock space: one that carries out a preview
BY_ITSELF = "Fold Barn, by itself"


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
    """What a change would do now. Raises NotFound for an unknown kind, NotPossible for parameters of another shape."""
    kind, wish = _read(kind_name, params)
    return _made(kind, wish)


def _made(kind: Kind[Any], wish: Any) -> Preview:
    """The preview as the site stands. Where strips are on their way, or do not matter to this kind, its digest leaves them aside."""
    view = current_view()
    found: Preview = kind.preview(view, wish)
    return found.sealed(moving=bool(view.incoming) or not kind.exact)


def carry_out(
    kind_name: str, params: dict[str, Any], digest: str | None, actor: str | None = None, reason: str = ""
) -> int:
    """Records the change and queues it; returns its number.

    Raises Outdated where `digest` is not that of a preview made now, NotPossible where something stands against it.
    """
    kind, wish = _read(kind_name, params)
    fresh = _made(kind, wish)
    if fresh.blockers:
        first = fresh.blockers[0]
        raise NotPossible(
            " ".join(b.sentence for b in fresh.blockers), about=first.about, next_step=first.next_step
        )
    if digest is not None and digest != fresh.digest:
        raise Outdated(fresh)
    touches = kind.touches(wish)
    with transaction() as session:
        if digest is not None:
            _use(session, digest)
        row = ChangeRow(
            kind=kind.name, params=kind.to_keep(wish), about=kind.about(wish), touches=touches, state="waiting",
            actor=actor or session.scalars(select(SiteRow.operator)).one(), reason=reason,
            revision=fresh.revision, preview=fresh.model_dump(mode="json"),
        )  # fmt: skip
        session.add(row)
        session.flush()
        for number, step in enumerate(fresh.steps, 1):
            session.add(
                StepRow(change_id=row.id, number=number, name=step.name, title=step.title, detail=step.detail)
            )
        tell(session, "changes")
        change = row.id
    enqueue(change, touches)
    return change


def _use(session: Session, digest: str) -> None:
    """A preview is carried out once: a second press of the button, or a request sent again, is told of the first.

    Raises Conflict while a change of the same digest is open. Two that come at once wait for one another here.
    """
    session.execute(select(func.pg_advisory_xact_lock(DIGEST_LOCK, func.hashtext(digest))))
    same = ChangeRow.preview["digest"].astext == digest
    open_ = session.scalars(select(ChangeRow.id).where(same, ChangeRow.state.in_(OPEN_STATES))).first()
    if open_ is not None:
        raise Conflict(
            f"This preview is carried out already, as change {open_}.",
            about="digest",
            next_step="Follow that change.",
        )


def recent(session: Session, limit: int = 100) -> list[tuple[ChangeRow, list[StepRow]]]:
    """The newest changes, and all that have not ended however old, newest first, with their steps in order."""
    rows = {
        row.id: row for row in session.scalars(select(ChangeRow).order_by(ChangeRow.id.desc()).limit(limit))
    }
    rows |= {row.id: row for row in unfinished(session)}
    return [(rows[number], _steps(session, number)) for number in sorted(rows, reverse=True)]


def again_at(row: ChangeRow) -> datetime | None:
    """When a change that something keeps from going on is tried again by itself; None where it waits for a person."""
    if row.state != "paused" or row.paused_at is None or row.actor != BY_ITSELF:
        return None
    return row.paused_at + timedelta(seconds=pause_between(row.tries))


def try_again() -> None:
    """Lets each change of Fold Barn's own go on whose rest is over. Its orders are new ones, so this is safe to repeat."""
    with transaction() as session:
        now = session.scalars(select(func.now())).one()
        # Locked, so that one which is withdrawn at this moment is not brought back; it is skipped and looked at again.
        rests = select(ChangeRow).where(
            ChangeRow.state == "paused", ChangeRow.paused_at.is_not(None), ChangeRow.actor == BY_ITSELF
        )
        rows = session.scalars(rests.with_for_update(skip_locked=True)).all()
        ready = [row for row in rows if (at := again_at(row)) is not None and at <= now]
        for row in ready:
            resume(session, row.id)
            row.tries += 1
        if ready:
            announce(session, "site", "changes")
    for row in ready:
        enqueue(row.id, row.touches)


def unfinished(session: Session) -> list[ChangeRow]:
    """Changes that have not ended, oldest first."""
    return list(
        session.scalars(select(ChangeRow).where(ChangeRow.state.in_(OPEN_STATES)).order_by(ChangeRow.id))
    )


def one(session: Session, change: int) -> tuple[ChangeRow, list[StepRow]]:
    """Raises NotFound."""
    row = session.get(ChangeRow, change)
    if row is None:
        raise NotFound(f"There is no change {change}.", about="change")
    return row, _steps(session, change)


def _steps(session: Session, change: int) -> list[StepRow]:
    return list(session.scalars(select(StepRow).where(StepRow.change_id == change).order_by(StepRow.number)))


def limit(change: int, bytes_per_second: int | None) -> None:
    """Slows a change down to this many bytes per second, or lets it go as fast as its pool allows. Raises NotFound, NotPossible."""
    with transaction() as session:
        row, steps = one(session, change)
        if row.state in ("done", "withdrawn"):
            raise NotPossible(
                f"Change {change} is {row.state}; it cannot be changed any more.", about="change"
            )
        if not any(s.name in ("copy", "level", "drain") or s.name.startswith("drain:") for s in steps):
            raise NotPossible(
                f"Change {change} moves no data, so there is nothing to slow down.", about="change"
            )
        row.rate_cap = bytes_per_second
        tell(session, "changes")


def ask(change: int, what: str) -> None:
    """pause, withdraw (both heard at the next safe place) or resume. Raises NotFound, and NotPossible where the state does not allow it."""
    queue_it = False
    with transaction() as session:
        row, _ = one(session, change)
        if row.state in ("done", "withdrawn"):
            raise NotPossible(
                f"Change {change} is {row.state}; it cannot be changed any more.", about="change"
            )
        if what == "resume":
            if row.state != "paused":
                raise NotPossible(f"Change {change} is {row.state}, not paused.", about="change")
            resume(session, change)
            row.tries, queue_it = 0, True
        elif what == "pause" and row.state == "paused":
            raise NotPossible(f"Change {change} is paused already.", about="change")
        else:
            if row.state == "paused":
                row.state, queue_it = "waiting", True
            row.asked = what
        touches = row.touches
        tell(session, "changes")
    if queue_it:
        enqueue(change, touches)
