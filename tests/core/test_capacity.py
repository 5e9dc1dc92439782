"""Capacity: every byte is accounted for, and headroom is what its enumeration says."""

import itertools

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from sites import EXTENT, changed, make_site, uneven_racks, with_volume, without_nodes

from foldbarn.core.capacity import Ledger, account_pool, free_figure, healing, outside_ledger, pool_space, stranded_slots, usable_extents
from foldbarn.core.figures import apply_parts
from foldbarn.core.protection import Level, Protection
from foldbarn.core.site import Pool


def total(ledger: Ledger) -> int:
    return sum(amount for _, amount in ledger.rows())


@given(uneven_racks(), st.integers(1, 3), st.sampled_from([None, Level.NODE, Level.RACK]), st.integers(0, 100))
def test_the_ledger_accounts_for_every_byte(racks: list, copies: int, headroom: Level | None, percent: int) -> None:
    view = make_site(racks, copies, headroom=headroom)
    extents = pool_space(view, view.pools[0]).free * percent // 100
    if extents:
        view = with_volume(view, extents, copies)
    space = pool_space(view, view.pools[0])
    assert total(space.ledger) == space.ledger.raw == sum(d.size_bytes for d in view.disks)
    assert all(amount >= 0 for _, amount in space.ledger.rows())
    assert space.ledger.volumes == extents * EXTENT
    figure = free_figure(view.pools[0], space)
    assert figure.value == space.ledger.free == apply_parts(figure.parts)


@given(uneven_racks(least=3), st.integers(2, 3))
def test_what_cannot_be_reached_is_not_offered_and_still_accounted_for(racks: list, copies: int) -> None:
    view = make_site(racks, copies)
    silent = without_nodes(view, {0})
    ledger = pool_space(silent, silent.pools[0]).ledger
    assert total(ledger) == ledger.raw
    assert ledger.out_of_reach == int(view.disk_slots[view.disk_node == 0].sum()) * EXTENT
    assert ledger.free <= pool_space(view, view.pools[0]).ledger.free


@given(uneven_racks(), st.integers(1, 3))
def test_headroom_is_the_least_over_every_single_loss(racks: list, copies: int) -> None:
    view = make_site(racks, copies)
    protection = view.pools[0].usual
    found = healing(view.disk_slots, view.disk_rack, view.disk_node, Level.NODE, protection)
    least = min(usable_extents(np.where(view.disk_node == lost, 0, view.disk_slots), view.disk_rack, protection) for lost in range(len(view.nodes)))
    assert found.usable == least


def test_three_racks_holding_three_copies_cannot_heal_and_nothing_is_held_back() -> None:
    view = make_site([[[50]], [[50]], [[50]]], copies=3, headroom=Level.RACK)
    space = pool_space(view, view.pools[0])
    assert space.healing is not None
    assert not space.healing.possible
    assert (space.ledger.held_back, space.free) == (0, 50)


def test_a_fourth_rack_is_held_back_for_healing() -> None:
    view = make_site([[[60]], [[60]], [[60]], [[60]]], copies=3, headroom=Level.RACK)
    space = pool_space(view, view.pools[0])
    assert space.free == 60  # any three racks hold 60; all four would hold 80
    assert space.ledger.held_back == 3 * 20 * EXTENT


def test_an_oversized_domain_is_stranded_and_named() -> None:
    slots, racks = np.array([10, 10, 100]), np.array([0, 1, 2])
    assert stranded_slots(slots, racks, Protection(2, Level.RACK)) == {0: 0, 1: 0, 2: 80}


def test_two_strips_in_a_domain_need_two_disks() -> None:
    """A domain of disks of 18 and 2 takes far less than one of 10 and 10."""
    racks = np.array([0, 0, 1, 1])
    two_in_one = Protection(4, Level.RACK, per_domain=2)
    assert usable_extents(np.array([10, 10, 10, 10]), racks, two_in_one) == 10
    assert usable_extents(np.array([18, 2, 10, 10]), racks, two_in_one) == 2


@given(st.lists(st.lists(st.integers(0, 9), min_size=1, max_size=3), min_size=1, max_size=4), st.integers(1, 5), st.integers(1, 3))
def test_the_nested_case_is_the_largest_that_fits(racks: list[list[int]], copies: int, per_domain: int) -> None:
    slots = np.array([s for rack in racks for s in rack], dtype=np.int64)
    rack_of = np.array([r for r, rack in enumerate(racks) for _ in rack], dtype=np.int64)

    def fits(u: int) -> bool:
        return sum(min(per_domain * u, sum(min(s, u) for s in rack)) for rack in racks) >= copies * u

    largest = max(u for u in range(int(slots.sum()) + 2) if fits(u))
    assert usable_extents(slots, rack_of, Protection(copies, Level.RACK, per_domain)) == largest


def test_disks_outside_pools_are_boot_unfit_or_unclaimed() -> None:
    view = make_site([[[5, 5]]], copies=1)
    loose = changed(
        view,
        pools=(),
        disks=tuple(
            type(d)(d.number, d.name, d.bay, d.node, d.media, d.size_bytes, d.serial, role)
            for d, role in zip(view.disks, itertools.cycle(["boot", "unclaimed"]))
        ),
    )
    ledger = outside_ledger(loose)
    assert (ledger.boot_and_unfit, ledger.unclaimed) == (view.disks[0].size_bytes, view.disks[1].size_bytes)


def test_full_counts_against_room_less_what_is_held_back() -> None:
    pool = Pool(1, "p", EXTENT, Protection(3, Level.RACK), Level.RACK)
    sizes = np.full(4, make_site([[[60]]]).disks[0].size_bytes)
    space = account_pool(sizes, np.array([45, 45, 45, 45]), 60, 0, np.arange(4), np.arange(4), pool)
    assert space.full == 180 / 180
    assert space.free == 0
