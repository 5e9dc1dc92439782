"""What consumers got: counts that are added up, forgotten slowly, and told in shares."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.volumes.pace import (
    BOUNDS,
    COUNTED,
    HALF_LIFE_SECONDS,
    NONE,
    PER_DECADE,
    Pace,
    Work,
    done_since,
    summed,
    work_of,
)

WIDE = 10 ** (1 / PER_DECADE)  # of a bound over the one before
times = st.lists(st.floats(2e-5, 50.0), min_size=1, max_size=300)


def counted(seconds: list[float]) -> Work:
    buckets = np.bincount(np.searchsorted(BOUNDS, seconds), minlength=len(BOUNDS) + 1)
    return Work(reads=float(len(seconds)), times=buckets.astype(np.float64))


@given(times, st.floats(0.01, 1.0))
def test_what_is_told_of_times_is_within_a_bound_of_what_they_were(
    seconds: list[float], share: float
) -> None:
    pace = Pace().gone_on(counted(seconds), 60.0)
    exact = float(np.quantile(seconds, share, method="inverted_cdf"))
    assert pace.mean == pytest.approx(np.mean(seconds), rel=WIDE - 1)
    found = pace.within(share)
    assert found is not None
    assert exact / WIDE * (1 - 1e-9) <= found <= exact * WIDE * (1 + 1e-9)


def test_what_takes_no_time_to_speak_of_or_for_ever_is_told_by_the_last_bounds() -> None:
    assert Pace().gone_on(counted([1e-9]), 1.0).within() == pytest.approx(0.99e-5)
    assert Pace().gone_on(counted([1e6]), 1.0).within() == pytest.approx(100.0)
    assert Pace().mean is None
    assert Pace().within() is None
    assert Pace().a_second(0.0) == 0.0


@given(st.lists(st.tuples(times, st.floats(1.0, 5000.0)), max_size=6))
def test_rates_are_of_lately(found: list[tuple[list[float], float]]) -> None:
    """Where each second saw as much, that is what is told, whenever it was asked."""
    pace = Pace()
    for seconds, passed in found:
        pace = pace.gone_on(work_of(np.full(len(COUNTED), 3.0 * passed), counted(seconds).times), passed)
        assert pace.a_second(pace.work.reads) == pytest.approx(3.0)
    again = pace.gone_on(NONE, HALF_LIFE_SECONDS)
    assert again.work.operations == pytest.approx(pace.work.operations / 2)


def test_what_was_done_since_is_known_unless_it_was_reset() -> None:
    one, two = counted([0.001] * 4), counted([0.001] * 9)
    grown = done_since(one, two)
    assert grown is not None
    assert (grown.operations, grown.times.sum()) == (5, 5)
    assert done_since(two, one) is None
    assert summed([one, two]).reads == 13
    assert summed([]).operations == 0
