"""The chance of loss: the chain, its closed forms, and what it is made from."""

import itertools
import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.durability import YEAR_SECONDS, chain, chance_of_loss, groups_of, mean_time_to_loss, unread_chance


@given(st.lists(st.integers(1, 4), min_size=1, max_size=5), st.integers(1, 4))
def test_groups_are_the_sets_of_disks_that_keep_apart(domains: list[int], copies: int) -> None:
    disks = [(d, n) for d, count in enumerate(domains) for n in range(count)]
    counted = sum(len({d for d, _ in group}) == copies for group in itertools.combinations(disks, copies))
    assert groups_of(domains, copies, 10**9) == counted
    assert groups_of(domains, copies, 3) == min(3, counted)


@given(st.integers(1, 5), st.integers(0, 3), st.floats(1e-9, 1e-5), st.floats(1e-5, 1e-2), st.floats(0, 0.9))
def test_the_chain_conserves_probability_and_ends_in_loss(strips: int, tolerated: int, failures: float, repairs: float, unread: float) -> None:
    tolerated = min(tolerated, strips - 1)
    rates = chain(strips, tolerated, failures, repairs, unread)
    assert rates.sum(axis=1) == pytest.approx([0.0] * len(rates), abs=1e-12)
    assert (rates[-1] == 0).all()


def test_more_copies_quicker_repairs_and_fewer_failures_are_safer() -> None:
    base = {"failure_rate": 0.02, "repair_seconds": 3600.0}
    two = chance_of_loss([8] * 6, 2, 10**6, **base)
    three = chance_of_loss([8] * 6, 3, 10**6, **base)
    slow = chance_of_loss([8] * 6, 2, 10**6, failure_rate=0.02, repair_seconds=36_000.0)
    assert three.a_year < two.a_year < slow.a_year
    assert slow.a_year == pytest.approx(two.a_year * 10, rel=0.02)  # a window ten times longer
    assert two.one_in == pytest.approx(1 / two.a_year)
    worse = chance_of_loss([8] * 6, 2, 10**6, unread=0.05, **base)
    assert worse.a_year > two.a_year * 10


def test_without_copies_it_is_the_chance_that_a_disk_fails() -> None:
    found = chance_of_loss([10], 1, 10**6, failure_rate=0.01, repair_seconds=1.0)
    assert found.a_year == pytest.approx(1 - 0.99**10, rel=1e-6)
    assert chance_of_loss([1], 2, 10**6, failure_rate=0.01, repair_seconds=1.0).one_in == math.inf


def test_reading_twelve_terabytes_at_one_error_in_1e15_bits_fails_one_time_in_ten() -> None:
    """Common practice: 12 TB are 9.6e13 bits, so about 9 % at 1e-15 and nearly certain over ten such disks at 1e-14."""
    assert unread_chance(12 * 10**12, 1e-15) == pytest.approx(1 - math.exp(-0.096), rel=1e-6)
    assert unread_chance(0, 1e-15) == 0.0
    assert unread_chance(10**15, 0.0) == 0.0


def test_solving_the_system_and_going_step_by_step_agree() -> None:
    quick = mean_time_to_loss(3, 2, 1e-8, 1e-4)
    solved = mean_time_to_loss(3, 2, 1e-8, 1e-4, unread=1e-12)
    assert solved == pytest.approx(quick, rel=1e-3)
    assert quick / YEAR_SECONDS > 1e5
