"""When a pool is full of what thin volumes take."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import make_site

from foldbarn.core.policies.matching import place_new
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.filling import filling_of, until_taken
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.site import ANYWHERE, UNWRITTEN, SiteView, Tier, plain_volume
from foldbarn.core.volumes.growth import HALF_LIFE_SECONDS, Growth

TAKERS = st.lists(st.tuples(st.floats(0.01, 50), st.floats(1, 500)), max_size=6)


@given(st.floats(0.5, 1500), TAKERS)
def test_by_that_moment_they_have_taken_just_so_much(room: float, takers: list[tuple[float, float]]) -> None:
    seconds = until_taken(room, takers)
    if seconds is None:
        assert sum(most for _, most in takers) < room * (1 + 1e-9)
        return
    assert sum(min(rate * seconds, most) for rate, most in takers) == pytest.approx(room)


def test_nothing_to_take_is_taken_at_once() -> None:
    assert until_taken(0, []) == 0.0
    assert until_taken(1, []) is None


@given(st.floats(0.001, 5.0), st.lists(st.floats(1, 40_000), min_size=1, max_size=12))
def test_a_steady_pace_is_found_however_often_it_is_looked_at(pace: float, steps: list[float]) -> None:
    growth, clock = Growth().gone_on(0, 0.0), 0.0
    for seconds in steps:
        clock += seconds
        growth = growth.gone_on(round(pace * clock * 1e6), seconds)
    assert growth.a_second == pytest.approx(pace * 1e6, rel=1e-3)


def test_what_was_long_ago_counts_less_and_another_shape_begins_anew() -> None:
    growth = Growth().gone_on(0, 0.0).gone_on(600, 600.0)
    assert growth.a_second == pytest.approx(1.0)
    later = growth.gone_on(600, HALF_LIFE_SECONDS)  # nothing more
    assert later.a_second < 0.05
    cut = growth.gone_on(300, 60.0)  # as twice as large extents
    assert (cut.extents, cut.known) == (growth.extents, 300)


def filled(rates: dict[str, float], unset: int = 400) -> SiteView:
    """A pool of 1,200 strips, and volumes of two copies that take so many extents a second."""
    view = make_site([[[100, 100], [100, 100]]] * 3, copies=2, level=Level.NODE)
    view = replace(view, pools=(replace(view.pools[0], overcommit_cap=10.0),))
    scheme, volumes = mirror(2, Level.NODE), []
    for number, (name, rate) in enumerate(rates.items(), 1):
        placement = np.full((unset + 20, 2), UNWRITTEN, dtype=np.int32)
        placement[:20] = place_new(view, view.pools[0], Tier.BULK, scheme, 20, name, only=ANYWHERE)
        volume = plain_volume(number, name, 0, (unset + 20) * 2**30, scheme, placement)
        growth = Growth(seconds=1e4, extents=rate * 1e4, known=20)
        volumes.append(replace(volume, thin=True, growth=growth))
    return replace(view, volumes=tuple(volumes))


def test_it_says_when_and_by_which_volumes_with_a_range() -> None:
    view = filled({"a": 0.03, "b": 0.01})
    pool = view.pools[0]
    found = filling_of(view, pool)
    assert found is not None
    # 560 extents of room; together they take 0.04 in a second, as seen of 400: a twentieth more or less.
    assert pool_space(view, pool).free == 560
    assert found.volumes[0] == ("a", pytest.approx(400 / 560))  # which then has all that it may take
    assert found.seconds == pytest.approx((560 - 400) / 0.01)
    assert found.earliest == pytest.approx(found.seconds / 1.05)
    assert found.latest == pytest.approx(found.seconds / 0.95)
    assert "a (71%) and b (29%)" in found.sentence()


def test_where_all_that_is_promised_finds_room_or_little_is_known_nothing_is_said() -> None:
    thick = filled({"a": 0.03, "b": 0.01})
    silent = [
        filled({"a": 0.03}),
        filled({"a": 0.0, "b": 0.0}),
        filled({"a": 0.0004, "b": 0.0003}),
        replace(thick, volumes=tuple(replace(v, thin=False) for v in thick.volumes)),
    ]
    for view in silent:
        assert filling_of(view, view.pools[0]) is None


def test_of_a_pace_that_may_end_before_it_is_full_the_range_has_no_end() -> None:
    view = filled({"a": 0.001, "b": 0.0}, unset=700)
    found = filling_of(view, view.pools[0])
    assert found is not None
    assert math.isfinite(found.latest)
    assert found.earliest < found.seconds < found.latest
