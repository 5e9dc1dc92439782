"""How fast room is set aside for a volume. Method: docs/methods.md, "Thin volumes"."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

HALF_LIFE_SECONDS = 6 * 3600.0  # of the nodes' own time: what was set aside so long ago counts half
STEP = 0.1  # a pace that differs by less is no news


def faded(seconds: float) -> tuple[float, float]:
    """How much of what was before so many seconds still counts, and of what came evenly in their course: the
    earlier part of that has faded a little as well.
    """
    kept = 0.5 ** (seconds / HALF_LIFE_SECONDS)
    return kept, (1 - kept) * HALF_LIFE_SECONDS / math.log(2) / seconds


@dataclass(frozen=True, slots=True)
class Growth:
    """How fast room is set aside for a volume. seconds, extents: watched, and set aside meanwhile, what is
    long ago counting less; known: extents that were set aside when it was last looked at, None before.
    """

    seconds: float = 0.0
    extents: float = 0.0
    known: int | None = None

    def gone_on(self, aside: int, seconds: float) -> Growth:
        """So many seconds later. A volume that holds fewer, since it was written anew as another scheme, is
        watched from there on.
        """
        if self.known is None or aside < self.known or seconds <= 0:
            return replace(self, known=aside)
        kept, fresh = faded(seconds)
        return Growth(
            seconds=self.seconds * kept + seconds * fresh,
            extents=self.extents * kept + (aside - self.known) * fresh,
            known=aside,
        )

    def is_like(self, other: Growth) -> bool:
        """Whether another says nearly the same of the pace, and of how well that is known."""
        one, two = self.a_second, other.a_second
        same = abs(one - two) <= STEP * max(one, two)
        return same and abs(self.extents - other.extents) <= STEP * max(self.extents, other.extents)

    @property
    def a_second(self) -> float:
        """Extents."""
        return self.extents / self.seconds if self.seconds else 0.0


NO_GROWTH = Growth()
