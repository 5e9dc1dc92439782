"""Talking to agents (docs/agent-protocol.md).

Unreachable            core's: the agent is silent or slow; may be tried again
└── Garbled            it answers, but not in the protocol; may be tried again
NotPossible            core's: the agent refused an order; trying again will not help
"""

from __future__ import annotations

import asyncio
import math
import time
from collections.abc import Coroutine, Sequence
from contextlib import AbstractAsyncContextManager, nullcontext, suppress
from dataclasses import dataclass, field
from typing import Any, cast

import numpy as np
import structlog

from foldbarn.core.arrays import Ints, Reals
from foldbarn.core.errors import NotPossible, Unreachable
from foldbarn.core.machines.reading import (
    LARGEST_COUNT,
    PROTOCOL,
    WITNESS_PROTOCOL,
    read_counters,
    read_said,
)
from foldbarn.core.moving.comparing import NO_STRIPS, Strips
from foldbarn.core.volumes.pace import BOUNDS, COUNTED, Work, work_of
from foldbarn.core.volumes.snapshots import Span
from foldbarn.core.watch.samples import BUCKETS, Counted, said_of
from foldbarn.links.outbound import Answer, Bounds, ask, ask_here, there
from foldbarn.settings import settings

log = structlog.get_logger()
MOST_DOUBTFUL = 96  # questions under way to agents that did not answer when they were asked last
QUICK_SECONDS = 0.2  # an answer within this is as sure of the clock as the watch wants to be
MOST_TEXT = 200  # characters of an agent's answer that may reach a person


class Garbled(Unreachable):
    """The agent answers, but not in the agent protocol."""


@dataclass(frozen=True, slots=True)
class OrderProgress:
    """How far an order is: running, done, failed or cancelled; indexes of finished strips; bytes."""

    state: str
    problem: str
    finished: tuple[int, ...]
    bytes_done: int


@dataclass(frozen=True, slots=True)
class Keeps:
    """What a node keeps of the past of a volume: the numbers of the snapshots that are there, and its part of
    what was overwritten.
    """

    marks: frozenset[int]
    spans: tuple[Span, ...]


@dataclass(frozen=True, slots=True)
class Told:
    """What a node tells of what consumers ask. uptime: seconds that its own clock has run; plies: by number
    of a ply, its extents here, and the operations so far of each; work: by number of a ply, what the node
    has done for consumers since it started; keeps: by number of the ply that holds it, what it keeps of the
    past of a volume.
    """

    uptime: float
    plies: dict[int, tuple[Ints, Ints]]
    work: dict[int, Work] = field(default_factory=dict)
    keeps: dict[int, Keeps] = field(default_factory=dict)


# How much an agent's answers may be, in bytes: a report or an order, an inventory of 2,048 disks, the strips
# of a large disk.
REPORT_BYTES, INVENTORY_BYTES, STRIPS_BYTES = 4_000_000, 16_000_000, 64_000_000
WITNESS_BYTES = 64_000
LONG = 5  # times as long for what is long: an inventory, all strips of a disk, an order of many strips


def _bounds(most: int, times: int = 1, stranger: bool = False) -> Bounds:
    return Bounds(settings().answer_seconds * times, most, stranger)


class Agent:
    """One node's agent. Every call raises Unreachable when it does not answer in time. stranger: not known
    yet.
    """

    def __init__(self, url: str, stranger: bool = False) -> None:
        self.url = url.rstrip("/")
        self._stranger = stranger

    def inventory(self) -> dict[str, Any]:
        return _body(self._ask("GET", "/v1/inventory", most=INVENTORY_BYTES, times=LONG))

    def report(self) -> dict[str, Any]:
        """What it reports every second."""
        asked = time.time()
        return _with_offset(_body(self._ask("GET", "/v1/report")), asked)

    def uptime(self) -> float:
        """Seconds that its own clock has run."""
        found = _body(self._ask("GET", "/v1/report")).get("uptime")
        if not isinstance(found, int | float) or isinstance(found, bool):
            raise Garbled(f"{self.url} does not say how long it has been running.")
        return float(found)

    def strips(self, serial: str) -> Strips:
        """Everything that a disk holds, each strip once, [strips, 3]: ply, extent, strip."""
        found = _body(self._ask("GET", f"/v1/strips/{serial}", most=STRIPS_BYTES, times=LONG))
        listed = found.get("strips")
        try:
            table = np.array(listed, dtype=np.int64) if listed else NO_STRIPS
        except (TypeError, ValueError, OverflowError) as error:
            raise Garbled(f"{self.url} lists its strips in another shape.") from error
        if not isinstance(listed, list) or table.ndim != 2 or table.shape[1] != 3 or (table < 0).any():
            raise Garbled(f"{self.url} lists its strips in another shape.")
        return np.unique(table, axis=0)

    def strips_of(self, plies: Sequence[int]) -> dict[int, dict[str, set[tuple[int, int]]]]:
        """What each disk of the node (by serial) holds of some plies, by number: extent, and which strip of
        it.
        """
        asked = "&".join(f"ply={ply}" for ply in plies)
        found = _body(self._ask("GET", f"/v1/strips?{asked}", most=STRIPS_BYTES, times=LONG))
        try:
            return {
                int(ply): {
                    str(serial): {(int(extent), int(strip)) for extent, strip in held}
                    for serial, held in disks.items()
                }
                for ply, disks in found["plies"].items()
            }
        except (AttributeError, KeyError, TypeError, ValueError, OverflowError) as error:
            raise Garbled(f"{self.url} lists its strips in another shape.") from error

    def asked(self) -> Told:
        """What consumers have asked of what the node holds, and what it has done for them."""
        found = _body(self._ask("GET", "/v1/asked", most=STRIPS_BYTES, times=LONG))
        try:
            plies = {int(p): _counts(o["extents"], o["operations"]) for p, o in found["plies"].items()}
            work = {int(ply): _work(told) for ply, told in found.get("work", {}).items()}
            keeps = {int(ply): _keeps(told) for ply, told in found.get("keeps", {}).items()}
            uptime = float(found["uptime"])
        except (AttributeError, KeyError, TypeError, ValueError, OverflowError) as error:
            raise Garbled(f"{self.url} tells what is asked of its extents in another shape.") from error
        if not math.isfinite(uptime):
            raise Garbled(f"{self.url} does not say how long it has been running.")
        return Told(uptime, plies, work, keeps)

    def counted(self) -> Counted:
        """What it has counted since it started."""
        found = _body(self._ask("GET", "/v1/counters", times=LONG))
        try:
            work = {int(ply): _sparse(told) for ply, told in found.get("work", {}).items()}
            uptime = float(found["uptime"])
            disks = read_counters(found)
            ports = {str(name): _both(told) for name, told in found.get("ports", {}).items()}
            said = {serial: said_of(health) for serial, health in read_said(found).items()}
        except (AttributeError, KeyError, TypeError, ValueError, OverflowError, NotPossible) as error:
            raise Garbled(f"{self.url} tells what it has counted in another shape.") from error
        if not math.isfinite(uptime):
            raise Garbled(f"{self.url} does not say how long it has been running.")
        rows = np.array(list(work.values()), dtype=np.float64).reshape(-1, len(COUNTED) + BUCKETS)
        return Counted(uptime, disks, ports, np.array(list(work), dtype=np.int64), rows, said)

    def probe(self, targets: list[tuple[str, int]]) -> list[tuple[bool, str]]:
        """Has the node try to open a connection to each address and port; whether it could, and why not."""
        found = _body(
            self._ask("POST", "/v1/probe", {"targets": [{"address": a, "port": p} for a, p in targets]})
        )
        try:
            results = [(bool(r["open"]), str(r["why"])[:MOST_TEXT]) for r in found["results"]]
        except (KeyError, TypeError) as error:
            raise Garbled(f"{self.url} answers a probe in another shape.") from error
        if len(results) != len(targets):
            raise Garbled(f"{self.url} answers {len(results)} of {len(targets)} probes.")
        return results

    def send(self, order: dict[str, Any]) -> OrderProgress:
        """Gives an order; the same id again is the same order. One that lists strips may name thousands.
        Raises NotPossible when the agent refuses it.
        """
        times = LONG if "strips" in order else 1
        return _progress(_body(self._ask("POST", "/v1/orders", order, times=times)))

    def order(self, order_id: str) -> OrderProgress | None:
        """How far an order is; None when the agent does not know it."""
        answer = self._ask("GET", f"/v1/orders/{order_id}")
        return None if answer.status == 404 else _progress(_body(answer))

    def cancel(self, order_id: str) -> None:
        """Stops an order; nothing happens where the agent does not know it."""
        self._ask("DELETE", f"/v1/orders/{order_id}")

    def _ask(
        self, method: str, path: str, body: Any = None, most: int = REPORT_BYTES, times: int = 1
    ) -> Answer:
        return ask(method, self.url + path, _bounds(most, times, self._stranger), body=body)


def read_witness(url: str, stranger: bool = False) -> str:
    """The name of the witness that answers there. Raises Unreachable, Garbled where something else
    answers.
    """
    try:
        body = _body(ask("GET", url.rstrip("/") + "/v1/report", _bounds(WITNESS_BYTES, 1, stranger)))
    except NotPossible as error:
        raise Garbled(f"What answers at {url} is no witness.", about=url) from error
    name = body.get("name")
    if body.get("protocol") != WITNESS_PROTOCOL or not isinstance(name, str):
        raise Garbled(f"What answers at {url} is no witness.", about=url)
    return name[:MOST_TEXT]


def _body(answer: Answer) -> dict[str, Any]:
    """The JSON object of an answer. Raises NotPossible for a refusal (4xx), Garbled for anything else
    unexpected.
    """
    try:
        body = answer.json()
    except ValueError as error:
        raise Garbled(f"The answer is not JSON but {answer.kind[:60] or 'of no stated kind'}.") from error
    if not isinstance(body, dict):
        raise Garbled("The answer is JSON, but not an object.")
    if 400 <= answer.status < 500:
        raise NotPossible(f"The agent refused: {str(body.get('detail', 'without a reason'))[:MOST_TEXT]}.")
    if answer.is_error:
        raise Garbled(f"The agent answers with error {answer.status}.")
    return body


def _progress(body: dict[str, Any]) -> OrderProgress:
    try:
        return OrderProgress(
            str(body["state"]),
            str(body["problem"])[:MOST_TEXT],
            tuple(body["finished"]),
            int(body["bytes_done"]),
        )
    except (KeyError, TypeError, ValueError) as error:
        raise Garbled("The order's progress has another shape.") from error


def _counts(extents: Any, operations: Any) -> tuple[Ints, Ints]:
    """Raises TypeError, ValueError, OverflowError for what is no list of extents with a count each."""
    which, counts = (np.array(listed, dtype=np.int64) for listed in (extents, operations))
    if which.ndim != 1 or which.shape != counts.shape or (which < 0).any() or (counts < 0).any():
        raise ValueError("not a count for each extent")
    return which, counts


def _keeps(told: Any) -> Keeps:
    """Raises TypeError, ValueError, KeyError, OverflowError for what says nothing of the kind."""
    spans = tuple(Span(int(first), int(last), int(size)) for first, last, size in told["spans"])
    if any(not 0 < span.first <= span.last or not 0 <= span.bytes <= LARGEST_COUNT for span in spans):
        raise ValueError("no spans of snapshots")
    return Keeps(frozenset(int(number) for number in told["marks"]), spans)


def _both(told: Any) -> tuple[int, int]:
    """What a port has sent and received. Raises TypeError, ValueError, KeyError, OverflowError."""
    sent, received = int(told["sent_bytes"]), int(told["received_bytes"])
    if not 0 <= min(sent, received) <= max(sent, received) <= LARGEST_COUNT:
        raise ValueError("counts that are none")
    return sent, received


def _sparse(told: Any) -> Reals:
    """Totals of what was done, with their times as pairs of a bucket and a count. Raises TypeError,
    ValueError, KeyError, OverflowError for what is no such totals.
    """
    times = np.zeros(BUCKETS)
    for bucket, count in told["times"]:
        if not 0 <= int(bucket) < BUCKETS:
            raise ValueError("a bucket that there is not")
        times[int(bucket)] += float(count)
    work = _work({**told, "times": times})
    found: Reals = np.concatenate([work.numbers, work.times])
    return found


def _work(told: Any) -> Work:
    """Raises TypeError, ValueError, KeyError, OverflowError for what is no such totals. Of an agent that does
    not count what was asked for, that is what was done.
    """
    counted = {"wanted": float(told["reads"]) + float(told["writes"]), **told}
    numbers = np.array([counted[name] for name in COUNTED], dtype=np.float64)
    times = np.array(told["times"], dtype=np.float64)
    if numbers.shape != (len(COUNTED),) or times.shape != (len(BOUNDS) + 1,):
        raise ValueError("other totals than were asked for")
    if not np.isfinite(numbers).all() or not np.isfinite(times).all() or min(*numbers, *times) < 0:
        raise ValueError("totals that are none")
    return work_of(numbers, times)


def _with_offset(body: dict[str, Any], asked: float) -> dict[str, Any]:
    """A report with how many seconds its node's clock is ahead: against the middle of question and answer, as
    in RFC 5905.

    Half of the time between them is how wrong that may be (clock_error), so a slow answer says nothing of
    the clock.
    """
    now = time.time()
    if isinstance(body.get("clock"), int | float) and now - asked <= QUICK_SECONDS:
        body["clock_offset"] = float(body["clock"]) - (asked + now) / 2
        body["clock_error"] = (now - asked) / 2
    return body


@dataclass(frozen=True, slots=True)
class Report:
    """What an agent tells of its node, and the tag by which it tells whether there is anything new since."""

    facts: dict[str, Any]
    tag: str = ""


NOTHING_NEW = Report({})  # the agent answers, and has nothing to add to its last report


@dataclass(slots=True)
class _Asking:
    """What is under way: touched by the outbound client's loop alone, but for what waits to begin."""

    keys: set[int] = field(default_factory=set)
    to_ask: list[tuple[int, Coroutine[Any, Any, Report | Unreachable]]] = field(default_factory=list)
    tasks: set[asyncio.Task[None]] = field(default_factory=set)
    answers: list[tuple[int, Report | Unreachable]] = field(default_factory=list)
    all_answered: asyncio.Event = field(default_factory=asyncio.Event)
    doubtful: asyncio.Semaphore = field(default_factory=lambda: asyncio.Semaphore(MOST_DOUBTFUL))

    async def round(self, wait: float) -> list[tuple[int, Report | Unreachable]]:
        """Begins what waits to begin, and gives out what has been answered."""
        self.all_answered.clear()
        while self.to_ask:
            self.tasks.add(asyncio.create_task(self._ask(*self.to_ask.pop())))
        with suppress(TimeoutError):
            async with asyncio.timeout(wait):
                await self.all_answered.wait()
        found, self.answers = self.answers, []
        return found

    async def _ask(self, key: int, question: Coroutine[Any, Any, Report | Unreachable]) -> None:
        answer: Report | Unreachable
        try:
            answer = await question
        except Exception as error:
            log.exception("a question could not be asked", key=key)
            answer = Unreachable(f"Asking it broke off with {type(error).__name__}.")
        finally:
            self.tasks.discard(cast("asyncio.Task[None]", asyncio.current_task()))
            if not self.tasks:
                self.all_answered.set()
        self.answers.append((key, answer))

    async def stop(self) -> None:
        for task in self.tasks:
            task.cancel()


class Questions:
    """Questions to many agents, under way side by side: one that is slow to answer holds up nobody's."""

    def __init__(self, protocol: str = PROTOCOL) -> None:
        self._asking = _Asking()
        self._protocol = protocol

    def under_way(self) -> set[int]:
        """Keys of those asked and not yet answered."""
        return set(self._asking.keys)

    def ask(
        self,
        key: int,
        url: str,
        known: str = "",
        seconds: float | None = None,
        doubtful: bool = False,
    ) -> None:
        """Asks one agent for its report; its answer is given out under this key.

        known: the tag of its last report: an agent that has nothing new says so in a few bytes (RFC 9110,
        If-None-Match). seconds: how long it may take. doubtful: it did not answer last time, and waits its
        turn among those alone: a room that hangs must not take the places of the nodes that answer.
        """
        turn = self._asking.doubtful if doubtful else nullcontext()
        self._asking.keys.add(key)
        self._asking.to_ask.append((key, _ask_report(self._protocol, url, known, seconds, turn)))

    async def answers(self, wait: float) -> dict[int, Report | Unreachable]:
        """Answers that have come, by key: a report, or why there is none. Waits for the others, but no longer
        than this many seconds.
        """
        if not self._asking.keys:
            return {}
        found = dict(await asyncio.wrap_future(there(self._asking.round(wait))))
        self._asking.keys -= found.keys()
        return found

    def forget(self) -> None:
        """Stops every question under way."""
        for _, question in self._asking.to_ask:
            question.close()
        there(self._asking.stop())
        self._asking = _Asking()


async def _ask_report(
    protocol: str, url: str, known: str, seconds: float | None, turn: AbstractAsyncContextManager[Any]
) -> Report | Unreachable:
    bounds = Bounds(seconds or settings().answer_seconds, REPORT_BYTES)
    headers = {"If-None-Match": known} if known else {}
    try:
        async with turn:
            asked = time.time()
            answer = await ask_here("GET", url.rstrip("/") + "/v1/report", bounds, headers)
        if answer.status == 304 and known:
            return NOTHING_NEW
        body = _with_offset(_body(answer), asked)
        if body.get("protocol") != protocol:
            return Garbled(f"It does not speak {protocol}.")
        return Report(body, answer.tag[:MOST_TEXT])
    except NotPossible as error:
        return Garbled(error.sentence)
    except Unreachable as error:
        return error
