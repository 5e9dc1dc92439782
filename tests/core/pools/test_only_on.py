"""Chosen nodes and disks: nothing of a volume is ever planned to lie elsewhere, whoever else is about."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import changed, make_site, moved, spread_is_kept, uneven_racks, with_volume, without_nodes

from foldbarn.core.errors import NotFound
from foldbarn.core.moving.levelling import level_targets, plan_levelling
from foldbarn.core.moving.moves import say_hindrances
from foldbarn.core.moving.rebuild import lost_strips, plan_drain, plan_rebuild
from foldbarn.core.policies.matching import against, place_new, too_few_domains
from foldbarn.core.policies.policy import Wishes
from foldbarn.core.pools.capacity import fits, most_that_fits
from foldbarn.core.pools.healing import healing_in_words, healing_of
from foldbarn.core.pools.only_on import (
    chosen,
    may_hold,
    names_of,
    say_only_on,
    stray_strips,
    with_disk_instead,
)
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.site import ANYWHERE, OnlyOn, SiteView, Tier


def keep(view: SiteView, number: int, only: OnlyOn) -> SiteView:
    volumes = [replace(v, only_on=only) if v.number == number else v for v in view.volumes]
    return changed(view, volumes=tuple(volumes))


def nodes(*numbers: int) -> OnlyOn:
    return OnlyOn(nodes=frozenset(numbers))


def square(slots: int = 100) -> SiteView:
    """Four racks of one node of two disks."""
    return make_site([[[slots, slots]] for _ in range(4)], 2)


def test_names_are_of_nodes_and_disks_and_come_back_in_natural_order() -> None:
    view = square()
    only = chosen(view, ["N2", " n1 ", "n4-7", ""])
    assert only == OnlyOn(frozenset({1, 2}), frozenset({7}))
    assert names_of(view, only) == ["n1", "n2", "n4-7"]
    assert say_only_on(view, only) == "n1, n2 and n4-7"
    assert np.flatnonzero(may_hold(view, only)).tolist() == [0, 1, 2, 3, 6]  # type: ignore[arg-type]
    assert may_hold(view, ANYWHERE) is None
    assert not chosen(view, [])
    with pytest.raises(NotFound, match="no node and no disk named 'n9'"):
        chosen(view, ["n1", "n9"])


@given(uneven_racks(least=2), st.sets(st.integers(1, 8), min_size=1), st.integers(1, 2), st.integers(1, 20))
def test_what_is_new_lies_where_it_may_and_as_much_fits_as_the_chosen_disks_alone_would_take(
    racks: list, numbers: set[int], copies: int, extents: int
) -> None:
    view = make_site(racks, copies, Level.NODE)
    only, pool, scheme = OnlyOn(nodes=frozenset(numbers)), view.pools[0], mirror(copies, Level.NODE)
    few = too_few_domains(view, pool, scheme, Tier.BULK, only)
    there = {n.number for n in view.nodes} & numbers
    assert (few is None) == (len(there) >= copies)
    if few is not None:
        return
    alone = changed(view, disks=tuple(d for d in view.disks if view.nodes[d.node].number in there))
    most = most_that_fits(view, pool, scheme, Tier.BULK, only=only)
    # The chosen disks alone bear at least what they can be filled with beside what the line leaves free.
    assert most.extents >= most_that_fits(alone, pool, scheme, Tier.BULK, only=ANYWHERE).extents
    asked = min(extents, most.extents)
    assert fits(view, pool, scheme, Tier.BULK, asked, only=only)
    lies = place_new(view, pool, Tier.BULK, scheme, asked, "v", only=only)
    assert set(view.disk_node[view.row_of_number[lies]].reshape(-1).tolist()) <= {n - 1 for n in there}


@given(
    uneven_racks(least=3),
    st.sets(st.integers(1, 9), min_size=1),
    st.integers(1, 99),
    st.integers(0, 5),
    st.booleans(),
)
def test_whatever_is_lost_or_strays_moves_only_to_where_it_may(
    racks: list, numbers: set[int], percent: int, gone: int, lose: bool
) -> None:
    view = make_site(racks, 2, Level.NODE)
    for number in (1, 2):
        extents = int(view.disk_free.min()) * percent // 100
        if not extents:
            return
        view = with_volume(view, extents, 2, Level.NODE, number)
    view = keep(view, 1, OnlyOn(nodes=frozenset(numbers)))
    if lose:
        view = without_nodes(view, {gone % len(view.nodes)})
    mine = view.volume_numbered(1).whole
    moves = plan_rebuild(view, view.pools[0], seed=1)
    wanted = stray_strips(view, mine) | lost_strips(view, mine)
    stuck = sum(h.strips for h in moves.hindrances if h.ply == mine.number)
    own = moves.ply == mine.number
    assert int(own.sum()) + stuck >= wanted.sum()
    to = view.disk_node[view.row_of_number[moves.to[own]]]
    assert set((to + 1).tolist()) <= numbers
    after = moved(view, moves)
    assert spread_is_kept(after)
    assert (after.disk_used[view.disk_ready] <= view.disk_slots[view.disk_ready]).all()
    if not lose and not stuck:
        assert not stray_strips(after, after.volume_numbered(1).whole).any()
    # And nothing of it is moved so that disks are evenly used.
    levelled = plan_levelling(view, view.pools[0], seed=1)
    assert mine.number not in levelled.ply


def test_what_strays_goes_home_and_other_volumes_stay_where_they_are() -> None:
    view = with_volume(with_volume(square(), 40, 2, number=1), 40, 2, number=2)
    kept = keep(view, 1, nodes(1, 2))
    astray = int(stray_strips(kept, kept.volume_numbered(1).whole).sum())
    assert astray > 0
    moves = plan_rebuild(kept, kept.pools[0], seed=1)
    assert (moves.stuck, set(moves.ply.tolist())) == (0, {1})
    after = moved(kept, moves)
    assert set(view.disk_node[after.rows(after.volume_numbered(1).whole)].reshape(-1).tolist()) == {0, 1}
    assert len(plan_rebuild(after, after.pools[0], seed=1)) == 0


def test_where_nothing_of_what_was_chosen_is_left_it_is_said_of_what_was_chosen() -> None:
    view = keep(with_volume(square(), 30, 2), 1, nodes(1, 2, 3))
    view = moved(view, plan_rebuild(view, view.pools[0], seed=1))
    lost = without_nodes(view, {0})
    assert plan_rebuild(lost, lost.pools[0], seed=1).stuck == 0
    lost = without_nodes(view, {0, 1})
    moves = plan_rebuild(lost, lost.pools[0], seed=1)
    words = say_hindrances(lost, moves.hindrances)
    assert "no place: it needs 2 racks; of those chosen for it, 1 takes strips." in words
    free = changed(lost, volumes=tuple(replace(v, only_on=ANYWHERE) for v in lost.volumes))
    assert plan_rebuild(free, free.pools[0], seed=1).stuck == 0  # it is the choice that keeps it from that


def test_a_pool_heals_no_more_where_one_volume_may_lie_on_too_few() -> None:
    view = with_volume(square(), 30, 2)
    pool = view.pools[0]
    assert healing_of(view, pool, Level.NODE).holds
    confined = keep(view, 1, nodes(1, 2))
    confined = moved(confined, plan_rebuild(confined, pool, seed=1))
    found = healing_of(confined, pool, Level.NODE)
    assert found.holds is False
    assert "v1 needs 2 racks; of those chosen for it, without n1, 1 would take strips." in healing_in_words(
        found
    )
    wider = keep(confined, 1, nodes(1, 2, 3))
    assert healing_of(wider, pool, Level.NODE).holds


def test_too_little_room_on_what_was_chosen_is_said_of_that() -> None:
    view = with_volume(square(20), 30, 2)
    pool, wishes = view.pools[0], Wishes(mirror(2, Level.RACK), 1)
    big = 28 * pool.extent_bytes
    assert against(view, pool, wishes, big) == []
    (found,) = against(view, pool, wishes, big, only=nodes(1, 2))
    assert "what was chosen of p can take" in found.sentence
    (few,) = against(view, pool, wishes, big, only=nodes(1))
    assert few.sentence == "2 copies need 2 racks; of what was chosen, 1 in p can take it now."


def test_a_disk_that_takes_anothers_place_may_hold_what_that_might() -> None:
    view = keep(with_volume(square(), 10, 2), 1, OnlyOn(disks=frozenset({1, 3})))
    then = with_disk_instead(view, 3, 4)
    assert then.volume_numbered(1).only_on.disks == {1, 4}
    assert with_disk_instead(view, 7, 8).volume_numbered(1).only_on.disks == {1, 3}
    home = moved(view, plan_rebuild(view, view.pools[0], seed=1))
    leaving = changed(home, disks=tuple(replace(d, retiring=d.number == 3) for d in home.disks))
    assert plan_drain(leaving, leaving.pools[0], seed=1).stuck == 10
    assert plan_drain(with_disk_instead(leaving, 3, 4), leaving.pools[0], seed=1).stuck == 0


def test_what_stays_is_no_reason_to_level() -> None:
    """All that stands uneven may lie nowhere else."""
    view = keep(with_volume(square(), 60, 2), 1, nodes(1, 2))
    view = moved(view, plan_rebuild(view, view.pools[0], seed=1))
    assert (level_targets(view, view.pools[0]) == view.disk_used).all()
