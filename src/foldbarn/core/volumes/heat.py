"""How much each extent of a volume is asked for, and what the hottest of them would serve. Method:
docs/methods.md, "Heat".
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from foldbarn.core.arrays import Ints, Reals

HALF_LIFE_SECONDS = 6 * 3600.0  # what was asked so long ago counts for half
UNTOLD = -1  # in counts: no node has told of this extent


@dataclass(frozen=True, eq=False)
class Heat:
    """What is known of the extents that hold all of a volume.

    data: strips of data in an extent. counts: [extents] operations that consumers had asked of each in all
    when its nodes told of it last, or UNTOLD. warmth: [extents] operations since it is watched, of which ever
    less counts the longer ago it was. seconds: for how long it was watched, counted the same way.
    """

    data: int
    counts: Ints
    warmth: Reals
    seconds: float = 0.0

    @classmethod
    def of_nothing(cls, data: int, extents: int) -> Heat:
        """Of a volume of which no node has told yet."""
        return cls(data, np.full(extents, UNTOLD, dtype=np.int64), np.zeros(extents))

    @property
    def operations_per_second(self) -> float:
        """What is asked of all of it, lately; 0 while it was watched for no time."""
        return float(self.warmth.sum()) / self.seconds if self.seconds > 0 else 0.0

    @cached_property
    def curve(self) -> HitCurve:
        return hit_curve(self.warmth)


def told(extents: int, answers: Iterable[tuple[Ints, Ints]]) -> Ints:
    """What nodes tell of a volume: [extents] operations asked of each so far, UNTOLD where no node told.

    answers: of each node, extents and what was asked of them; those that the volume does not have are left
    out. Where nodes tell of the same extent the greatest count holds: another node has not heard of the
    latest yet.
    """
    counts = np.full(extents, UNTOLD, dtype=np.int64)
    for which, operations in answers:
        known = (which >= 0) & (which < extents)
        np.maximum.at(counts, which[known], operations[known])
    return counts


def gathered(counts: Ints, of_strips: Ints, data: int) -> Ints:
    """What is told of extents, [extents], and of the same data strip by strip, so many strips to an extent,
    [extents x data]: the greater holds where both are told in full.
    """
    by_extent = of_strips.reshape(-1, data)
    summed = np.where((by_extent != UNTOLD).all(axis=1), by_extent.sum(axis=1), UNTOLD)
    found: Ints = np.maximum(counts, summed)
    return found


def warmed(known: Heat, counts: Ints, seconds: float) -> Heat:
    """Heat after so many more seconds, at whose end this is what the nodes tell.

    A count that is told for the first time, or that fell (it was reset), says nothing of what was asked
    since.
    """
    kept = 0.5 ** (seconds / HALF_LIFE_SECONDS)
    grown = np.where((known.counts != UNTOLD) & (counts >= known.counts), counts - known.counts, 0)
    return Heat(
        data=known.data,
        counts=np.where(counts != UNTOLD, counts, known.counts),
        warmth=known.warmth * kept + grown,
        seconds=known.seconds * kept + seconds,
    )


def recut(known: Heat, data: int, extents: int) -> Heat:
    """The same data's heat, cut into other extents: each strip of data has its part of its extent's. What is
    told of those next is the first that is known of them.
    """
    of_strips = np.repeat(known.warmth / known.data, known.data)
    room = np.zeros(data * extents)
    both = min(len(of_strips), len(room))
    room[:both] = of_strips[:both]
    untold = np.full(extents, UNTOLD, dtype=np.int64)
    return Heat(data, untold, room.reshape(extents, data).sum(axis=1), known.seconds)


@dataclass(frozen=True, slots=True, eq=False)
class HitCurve:
    """served: [extents + 1] share of what is asked that the hottest 0, 1, 2, ... extents take, 0 to 1; all 0
    where nothing is asked.
    """

    served: Reals = field(default_factory=lambda: np.zeros(1))

    @property
    def extents(self) -> int:
        return len(self.served) - 1

    def needed(self, share: float) -> int:
        """The fewest extents that take at least this share of what is asked."""
        return int(np.searchsorted(self.served, share * self.served[-1] * (1 - 1e-12)))


def hit_curve(warmth: Reals) -> HitCurve:
    """Of extents as hot as this, the hottest first."""
    summed = np.concatenate([[0.0], np.cumsum(np.sort(warmth)[::-1])])
    return HitCurve(summed / summed[-1] if summed[-1] > 0 else summed)
