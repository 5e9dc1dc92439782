"""Slopes against scipy.stats.theilslopes, and forecasts against what then happens."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import theilslopes

from foldbarn.core.arrays import Reals
from foldbarn.core.watch.forecast import FEWEST, LEAST_SECONDS, MOST_AHEAD, forecast, theil_sen

POINTS = st.lists(
    st.tuples(st.integers(0, 400), st.one_of(st.integers(-5, 5), st.floats(-1e3, 1e3))),
    min_size=3,
    max_size=40,
    unique_by=lambda point: point[0],
)


@given(POINTS)
def test_the_slope_and_its_interval_are_those_of_scipy(points: list[tuple[int, float]]) -> None:
    at, values = (np.array(column, dtype=np.float64) for column in zip(*sorted(points), strict=True))
    found, wanted = theil_sen(at, values), theilslopes(values, at, alpha=0.95)
    assert found.middle == pytest.approx(wanted[0])
    assert found.low == pytest.approx(wanted[2])
    assert found.high == pytest.approx(wanted[3])


def history(size: int, a_second: float) -> tuple[Reals, Reals]:
    """Every five minutes."""
    at = np.arange(size) * 300.0
    return at, 0.2 + at * a_second


def test_what_grows_evenly_is_where_it_was_foretold() -> None:
    at, values = history(100, 1e-6)
    found = forecast(at, values, 0.3)
    assert found is not None
    assert found.seconds == pytest.approx((0.3 - values[-1]) / 1e-6)
    assert found.earliest == pytest.approx(found.latest)
    assert found.sentence("30 %") == (
        "At its pace of the last 8 h 15 min it reaches 30 % in about 19 h 32 min."
    )


def test_the_range_holds_what_happens_as_often_as_it_says() -> None:
    luck, held = np.random.default_rng(9), 0
    at = np.arange(60) * 300.0
    for _ in range(200):
        values = 0.2 + at * 1e-6 + luck.normal(0, 0.002, len(at))
        found = forecast(at, values, values[-1] + 0.02)
        assert found is not None
        held += found.earliest <= 0.02 / 1e-6 <= found.latest
    assert held >= 180


def test_where_the_history_says_nothing_nothing_is_said() -> None:
    at, values = history(100, 1e-6)
    assert forecast(at[: FEWEST - 1], values[: FEWEST - 1], 0.3) is None
    assert forecast(at[:FEWEST] / 1000, values[:FEWEST], 0.3) is None
    assert at[FEWEST] - at[0] > LEAST_SECONDS
    assert forecast(at, values, 0.1) is None  # it is there
    assert forecast(at, values[::-1], 0.3) is None  # it shrinks
    assert forecast(at, np.full(len(at), math.nan), 0.3) is None
    # Further ahead than its history bears.
    assert forecast(at, values, values[-1] + 1e-6 * (at[-1] * MOST_AHEAD - 60)) is not None
    assert forecast(at, values, values[-1] + 1e-6 * (at[-1] * MOST_AHEAD + 60)) is None
    # It may never come: it goes up and down by far more than it grew.
    luck = np.random.default_rng(4)
    uneasy = [0.2 + at * 1e-9 + luck.normal(0, 0.01, len(at)) for _ in range(40)]
    found = [forecast(at, one, float(one[-1]) + 1e-4) for one in uneasy]
    never = [one for one in found if one is not None and math.isinf(one.latest)]
    assert never
    assert never[0].sentence("30 %").endswith(" or more).")
