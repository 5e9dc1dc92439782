"""Carries out changes: step by step, each recorded before and after, so that a killed process resumes where it was."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

import structlog
from sqlalchemy import func, select, text, update
from sqlalchemy.orm import Session

from foldbarn.changes.kind import Kind, Params, kind_named
from foldbarn.core.errors import BarnError, NotFound, NotPossible, Unreachable
from foldbarn.core.units import say_count
from foldbarn.links.agents import Agent, OrderProgress
from foldbarn.settings import settings
from foldbarn.store.database import announce, engine, is_disconnect, tell, transaction, wait_for_database
from foldbarn.store.tables import ChangeRow, NodeRow, StepRow

log = structlog.get_logger()
RUNNER_LOCK = 0xBA51  # advisory lock space: one runner per change
P = TypeVar("P", bound=Params)
T = TypeVar("T")


# Set when this process is to end: changes under way stop at the next place where they may, and go on in the next process.
ending = threading.Event()


class Asked(Exception):
    """A person asked the change to stop here, or its process is to end."""


def pause_before(attempt: int) -> float:
    """Seconds to wait before trying again: 0.3, 0.6, 1.2, 2.4, ..., at most 8."""
    return min(8.0, 0.3 * 2.0 ** (attempt - 1))


def pause_between(tries: int) -> float:
    """Seconds that a change of Fold Barn's own rests before it is tried again: 5, 10, 20, ..., at most 300."""
    return min(300.0, 5.0 * 2.0 ** min(tries, 10))


@dataclass(slots=True)
class Run(Generic[P]):
    """A change under way, as its steps see it."""

    change: int
    params: P
    step: int = 0
    attempt: int = 1
    subject: str = ""  # what the step is about, where its kind has a step for each of several things
    agents: Callable[[str], Agent] = Agent

    def order_id(self, node: str, part: object = "") -> str:
        """The same on every repetition of this attempt at this step, so that an agent does it once."""
        return f"change-{self.change}-{self.step}-{self.attempt}-{node}{f'-{part}' if part != '' else ''}"

    def check_asked(self) -> None:
        """Raises Asked where a person wants the change to pause or be withdrawn, or this process is to end."""
        self.check_ending()
        with transaction() as session:
            if session.scalar(select(ChangeRow.asked).where(ChangeRow.id == self.change)):
                raise Asked

    def check_ending(self) -> None:
        """Raises Asked where this process is to end."""
        if ending.is_set():
            raise Asked

    def refuse_once(self, state: str, step: str, why: str) -> None:
        """Raises NotPossible where this step (what follows a colon left aside) is begun, or done: then there is no way back."""
        with transaction() as session:
            steps = list(session.scalars(select(StepRow).where(StepRow.change_id == self.change)))
        if any(
            s.name.partition(":")[0] == step
            and (s.state == "done" or (state == "begun" and s.started_at is not None))
            for s in steps
        ):
            raise NotPossible(f"There is no way back: {why}.", next_step="Let it go on.")

    def progress(self, done: int, total: int, rate: float | None) -> None:
        """Records progress, in bytes and bytes per second."""
        with transaction() as session:
            session.execute(
                update(ChangeRow).where(ChangeRow.id == self.change).values(done=done, total=total, rate=rate)
            )
            tell(session, "changes")

    def say(self, outcome: str) -> None:
        """Records what the step is doing or waiting for."""
        with transaction() as session:
            session.execute(
                update(StepRow)
                .where(StepRow.change_id == self.change, StepRow.number == self.step)
                .values(outcome=outcome)
            )
            tell(session, "changes")

    def urls(self) -> dict[int, tuple[str, str]]:
        """Name and agent address of every node, by number."""
        with transaction() as session:
            return {n.id: (n.name, n.agent_url) for n in session.scalars(select(NodeRow))}

    def agent(self, node: int) -> Agent:
        return self.agents(self.urls()[node][1])

    def tell_nodes(self, orders: dict[int, dict[str, Any]]) -> dict[int, OrderProgress]:
        """Gives each node (by number) its order and waits until all are done; silent agents are asked again with growing pauses.

        Raises Unreachable after the last try, NotPossible where an agent refuses.
        """
        names = self.urls()

        def one(node: int) -> OrderProgress:
            name, url = names[node]
            body = {"id": self.order_id(name), **orders[node]}
            return self.insist(name, lambda: self.agents(url).send(body))

        with ThreadPoolExecutor(max_workers=16) as crew:
            return dict(zip(orders, crew.map(one, orders), strict=True))

    def insist(self, name: str, ask: Callable[[], T]) -> T:
        """Asks an agent, again after growing pauses while it is unreachable."""
        tries = settings().attempts
        for attempt in range(1, tries + 1):
            try:
                return ask()
            except Unreachable as error:
                if attempt == tries:
                    raise Unreachable(
                        f"{name} did not carry out its order in {say_count(tries, 'try', 'tries')}. {error.sentence}",
                        about=name,
                    ) from error
                self.say(f"{name}: {error.sentence} Trying again, {attempt + 1} of {tries}.")
                self.check_asked()
                time.sleep(pause_before(attempt))
        raise AssertionError("unreachable: the last attempt returns or raises")


def run_change(change: int) -> None:
    """Carries a change out to its end, its pause, or its withdrawal. A second runner of the same change returns at once."""
    with ExitStack() as stack:
        holder = stack.enter_context(engine().connect())
        if not holder.scalar(
            text("select pg_try_advisory_lock(:space, :change)"), {"space": RUNNER_LOCK, "change": change}
        ):
            return
        holder.commit()
        try:
            _run(change)
        finally:
            if not holder.closed and not holder.invalidated:
                try:
                    holder.execute(
                        text("select pg_advisory_unlock(:space, :change)"),
                        {"space": RUNNER_LOCK, "change": change},
                    )
                    holder.commit()
                except Exception as error:  # the lock went with its connection
                    log.info("lock already gone", change=change, error=str(error)[:120])


def _run(change: int) -> None:
    while not ending.is_set():
        try:
            with transaction() as session:
                row = session.get(ChangeRow, change)
                if row is None or row.state not in ("waiting", "running"):
                    return
                kind = kind_named(row.kind)
                run: Run[Any] = Run(change, kind.params.model_validate(row.params))
                if row.asked != "withdraw" and row.state == "waiting":
                    row.state, row.started_at = "running", row.started_at or func.now()
                    tell(session, "changes")
                asked = row.asked
            if asked:
                _obey(run, kind, asked)
                return
            if not _next_step(run, kind):
                return
        except Asked:
            continue
        except Exception as error:
            if not is_disconnect(error):
                raise
            log.info("database away, waiting for it", change=change)
            wait_for_database()


def _next_step(run: Run[Any], kind: Kind[Any]) -> bool:
    """Does the first step that is not done. False when the change has ended or paused."""
    with transaction() as session:
        step = session.scalars(
            select(StepRow)
            .where(StepRow.change_id == run.change, StepRow.state != "done")
            .order_by(StepRow.number)
        ).first()
        if step is None:
            _end(session, run.change, "done")
            return False
        run.step, run.attempt, name = step.number, step.attempt, step.name
        step.state, step.started_at = "running", step.started_at or func.now()
        tell(session, "changes")
    try:
        run.subject = name.partition(":")[2]
        if kind.is_inside(name):
            with transaction() as session:
                outcome = kind.step(name)(run, session)
                _finish_step(session, run, outcome)
                announce(session, "site", "changes")
        else:
            outcome = kind.step(name)(run)
            with transaction() as session:
                _finish_step(session, run, outcome)
                announce(session, "site", "changes")
    except Asked:
        raise
    except BarnError as error:
        _pause(run, error.sentence)
        return False
    except Exception as error:
        if is_disconnect(error):
            raise
        log.exception("step failed", change=run.change, step=name)
        _pause(run, _broke_off(error))
        return False
    return True


def _broke_off(error: Exception) -> str:
    return f"The step broke off: {type(error).__name__}. The log of the work process has more."


def _finish_step(session: Session, run: Run[Any], outcome: str) -> None:
    where = (StepRow.change_id == run.change, StepRow.number == run.step)
    session.execute(update(StepRow).where(*where).values(state="done", outcome=outcome, ended_at=func.now()))


def _end(session: Session, change: int, state: str) -> None:
    session.execute(
        update(ChangeRow)
        .where(ChangeRow.id == change)
        .values(state=state, ended_at=func.now(), asked=None, rate=None, problem="")
    )
    announce(session, "site", "changes")


def _pause(run: Run[Any], why: str) -> None:
    with transaction() as session:
        where = (StepRow.change_id == run.change, StepRow.number == run.step)
        session.execute(update(StepRow).where(*where).values(state="failed", outcome=why))
        session.execute(
            update(ChangeRow)
            .where(ChangeRow.id == run.change)
            .values(state="paused", problem=why, rate=None, paused_at=func.now())
        )
        announce(session, "site", "changes")


def _obey(run: Run[Any], kind: Kind[Any], asked: str) -> None:
    """Pauses or withdraws, as a person asked."""
    if asked == "pause":
        with transaction() as session:
            session.execute(
                update(ChangeRow)
                .where(ChangeRow.id == run.change)
                .values(
                    state="paused",
                    asked=None,
                    rate=None,
                    paused_at=None,
                    problem="Paused by a person; it goes on when resumed.",
                )
            )
            announce(session, "site", "changes")
        return
    try:
        kind.withdraw(run)
    except Asked:
        raise
    except Exception as error:
        if is_disconnect(error):
            raise
        if not isinstance(error, BarnError):
            log.exception("withdrawing failed", change=run.change)
        why = error.sentence if isinstance(error, BarnError) else _broke_off(error)
        with transaction() as session:
            session.execute(
                update(ChangeRow)
                .where(ChangeRow.id == run.change)
                .values(
                    state="paused",
                    asked=None,
                    paused_at=None,  # what a person asked for, a person asks for again
                    problem=f"It could not be withdrawn: {why}",
                )
            )
            announce(session, "site", "changes")
        return
    with transaction() as session:
        _end(session, run.change, "withdrawn")


def resume(session: Session, change: int) -> None:
    """Makes a paused change wait for its turn again; a failed step is a new attempt, with new orders."""
    row = session.get(ChangeRow, change)
    if row is None:
        raise NotFound(f"There is no change {change}.", about="change")
    failed = session.scalars(
        select(StepRow).where(StepRow.change_id == change, StepRow.state == "failed")
    ).first()
    if failed is not None:
        failed.state, failed.attempt, failed.outcome = "waiting", failed.attempt + 1, ""
    row.state, row.problem, row.asked, row.paused_at = "waiting", "", None, None
