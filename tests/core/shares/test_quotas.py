"""How full shares are: levels that are left only some way below them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.errors import NotPossible
from foldbarn.core.shares.quotas import Fill, check_quota, fill_of, said_fill
from foldbarn.core.units import GIB

QUOTA = 100 * GIB


def course(*used: int, warn: int = 80) -> list[str]:
    """How full a share is as it has so many GiB after one another."""
    found, fill = [], None
    for one in used:
        fill = fill_of(one * GIB, QUOTA, warn, fill)
        found.append(fill.value)
    return found


def test_a_level_is_left_only_some_way_below_it() -> None:
    assert course(79, 80, 79, 78, 77, 79, 80) == [
        *("well", "warned", "warned", "warned", "well", "well", "warned"),
    ]
    assert course(99, 100, 99, 98, 97) == ["warned", "full", "full", "full", "warned"]
    assert course(100, 0) == ["full", "well"]
    assert course(99, 100, 99, 97, warn=100) == ["well", "full", "full", "warned"]


def test_with_another_quota_it_is_judged_anew() -> None:
    assert fill_of(100 * GIB, 100 * GIB, 80) is Fill.FULL
    assert fill_of(100 * GIB, 200 * GIB, 80) is Fill.WELL
    assert fill_of(79 * GIB, 100 * GIB, 80) is Fill.WELL


@given(
    used=st.lists(st.integers(0, 2 * 10**12), min_size=1, max_size=30),
    quota=st.integers(1, 10**12),
    warn=st.integers(1, 100),
)
def test_at_a_level_and_above_it_is_always_said(used: list[int], quota: int, warn: int) -> None:
    fill = None
    for one in used:
        fill = fill_of(one, quota, warn, fill)
        if one >= quota:
            assert fill is Fill.FULL
        elif one * 100 >= quota * warn and one > 0:
            assert fill in (Fill.WARNED, Fill.FULL)
        if one == 0:
            assert fill is Fill.WELL


def test_what_is_said_of_it() -> None:
    assert said_fill(10 * GIB, QUOTA, 80, Fill.WELL) == "10 GiB of 100 GiB used."
    assert said_fill(85 * GIB, QUOTA, 80, Fill.WARNED).endswith("past its warn level of 80 %.")
    assert said_fill(QUOTA, QUOTA, 80, Fill.FULL).endswith("writes that need more room are refused.")
    assert "it was full, and takes" in said_fill(QUOTA - GIB, QUOTA, 80, Fill.FULL)


@pytest.mark.parametrize(("quota", "warn"), [(0, 80), (-1, 80), (GIB, 0), (GIB, 101)])
def test_no_quota_and_no_level_is_refused(quota: int, warn: int) -> None:
    with pytest.raises(NotPossible):
        check_quota(quota, warn)
