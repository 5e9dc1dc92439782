"""How fast a share fills, and when it will have reached its quota. Method: docs/methods.md, "Quotas"."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from foldbarn.core.shares.share import Share
from foldbarn.core.units import say_duration
from foldbarn.core.volumes.growth import faded

FEWEST = 6.0  # looks at which it had grown, lately, below which nothing is said
NEWS = 0.1  # a pace that differs by less is no news


@dataclass(frozen=True, slots=True)
class ShareGrowth:
    """seconds, bytes: watched, and added meanwhile, what is long ago counting less; times: looks at which it
    had grown, the same way; known: bytes used when it was last looked at, None before.
    """

    seconds: float = 0.0
    bytes: float = 0.0
    times: float = 0.0
    known: int | None = None

    def gone_on(self, used: int, seconds: float) -> ShareGrowth:
        """So many seconds later. Of what was deleted nothing is said: what is added fills it."""
        if self.known is None or seconds <= 0:
            return replace(self, known=used)
        kept, fresh = faded(seconds)
        added = max(used - self.known, 0)
        return ShareGrowth(
            seconds=self.seconds * kept + seconds * fresh,
            bytes=self.bytes * kept + added * fresh,
            times=self.times * kept + (1.0 if added else 0.0),
            known=used,
        )

    @property
    def a_second(self) -> float:
        """Bytes."""
        return self.bytes / self.seconds if self.seconds else 0.0

    def is_like(self, other: ShareGrowth) -> bool:
        """Whether another says nearly the same of the pace, and of how well that is known."""
        alike = abs(self.a_second - other.a_second) <= NEWS * max(self.a_second, other.a_second)
        return alike and abs(self.times - other.times) <= max(1.0, NEWS * max(self.times, other.times))


@dataclass(frozen=True, slots=True)
class Reached:
    """When a share will have reached its quota. seconds: at its pace of lately; earliest, latest: the same
    were that off by as much as so few looks may be.
    """

    seconds: float
    earliest: float
    latest: float

    def sentence(self) -> str:
        early = say_duration(self.earliest)
        span = f"{early} to {say_duration(self.latest)}" if math.isfinite(self.latest) else f"{early} or more"
        return f"At its pace of lately it is full in about {say_duration(self.seconds)} ({span})."


def reached(share: Share, growth: ShareGrowth) -> Reached | None:
    """None where it is full, does not grow, or has been watched for too short a time."""
    left = share.quota - share.used
    if left <= 0 or growth.times < FEWEST or growth.a_second <= 0:
        return None
    off = 1.0 / math.sqrt(growth.times)  # of so many alike events, as the counts of such are spread
    pace = growth.a_second
    slow = pace * (1 - 2 * off)
    return Reached(left / pace, left / (pace * (1 + 2 * off)), left / slow if slow > 0 else math.inf)
