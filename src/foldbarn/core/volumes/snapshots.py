"""Snapshots of volumes: what they hold that the volume does not any more, what that takes, and what letting
go of some of them frees. Method: docs/methods.md, "Snapshots".
"""

from __future__ import annotations

import math
from bisect import bisect_left
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass

import numpy as np

USUAL_ROOM = 20  # per cent of a volume that is set aside for what is overwritten, where nobody says otherwise
MOST_ROOM = 100
FULL_SOON = 0.8  # of the room for snapshots, from where on someone should look


@dataclass(frozen=True, slots=True)
class AskedFor:
    """By what, in an orchestrator (by number), a snapshot was asked for. uid: of that object; path: its
    namespace and name. fills: it was taken to fill the claim of that path, and goes when that has been done.
    """

    orchestrator: int
    uid: str
    path: str
    fills: bool = False


@dataclass(frozen=True, slots=True)
class Snapshot:
    """What a volume held at one moment. number: grows with every snapshot that is taken of it; taken_at:
    seconds since 1970; forming: it is being taken; lost: why it is no more, empty while it is there; bytes:
    of the volume then.
    """

    number: int
    name: str
    taken_at: float = 0.0
    forming: bool = False
    lost: str = ""
    scheduled: bool = False  # it was taken by its policy's schedule, and goes by that
    bytes: int = 0
    asked: AskedFor | None = None

    @property
    def there(self) -> bool:
        return not self.forming and not self.lost


@dataclass(frozen=True, slots=True)
class Origin:
    """The snapshot, by number, of a volume, by number, that another volume reads what it does not hold itself
    from. shown: all of it, for good; else it is a copy, and reads from there what has not been written yet.
    left: a person called off the writing.
    """

    volume: int
    snapshot: int
    shown: bool = False
    left: bool = False


@dataclass(frozen=True, slots=True)
class Span:
    """Bytes that were overwritten, and were the volume's at every snapshot from first to last, by number."""

    first: int
    last: int
    bytes: int


_SPAN = ("first", "last", "bytes")


@dataclass(frozen=True, slots=True)
class Share:
    """What a snapshot has of what was overwritten: alone, and together with others."""

    alone: int
    shared: int


def held(spans: Iterable[Span]) -> int:
    """Bytes that the snapshots of a volume hold beside it, each once."""
    return sum(span.bytes for span in spans)


def shares(spans: Sequence[Span], there: Collection[int]) -> dict[int, Share]:
    """What each snapshot has, by number; there: numbers of all of the volume."""
    numbers = np.array(sorted(there), dtype=np.int64)
    first, last, size = (np.array([getattr(s, of) for s in spans], dtype=np.int64) for of in _SPAN)
    begin, end = np.searchsorted(numbers, first), np.searchsorted(numbers, last, side="right")
    one = end - begin == 1
    alone = np.bincount(begin[one], weights=size[one], minlength=len(numbers)).astype(np.int64)
    several = end - begin > 1
    # What begins to be held at a snapshot, less what is held no more from one on, summed up.
    steps = np.zeros(len(numbers) + 1, dtype=np.int64)
    np.add.at(steps, begin[several], size[several])
    np.add.at(steps, end[several], -size[several])
    both = zip(alone.tolist(), np.cumsum(steps)[:-1].tolist(), strict=True)
    return {number: Share(*of) for number, of in zip(numbers.tolist(), both, strict=True)}


def freed_by(spans: Iterable[Span], there: Collection[int], gone: Collection[int]) -> int:
    """Bytes that letting go of some snapshots frees: what none of those that stay has."""
    going, staying = sorted(gone), sorted(number for number in there if number not in gone)

    def any_in(span: Span, numbers: list[int]) -> bool:
        at = bisect_left(numbers, span.first)
        return at < len(numbers) and numbers[at] <= span.last

    return sum(span.bytes for span in spans if any_in(span, going) and not any_in(span, staying))


def differs(spans: Iterable[Span], number: int) -> int:
    """Bytes of the volume that changed since a snapshot: each of these was overwritten."""
    return sum(span.bytes for span in spans if span.first <= number <= span.last)


def room_extents(extents: int, per_cent: int) -> int:
    """Extents for what is overwritten of a volume of so many."""
    return math.ceil(extents * per_cent / 100)


def by_age(snapshots: Sequence[Snapshot]) -> list[Snapshot]:
    """The newest first; what is being taken before all."""
    return sorted(snapshots, key=lambda s: -s.number)
