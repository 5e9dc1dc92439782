"""Which extents belong on the fast tier, that moves by heat come to an end, and how a volume lies in two
tiers.
"""

from __future__ import annotations

from dataclasses import replace
from itertools import combinations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.site import UNWRITTEN, Ply, Purpose, plain_volume, to_come
from foldbarn.core.volumes.tiers import MARGIN, Wanted, hottest, in_hot, in_tiers, new_hot, next_shift

RATES = st.lists(st.integers(0, 9), min_size=1, max_size=6)


@st.composite
def wanting(draw: st.DrawFn, strips: int | None = None) -> list[Wanted]:
    """Some volumes on one fast tier."""
    found = []
    for number in range(draw(st.integers(1, 3))):
        rates = np.array(draw(RATES), dtype=np.float64)
        upper = np.array(draw(st.lists(st.booleans(), min_size=len(rates), max_size=len(rates))))
        most = draw(st.integers(0, len(rates)))
        each = strips or draw(st.sampled_from([2, 3, 4]))
        found.append(Wanted(number + 1, rates, upper, most, each))
    return found


def worth(parts: list[Wanted]) -> list[tuple[float, int, int]]:
    """What each extent counts for, of which volume (by row), which one."""
    return [
        (float(p.rates[e] if not p.upper[e] else max(p.rates[e], 1e-12) * MARGIN), row, e)
        for row, p in enumerate(parts)
        for e in range(len(p.rates))
    ]


@given(parts=wanting(strips=2), room=st.integers(0, 12))
def test_no_other_choice_within_the_bounds_counts_for_more(parts: list[Wanted], room: int) -> None:
    """By trying every set of extents, where all take the same room."""
    chosen = hottest(parts, room)
    mine = sum(value for value, row, e in worth(parts) if chosen[parts[row].volume][e])
    assert sum(int(c.sum()) * 2 for c in chosen.values()) <= room
    assert all(int(chosen[p.volume].sum()) <= p.most for p in parts)
    some = [one for one in worth(parts) if one[0] > 0]
    best = 0.0
    for number in range(min(room // 2, len(some)) + 1):
        for those in combinations(some, number):
            per_volume = [sum(row == r for _, r, _ in those) for row in range(len(parts))]
            if all(n <= p.most for n, p in zip(per_volume, parts, strict=True)):
                best = max(best, sum(value for value, _, _ in those))
    assert abs(mine - best) < 1e-6


@given(parts=wanting(), room=st.integers(0, 30), at_once=st.integers(1, 6))
def test_moves_come_to_an_end_and_then_all_lies_as_it_should(
    parts: list[Wanted], room: int, at_once: int
) -> None:
    """While nothing is asked for otherwise, nothing goes to and fro; and it is never fuller than it was or
    may be.
    """
    used = sum(int(p.upper.sum()) * p.strips for p in parts)
    moved: dict[tuple[int, int], int] = {}
    for _ in range(200):
        shift = next_shift(parts, room, at_once)
        if shift is None:
            break
        row = next(i for i, p in enumerate(parts) if p.volume == shift.volume)
        upper = parts[row].upper.copy()
        assert (upper[shift.extents] != shift.up).all()
        upper[shift.extents] = shift.up
        parts[row] = replace(parts[row], upper=upper)
        for extent in shift.extents.tolist():
            moved[shift.volume, extent] = moved.get((shift.volume, extent), 0) + 1
        now = sum(int(p.upper.sum()) * p.strips for p in parts)
        assert now <= max(room, used)
        used = now
    else:
        raise AssertionError("it goes on for ever")
    assert all(int(p.upper.sum()) <= p.most for p in parts)
    assert sum(int(p.upper.sum()) * p.strips for p in parts) <= room
    assert max(moved.values(), default=0) <= 2


def test_what_is_about_as_hot_stays_and_what_is_much_hotter_takes_its_place() -> None:
    def plan(rates: list[float]) -> tuple[bool, list[int]] | None:
        upper = np.array([True, False])
        found = next_shift([Wanted(1, np.array(rates), upper, 1, 2)], 100, 100)
        return (found.up, found.extents.tolist()) if found else None

    assert plan([10.0, 10.0 * MARGIN * 0.99]) is None
    assert plan([10.0, 10.0 * MARGIN * 1.01]) == (False, [0])
    assert plan([0.0, 0.0]) is None  # though nobody asks for it, there is no reason to move it


def test_what_matters_most_goes_first_and_what_makes_room_before_it() -> None:
    cold = Wanted(1, np.array([1.0, 2.0, 3.0]), np.array([True, True, True]), 1, 2)
    hot = Wanted(2, np.array([9.0, 8.0, 7.0]), np.zeros(3, dtype=np.bool_), 3, 2)
    falls = next_shift([cold, hot], 100, 100)
    assert falls is not None
    assert (falls.volume, falls.up, falls.extents.tolist()) == (1, False, [0, 1])
    rises = next_shift([replace(cold, upper=np.array([False, False, True])), hot], 100, 4)
    assert rises is not None
    assert (rises.volume, rises.up, rises.extents.tolist()) == (2, True, [0, 1])


@given(
    data=st.integers(1, 4),
    holds=st.lists(st.sampled_from(["there", "here", "rises", "falls", "never"]), min_size=1, max_size=8),
)
def test_each_extent_is_held_by_one_ply_and_what_is_on_its_way_by_neither_twice(
    data: int, holds: list[str]
) -> None:
    """As a store has it while some go up or down; one way at a time."""
    one_way = [h for h in holds if h not in ("falls" if "rises" in holds else "rises")]
    scheme, upper = Scheme(data, 1, Level.NODE), np.array([h in ("here", "falls") for h in one_way])
    kinds = np.array(one_way)
    if not len(kinds):
        return
    lies = np.arange(1, data + 2, dtype=np.int32)
    whole = np.where(np.isin(kinds, ["there", "rises"])[:, None], lies, np.int32(UNWRITTEN))
    whole = np.where((kinds == "falls")[:, None], to_come(lies), whole)
    volume = plain_volume(7, "v", 0, 1, scheme, whole.astype(np.int32))
    copies = np.array([1, 2], dtype=np.int32)
    hot = new_hot(volume, Scheme(1, 1, Level.NODE))
    by_strip = np.repeat(kinds, data)
    inside = np.where(np.isin(by_strip, ["here", "falls"])[:, None], copies, np.int32(UNWRITTEN))
    inside = np.where((by_strip == "rises")[:, None], to_come(copies), inside).astype(np.int32)
    plies, coming = in_tiers((volume.whole, replace(hot, placement=inside)), upper)
    below, above = plies
    assert below.extents_here + above.extents_here // data == len(kinds)
    held_below = ~below.unwritten
    held_above = ~above.unwritten.reshape(-1, data)
    assert (held_above == upper[:, None]).all()
    assert (held_below == np.isin(kinds, ["there", "rises"])).all()
    way = "rises" if "rises" in kinds else "falls"
    if way not in kinds:
        assert coming is None
        return
    assert coming is not None
    assert (coming.purpose, coming.source) == (Purpose.ANEW, (below if way == "rises" else above).number)
    goes = np.flatnonzero(kinds == way)
    wanted = in_hot(goes, data) if way == "rises" else goes
    assert np.flatnonzero(~coming.unwritten).tolist() == wanted.tolist()


def test_plies_know_which_part_of_them_is_meant() -> None:
    ply = Ply(3, 1, "v", 0, Scheme(1, 1, Level.NODE), np.ones((2, 2), dtype=np.int32))
    assert ply.part != replace(ply, purpose=Purpose.ANEW, source=2).part
