"""The chance of loss: the chain, its closed forms, and what it is made from."""

import itertools
import math
from fractions import Fraction

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from foldbarn.core.pools.durability import (
    chain,
    chance_of_loss,
    groups_of,
    mean_time_to_loss,
    unread_chance,
)
from foldbarn.core.pools.protection import Level, mirror


@given(st.lists(st.integers(1, 4), min_size=1, max_size=5), st.integers(1, 4), st.integers(1, 3))
def test_groups_are_the_sets_of_disks_that_keep_apart(domains: list[int], copies: int, most: int) -> None:
    disks = [d for d, count in enumerate(domains) for _ in range(count)]
    groups = itertools.combinations(disks, copies)
    counted = sum(max(map(group.count, group)) <= most for group in groups)
    assert groups_of(domains, copies, 10**9, most) == counted
    assert groups_of(domains, copies, 3, most) == min(3, counted)


@given(st.integers(1, 5), st.integers(0, 3), st.floats(1e-9, 1e-5), st.floats(1e-5, 1e-2), st.floats(0, 0.9))
def test_the_chain_conserves_probability_and_ends_in_loss(
    strips: int, tolerated: int, failures: float, repairs: float, unread: float
) -> None:
    tolerated = min(tolerated, strips - 1)
    rates = chain(strips, tolerated, failures, repairs, unread)
    assert rates.sum(axis=1) == pytest.approx([0.0] * len(rates), abs=1e-12)
    assert (rates[-1] == 0).all()


def test_more_copies_quicker_repairs_and_fewer_failures_are_safer() -> None:
    base = {"failure_rate": 0.02, "repair_seconds": 3600.0}
    two = chance_of_loss([8] * 6, mirror(2, Level.DISK), 10**6, **base)
    three = chance_of_loss([8] * 6, mirror(3, Level.DISK), 10**6, **base)
    slow = chance_of_loss([8] * 6, mirror(2, Level.DISK), 10**6, failure_rate=0.02, repair_seconds=36_000.0)
    assert three.a_year < two.a_year < slow.a_year
    assert slow.a_year == pytest.approx(two.a_year * 10, rel=0.02)  # a window ten times longer
    assert two.one_in == pytest.approx(1 / two.a_year)
    worse = chance_of_loss([8] * 6, mirror(2, Level.DISK), 10**6, unread=0.05, **base)
    assert worse.a_year > two.a_year * 10


def test_without_copies_it_is_the_chance_that_a_disk_fails() -> None:
    found = chance_of_loss([10], mirror(1, Level.DISK), 10**6, failure_rate=0.01, repair_seconds=1.0)
    assert found.a_year == pytest.approx(1 - 0.99**10, rel=1e-6)
    assert (
        chance_of_loss([1], mirror(2, Level.DISK), 10**6, failure_rate=0.01, repair_seconds=1.0).one_in
        == math.inf
    )


def test_reading_twelve_terabytes_at_one_error_in_1e15_bits_fails_one_time_in_ten() -> None:
    """Common practice: 12 TB are 9.6e13 bits, so about 9 % at 1e-15 and nearly certain over ten such disks at
    1e-14.
    """
    assert unread_chance(12 * 10**12, 1e-15) == pytest.approx(1 - math.exp(-0.096), rel=1e-6)
    assert unread_chance(0, 1e-15) == 0.0
    assert unread_chance(10**15, 0.0) == 0.0


@given(
    st.integers(1, 5),
    st.floats(1e-14, 1e-2),
    st.floats(1e-9, 1.0),
    st.one_of(st.just(0.0), st.floats(1e-18, 1.0)),
)
@example(5, 1e-10, 1.0, 1e-9)  # a general solver of the linear system gave a negative mean here
def test_the_mean_time_is_that_of_exact_fractions(
    copies: int, failures: float, repairs: float, unread: float
) -> None:
    """The chain's linear system, solved by Cramer-free elimination in whole fractions: no rounding
    anywhere.
    """
    tolerated = copies - 1
    generator = [[Fraction(0)] * (tolerated + 2) for _ in range(tolerated + 1)]
    lam, mu, bad = Fraction(failures), Fraction(repairs), Fraction(unread)
    for gone in range(tolerated + 1):
        generator[gone][gone + 1] += (copies - gone) * lam
        if gone:
            lost = mu * bad if gone == tolerated else Fraction(0)
            generator[gone][gone - 1] += mu - lost
            generator[gone][tolerated + 1] += lost
    # (sum of rates out of i) t_i - sum over j of rate_ij t_j = 1, by elimination.
    rows = [[-generator[i][j] for j in range(tolerated + 1)] + [Fraction(1)] for i in range(tolerated + 1)]
    for i in range(tolerated + 1):
        rows[i][i] += sum(generator[i])
    for i in range(tolerated + 1):
        rows[i] = [x / rows[i][i] for x in rows[i]]
        for k in range(tolerated + 1):
            if k != i:
                rows[k] = [a - rows[k][i] * b for a, b in zip(rows[k], rows[i], strict=True)]
    exact = rows[0][-1]
    found = mean_time_to_loss(copies, tolerated, failures, repairs, unread)
    assert abs(Fraction(found) / exact - 1) < Fraction(1, 10**9)
