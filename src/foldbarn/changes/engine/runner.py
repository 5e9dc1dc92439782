"""Carries out changes: step by step, each recorded before and after, so that a killed process resumes where
it was.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any, TypeVar

import structlog
from pydantic import ValidationError
from tenacity import RetryCallState, Retrying, retry_if_exception_type, stop_after_attempt, wait_exponential

from foldbarn.changes.engine.kind import kind_named
from foldbarn.changes.engine.step import Inside, Outside, Step, read_step
from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import BarnError, NotPossible, Overtaken, Unreachable
from foldbarn.core.site import Pool
from foldbarn.core.touching import Thing, Touch, alone
from foldbarn.core.units import say_count
from foldbarn.links.agents import Agent, OrderProgress
from foldbarn.settings import settings
from foldbarn.store import changes as kept
from foldbarn.store import nodes, touching
from foldbarn.store.database import (
    Session,
    advisory_lock,
    announce,
    is_disconnect,
    tell,
    transaction,
    wait_out,
)
from foldbarn.store.tables import StepRow
from foldbarn.store.views import load_view

log = structlog.get_logger()
PAUSES = wait_exponential(multiplier=0.3, max=8.0)  # between tries: 0.3, 0.6, 1.2, ..., at most 8 seconds
RUNNER_LOCK = 0xBA51  # advisory lock space: one runner per change
T = TypeVar("T")


# Set when this process is to end: changes under way stop at the next place where they may, and go on in the
# next process.
ending = threading.Event()


class LeftHere(Exception):
    """A change is left at the step it is at, though nothing is wrong. The step goes on from its start."""


class Asked(LeftHere):
    """A person asked the change to stop here, or its process is to end."""


class Waits(LeftHere):
    """Another change has what a step needs; this one goes on when it is free."""


def pause_between(tries: int) -> float:
    """Seconds that a change of Fold Barn's own rests before it is tried again: 5, 10, 20, ..., at most
    300.
    """
    return min(300.0, 5.0 * 2.0 ** min(tries, 10))


@dataclass(slots=True)
class Run:
    """A change under way, as its steps see it.

    token: of this runner; once another has a newer one, this one may write nothing more. asked: what a person
    asks of it; otherwise it is at a step. step: its number.
    """

    change: int
    token: int = 0
    step: int = 0
    attempt: int = 1
    at: StepRow | None = None
    asked: str | None = None
    begun: bool = False  # whether any step has begun
    actor: str = ""
    withdrawing: bool = False
    gave_up: str = ""  # why it is withdrawn, where nobody asked for that
    agents: Callable[[str], Agent] = Agent

    # Talking to agents. --------------------------------------------------------------------------

    def order_id(self, node: str, part: object = "") -> str:
        """The same on every repetition of this attempt at this step, so that an agent does it once. In
        withdrawing each runner tries anew.
        """
        where = f"withdraw-{self.token}-{self.step}" if self.withdrawing else f"{self.step}-{self.attempt}"
        return f"change-{self.change}-{where}-{node}{f'-{part}' if part != '' else ''}"

    def urls(self) -> dict[int, tuple[str, str]]:
        """Name and agent address of every node, by number."""
        with transaction() as session:
            return nodes.addresses(session)

    def agent(self, node: int) -> Agent:
        return self.agents(self.urls()[node][1])

    def tell_nodes(self, orders: dict[int, dict[str, Any]], part: str = "") -> dict[int, OrderProgress]:
        """Gives each node (by number) its order and waits until all are done; silent agents are asked again
        with growing pauses.

        part: tells several rounds of one step apart. Raises Unreachable after the last try, NotPossible where
        an agent refuses.
        """
        names = self.urls()

        def one(node: int) -> OrderProgress:
            name, url = names[node]
            body = {"id": self.order_id(f"node{node}", part), **orders[node]}
            return self.insist(name, lambda: self.agents(url).send(body))

        # Each is told, also where another could not be: a half of the nodes that know is the least to mend.
        with ThreadPoolExecutor(max_workers=16) as crew:
            asked = {node: crew.submit(one, node) for node in orders}
        return {node: answer.result() for node, answer in asked.items()}

    def insist(self, name: str, ask: Callable[[], T]) -> T:
        """Asks an agent, again after growing pauses while it is unreachable."""
        tries = settings().attempts

        def tell(state: RetryCallState) -> None:
            error = state.outcome.exception() if state.outcome else None
            if isinstance(error, Unreachable):
                self.say(f"{name}: {error.sentence} Trying again, {state.attempt_number + 1} of {tries}.")
            self.check_asked()

        again = Retrying(
            retry=retry_if_exception_type(Unreachable),
            stop=stop_after_attempt(tries),
            wait=PAUSES,
            before_sleep=tell,
            reraise=True,
        )
        try:
            return again(ask)
        except Unreachable as error:
            words = (
                f"{name} did not carry out its order in {say_count(tries, 'try', 'tries')}. {error.sentence}"
            )
            raise Unreachable(words, about=name) from error

    # Recording. ----------------------------------------------------------------------------------

    @contextmanager
    def writing(self) -> Iterator[Session]:
        """A transaction of this runner. Raises Fenced where another has taken the change over."""
        with transaction() as session:
            kept.fence(session, self.change, self.token)
            yield session

    def progress(self, done: int, total: int, rate: float | None) -> None:
        """Records progress, in bytes and bytes per second."""
        with self.writing() as session:
            kept.progress(session, self.change, done, total, rate)

    def say(self, outcome: str) -> None:
        """Records what the step is doing or waiting for."""
        with self.writing() as session:
            kept.say(session, self.change, self.step, outcome)

    # Stopping. -----------------------------------------------------------------------------------

    def check_asked(self) -> None:
        """Raises Asked where a person wants the change to pause or be withdrawn, or this process is to end.

        While it is being withdrawn a person has nothing more to ask.
        """
        self.check_ending()
        if self.withdrawing:
            return
        with transaction() as session:
            if kept.asked_of(session, self.change):
                raise Asked

    @property
    def ending(self) -> bool:
        """Whether this process is to end, and the change goes on in the next one."""
        return ending.is_set()

    def check_ending(self) -> None:
        """Raises Asked where this process is to end."""
        if ending.is_set():
            raise Asked

    @contextmanager
    def holding_strips(self, pool: Pool) -> Iterator[None]:
        """Holds a pool's strips: only one change at a time moves them.

        Raises Waits where another has them, having said who. A change does not wait in its thread: however
        many wait, the one that they wait for has a thread to go on in.
        """
        strips = alone(Thing.STRIPS, pool.number)
        with self.writing() as session:
            other = touching.take_also(session, self.change, strips)
            if other is not None:
                words = f"Waits until change {other} has done with the strips of {pool.name}."
                kept.say(session, self.change, self.step, words)
            else:
                kept.unsay(session, self.change, self.step)
        if other is not None:
            raise Waits
        try:
            yield
        except kept.Fenced:
            raise  # the newer runner holds them now
        except Exception:
            self._free(strips)
            raise
        self._free(strips)

    def _free(self, touch: Touch) -> None:
        """Not where this process is to end: as if it were killed, the change holds on until it goes on."""
        if not self.ending:
            with self.writing() as session:
                touching.let_go_of(session, self.change, touch)


def run_change(change: int) -> None:
    """Carries a change out to its end, its pause, or its withdrawal; returns as well where it has to wait for
    another.

    A second runner of the same change returns at once. One whose connection broke takes its lock, and a
    token, anew.
    """
    while not ending.is_set():
        try:
            with advisory_lock(RUNNER_LOCK, change) as mine:
                if mine:
                    _run(change)
            return
        except kept.Fenced as error:
            log.info("fenced off", change=change, why=error.sentence)
            return
        except Exception as error:
            if not is_disconnect(error):
                raise
            log.info("database away, waiting for it", change=change)
            wait_out(error)


def _run(change: int) -> None:
    with transaction() as session:
        token = kept.new_token(session, change)
        if token is None:
            return
        _take_over(session, change)
        run = Run(change=change, token=token)
        more = _look(session, run, first=True)
    while more and not ending.is_set():
        asked = run.asked
        try:
            if asked == "pause" and _do_consumers_wait(run):
                _give_up(run, "It was to pause, and consumers would have waited all the time.")
                continue
            if asked == "pause":
                _stop(run)
                return
            if asked == "withdraw":
                _withdraw(replace(run, withdrawing=True))
                return
            more = _next_step(run)
        except LeftHere as left:
            with run.writing() as session:
                more = _look(session, run)
            if isinstance(left, Waits) and run.asked == asked:
                return


def _look(session: Session, run: Run, *, first: bool = False) -> bool:
    """Finds out what is to be done next: what a person asks, or a step, which has begun from here on. False
    where nothing is, because it has to wait for another, or all is done, which ends it.
    """
    turn = kept.take_turn(session, run.change, first=first)
    if turn is None or turn.waits_for is not None:
        return False
    run.asked, run.begun, run.actor, run.at = turn.asked, turn.begun, turn.actor, None
    if run.asked:
        return True
    run.at = kept.begin_next_step(session, run.change)
    if run.at is None:
        kept.end(session, run.change, "done")
        return False
    run.step, run.attempt = run.at.number, run.at.attempt
    return True


def _take_over(session: Session, change: int) -> None:
    """A change that an older version has recorded is planned anew, with its things called as they were then.

    Where what is left of it cannot be planned any more its steps stay as they are, and cannot be carried out.
    """
    row, steps = kept.one(session, change)
    if row.state in kept.ENDED_STATES or all(step.payload is not None for step in steps):
        return
    kind = kind_named(row.kind)
    try:
        view = load_view(session).called(row.meant)
        plan = kind.plan(view, kind.params.model_validate(row.params))
    except (BarnError, ValidationError) as error:
        log.info("cannot be planned anew", change=change, why=str(error))
        return
    if len(plan.steps) != len(steps):
        log.info("is planned otherwise by now", change=change)
        return
    for step, planned in zip(steps, plan.steps, strict=True):
        step.name, step.payload = planned.step.name, planned.step.model_dump(mode="json")
    if kept.untouching(session, change) is not None:
        touching.note(session, change, plan.touches)


def _steps_begun(run: Run) -> list[StepRow]:
    with transaction() as session:
        return [row for row in kept.steps_of(session, run.change) if row.started_at is not None]


def _do_consumers_wait(run: Run) -> bool:
    """Whether consumers wait until it goes on, or is withdrawn."""
    wait = False
    for row in _steps_begun(run):
        try:
            step = read_step(row.name, row.payload)
        except NotPossible:
            continue
        if step.no_way_back == "done" and row.state == "done":
            return False
        wait = wait or step.consumers_wait
    return wait


def _give_up(run: Run, why: str) -> None:
    """It is withdrawn next, whatever becomes of this runner."""
    with run.writing() as session:
        kept.give_up(session, run.change)
    run.asked, run.gave_up = "withdraw", why


def _stop(run: Run) -> None:
    """Pauses, as a person asked, whatever comes of stopping what nodes do for it."""
    why = "Paused by a person; it goes on when resumed."
    try:
        for row in _steps_begun(run):
            if row.state != "done":
                run.step, run.attempt = row.number, row.attempt
                read_step(row.name, row.payload).stop(run)
    except (LeftHere, kept.Fenced):
        raise
    except Exception as error:
        if is_disconnect(error):
            raise
        log.exception("stopping failed", change=run.change)
        why = f"{why} What it had under way could not be stopped: {_why(error)}"
    with run.writing() as session:
        kept.pause(session, run.change, why, by_person=True)


def _next_step(run: Run) -> bool:
    """Does the step it is at, and looks what is next. False when the change has ended or paused, or waits."""
    assert run.at is not None
    step: Step | None = None
    try:
        step = read_step(run.at.name, run.at.payload)
        if isinstance(step, Inside):
            with run.writing() as session:
                _finish_step(session, run, step.carry_out(run, session))
                more = _look(session, run)
                announce(session, "site")
        else:
            assert isinstance(step, Outside)
            outcome = step.carry_out(run)
            with run.writing() as session:
                _finish_step(session, run, outcome)
                more = _look(session, run)
    except (LeftHere, kept.Fenced):
        raise
    except BarnError as error:
        # A first step inside the database has done nothing, however often it was begun; nor has one that
        # this version cannot read.
        inside = step is None or isinstance(step, Inside)
        nothing_done = run.step == 1 if inside else not run.begun
        if nothing_done and (inside or isinstance(error, Overtaken)):
            _end_by_itself(run, error.sentence)
            return False
        return _pause(run, error)
    except Exception as error:
        if is_disconnect(error):
            raise
        log.exception("step failed", change=run.change, step=run.at.name)
        return _pause(run, error)
    return more


def _finish_step(session: Session, run: Run, outcome: str) -> None:
    """What a step has altered of the site it has announced itself."""
    kept.end_step(session, run.change, run.step, outcome)
    tell(session, "changes")


def _why(error: Exception) -> str:
    if isinstance(error, BarnError):
        return error.sentence
    return f"The step broke off: {type(error).__name__}. The log of the work process has more."


def _pause(run: Run, error: Exception) -> bool:
    """Fold Barn's own changes are tried again, and so is what only waits for someone to answer: steps are
    safe to repeat. Whether there is more to do at once: where consumers wait it is withdrawn instead.
    """
    if _do_consumers_wait(run):
        with run.writing() as session:
            kept.end_step(session, run.change, run.step, _why(error), state="failed")
        _give_up(run, _why(error))
        return True
    again = run.actor == BY_ITSELF or isinstance(error, Unreachable)
    with run.writing() as session:
        kept.end_step(session, run.change, run.step, _why(error), state="failed")
        kept.pause(session, run.change, _why(error), again=again)
    return False


def _end_by_itself(run: Run, why: str) -> None:
    """Nothing has been done, and what was planned does not hold any more: another was faster. There is
    nothing to wait for.
    """
    with run.writing() as session:
        kept.end_step(session, run.change, run.step, why, state="failed")
        kept.end(session, run.change, "withdrawn", why)


def _withdraw(run: Run) -> None:
    """Puts back what has been done so far, last step first; nothing where no step has begun."""
    try:
        left = _take_back(run)
    except (LeftHere, kept.Fenced):
        raise
    except Exception as error:
        if is_disconnect(error):
            raise
        if not isinstance(error, BarnError):
            log.exception("withdrawing failed", change=run.change)
        with run.writing() as session:
            # What a person asked for, a person asks for again.
            kept.pause(session, run.change, f"It could not be withdrawn: {_why(error)}", by_person=True)
        return
    with run.writing() as session:
        kept.end(session, run.change, "withdrawn", left or run.gave_up)


def _take_back(run: Run) -> str:
    """Takes every step back that has begun. Raises NotPossible where there is no way back.

    Returns what is left as it is, in a sentence, where another version did what this one cannot read.
    """
    steps: list[tuple[StepRow, Step]] = []
    left = ""
    for row in _steps_begun(run):
        try:
            steps.append((row, read_step(row.name, row.payload)))
        except NotPossible:
            left = "Another version of Fold Barn had begun it; what that did is left as it is."
    for row, step in steps:
        if step.no_way_back == "begun" or (step.no_way_back == "done" and row.state == "done"):
            raise NotPossible(f"There is no way back: {step.why_no_way_back}.", next_step="Let it go on.")
    for row, step in reversed(steps):
        run.step, run.attempt = row.number, row.attempt
        step.take_back(run)
    return left
