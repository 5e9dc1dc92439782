"""Placement: exact shares, strips apart, levelled to within one extent."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from foldbarn.core.errors import NotPossible
from foldbarn.core.pools.placement import (
    ONE,
    draw_domains,
    level_domains,
    place,
    quotas,
    shares,
    strips_by_disk,
    usable_fraction,
    usable_nested,
)

capacities = st.lists(st.integers(0, 500), min_size=1, max_size=12).map(lambda c: np.array(c, dtype=np.int64))


@given(capacities, st.integers(1, 5))
def test_usable_is_the_largest_volume_that_fits(room: np.ndarray, strips: int) -> None:
    usable = usable_fraction(room, strips)
    assert sum(min(int(c), usable) for c in room) >= strips * usable
    more = usable + 1
    assert sum(min(int(c), more) for c in room) < strips * more


@given(capacities, st.integers(1, 4))
def test_shares_sum_exactly_and_none_is_above_one(room: np.ndarray, strips: int) -> None:
    if usable_fraction(room, strips) == 0:
        with pytest.raises(NotPossible, match="kept apart"):
            shares(room, strips)
        return
    drawn = shares(room, strips)
    assert int(drawn.sum()) == strips * ONE
    assert drawn.max() <= ONE
    assert (drawn[room == 0] == 0).all()


@given(st.lists(st.integers(0, 1000), min_size=1, max_size=20).filter(any), st.integers(0, 5000))
def test_quotas_are_within_one_of_their_share(weights: list[int], total: int) -> None:
    split = quotas(np.array(weights, dtype=np.int64), total)
    assert split.sum() == total
    exact = np.array(weights) * total / sum(weights)
    assert (np.abs(split - exact) < 1).all()


def test_no_domain_is_drawn_twice_for_an_extent() -> None:
    drawn = draw_domains(shares(np.array([10, 20, 30, 5, 17]), 3), 5000, 3, seed=4)
    assert (np.sort(drawn, axis=1)[:, 1:] != np.sort(drawn, axis=1)[:, :-1]).all()


def test_drawing_alone_is_close_to_the_shares_and_levelling_makes_it_exact() -> None:
    room = np.random.default_rng(2).integers(50, 500, size=40).astype(np.int64)
    probabilities = shares(room, 3)
    drawn = draw_domains(probabilities, 20_000, 3, seed=9)
    targets = quotas(probabilities, 60_000)
    before = np.abs(np.bincount(drawn.reshape(-1), minlength=40) - targets)
    assert 0 < before.max() < 200  # a systematic sample strays a little: there is something to level
    assert level_domains(drawn, targets, np.random.default_rng(1)) == 0
    assert (np.bincount(drawn.reshape(-1), minlength=40) == targets).all()


def test_levelling_finds_chains_where_no_direct_exchange_exists() -> None:
    # Domain 0 has one too many and 2 one too few, but every extent with 0 holds 2 already: 0 gives to 3, and
    # 1 or 3 to 2.
    drawn = np.array([[0, 2], [0, 2], [1, 3]], dtype=np.int32)
    targets = np.array([1, 1, 3, 1])
    assert level_domains(drawn, targets, np.random.default_rng(0)) == 0
    assert np.bincount(drawn.reshape(-1), minlength=4).tolist() == [1, 1, 3, 1]
    assert (drawn[:, 0] != drawn[:, 1]).all()


def test_lost_strips_have_many_peers() -> None:
    """A rebuild reads from many domains only if the pairings are even: every pair of domains shares
    extents.
    """
    drawn = draw_domains(shares(np.full(20, 100), 2), 20_000, 2, seed=1)
    pairs = np.zeros((20, 20), dtype=int)
    np.add.at(pairs, (drawn[:, 0], drawn[:, 1]), 1)
    both = (pairs + pairs.T)[np.triu_indices(20, 1)]
    assert both.min() > 0.5 * both.mean()


@given(st.data())
def test_place_never_overfills_and_keeps_apart(data: st.DataObject) -> None:
    racks = data.draw(st.lists(st.lists(st.integers(0, 30), min_size=1, max_size=5), min_size=2, max_size=6))
    copies = data.draw(st.integers(1, 3))
    free = np.array([s for rack in racks for s in rack], dtype=np.int64)
    rack_of = np.array([r for r, rack in enumerate(racks) for _ in rack], dtype=np.int64)
    most = int(usable_fraction(np.bincount(rack_of, weights=free).astype(np.int64), copies))
    if most == 0:
        with pytest.raises(NotPossible):
            place(free, rack_of, rack_of, 1, copies, seed=1)
        return
    extents = data.draw(st.integers(1, most))
    placed = place(free, rack_of, rack_of, extents, copies, seed=data.draw(st.integers(0, 99)))
    assert (np.bincount(placed.reshape(-1), minlength=len(free)) <= free).all()
    held = np.sort(rack_of[placed], axis=1)
    assert (held[:, 1:] != held[:, :-1]).all()


@given(st.integers(0, 1000))
def test_each_domain_and_disk_ends_within_one_strip_of_its_share(seed: int) -> None:
    free = np.array([100, 100, 50, 200, 80, 80, 80, 90], dtype=np.int64)
    rack_of = np.array([0, 0, 1, 1, 2, 2, 3, 3], dtype=np.int64)
    placed = place(free, rack_of, rack_of, 60, 3, seed)
    expected = shares(np.array([200, 250, 160, 170]), 3) / ONE * 60
    held = np.bincount(rack_of[placed].reshape(-1), minlength=4)
    assert (np.abs(held - expected) <= 1).all()
    on_disks = np.bincount(placed.reshape(-1), minlength=8)
    for rack in range(4):
        inside = rack_of == rack
        share = held[rack] * free[inside] / free[inside].sum()
        assert (np.abs(on_disks[inside] - share) <= 1).all()


def test_the_same_seed_gives_the_same_placement_and_another_another() -> None:
    free, rack_of = np.full(6, 50), np.arange(6)
    assert (place(free, rack_of, rack_of, 40, 3, 7) == place(free, rack_of, rack_of, 40, 3, 7)).all()
    assert (place(free, rack_of, rack_of, 40, 3, 7) != place(free, rack_of, rack_of, 40, 3, 8)).any()


def test_several_strips_in_one_domain_never_share_a_disk() -> None:
    free, rack_of = np.full(6, 60, dtype=np.int64), np.array([0, 0, 0, 1, 1, 1])
    placed = place(free, rack_of, np.arange(6), 60, 4, seed=3, per_domain=2)
    ordered = np.sort(placed, axis=1)
    assert (ordered[:, 1:] != ordered[:, :-1]).all()
    assert (np.sort(rack_of[placed], axis=1) == [0, 0, 1, 1]).all()


@settings(max_examples=120)
@given(
    st.lists(st.lists(st.integers(0, 20), min_size=1, max_size=5), min_size=2, max_size=5),
    st.integers(2, 6),
    st.integers(2, 3),
    st.integers(1, 100),
    st.integers(0, 99),
)
def test_several_strips_a_domain_keep_the_nested_rule_up_to_the_last_extent(
    racks: list[list[int]], strips: int, per_domain: int, percent: int, seed: int
) -> None:
    """At most so many in a domain, no two on one disk, no disk beyond its room; what the nested rule forbids
    is refused.
    """
    free = np.array([s for rack in racks for s in rack], dtype=np.int64)
    rack_of = np.array([r for r, rack in enumerate(racks) for _ in rack], dtype=np.int64)
    most = usable_nested(free, rack_of, strips, per_domain)
    with pytest.raises(NotPossible):
        place(free, rack_of, rack_of, most + 1, strips, seed, per_domain)
    extents = most * percent // 100
    if not extents:
        return
    placed = place(free, rack_of, rack_of, extents, strips, seed, per_domain)
    ordered = np.sort(placed, axis=1)
    assert (ordered[:, 1:] != ordered[:, :-1]).all()
    assert (np.bincount(placed.reshape(-1), minlength=len(free)) <= free).all()
    for rack in range(len(racks)):
        assert ((rack_of[placed] == rack).sum(axis=1) <= per_domain).all()


@given(
    st.integers(1, 4).flatmap(
        lambda width: st.lists(st.lists(st.integers(-1, 9), min_size=width, max_size=width), min_size=1)
    )
)
def test_every_strip_stands_once_with_the_disk_it_lies_on(rows: list[list[int]]) -> None:
    expected: dict[int, list[list[int]]] = {}
    for extent, row in enumerate(rows):
        for strip, disk in enumerate(row):
            if disk > 0:
                expected.setdefault(disk, []).append([extent, strip])
    assert strips_by_disk(np.array(rows, dtype=np.int32)) == expected
