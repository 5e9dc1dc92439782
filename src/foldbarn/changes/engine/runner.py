"""Carries out changes: step by step, each recorded before and after, so that a killed process resumes where
it was.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

import structlog
from tenacity import RetryCallState, Retrying, retry_if_exception_type, stop_after_attempt, wait_exponential

from foldbarn.changes.engine.kind import Kind, Params, kind_named
from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import BarnError, NotPossible, Overtaken, Unreachable
from foldbarn.core.site import Disk, Node, Pool, SiteView, Volume
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
    transaction,
    wait_out,
)
from foldbarn.store.views import load_view

log = structlog.get_logger()
PAUSES = wait_exponential(multiplier=0.3, max=8.0)  # between tries: 0.3, 0.6, 1.2, ..., at most 8 seconds
RUNNER_LOCK = 0xBA51  # advisory lock space: one runner per change
P = TypeVar("P", bound=Params)
T = TypeVar("T")


# Set when this process is to end: changes under way stop at the next place where they may, and go on in the
# next process.
ending = threading.Event()


class Asked(Exception):
    """A person asked the change to stop here, or its process is to end."""


def pause_between(tries: int) -> float:
    """Seconds that a change of Fold Barn's own rests before it is tried again: 5, 10, 20, ..., at most
    300.
    """
    return min(300.0, 5.0 * 2.0 ** min(tries, 10))


@dataclass(slots=True)
class Run(Generic[P]):
    """A change under way, as its steps see it.

    meant: numbers of the things that its wish names, so that they are found though they have another name by
    now.
    token: of this runner; once another has a newer one, this one may write nothing more.
    """

    change: int
    params: P
    meant: dict[str, dict[str, int]] = field(default_factory=dict)
    token: int = 0
    step: int = 0
    attempt: int = 1
    subject: str = ""  # what the step is about, where its kind has a step for each of several things
    begun: bool = False  # whether any step has begun
    actor: str = ""
    withdrawing: bool = False
    agents: Callable[[str], Agent] = Agent

    # What the wish names. ------------------------------------------------------------------------

    def pool(self, view: SiteView, name: str) -> Pool:
        """The pool that was meant, whatever it is called now. Raises NotFound, as the others here do."""
        return view.pool(name, self._number("pool", name))

    def volume(self, view: SiteView, name: str) -> Volume:
        return view.volume(name, self._number("volume", name))

    def node(self, view: SiteView, name: str) -> Node:
        return view.node(name, self._number("node", name))

    def disk(self, view: SiteView, name: str) -> Disk:
        return view.disk(name, self._number("disk", name))

    def numbers(self, kind: str) -> list[int]:
        """Numbers of all things of a kind that its wish named."""
        return list(self.meant.get(kind, {}).values())

    def _number(self, kind: str, name: str) -> int | None:
        return next(
            (n for known, n in self.meant.get(kind, {}).items() if known.casefold() == name.casefold()), None
        )

    # Talking to agents. --------------------------------------------------------------------------

    def order_id(self, node: str, part: object = "") -> str:
        """The same on every repetition of this attempt at this step, so that an agent does it once. In
        withdrawing each runner tries anew.
        """
        where = f"withdraw-{self.token}" if self.withdrawing else f"{self.step}-{self.attempt}"
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

        with ThreadPoolExecutor(max_workers=16) as crew:
            return dict(zip(orders, crew.map(one, orders), strict=True))

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

    def refuse_once(self, state: str, step: str, why: str) -> None:
        """Raises NotPossible where this step (what follows a colon left aside) is begun, or done: then there
        is no way back.
        """
        with transaction() as session:
            steps = kept.steps_of(session, self.change)
        if any(
            s.name.partition(":")[0] == step
            and (s.state == "done" or (state == "begun" and s.started_at is not None))
            for s in steps
        ):
            raise NotPossible(f"There is no way back: {why}.", next_step="Let it go on.")

    def done(self, step: str) -> bool:
        """Whether a step of this name is done."""
        with transaction() as session:
            return any(s.name == step and s.state == "done" for s in kept.steps_of(session, self.change))

    @contextmanager
    def holding_strips(self, pool: Pool) -> Iterator[None]:
        """Holds a pool's strips: only one change at a time moves them. Waits for its turn, and says for whom.

        Raises Asked while waiting where a person wants to stop, or this process is to end.
        """
        strips = alone(Thing.STRIPS, pool.number)
        said: int | None = None
        while True:
            with self.writing() as session:
                other = touching.take_also(session, self.change, strips)
            if other is None:
                break
            if other != said:
                self.say(f"Waits until change {other} has moved the strips of {pool.name}.")
                said = other
            self.check_asked()
            time.sleep(settings().look_seconds)
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
        _note_touches(session, change)
    first = True
    while token is not None and not ending.is_set():
        with transaction() as session:
            kept.fence(session, change, token)
            turn = kept.take_turn(session, change, first=first)
        first = False
        if turn is None or turn.waits_for is not None:
            return
        kind = kind_named(turn.kind)
        run: Run[Any] = Run(
            change=change,
            params=kind.params.model_validate(turn.params),
            meant=turn.meant,
            token=token,
            begun=turn.begun,
            actor=turn.actor,
        )
        try:
            if turn.asked == "pause":
                _stop(run, kind)
                return
            if turn.asked == "withdraw":
                _withdraw(run, kind)
                return
            if not _next_step(run, kind):
                return
        except Asked:
            continue


def _stop(run: Run[Any], kind: Kind[Any]) -> None:
    """Pauses, as a person asked, whatever comes of stopping what nodes do for it."""
    why = "Paused by a person; it goes on when resumed."
    try:
        if run.begun:
            kind.stop(run)
    except (Asked, kept.Fenced):
        raise
    except Exception as error:
        if is_disconnect(error):
            raise
        log.exception("stopping failed", change=run.change)
        why = f"{why} What it had under way could not be stopped: {_why(error)}"
    with run.writing() as session:
        kept.pause(session, run.change, why, by_person=True)


def _note_touches(session: Session, change: int) -> None:
    """A change that an older version has recorded tells only now what it touches."""
    row = kept.untouching(session, change)
    if row is None:
        return
    kind = kind_named(row.kind)
    try:
        touching.note(
            session, change, kind.touches(load_view(session), kind.params.model_validate(row.params))
        )
    except BarnError as error:  # what it names is gone, as its steps will find
        log.info("touches nothing", change=change, why=error.sentence)


def _next_step(run: Run[Any], kind: Kind[Any]) -> bool:
    """Does the first step that is not done. False when the change has ended or paused."""
    with run.writing() as session:
        step = kept.begin_next_step(session, run.change)
        if step is None:
            kept.end(session, run.change, "done")
            return False
        run.step, run.attempt, name = step.number, step.attempt, step.name
    run.subject = name.partition(":")[2]
    try:
        if kind.is_inside(name):
            with run.writing() as session:
                outcome = kind.step(name)(run, session)
                _finish_step(session, run, outcome)
        else:
            outcome = kind.step(name)(run)
            with run.writing() as session:
                _finish_step(session, run, outcome)
    except (Asked, kept.Fenced):
        raise
    except BarnError as error:
        # A first step inside the database has done nothing, however often it was begun.
        nothing_done = run.step == 1 if kind.is_inside(name) else not run.begun
        if nothing_done and (kind.is_inside(name) or isinstance(error, Overtaken)):
            _end_by_itself(run, error.sentence)
        else:
            _pause(run, error)
        return False
    except Exception as error:
        if is_disconnect(error):
            raise
        log.exception("step failed", change=run.change, step=name)
        _pause(run, error)
        return False
    return True


def _finish_step(session: Session, run: Run[Any], outcome: str) -> None:
    kept.end_step(session, run.change, run.step, outcome)
    announce(session, "site", "changes")


def _why(error: Exception) -> str:
    if isinstance(error, BarnError):
        return error.sentence
    return f"The step broke off: {type(error).__name__}. The log of the work process has more."


def _pause(run: Run[Any], error: Exception) -> None:
    """Fold Barn's own changes are tried again, and so is what only waits for someone to answer: steps are
    safe to repeat.
    """
    again = run.actor == BY_ITSELF or isinstance(error, Unreachable)
    with run.writing() as session:
        kept.end_step(session, run.change, run.step, _why(error), state="failed")
        kept.pause(session, run.change, _why(error), again=again)


def _end_by_itself(run: Run[Any], why: str) -> None:
    """Nothing has been done, and what was planned does not hold any more: another was faster. There is
    nothing to wait for.
    """
    with run.writing() as session:
        kept.end_step(session, run.change, run.step, why, state="failed")
        kept.end(session, run.change, "withdrawn", why)


def _withdraw(run: Run[Any], kind: Kind[Any]) -> None:
    """Puts back what has been done so far, which is nothing where no step has begun."""
    run.withdrawing = True
    try:
        if run.begun:
            kind.withdraw(run)
    except (Asked, kept.Fenced):
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
        kept.end(session, run.change, "withdrawn")
