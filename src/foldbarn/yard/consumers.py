"""What consumers ask of volumes: how often and when, in what pieces, and of which parts of them most. All
invented, from the number of the ply that a volume was first written to.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from foldbarn.core.arrays import Ints, Reals
from foldbarn.core.units import DAY_SECONDS, KIB

CALM = 0.2  # of the height of a rush, at any hour
COOLEST = 0.008  # operations a second that the least wanted strip of data takes at the height of a rush
SIDE_BY_SIDE = 4  # strips of data that are wanted alike: what is read together was written together
RAREST = 1 / 256  # the most wanted of so many is the height of what one strip is asked for
BLOCKS = (16 * KIB, 8 * KIB, 32 * KIB, 4 * KIB)
WRITING_SECONDS = 6 * 3600.0  # for most of what a volume's consumers ever write
GOLDEN = 0.618034  # its multiples lie evenly between whole numbers


@dataclass(frozen=True, slots=True)
class Workload:
    """How a volume is used. skew: the exponent by which what is asked of a strip falls with its rank, as in
    Zipf's law; reads: share of operations that read; block_bytes: of an operation; late: hours by which its
    rushes come after those of most.
    """

    skew: float
    reads: float
    block_bytes: int
    late: float

    def height(self, clock: float) -> float:
        """What its consumers want at an hour of the day, as a part of the height of a rush."""
        return CALM + rush_of(clock - self.late * 3600)


def workload_of(first: int) -> Workload:
    """first: the ply that the data was first written to."""
    part = first * GOLDEN % 1.0
    return Workload(
        skew=0.55 + 0.5 * part,
        reads=0.5 + 0.4 * ((first + 3) * GOLDEN % 1.0),
        block_bytes=BLOCKS[first % len(BLOCKS)],
        late=2.0 * (part - 0.5),
    )


def rush_of(clock: float) -> float:
    """How much is going on at an hour of the day, 0 to 1: a morning and an evening rush."""
    hour = (clock % DAY_SECONDS) / 3600
    return math.exp(-(((hour - 8) / 1.5) ** 2)) + math.exp(-(((hour - 18) / 2) ** 2))


def written_share(first: int, age: float) -> float:
    """Part of a volume that its consumers have written by this age in seconds: quickly at first, then ever
    more slowly towards its own end.
    """
    return (0.35 + 0.5 * (first * GOLDEN % 1.0)) * -math.expm1(-age / WRITING_SECONDS)


def compressed_part(first: int, unit: int) -> float:
    """What is left of a volume's data when it is compressed in units of so many bytes: more or less, as what
    it holds is, and less in larger units, in which more of it is alike; never more than there was.
    """
    own = 0.3 + 0.6 * (first * GOLDEN % 1.0)
    return min(1.0, own * (1 + 2048 / unit))


def operations_a_second(first: int, extents: Ints, data: int) -> Reals:
    """What is asked of extents of so many strips of data each, at the height of a rush, [extents].

    However the same data is cut into extents, it is asked for as often.
    """
    strips = np.asarray(extents, dtype=np.int64)[:, None] * data + np.arange(data)
    place = _between(first, strips // SIDE_BY_SIDE)
    rates: Reals = (COOLEST * np.maximum(place, RAREST) ** -workload_of(first).skew).sum(axis=1)
    return rates


def _between(first: int, blocks: Ints) -> Reals:
    """A number between 0 and 1 for each block, always the same (the finalizer of SplitMix64, from memory)."""
    with np.errstate(over="ignore"):
        mixed = blocks.astype(np.uint64) + np.uint64(first + 1) * np.uint64(0x9E3779B97F4A7C15)
        mixed = (mixed ^ (mixed >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        mixed = (mixed ^ (mixed >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        mixed ^= mixed >> np.uint64(31)
    found: Reals = mixed.astype(np.float64) / 2.0**64
    return found
