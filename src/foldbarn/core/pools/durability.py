"""The chance of losing data, by a Markov chain of failures and rebuilds.

Method: docs/methods.md, "Chance of loss". Closed forms it is checked against: Patterson, Gibson and Katz, "A
case for redundant arrays of inexpensive disks", SIGMOD 1988. Everything here is an estimate, and says what it
was made from.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from foldbarn.core.arrays import Reals
from foldbarn.core.pools.protection import Scheme

YEAR_SECONDS = 365.25 * 86_400


def chain(strips: int, tolerated: int, failures: float, repairs: float, unread: float = 0.0) -> Reals:
    """Generator of the chain over 0 to `tolerated` failed strips, and loss as the last state, [tolerated + 2,
    tolerated + 2].

    failures, repairs: rates of one strip, per second. With i strips gone the rest fail at (strips - i) *
    failures. unread: chance that the rebuild which has no copy to spare (with `tolerated` gone) meets an
    unreadable place, which loses the extent.
    """
    states = tolerated + 2
    rates = np.zeros((states, states))
    for gone in range(tolerated + 1):
        rates[gone, gone + 1] += (strips - gone) * failures
        if gone:
            good = repairs * (1.0 - unread) if gone == tolerated else repairs
            rates[gone, gone - 1] += good
            rates[gone, states - 1] += repairs - good
    np.fill_diagonal(rates, -rates.sum(axis=1))
    return rates


def mean_time_to_loss(
    strips: int, tolerated: int, failures: float, repairs: float, unread: float = 0.0
) -> float:
    """Seconds from whole to lost on average; without redundancy 1 / (strips * failures).

    One state after the other: the first passage from i to i + 1 takes (1 + down_i * passage from i - 1 to i)
    / up_i.
    Every term is positive, so nothing cancels, however small the chance of loss; a general solver of the
    linear system loses all digits there (Grassmann, Taksar and Heyman, "Regenerative analysis and steady
    state distributions for Markov chains", Operations Research 33, 1985, give the same advice).
    """
    passage, total = 0.0, 0.0
    for gone in range(tolerated + 1):
        up = (strips - gone) * failures
        down = repairs if gone else 0.0
        if gone and gone == tolerated:
            # The rebuild that meets an unreadable place leads to loss as surely as another failure does.
            up, down = up + repairs * unread, repairs * (1.0 - unread)
        passage = (1.0 + down * passage) / up
        total += passage
    return total


def unread_chance(bytes_read: int, errors_per_bit: float) -> float:
    """Chance that reading so many bytes meets at least one unreadable place."""
    return -math.expm1(bytes_read * 8 * math.log1p(-errors_per_bit)) if errors_per_bit else 0.0


@dataclass(frozen=True, slots=True)
class LossChance:
    """A year's chance that a pool loses some extent, and what it was made from. groups: sets of disks that
    hold all strips of some extent.
    """

    a_year: float
    groups: float
    repair_seconds: float
    failure_rate: float  # a year, of one disk

    @property
    def one_in(self) -> float:
        """Such as 4,700 for "1 in 4,700 a year"; infinite where nothing can be lost."""
        return 1.0 / self.a_year if self.a_year else math.inf


def groups_of(domain_disks: list[int], strips: int, extents: int, per_domain: int = 1) -> float:
    """How many sets of disks hold all strips of some extent: all that keep apart, unless there are fewer
    extents.

    domain_disks: disks in each domain. The sets are counted by the product over the domains of the
    polynomials that count the ways to take up to t of its disks: for t = 1 the elementary symmetric
    polynomial of the counts.
    """
    sets = np.zeros(strips + 1)
    sets[0] = 1.0
    for disks in domain_disks:
        before = sets.copy()
        for taken in range(1, min(strips, per_domain) + 1):
            sets[taken:] += before[: strips + 1 - taken] * float(math.comb(disks, taken))
    return min(float(extents), float(sets[strips]))


def chance_of_loss(
    domain_disks: list[int],
    scheme: Scheme,
    extents: int,
    *,
    failure_rate: float,
    repair_seconds: float,
    unread: float = 0.0,
) -> LossChance:
    """A year's chance of losing data of a pool of one scheme.

    failure_rate: a year, of one disk; repair_seconds: to write again what one disk held; unread: see
    unread_chance. Losses of whole nodes, racks and rooms, people and software are left out.
    """
    groups = groups_of(domain_disks, scheme.strips, extents, scheme.per_domain)
    if not groups:
        return LossChance(0.0, 0.0, repair_seconds, failure_rate)
    failures = -math.log1p(-min(failure_rate, 0.999_999)) / YEAR_SECONDS
    mean = mean_time_to_loss(scheme.strips, scheme.m, failures, 1.0 / max(repair_seconds, 1.0), unread)
    return LossChance(-math.expm1(-groups * YEAR_SECONDS / mean), groups, repair_seconds, failure_rate)
