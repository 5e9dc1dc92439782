"""Capacity: every byte is accounted for, and headroom is what its enumeration says."""

import itertools
from dataclasses import replace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from sites import EXTENT, changed, make_site, uneven_racks, with_volume, without_nodes

from foldbarn.core.figures import apply_parts
from foldbarn.core.pools.capacity import (
    Ledger,
    account_pool,
    best_additions,
    free_figure,
    headroom_for,
    outside_ledger,
    pool_space,
    stranded_slots,
    usable_by_protection,
    usable_extents,
)
from foldbarn.core.pools.healing import headroom_sentence
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.site import Pool, Role, Tier


def total(ledger: Ledger) -> int:
    return sum(amount for _, amount in ledger.rows())


@given(
    uneven_racks(), st.integers(1, 3), st.sampled_from([None, Level.NODE, Level.RACK]), st.integers(0, 100)
)
def test_the_ledger_accounts_for_every_byte(
    racks: list, copies: int, headroom: Level | None, percent: int
) -> None:
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
    found = headroom_for(view.disk_slots, view.disk_rack, view.disk_node, Level.NODE, protection)
    least = min(
        usable_extents(np.where(view.disk_node == lost, 0, view.disk_slots), view.disk_rack, protection)
        for lost in range(len(view.nodes))
    )
    assert found.usable == least


@given(
    uneven_racks(most=5),
    st.integers(1, 4),
    st.sampled_from(list(Level)),
    st.sampled_from(list(Level)),
    st.integers(1, 3),
)
def test_headroom_for_several_losses_is_the_worst_of_all_sets(
    racks: list, copies: int, spread: Level, loss: Level, losses: int
) -> None:
    """The knapsack finds what trying every set finds, whichever of the two levels is the wider one, and names
    a set that does it.
    """
    view = make_site(racks, copies)
    slots, spread_of, loss_of = view.disk_slots, view.domain_of(spread), view.domain_of(loss)
    protection = mirror(copies, spread)
    found = headroom_for(slots, spread_of, loss_of, loss, protection, losses)
    labels = np.unique(loss_of).tolist()
    sets = list(itertools.combinations(labels, min(losses, len(labels))))
    if len(sets) > 400:
        sets = sets[:400]
        assert found.usable <= min(
            usable_extents(np.where(np.isin(loss_of, s), 0, slots), spread_of, protection) for s in sets
        )
    else:
        assert found.usable == min(
            usable_extents(np.where(np.isin(loss_of, s), 0, slots), spread_of, protection) for s in sets
        )
    assert len(found.worst) <= losses
    assert (
        usable_extents(np.where(np.isin(loss_of, found.worst), 0, slots), spread_of, protection)
        == found.usable
    )


@given(
    uneven_racks(),
    st.integers(1, 3),
    st.lists(st.sampled_from(list(Role)), min_size=20, max_size=20),
    st.lists(st.booleans(), min_size=20, max_size=20),
)
def test_the_ledger_accounts_for_every_byte_whatever_disks_are_for(
    racks: list, copies: int, roles: list[Role], retiring: list[bool]
) -> None:
    """Cache, spare, fast tier, retiring and written: each byte is in one row."""
    view = make_site(racks, copies)
    extents = pool_space(view, view.pools[0]).free // 2
    if extents:
        view = with_volume(view, extents, copies)
    kinds = {Role.CACHE, Role.SPARE}
    disks = []
    for d, role, leaves in zip(view.disks, itertools.cycle(roles), itertools.cycle(retiring)):
        empty = view.disk_used[d.number - 1] == 0
        disks.append(
            replace(
                d,
                role=role if empty and role in kinds else d.role,
                tier=Tier.FAST if empty and role == Role.BOOT else Tier.BULK,
                retiring=leaves,
            )
        )
    volumes = tuple(replace(v, written_bytes=v.extents * EXTENT // 3) for v in view.volumes)
    view = changed(view, disks=tuple(disks), volumes=volumes)
    ledger = pool_space(view, view.pools[0]).ledger
    assert total(ledger) == ledger.raw == sum(d.size_bytes for d in view.disks)
    assert all(amount >= 0 for _, amount in ledger.rows())
    assert ledger.cache == sum(d.size_bytes for d in disks if d.role == Role.CACHE)
    assert ledger.spare == sum(d.size_bytes for d in disks if d.role == Role.SPARE)
    assert ledger.written == extents * EXTENT // 3


def test_other_protections_say_what_they_hold_or_why_not() -> None:
    view = make_site([[[60]], [[60]], [[60]], [[60]]], copies=3, headroom=Level.RACK)
    rows = {(r.scheme.strips, r.scheme.level): r for r in usable_by_protection(view, view.pools[0])}
    assert (rows[3, Level.RACK].usable, rows[3, Level.RACK].with_headroom) == (80 * EXTENT, 60 * EXTENT)
    assert rows[5, Level.RACK].why_not == "It needs 5 racks; there are 4."
    assert rows[2, Level.ROOM].why_not == "It needs 2 rooms; there is 1."
    assert rows[2, Level.RACK].heals
    assert not rows[4, Level.RACK].heals  # four racks hold four copies
    assert not rows[1, Level.DISK].heals  # a lost copy has no other
    assert not rows[2, Level.NODE].heals  # a rack may hold both


@given(uneven_racks(least=3, most=4), st.integers(2, 3))
def test_what_would_raise_it_most_is_what_trying_says(racks: list, copies: int) -> None:
    view = make_site(racks, copies, headroom=Level.NODE)
    before = pool_space(view, view.pools[0]).usable
    for addition in best_additions(view, view.pools[0]):
        if not addition.what.startswith("a disk of"):
            continue
        node = addition.what.rpartition(" in ")[2]
        row = next(i for i, n in enumerate(view.nodes) if n.name == node)
        number = len(view.disks) + 1
        new = replace(view.disks[0], number=number, name="new", node=row, size_bytes=addition.raw_bytes)
        grown = changed(view, disks=(*view.disks, new))
        assert (pool_space(grown, view.pools[0]).usable - before) * EXTENT == addition.gain_bytes > 0


def test_what_to_buy_for_uneven_racks_is_a_disk_in_the_smallest() -> None:
    view = make_site([[[50, 50]], [[50, 50]], [[50]]], copies=3)
    best = best_additions(view, view.pools[0])[0]
    assert best.what.endswith("in n3")
    assert best.gain_bytes == 50 * EXTENT


def test_three_racks_holding_three_copies_cannot_heal_and_nothing_is_held_back() -> None:
    view = make_site([[[50]], [[50]], [[50]]], copies=3, headroom=Level.RACK)
    space = pool_space(view, view.pools[0])
    assert space.headroom is not None
    assert not space.headroom.possible
    assert (space.ledger.held_back, space.free) == (0, 50)


def test_where_so_many_losses_cannot_be_healed_room_is_held_back_for_fewer_and_that_is_said() -> None:
    view = make_site([[[60]], [[60]], [[60]], [[60]]], copies=3, headroom=Level.RACK)
    asked = changed(view, pools=(replace(view.pools[0], headroom_losses=2),))
    space = pool_space(asked, asked.pools[0])
    assert space.headroom is not None
    assert (space.headroom.possible, space.headroom.losses, space.free) == (True, 1, 60)
    words = headroom_sentence(asked, asked.pools[0], space)
    assert "After losing any one rack everything can be rebuilt" in words
    assert words.endswith("Healing from any two racks was asked for; that would leave too few racks.")
    apart = changed(view, pools=(replace(view.pools[0], usual=mirror(2, Level.NODE)),))
    assert "copies are kept apart by node only" in headroom_sentence(
        apart, apart.pools[0], pool_space(apart, apart.pools[0])
    )


def test_a_fourth_rack_is_held_back_for_healing() -> None:
    view = make_site([[[60]], [[60]], [[60]], [[60]]], copies=3, headroom=Level.RACK)
    space = pool_space(view, view.pools[0])
    assert space.free == 60  # any three racks hold 60; all four would hold 80
    assert space.ledger.held_back == 3 * 20 * EXTENT


def test_an_oversized_domain_is_stranded_and_named() -> None:
    slots, racks = np.array([10, 10, 100]), np.array([0, 1, 2])
    assert stranded_slots(slots, racks, mirror(2, Level.RACK)) == {0: 0, 1: 0, 2: 80}


def test_two_strips_in_a_domain_need_two_disks() -> None:
    """A domain of disks of 18 and 2 takes far less than one of 10 and 10."""
    racks = np.array([0, 0, 1, 1])
    two_in_one = mirror(4, Level.RACK, per_domain=2)
    assert usable_extents(np.array([10, 10, 10, 10]), racks, two_in_one) == 10
    assert usable_extents(np.array([18, 2, 10, 10]), racks, two_in_one) == 2


@given(
    st.lists(st.lists(st.integers(0, 9), min_size=1, max_size=3), min_size=1, max_size=4),
    st.integers(1, 5),
    st.integers(1, 3),
)
def test_the_nested_case_is_the_largest_that_fits(
    racks: list[list[int]], copies: int, per_domain: int
) -> None:
    slots = np.array([s for rack in racks for s in rack], dtype=np.int64)
    rack_of = np.array([r for r, rack in enumerate(racks) for _ in rack], dtype=np.int64)

    def fits(u: int) -> bool:
        return sum(min(per_domain * u, sum(min(s, u) for s in rack)) for rack in racks) >= copies * u

    largest = max(u for u in range(int(slots.sum()) + 2) if fits(u))
    assert usable_extents(slots, rack_of, mirror(copies, Level.RACK, per_domain)) == largest


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
    pool = Pool(1, "p", EXTENT, mirror(3, Level.RACK), Level.RACK)
    sizes = np.full(4, make_site([[[60]]]).disks[0].size_bytes)
    space = account_pool(sizes, np.array([45, 45, 45, 45]), 60, 0, np.arange(4), np.arange(4), pool)
    assert space.full == 180 / 180
    assert space.free == 0
