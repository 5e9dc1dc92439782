"""The register of the watch's duties: what is seen to, how often, and what it costs. One that fails keeps no
other from its turn.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field

import structlog

from foldbarn.store import duties as kept
from foldbarn.store.database import is_disconnect, transaction

log = structlog.get_logger()
REPORT_SECONDS = 10.0  # between two records of what the duties cost
AFTER_FAILURE_SECONDS = 1.0


@dataclass(frozen=True, slots=True)
class Duty:
    """name: for people, what it does; every: seconds between two turns.

    work: returns whether it wants another turn though nothing changes, since something in it ripens with
    time. on_change:
    it has a turn only when the site has changed, or when it wants one. judging: the site counts as watched
    only while it works.
    """

    name: str
    every: float
    work: Callable[[], bool | None]
    on_change: bool = False
    judging: bool = False


@dataclass(slots=True)
class Record:
    """What a duty has cost since this process began, in seconds of time and of a processor, and how its last
    turn went.
    """

    turns: int = 0
    seconds: float = 0.0
    processor_seconds: float = 0.0
    failures: int = 0
    problem: str = ""
    next_at: float = 0.0
    revision: int = -1  # of the site, at its last turn that went well
    again: bool = False


@dataclass(slots=True)
class Round:
    """Gives each duty its turns, one after the other, in one thread."""

    duties: tuple[Duty, ...]
    records: dict[str, Record] = field(default_factory=dict)
    reported_at: float = 0.0

    def go(self, revision: int) -> bool:
        """Those whose turn it is. Returns whether all judging duties have gone well. Raises what says that
        the database is away.
        """
        for duty in self.duties:
            record = self.records.setdefault(duty.name, Record())
            now = time.monotonic()
            ripe = record.next_at <= now
            if duty.on_change:
                wanted = record.again or bool(record.problem)
                ripe = record.revision != revision or (wanted and ripe)
            if ripe:
                self._turn(duty, record, revision)
        if time.monotonic() >= self.reported_at:
            self.reported_at = time.monotonic() + REPORT_SECONDS
            self._report()
        return not any(self.records[d.name].problem for d in self.duties if d.judging)

    def _turn(self, duty: Duty, record: Record, revision: int) -> None:
        began, processor = time.monotonic(), time.thread_time()
        was = record.problem
        try:
            record.again = bool(duty.work())
            record.problem, record.revision = "", revision
        except Exception as error:
            if is_disconnect(error):
                raise
            log.exception("a duty failed", duty=duty.name)
            record.failures, record.problem = record.failures + 1, type(error).__name__
        finally:
            record.turns += 1
            record.seconds += time.monotonic() - began
            record.processor_seconds += time.thread_time() - processor
            record.next_at = time.monotonic() + (AFTER_FAILURE_SECONDS if record.problem else duty.every)
        if record.problem != was:
            self._report()

    def _report(self) -> None:
        with transaction() as session:
            kept.report(
                session,
                [
                    kept.Figure(
                        d.name, d.every, r.turns, r.seconds, r.processor_seconds, r.failures, r.problem
                    )
                    for d in self.duties
                    if (r := self.records.get(d.name)) is not None
                ],
            )
