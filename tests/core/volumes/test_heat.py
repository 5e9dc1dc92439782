"""How hot extents are: decay, counts that fall or come late, other cuts, and the hit curve."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import zipfian

from foldbarn.core.arrays import Ints
from foldbarn.core.volumes.heat import HALF_LIFE_SECONDS, UNTOLD, Heat, hit_curve, recut, told, warmed

WARMTH = st.lists(st.floats(min_value=0, max_value=1e6), min_size=1, max_size=40).map(np.array)


def counts(*found: int) -> Ints:
    return np.array(found, dtype=np.int64)


def known(*found: int, data: int = 1) -> Heat:
    """Watched from now on, when its nodes tell this."""
    return warmed(Heat.of_nothing(data, len(found)), counts(*found), 0.0)


@pytest.mark.parametrize("skew", [0.6, 1.0, 1.3])
def test_the_hit_curve_of_a_zipf_law_is_its_distribution(skew: float) -> None:
    """Against scipy.stats.zipfian: the n hottest of N take its cumulative probability of n."""
    ranks = np.random.default_rng(1).permutation(500) + 1  # the curve finds the hottest wherever they lie
    found = hit_curve(ranks**-skew)
    assert found.served[1:] == pytest.approx(zipfian.cdf(np.arange(1, 501), skew, 500))
    assert found.served[0] == 0
    half = found.needed(0.5)
    assert zipfian.cdf(half - 1, skew, 500) < 0.5 <= zipfian.cdf(half, skew, 500)


@given(warmth=WARMTH)
def test_a_hit_curve_rises_ever_less_and_takes_no_fewer_than_any_other_choice(warmth: np.ndarray) -> None:
    found = hit_curve(warmth)
    assert found.extents == len(warmth)
    rises = np.diff(found.served)
    assert (rises >= -1e-12).all()
    assert (np.diff(rises) <= 1e-9).all()
    total = warmth.sum()
    assert found.served[-1] == pytest.approx(1.0 if total > 0 else 0.0)
    first = warmth[: len(warmth) // 2].sum()
    assert found.served[len(warmth) // 2] * total >= first - 1e-6 * total


def test_what_is_asked_evenly_lies_on_the_straight_line_and_what_is_not_asked_at_all_takes_nothing() -> None:
    assert hit_curve(np.full(8, 3.0)).served == pytest.approx(np.arange(9) / 8)
    assert hit_curve(np.full(8, 3.0)).needed(0.5) == 4
    assert not hit_curve(np.zeros(8)).served.any()
    assert hit_curve(np.zeros(8)).needed(0.9) == 0


@given(
    rate=st.floats(min_value=0.1, max_value=1e4),
    steps=st.lists(st.floats(min_value=1, max_value=1e5), min_size=1, max_size=12),
)
def test_a_steady_load_is_told_as_it_is_however_long_and_unevenly_it_was_watched(
    rate: float, steps: list[float]
) -> None:
    heat, asked = known(0, 0), 0.0
    for seconds in steps:
        asked += rate * seconds
        heat = warmed(heat, counts(int(asked), 0), seconds)
    assert heat.operations_per_second == pytest.approx(rate, abs=len(steps) / heat.seconds)
    assert heat.warmth[1] == 0


def test_what_was_asked_a_half_life_ago_counts_for_half() -> None:
    heat = warmed(known(0, 0), counts(100, 0), 1.0)
    later = warmed(heat, counts(100, 100), HALF_LIFE_SECONDS)
    assert later.warmth.tolist() == pytest.approx([50.0, 100.0])
    assert warmed(later, counts(100, 100), 2 * HALF_LIFE_SECONDS).warmth.tolist() == [12.5, 25.0]


def test_a_count_that_fell_or_is_new_says_nothing_of_the_time_before() -> None:
    heat = known(1000, UNTOLD, 1000)
    after = warmed(heat, counts(10, 500, UNTOLD), 60.0)  # reset; told for the first time; not told
    assert after.warmth.tolist() == [0, 0, 0]
    assert after.counts.tolist() == [10, 500, 1000]
    # From there on they are counted, that which was silent for all of the time.
    assert warmed(after, counts(15, 520, 1300), 60.0).warmth.tolist() == pytest.approx([5, 20, 300])


def test_of_what_nodes_tell_the_latest_counts_and_what_is_not_its_own_is_left_out() -> None:
    first = (counts(0, 2, 9), counts(7, 5, 1))
    second = (counts(2, 0, -1), counts(6, 3, 8))
    assert told(3, [first, second]).tolist() == [7, UNTOLD, 6]
    assert told(3, [second, first]).tolist() == [7, UNTOLD, 6]
    assert told(2, []).tolist() == [UNTOLD, UNTOLD]


@given(warmth=WARMTH, data=st.integers(1, 6), other=st.integers(1, 6))
def test_cut_otherwise_no_heat_is_lost_and_cut_back_each_part_is_as_hot(
    warmth: np.ndarray, data: int, other: int
) -> None:
    heat = Heat(data, np.zeros(len(warmth), dtype=np.int64), warmth, 60.0)
    extents = -(-len(warmth) * data // other)
    cut = recut(heat, other, extents)
    assert cut.warmth.sum() == pytest.approx(warmth.sum())
    assert (cut.data, cut.seconds, set(cut.counts.tolist())) == (other, 60.0, {UNTOLD})
    finest = recut(heat, 1, len(warmth) * data)
    assert recut(finest, data, len(warmth)).warmth == pytest.approx(warmth)
