"""Healing is claimed where it holds and denied where it does not: every claim is tried out by losing things
and planning.
"""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from sites import EXTENT, changed, make_site, placed_as, uneven_racks, with_volume, without_nodes

from foldbarn.core.moving.rebuild import plan_rebuild
from foldbarn.core.pools.capacity import Limit, fits, most_that_fits, pool_space, usable_extents
from foldbarn.core.pools.healing import Want, healing_for, healing_of, healing_sentence, heals, lose
from foldbarn.core.pools.protection import Level, Scheme, mirror
from foldbarn.core.site import ANYWHERE, SiteView, Tier, plain_volume
from foldbarn.core.volumes.loss import fate_of
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp

levels = st.sampled_from(list(Level))
volumes = st.lists(
    st.tuples(
        st.one_of(
            st.builds(mirror, st.integers(1, 4), st.sampled_from([Level.RACK, Level.NODE, Level.DISK])),
            st.sampled_from(
                [Scheme(2, 1, Level.RACK), Scheme(2, 2, Level.RACK, 2), mirror(3, Level.NODE, 2)]
            ),
        ),
        st.integers(1, 100),
    ),
    min_size=1,
    max_size=3,
)


def filled(racks: list, wishes: list[tuple[Scheme, int]], headroom: Level | None = None) -> SiteView:
    """Volumes one after the other, each a part (per cent) of what its protection could still have."""
    view = make_site(racks, copies=2, headroom=headroom)
    for number, (scheme, percent) in enumerate(wishes, 1):
        free = np.where(view.disk_open, view.disk_free, 0)
        most = usable_extents(free, view.domain_of(scheme.level), scheme)
        if most * percent // 100:
            view = with_volume(view, most * percent // 100, number=number, scheme=scheme)
    assume(view.volumes)
    return view


def tried_out(view: SiteView, level: Level) -> bool:
    """Whether, after losing each domain in turn, every extent can be read and every strip finds a place."""
    pool = view.pools[0]
    for domain in np.unique(view.domain_of(level)[view.disk_ready]).tolist():
        after = lose(view, level, domain)
        if plan_rebuild(after, pool, seed=3).stuck:
            return False
        if any(f.unavailable or f.lost for v in after.volumes for f in [fate_of(after, v)]):
            return False
    return True


@settings(max_examples=150)
@given(uneven_racks(least=2, most=5), volumes, levels, st.sets(st.integers(0, 6), max_size=2), st.booleans())
def test_a_claim_holds_when_tried_out_and_a_denial_does_too(
    racks: list, wishes: list, level: Level, gone: set[int], given_up: bool
) -> None:
    """Any protections side by side, also with something gone already: single copies, other levels, too few
    racks, too full.
    """
    view = filled([[[min(d, 12) for d in n] for n in r] for r in racks], wishes)
    gone = {g for g in gone if g < len(view.nodes) - 1}
    view = without_nodes(view, gone, given_up) if gone else view
    found = healing_of(view, view.pools[0], level)
    assert found.holds is tried_out(view, level)
    assert bool(found.unhealed) == (found.holds is False)


@settings(max_examples=80)
@given(
    uneven_racks(least=3, most=6),
    st.sampled_from([mirror(2, Level.RACK), mirror(3, Level.RACK), Scheme(2, 2, Level.RACK, 2)]),
    st.sampled_from([Level.RACK, Level.NODE, Level.DISK]),
)
def test_room_held_back_is_enough_for_what_it_is_held_back_for(
    racks: list, scheme: Scheme, headroom: Level
) -> None:
    """A pool filled to its limit, in two volumes, can be made whole after any one loss: the rebuild moves
    what must move.
    """
    view = make_site(racks, headroom=headroom)
    view = changed(view, pools=(replace(view.pools[0], usual=scheme),))
    space = pool_space(view, view.pools[0])
    assume(space.headroom is not None and space.headroom.possible and space.free > 1)
    view = with_volume(view, space.free // 2, number=1, scheme=scheme)
    left = pool_space(view, view.pools[0]).free
    view = with_volume(view, left, number=2, scheme=scheme) if left else view
    full = pool_space(view, view.pools[0])
    assert (full.free, full.full) == (0, 1.0)
    assert healing_of(view, view.pools[0], headroom).holds
    assert tried_out(view, headroom)


@settings(max_examples=60)
@given(uneven_racks(least=4, most=6), st.integers(2, 3), st.integers(1, 60), st.integers(0, 99))
def test_two_losses_in_turn_are_healed_where_that_is_claimed(
    racks: list, copies: int, percent: int, first: int
) -> None:
    view = filled(
        [[[min(d, 10) for d in n] for n in r] for r in racks], [(mirror(copies, Level.RACK), percent)]
    )
    found = healing_for(view, view.pools[0], Level.NODE, 2)
    assume(found.losses == 2 and found.holds)
    first %= len(view.nodes)
    once = lose(view, Level.NODE, first)
    moves = plan_rebuild(once, view.pools[0], seed=1)
    placement = view.plies[0].placement.copy()
    placement[moves.extent, moves.strip] = moves.to
    healed = changed(once, volumes=(placed_as(view.volumes[0], placement),))
    for second in range(len(view.nodes)):
        if second != first:
            assert plan_rebuild(lose(healed, Level.NODE, second), view.pools[0], seed=1).stuck == 0


def test_a_volume_with_more_copies_than_its_pools_racks_allow_is_named() -> None:
    """As the demo's deepwater: two copies usual, three nodes in three racks, and one volume of three
    copies.
    """
    view = make_site([[[50]], [[50]], [[50]]], copies=2, headroom=Level.NODE)
    assert heals(view, view.pools[0], pool_space(view, view.pools[0]))
    view = with_volume(with_volume(view, 10, 2, number=1), 6, 3, number=2)
    found = healing_of(view, view.pools[0], Level.NODE)
    assert [(u.ply.name, u.want, u.left) for u in found.unhealed] == [("v2", Want.DOMAINS, 2)]
    words = healing_sentence(view, view.pools[0], pool_space(view, view.pools[0]))
    assert words.startswith(
        "After losing any one node not everything could be rebuilt: v2. v2 needs 3 racks; without n"
    )
    outlook = Outlook(view, 0.0, 30.0)
    assert outlook.pool(0).lamp == Lamp.WATCH
    assert "p cannot heal" in [a.title for a in outlook.attention()]


@pytest.mark.parametrize(("copies", "level"), [(1, Level.DISK), (2, Level.NODE)])
def test_what_a_loss_takes_every_copy_of_is_not_called_rebuildable(copies: int, level: Level) -> None:
    """A single copy; and two copies kept apart by node only, in a pool that heals by rack."""
    view = make_site([[[30], [30]], [[30], [30]], [[30], [30]]], copies=2, headroom=Level.RACK)
    view = with_volume(view, 40, copies, level)
    found = healing_of(view, view.pools[0], Level.RACK)
    assert [u.want for u in found.unhealed] == [Want.SOURCE]
    which = "the only copy" if copies == 1 else "every copy"
    assert f"holds {which} of" in healing_sentence(view, view.pools[0], pool_space(view, view.pools[0]))


def test_what_is_gone_already_is_neither_counted_on_nor_named_as_the_worst_case() -> None:
    view = with_volume(make_site([[[90]], [[40]], [[40]], [[40]]], 2, headroom=Level.RACK), 50, 2)
    lost = without_nodes(view, {0})
    found = healing_of(lost, lost.pools[0], Level.RACK)
    assert found.holds is tried_out(lost, Level.RACK)
    assert found.tightest != "R1"


def test_a_pool_that_holds_more_than_its_limit_after_a_setting_changed_says_so() -> None:
    view = with_volume(make_site([[[50]] for _ in range(4)], 3), 60, 3)
    asked = changed(view, pools=(replace(view.pools[0], headroom=Level.RACK),))
    assert pool_space(asked, asked.pools[0]).free == 0
    assert not heals(asked, asked.pools[0], pool_space(asked, asked.pools[0]))
    assert "would find no room" in healing_sentence(asked, asked.pools[0], pool_space(asked, asked.pools[0]))


def test_a_fast_tier_on_too_few_racks_is_found() -> None:
    view = make_site([[[50, 20]], [[50, 20]], [[50]]], copies=2, headroom=Level.NODE)
    fast = {2, 4}
    view = changed(
        view, disks=tuple(replace(d, tier=Tier.FAST if d.number in fast else Tier.BULK) for d in view.disks)
    )
    view = with_volume(view, 5, 2)
    placement = np.array([[2, 4]] * 5, dtype=np.int32)
    scheme = view.plies[0].scheme
    quick = plain_volume(2, "quick", 0, view.volumes[0].size_bytes, scheme, placement, tier=Tier.FAST)
    view = changed(view, volumes=(*view.volumes, quick))
    assert [u.ply.name for u in healing_of(view, view.pools[0], Level.NODE).unhealed] == ["quick"]


# Full, fill line and overcommit. ---------------------------------------------------------------------


def test_three_uneven_racks_with_everything_usable_taken_are_full() -> None:
    view = make_site([[[1000]], [[100]], [[100]]], copies=2)
    view = with_volume(view, pool_space(view, view.pools[0]).usable, 2)
    space = pool_space(view, view.pools[0])
    assert (space.full, space.free) == (1.0, 0)
    assert Outlook(view, 0.0, 30.0).pool(0).reason.startswith("100% full, past its fill line of 85%")


@given(uneven_racks(least=3), st.integers(1, 3), st.integers(0, 100), st.sampled_from([None, Level.NODE]))
def test_full_is_what_is_taken_of_what_can_be(
    racks: list, copies: int, percent: int, headroom: Level | None
) -> None:
    view = make_site(racks, copies, headroom=headroom)
    extents = pool_space(view, view.pools[0]).free * percent // 100
    view = with_volume(view, extents, copies) if extents else view
    space = pool_space(view, view.pools[0])
    assert 0.0 <= space.full <= 1.0
    assert space.full == space.used / max(1, space.used + copies * space.free)
    assert (space.full == 1.0) == (space.free == 0 and space.used > 0)
    assert space.overcommit == space.full  # volumes are thick: what is promised is taken


@settings(max_examples=80)
@given(
    uneven_racks(least=3, most=5),
    st.tuples(st.integers(1, 3), st.sampled_from([Level.RACK, Level.NODE])),
    st.sampled_from([None, Level.NODE]),
    st.floats(0.2, 1.0),
    st.floats(0.2, 1.0),
    st.integers(0, 60),
)
def test_a_volume_may_be_as_large_as_the_fill_line_and_the_cap_allow_and_no_larger(
    racks: list, wish: tuple[int, Level], headroom: Level | None, line: float, cap: float, percent: int
) -> None:
    """One meaning of full: placing the largest that is allowed stays at the line; one extent more passes it,
    or has no place.
    """
    view = make_site(racks, 2, headroom=headroom)
    pool = replace(view.pools[0], fill_line=line, overcommit_cap=cap)
    view = changed(view, pools=(pool,))
    before = usable_extents(view.disk_slots, view.disk_rack, pool.usual) * percent // 100
    view = with_volume(view, before, 2, number=7) if before else view
    copies, level = wish
    fit = most_that_fits(view, pool, mirror(copies, level), Tier.BULK, only=ANYWHERE)
    for extents in range(max(1, fit.extents - 2), fit.extents + 3):
        assert fits(view, pool, mirror(copies, level), Tier.BULK, extents, only=ANYWHERE) == (
            extents <= fit.extents
        )

    def within(extents: int) -> bool:
        space = pool_space(with_volume(view, extents, copies, level), pool)
        return space.full <= line and space.overcommit <= cap

    if fit.extents:
        assert within(fit.extents)
    if fit.limit == Limit.APART:
        assert fit.extents == usable_extents(view.disk_free, view.domain_of(level), mirror(copies, level))
    else:
        assert not within(fit.extents + 1)


def test_a_cap_of_a_half_admits_half_of_what_can_be_held() -> None:
    view = make_site([[[100]] for _ in range(4)], copies=2)
    pool = replace(view.pools[0], overcommit_cap=0.5, fill_line=1.0)
    view = changed(view, pools=(pool,))
    fit = most_that_fits(view, pool, pool.usual, Tier.BULK, only=ANYWHERE)
    assert (fit.extents, fit.limit) == (pool_space(view, pool).usable // 2, Limit.CAP)
    assert fit.extents * EXTENT == 100 * EXTENT
