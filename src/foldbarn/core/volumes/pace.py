"""What consumers of a volume got, lately: how much, how quickly, and what that took of disks. Method:
docs/methods.md, "Pace".
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, fields

import numpy as np

from foldbarn.core.arrays import Reals

HALF_LIFE_SECONDS = 900.0  # what was done so long ago counts for half
PER_DECADE = 16
# Seconds up to which operations are counted together, from 10 us to 100 s; one more counts the slower ones.
STEP = 0.25  # what is asked of a volume and differs by less is no news
BOUNDS: Reals = 1e-5 * 10 ** (np.arange(7 * PER_DECADE + 1) / PER_DECADE)
LATE = 0.99


@dataclass(frozen=True, slots=True, eq=False)
class Work:
    """What was done for consumers, added up. reads, writes: operations of theirs, and the bytes of these;
    disk_...: what they took of disks; cached_reads: of the reads, what cache devices served; wanted:
    operations that they asked for, with what was held back. times: [bounds + 1] operations by the time they
    took.
    """

    reads: float = 0.0
    writes: float = 0.0
    read_bytes: float = 0.0
    written_bytes: float = 0.0
    disk_reads: float = 0.0
    disk_writes: float = 0.0
    disk_written_bytes: float = 0.0
    cached_reads: float = 0.0
    wanted: float = 0.0
    times: Reals = field(default_factory=lambda: np.zeros(len(BOUNDS) + 1))

    @property
    def operations(self) -> float:
        return self.reads + self.writes

    @property
    def asked_for(self) -> float:
        """Operations; what was done was asked for, also where nobody counted that."""
        return max(self.wanted, self.operations)

    @property
    def numbers(self) -> Reals:
        """All but the times, in order."""
        return np.array([getattr(self, name) for name in COUNTED], dtype=np.float64)

    def combined(self, other: Work, times: float = 1.0) -> Work:
        """With so many times another."""
        return work_of(self.numbers + times * other.numbers, self.times + times * other.times)


# What is counted besides the times, in order.
COUNTED = tuple(known.name for known in fields(Work) if known.name != "times")


def work_of(numbers: Iterable[float], times: Reals) -> Work:
    """numbers: as in COUNTED."""
    return Work(**dict(zip(COUNTED, map(float, numbers), strict=True)), times=times)


NONE = Work()


def done_since(before: Work, now: Work) -> Work | None:
    """What was done between two tellings of one node; None where a count fell: it was reset, and nobody knows
    what was done since.
    """
    grown = now.combined(before, -1.0)
    return None if min(grown.numbers.min(), grown.times.min()) < 0 else grown


def summed(found: Iterable[Work]) -> Work:
    total = NONE
    for work in found:
        total = total.combined(work)
    return total


@dataclass(frozen=True, slots=True, eq=False)
class Pace:
    """work: of which ever less counts the longer ago it was done; seconds: for how long it was watched,
    counted the same way.
    """

    work: Work = NONE
    seconds: float = 0.0

    def gone_on(self, done: Work, seconds: float) -> Pace:
        """After so many more seconds, in which this was done."""
        kept = 0.5 ** (seconds / HALF_LIFE_SECONDS)
        return Pace(done.combined(self.work, kept), self.seconds * kept + seconds)

    def a_second(self, amount: float) -> float:
        return amount / self.seconds if self.seconds > 0 else 0.0

    @property
    def mean(self) -> float | None:
        """Seconds of an operation; None where none is known."""
        times = self.work.times
        if times.sum() <= 0:
            return None
        edges = np.concatenate([[0.0], BOUNDS, [BOUNDS[-1]]])
        return float((times * (edges[:-1] + edges[1:]) / 2).sum() / times.sum())

    def within(self, share: float = LATE) -> float | None:
        """Seconds within which this share of operations was done: between two bounds, as if these came
        evenly; None where none is known. What took longer than the last bound counts as that.
        """
        times = self.work.times
        if times.sum() <= 0:
            return None
        reached, wanted = np.cumsum(times), share * times.sum()
        bucket = min(int(np.searchsorted(reached, wanted * (1 - 1e-12))), len(times) - 1)
        edges = np.concatenate([[0.0], BOUNDS, [BOUNDS[-1]]])
        before = reached[bucket] - times[bucket]
        part = (wanted - before) / times[bucket] if times[bucket] else 1.0
        return float(edges[bucket] + (edges[bucket + 1] - edges[bucket]) * min(part, 1.0))


def is_news(known: float, now: float) -> bool:
    """Whether so many operations a second are worth telling of, where others were told of last."""
    return abs(now - known) > STEP * max(now, known) or (now == 0) != (known == 0)
