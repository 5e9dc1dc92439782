"""Moves: lost strips find new places, spread is never broken, and levelling moves no more than it must."""

from dataclasses import replace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from sites import EXTENT, changed, make_site, moved, spread_is_kept, uneven_racks, with_volume, without_nodes

from foldbarn.core.moving.levelling import (
    LEVEL_TOLERANCE,
    above_share,
    imbalance,
    level_targets,
    plan_levelling,
)
from foldbarn.core.moving.moves import moves_to, say_hindrances
from foldbarn.core.moving.readings import estimate, readings
from foldbarn.core.moving.rebuild import lost_strips, plan_drain, plan_rebuild
from foldbarn.core.pools.capacity import pool_space, usable_extents
from foldbarn.core.pools.placement import place
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.site import SiteView, plain_volume
from foldbarn.core.units import MB
from foldbarn.core.volumes.loss import DataState, fate_of


@given(uneven_racks(least=3), st.integers(1, 3), st.integers(1, 99), st.integers(0, 5))
def test_a_rebuild_keeps_the_spread_and_fills_no_disk_beyond_its_size(
    racks: list, copies: int, percent: int, gone: int
) -> None:
    view = make_site(racks, copies)
    extents = usable_extents(view.disk_slots, view.disk_rack, view.pools[0].usual) * percent // 100
    if not extents:
        return
    view = without_nodes(with_volume(view, extents, copies), {gone % len(view.nodes)})
    lost = lost_strips(view, view.plies[0])
    moves = plan_rebuild(view, view.pools[0], seed=1)
    assert int((~moves.makes_room).sum()) + moves.stuck == lost.sum()
    assert not np.isin(moves.to, [d.number for i, d in enumerate(view.disks) if not view.disk_ready[i]]).any()
    after = moved(view, moves)
    assert spread_is_kept(after)
    assert (after.disk_used[view.disk_ready] <= view.disk_slots[view.disk_ready]).all()


def test_after_losing_a_node_everything_is_whole_again_on_the_others() -> None:
    view = without_nodes(
        with_volume(make_site([[[100, 100]], [[100, 100]], [[100, 100]], [[100, 100]]], 3), 120, 3), {1}
    )
    assert fate_of(view, view.volumes[0]).state == DataState.REDUCED
    moves = plan_rebuild(view, view.pools[0], seed=3)
    assert moves.stuck == 0
    assert (
        fate_of(moved(view, moves), view.volumes[0]).state != DataState.WHOLE
    )  # the old placement is untouched by planning
    after = moved(view, moves)
    assert fate_of(after, after.volumes[0]).state == DataState.WHOLE


def test_nothing_moves_before_the_grace_time_is_over() -> None:
    view = without_nodes(with_volume(make_site([[[50]], [[50]], [[50]]]), 30), {0}, given_up=False)
    assert len(plan_rebuild(view, view.pools[0], seed=1)) == 0


def test_what_has_no_place_is_said_to_be_stuck() -> None:
    view = without_nodes(with_volume(make_site([[[50]], [[50]], [[50]]], 3), 30, 3), {2})
    moves = plan_rebuild(view, view.pools[0], seed=1)
    assert (len(moves), moves.stuck) == (0, 30)
    words = say_hindrances(view, moves.hindrances)
    assert words == "30 strips of v1 have no place: it needs 3 racks, 2 racks take strips."


def test_strips_on_their_way_are_not_planned_again() -> None:
    view = without_nodes(with_volume(make_site([[[50]], [[50]], [[50]], [[50]]], 2), 40, 2), {0})
    first = plan_rebuild(view, view.pools[0], seed=1)
    busy = {
        (int(v), int(e), int(s)): int(to)
        for v, e, s, to in zip(first.ply, first.extent, first.strip, first.to, strict=True)
    }
    assert len(first) > 0
    assert len(plan_rebuild(view, view.pools[0], 1, busy)) == 0


def test_two_lost_copies_of_one_extent_go_to_different_racks() -> None:
    view = with_volume(make_site([[[50]] for _ in range(5)], 3), 40, 3)
    view = without_nodes(view, {0, 1})
    moves = plan_rebuild(view, view.pools[0], seed=2)
    assert moves.stuck == 0
    assert spread_is_kept(moved(view, moves))


@given(uneven_racks(least=3, most=5), st.integers(2, 3), st.integers(0, 50))
def test_levelling_moves_the_surplus_and_no_more(racks: list, copies: int, seed: int) -> None:
    view = make_site(racks, copies)
    if len(racks) < copies:
        return
    # Placed as if all disks were alike, and so unevenly for the disks there are.
    rng = np.random.default_rng(seed)
    count = int(min(s for rack in racks for node in rack for s in node) * 1)
    placement = np.array(
        [
            [
                rng.choice(np.flatnonzero(view.disk_rack == r)) + 1
                for r in rng.permutation(len(racks))[:copies]
            ]
            for _ in range(count)
        ],
        dtype=np.int32,
    )
    volume = plain_volume(1, "v", 0, count * EXTENT, view.pools[0].usual, placement)
    view = changed(view, volumes=(volume,))
    moves = plan_levelling(view, view.pools[0], seed=1, tolerance=0.0)
    assert len(moves) >= above_share(view, view.pools[0]) - moves.left_over
    after = moved(view, moves)
    assert spread_is_kept(after)
    assert above_share(after, view.pools[0]) >= moves.left_over
    again = plan_levelling(after, view.pools[0], seed=1, tolerance=0.0)
    assert above_share(moved(after, again), view.pools[0]) == again.left_over or len(again)


def test_a_node_that_joins_takes_its_share_and_no_more() -> None:
    """Adding a node of equal size to n moves 1/(n+1) of the data."""
    small = with_volume(make_site([[[300]]] * 4), 500)
    grown = make_site([[[300]]] * 5)
    old = small.volumes[0]
    view = changed(
        grown, volumes=(plain_volume(1, "v", 0, old.size_bytes, old.plies[0].scheme, old.plies[0].placement),)
    )
    moves = plan_levelling(view, view.pools[0], seed=1)
    assert len(moves) == 500 * 2 // 5
    assert set(moves.to.tolist()) == {5}
    assert imbalance(moved(view, moves), view.pools[0]) < LEVEL_TOLERANCE < imbalance(view, view.pools[0])


def test_targets_sum_to_what_is_placed() -> None:
    view = with_volume(make_site([[[30, 60]], [[45]], [[80], [20]]], 2), 40)
    assert level_targets(view, view.pools[0]).sum() == 80


def test_reads_come_from_copies_that_can_be_read_and_are_dealt_around() -> None:
    view = without_nodes(with_volume(make_site([[[90]]] * 4, 3), 90, 3), {0})
    moves = plan_rebuild(view, view.pools[0], seed=1)
    found = readings(view, moves)
    come, which = found.disks[:, 0], found.strips[:, 0]
    assert found.disks.shape == (len(moves), 1)
    assert (come > 0).all()
    assert (view.plies[0].placement[moves.extent, which] == come).all()
    assert 1 not in come  # disk 1 is on the silent node
    counts = np.unique(come, return_counts=True)[1]
    assert counts.min() > 0.5 * counts.max()


def parity_view(k: int, m: int, nodes: int) -> SiteView:
    """A pool of one disk a node with a volume of parity, and its first node silent for good."""
    view = make_site([[[300]]] * nodes)
    scheme = Scheme(k, m, Level.RACK)
    rows = view.in_pool(view.pools[0])
    spread_of = view.domain_of(Level.RACK)[rows]
    placed = place(view.disk_free[rows], spread_of, view.disk_node[rows], 60, scheme.strips, seed=1)
    volume = plain_volume(1, "v", 0, 60 * k * EXTENT, scheme, view.disk_numbers[rows][placed])
    return changed(view, volumes=(volume,))


@given(st.integers(2, 6), st.integers(1, 3), st.integers(0, 2))
def test_what_a_stripe_misses_is_made_from_k_others_read_once(k: int, m: int, spare: int) -> None:
    nodes = k + m + 1 + spare
    view = without_nodes(parity_view(k, m, nodes), set(range(min(m, 1 + spare))))
    moves = plan_rebuild(view, view.pools[0], seed=1)
    ply = view.plies[0]
    found = readings(view, moves)
    assert moves.stuck == 0
    assert found.possible.all()
    ready = set(view.disk_numbers[view.disk_ready].tolist())
    for extent in np.unique(moves.extent).tolist():
        mine = np.flatnonzero(moves.extent == extent)
        leader = mine[0]
        assert (found.along[mine] == leader).all()  # one pass for all of its strips
        disks = found.disks[leader].tolist()
        assert len(set(disks)) == k  # any k strips of a stripe are enough, and fewer are not
        assert set(disks) <= ready
        assert ply.placement[extent, found.strips[leader]].tolist() == disks
    guess = estimate(view, moves, EXTENT)
    stripes = len(np.unique(moves.extent))
    load = np.bincount(np.concatenate([found.disks[found.leads].ravel(), moves.to])) * EXTENT
    assert found.leads.sum() == stripes
    # Every port is quick enough that the busiest disk decides, or the ports say so.
    assert guess.seconds >= load.max() / (450 * MB) * (1 - 1e-9)
    assert guess.bytes_moved == len(moves) * EXTENT


def test_a_strip_of_parity_that_can_be_read_is_copied_and_not_made_again() -> None:
    view = retire(parity_view(4, 2, 8), {3})
    moves = plan_drain(view, view.pools[0], seed=1)
    found = readings(view, moves)
    assert len(moves)
    assert (found.disks[:, 0] == 3).all()
    assert not found.disks[:, 1:].any()
    assert found.leads.all()


def test_a_stripe_with_fewer_than_k_strips_left_cannot_be_made() -> None:
    view = parity_view(4, 1, 6)
    row = view.plies[0].placement[0]
    two = {int(view.disk_node[view.row_of_number[n]]) for n in row[:2].tolist()}
    lost = without_nodes(view, two)
    moves = moves_to(lost, lost.plies[0], np.array([0]), np.array([0]), np.array([lost.disk_ready.argmax()]))
    assert not readings(lost, moves).possible.any()
    assert estimate(lost, moves, EXTENT).seconds > 0  # what cannot be read costs its writing


def test_the_estimate_is_the_busiest_disk_or_port() -> None:
    view = without_nodes(with_volume(make_site([[[900]]] * 4, 3), 90, 3), {0})
    moves = plan_rebuild(view, view.pools[0], seed=1)
    guess = estimate(view, moves, EXTENT)
    come = readings(view, moves).disks[:, 0]
    load = np.bincount(np.concatenate([come, moves.to])).max() * EXTENT
    assert guess.seconds == load / (450 * MB)
    assert guess.bytes_moved == len(moves) * EXTENT
    assert guess.bottleneck.startswith("n")


def retire(view: SiteView, numbers: set[int]) -> SiteView:
    return changed(view, disks=tuple(replace(d, retiring=d.number in numbers) for d in view.disks))


@given(
    uneven_racks(least=3),
    st.integers(1, 3),
    st.integers(1, 70),
    st.sets(st.integers(1, 12), min_size=1, max_size=4),
    st.integers(0, 9),
)
def test_a_drain_empties_disks_and_keeps_every_rule(
    racks: list, copies: int, percent: int, leaving: set[int], seed: int
) -> None:
    view = make_site(racks, copies)
    extents = usable_extents(view.disk_slots, view.disk_rack, view.pools[0].usual) * percent // 100
    if not extents:
        return
    view = retire(with_volume(view, extents, copies), leaving)
    moves = plan_drain(view, view.pools[0], seed)
    held = int(view.disk_used[view.disk_retiring].sum())
    assert int((~moves.makes_room).sum()) + moves.stuck == held
    after = moved(view, moves)
    assert spread_is_kept(after)
    assert (after.disk_used[~view.disk_retiring] <= view.disk_slots[~view.disk_retiring]).all()
    assert int(after.disk_used[view.disk_retiring].sum()) == moves.stuck
    assert not np.isin(moves.to, [d.number for d in view.disks if d.retiring]).any()


def test_a_drain_goes_first_to_preferred_disks_then_to_where_levelling_wants_more() -> None:
    view = with_volume(make_site([[[100, 100]], [[100, 100]], [[100, 100]]], 2), 90, 2)
    view = retire(view, {1})
    preferred = plan_drain(view, view.pools[0], 1, np.array([2], dtype=np.int32))
    assert set(preferred.to.tolist()) == {2}
    level = moved(view, plan_drain(view, view.pools[0], 1))
    assert imbalance(level, view.pools[0]) < LEVEL_TOLERANCE


def test_growing_by_an_equal_node_moves_its_share() -> None:
    """Common practice: adding a node of equal size to n moves 1/(n+1) of the data."""
    view = with_volume(make_site([[[100]] for _ in range(5)], 2, Level.NODE), 100, 2, Level.NODE)
    new = replace(view.disks[0], number=6, name="new", serial="S6", node=5)
    grown = changed(
        view, nodes=(*view.nodes, replace(view.nodes[0], number=6, name="n6")), disks=(*view.disks, new)
    )
    assert above_share(grown, grown.pools[0]) == 200 // 6
    moves = plan_levelling(grown, grown.pools[0], 1)
    assert len(moves) == above_share(grown, grown.pools[0])
    assert set(moves.to.tolist()) == {6}


def test_a_limit_on_the_rate_makes_the_estimate_longer_and_says_so() -> None:
    view = without_nodes(with_volume(make_site([[[100]], [[100]], [[100]]], 2), 60, 2), {0})
    moves = plan_rebuild(view, view.pools[0], 1)
    free, held = estimate(view, moves, EXTENT), estimate(view, moves, EXTENT, rate=10 * MB)
    assert held.seconds == len(moves) * EXTENT / (10 * MB) > free.seconds
    assert held.bottleneck == "the limit of 10 MB/s"


@given(uneven_racks(least=3, most=5), st.integers(0, 2**16))
def test_no_sequence_of_changes_breaks_the_spread_or_overfills_a_disk(racks: list, seed: int) -> None:
    """Volumes made, nodes lost and found, disks retired, levelled: in any order, every extent stays apart and
    every disk within its size.
    """
    rng = np.random.default_rng(seed)
    view = make_site(racks, 2)
    for step in range(6):
        deed = int(rng.integers(0, 4))
        if deed == 0:
            room = usable_extents(
                np.where(view.disk_open, view.disk_free, 0), view.disk_rack, view.pools[0].usual
            )
            if room > 1:
                view = with_volume(view, int(room // 2), 2, number=step + 1)
        elif deed == 1:
            view = retire(view, {int(n) for n in rng.integers(1, len(view.disks) + 1, 2)})
            view = moved(view, plan_drain(view, view.pools[0], seed))
        elif deed == 2:
            lost = without_nodes(view, {int(rng.integers(0, len(view.nodes)))})
            view = changed(moved(lost, plan_rebuild(lost, lost.pools[0], seed)), nodes=view.nodes)
        else:
            view = moved(view, plan_levelling(view, view.pools[0], seed))
        assert spread_is_kept(view)
        assert (view.disk_used <= np.where(view.disk_retiring, view.disk_most, view.disk_slots)).all()
        ledger = pool_space(view, view.pools[0]).ledger
        assert sum(amount for _, amount in ledger.rows()) == ledger.raw
