"""A place for every strip that can have one: rebuilds, drains and levellings against maximum flows of a
reference library.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import numpy as np
from flows import Network
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from sites import (
    changed,
    make_site,
    moved,
    placed_as,
    spread_is_kept,
    uneven_racks,
    with_volume,
    without_nodes,
)

from foldbarn.core.arrays import Flags
from foldbarn.core.moving.levelling import above_share, level_targets, plan_levelling
from foldbarn.core.moving.moves import startable
from foldbarn.core.moving.rebuild import leaving_strips, lost_strips, plan_drain, plan_rebuild
from foldbarn.core.pools.capacity import usable_extents
from foldbarn.core.pools.protection import Level, Scheme, mirror
from foldbarn.core.site import SiteView


def most_placed(view: SiteView, wanted: dict[int, Flags]) -> int:
    """Reference: scipy.sparse.csgraph.maximum_flow. How many wanted strips any arrangement can place,
    whatever else is moved.

    Each extent gives a unit for every strip that may move, to its domains (to each as many as it may hold
    beside those that stay there), and from there to their disks, one to each and each within its room.
    """
    graph = Network()
    takes = view.disk_open & ~view.disk_given_up
    room = view.disk_slots.copy()
    asked = survivors = 0
    for ply in view.plies:
        rows, domain_of = view.rows(ply), np.append(view.domain_of(ply.scheme.level), -1)
        want = wanted[ply.number]
        ready = np.append(view.disk_ready, False)[rows]
        for extent in range(ply.extents):
            stays = [
                int(r)
                for r, w, ok in zip(rows[extent], want[extent], ready[extent], strict=True)
                if not w and not ok
            ]
            barred = Counter(int(domain_of[r]) for r in stays)
            free = [
                int(r)
                for r, w, ok in zip(rows[extent], want[extent], ready[extent], strict=True)
                if not w and ok
            ]
            tokens = int(want[extent].sum()) + len(free)
            asked += int(want[extent].sum())
            survivors += len(free)
            if not tokens:
                continue
            name = (ply.number, extent)
            graph.edge("strips", name, capacity=tokens)
            for disk in range(len(view.disks)):
                domain = int(domain_of[disk])
                left = ply.scheme.per_domain - barred[domain]
                if left > 0 and disk not in stays and (takes[disk] or disk in free):
                    graph.edge(name, (name, domain), capacity=left)
                    graph.edge((name, domain), disk, capacity=1)
    for disk in range(len(view.disks)):
        # a disk that takes nothing keeps what stays there
        held = sum(int((view.rows(v.plies[0])[~wanted[v.number]] == disk).sum()) for v in view.volumes)
        graph.edge(disk, "room", capacity=int(room[disk]) if takes[disk] else held)
    placed = graph.most("strips", "room")
    return int(placed - survivors) if asked else 0


def filled(racks: list, scheme: Scheme, percent: int, second: tuple[int, Level] | None = None) -> SiteView:
    """A site filled to a part of what it can hold, with a second volume of another protection in what is
    left.
    """
    view = make_site(racks)
    extents = usable_extents(view.disk_slots, view.disk_rack, scheme) * percent // 100
    assume(extents > 0)
    view = with_volume(view, extents, scheme=scheme)
    if second is not None:
        more, level = second
        left = usable_extents(view.disk_free, view.domain_of(level), mirror(more, level)) * 3 // 4
        if left:
            view = with_volume(view, left, more, level, number=2)
    return view


small_racks = uneven_racks(least=3, most=5)
# Copies and parity by rack, and with several strips in one.
schemes = st.one_of(
    st.builds(mirror, st.integers(1, 3), st.just(Level.RACK)),
    st.sampled_from(
        [
            mirror(3, Level.RACK, 2),
            mirror(4, Level.RACK, 2),
            Scheme(2, 1, Level.RACK),
            Scheme(2, 2, Level.RACK, 2),
            Scheme(4, 2, Level.RACK, 2),
            Scheme(3, 3, Level.RACK, 3),
        ]
    ),
)
seconds = st.none() | st.tuples(st.integers(1, 4), st.sampled_from([Level.RACK, Level.NODE, Level.DISK]))


@settings(deadline=None, max_examples=60)
@given(small_racks, schemes, st.integers(40, 100), st.integers(0, 9), seconds, st.integers(0, 99))
def test_a_rebuild_places_as_much_as_a_maximum_flow(
    racks: list, scheme: Scheme, percent: int, gone: int, second: tuple[int, Level] | None, seed: int
) -> None:
    view = filled([[[min(d, 12) for d in n] for n in r] for r in racks], scheme, percent, second)
    view = without_nodes(view, {gone % len(view.nodes)})
    wanted = {v.number: lost_strips(view, v.plies[0]) for v in view.volumes}
    moves = plan_rebuild(view, view.pools[0], seed)
    assert sum(int(w.sum()) for w in wanted.values()) - moves.stuck == most_placed(view, wanted)
    after = moved(view, moves)
    assert spread_is_kept(after)
    assert (after.disk_used[view.disk_ready] <= view.disk_slots[view.disk_ready]).all()


@settings(deadline=None, max_examples=60)
@given(
    small_racks,
    schemes,
    st.integers(40, 100),
    st.sets(st.integers(1, 9), min_size=1, max_size=4),
    seconds,
)
def test_a_drain_places_as_much_as_a_maximum_flow(
    racks: list, scheme: Scheme, percent: int, leaving: set[int], second: tuple[int, Level] | None
) -> None:
    view = filled([[[min(d, 12) for d in n] for n in r] for r in racks], scheme, percent, second)
    view = changed(view, disks=tuple(replace(d, retiring=d.number in leaving) for d in view.disks))
    wanted = {v.number: leaving_strips(view, v.plies[0]) for v in view.volumes}
    moves = plan_drain(view, view.pools[0], seed=1)
    # A strip that cannot leave bars its domain for its extent, which the flow does not know: so where one
    # must stay the flow is a bound, and where none must, all leave.
    leaves, most = sum(int(w.sum()) for w in wanted.values()), most_placed(view, wanted)
    assert leaves - moves.stuck <= most
    assert (moves.stuck == 0) == (most == leaves)
    after = moved(view, moves)
    assert spread_is_kept(after)
    open_ = view.disk_open
    assert (after.disk_used[open_] <= view.disk_slots[open_]).all()


@settings(deadline=None, max_examples=40)
@given(small_racks, schemes, st.integers(70, 100), st.integers(0, 9), seconds, st.integers(0, 99))
def test_carried_out_as_room_comes_free_no_step_breaks_a_rule_and_all_that_can_is_placed(
    racks: list, scheme: Scheme, percent: int, gone: int, second: tuple[int, Level] | None, seed: int
) -> None:
    """Each round carries out, in a random order, only what can begin; planned anew after every round, as the
    mover does.
    """
    view = filled([[[min(d, 12) for d in n] for n in r] for r in racks], scheme, percent, second)
    view = without_nodes(view, {gone % len(view.nodes)})
    most = most_placed(view, {v.number: lost_strips(view, v.plies[0]) for v in view.volumes})
    lost = sum(int(lost_strips(view, v.plies[0]).sum()) for v in view.volumes)
    rng = np.random.default_rng(seed)
    for _ in range(50):
        moves = plan_rebuild(view, view.pools[0], seed)
        if not len(moves):
            break
        now = moves.only(startable(view, moves))
        assert len(now) > 0
        for one in rng.permutation(len(now)).tolist():
            view = moved(view, now.only(np.arange(len(now)) == one))
            assert spread_is_kept(view)
        assert (view.disk_used[view.disk_ready] <= view.disk_slots[view.disk_ready]).all()
    left = sum(int(lost_strips(view, v.plies[0]).sum()) for v in view.volumes)
    assert lost - left == most


@settings(deadline=None, max_examples=60)
@given(small_racks, schemes, st.integers(20, 90), st.integers(0, 99))
def test_levelling_gets_as_near_to_the_shares_as_a_maximum_flow(
    racks: list, scheme: Scheme, percent: int, seed: int
) -> None:
    """Reference: scipy.sparse.csgraph.maximum_flow with each disk's share for its room; nothing may be left
    that a flow could move.
    """
    view = filled([[[min(d, 12) for d in n] for n in r] for r in racks], scheme, percent)
    rng = np.random.default_rng(seed)
    # Unevenly used: a random half of the strips swaps places with others where the spread allows it.
    volume = view.volumes[0]
    placement = volume.plies[0].placement.copy()
    for extent in rng.permutation(volume.extents)[: volume.extents // 2].tolist():
        placement[extent] = rng.permutation(placement[extent])
    room = view.disk_slots - np.bincount(placement.reshape(-1) - 1, minlength=len(view.disks))
    for extent in range(volume.extents):
        strip = int(rng.integers(0, scheme.strips))
        others = [d - 1 for i, d in enumerate(placement[extent].tolist()) if i != strip]
        held = Counter(int(view.disk_rack[d]) for d in others)
        goals = [
            d
            for d in range(len(view.disks))
            if room[d] > 0 and d not in others and held[int(view.disk_rack[d])] < scheme.per_domain
        ]
        if goals and rng.random() < 0.5:
            room[placement[extent, strip] - 1] += 1
            placement[extent, strip] = goals[0] + 1
            room[goals[0]] -= 1
    view = changed(view, volumes=(placed_as(volume, placement),))
    targets = level_targets(view, view.pools[0])
    for _ in range(20):
        moves = plan_levelling(view, view.pools[0], seed, tolerance=0.0)
        view = moved(view, moves)
        assert spread_is_kept(view)
        assert (view.disk_used <= view.disk_slots).all()
        if not len(moves):
            break
    # As a flow: extents to racks to disks, disks no further than their share.
    graph = Network()
    goal = level_targets(view, view.pools[0])
    assert goal.sum() == targets.sum()
    for extent in range(volume.extents):
        graph.edge("strips", extent, capacity=scheme.strips)
        for rack in range(len(view.racks)):
            graph.edge(extent, (extent, rack), capacity=scheme.per_domain)
            for disk in np.flatnonzero(view.disk_rack == rack).tolist():
                graph.edge((extent, rack), f"d{disk}", capacity=1)
    for disk in range(len(view.disks)):
        graph.edge(f"d{disk}", "room", capacity=int(goal[disk]))
    most = graph.most("strips", "room")
    assert above_share(view, view.pools[0]) == volume.extents * scheme.strips - most
