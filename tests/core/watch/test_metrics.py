"""Figures that are watched: those of many series at once are those of one, and those that numpy finds."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.volumes.pace import BOUNDS, Pace, Work
from foldbarn.core.watch.metrics import METRICS, Metric, Unit, figures_now, figures_of, say_value
from foldbarn.core.watch.samples import BUCKETS, MEASURES, Sampled, Samples, Series, of_samples, packed

COUNTS = st.lists(
    st.dictionaries(st.integers(0, BUCKETS - 1), st.integers(1, 10_000), max_size=6), min_size=1, max_size=8
)


def sampled(table: list[dict[int, int]]) -> Samples:
    times = np.zeros((len(table), BUCKETS))
    for row, counts in enumerate(table):
        for bucket, count in counts.items():
            times[row, bucket] = count
    series = tuple(Series(Sampled.VOLUME, number) for number in range(len(table)))
    values = np.arange(len(table) * len(MEASURES), dtype=np.float64).reshape(len(table), -1)
    return Samples(series, values, times)


@given(COUNTS)
def test_times_of_many_are_those_of_each(table: list[dict[int, int]]) -> None:
    found = sampled(table)
    late, mean = (figures_now(metric, found) for metric in (Metric.LATE_TIME, Metric.MEAN_TIME))
    for row in range(len(table)):
        pace = Pace(Work(times=found.times[row]))
        for said, one in ((late[row], pace.within()), (mean[row], pace.mean)):
            assert math.isnan(said) if one is None else said == pytest.approx(one)
    kept = of_samples(found.values, packed(found.times))
    assert np.allclose(figures_of(Metric.LATE_TIME, kept), late, equal_nan=True, rtol=1e-6)
    assert figures_of(Metric.READS, kept).tolist() == figures_now(Metric.READS, found).tolist()


def test_the_late_time_is_the_percentile_that_numpy_finds_to_within_a_bucket() -> None:
    luck = np.random.default_rng(5)
    seconds = luck.lognormal(mean=-6, sigma=1.0, size=20_000)
    times = np.bincount(np.searchsorted(BOUNDS, seconds), minlength=BUCKETS).astype(np.float64)
    values = np.full((1, len(MEASURES)), np.nan)
    [found] = figures_now(Metric.LATE_TIME, Samples((Series(Sampled.VOLUME, 1),), values, times[None, :]))
    bucket = BOUNDS[1] / BOUNDS[0] - 1
    assert found == pytest.approx(float(np.percentile(seconds, 99)), rel=bucket)


def test_figures_are_said_in_their_units() -> None:
    said = [
        say_value(unit, value)
        for unit, value in (
            (Unit.SECONDS, 0.1512),
            (Unit.SECONDS, 2.5),
            (Unit.A_SECOND, 12_340.0),
            (Unit.BYTES_A_SECOND, 2.5e8),
            (Unit.SHARE, 0.8537),
            (Unit.EXTENTS, 1.0),
            (Unit.EXTENTS, 1200.0),
            (Unit.CELSIUS, 41.0),
        )
    ]
    assert said == [
        "151 ms",
        "2.5 s",
        "12,340 a second",
        "250 MB/s",
        "85.4 %",
        "1 extent",
        "1,200 extents",
        "41 °C",
    ]
    assert all(known.of for known in METRICS.values())
