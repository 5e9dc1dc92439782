"""Thin volumes: which extents are to be set aside, and how many find room."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import make_site

from foldbarn.core.policies.giving import give, take_back, wanted_by
from foldbarn.core.policies.matching import place_new
from foldbarn.core.pools.capacity import Limit, fits, most_that_fits, most_to_give, pool_space
from foldbarn.core.pools.healing import healing_of
from foldbarn.core.pools.placement import usable_slots
from foldbarn.core.pools.protection import Level, Scheme, mirror
from foldbarn.core.site import (
    ANYWHERE,
    UNWRITTEN,
    Ply,
    Purpose,
    SiteView,
    Tier,
    Volume,
    plain_volume,
    to_come,
)
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.core.volumes.thin import ahead_of, beside, extents_of, is_thin, to_set_aside

RACKS = [[[40, 40], [40, 40]], [[40, 40], [40, 40]], [[40, 40], [40, 40]]]


def thin_site(
    scheme: Scheme, extents: int, aside: int, headroom: Level | None = None, cap: float = 1.0
) -> SiteView:
    """One thin volume, of whose extents the first few are set aside."""
    view = make_site(RACKS, copies=2, level=Level.NODE, headroom=headroom)
    view = replace(view, pools=(replace(view.pools[0], usual=scheme, overcommit_cap=cap),))
    placement = np.full((extents, scheme.strips), UNWRITTEN, dtype=np.int32)
    placement[:aside] = place_new(view, view.pools[0], Tier.BULK, scheme, aside, "v", only=ANYWHERE)
    size = extents * scheme.k * view.pools[0].strip_bytes
    volume = replace(plain_volume(1, "v", 0, size, scheme, placement), thin=True)
    return replace(view, volumes=(volume,))


@given(
    st.lists(st.tuples(st.integers(0, 60), st.integers(1, 9)), max_size=8),
    st.integers(1, 5),
    st.integers(1, 20),
)
def test_the_extents_of_ranges_are_those_that_hold_any_strip_of_them(
    ranges: list[tuple[int, int]], k: int, extents: int
) -> None:
    strips = np.array([(first, first + length) for first, length in ranges], dtype=np.int64).reshape(-1, 2)
    wanted = {strip // k for first, length in ranges for strip in range(first, first + length)}
    assert extents_of(strips, k, extents).tolist() == sorted(e for e in wanted if e < extents)


@given(st.integers(1, 10**6))
def test_a_first_piece_is_never_nothing_and_never_more_than_all(extents: int) -> None:
    assert 1 <= ahead_of(extents) <= extents
    assert ahead_of(extents) >= min(4, extents)
    assert ahead_of(extents) <= max(4, extents / 64 + 1)


def test_what_is_not_set_aside_is_whole_takes_no_room_and_is_promised() -> None:
    view = thin_site(mirror(2, Level.NODE), extents=100, aside=10)
    volume, pool = view.volumes[0], view.pools[0]
    assert is_thin(view, volume)
    assert to_set_aside(volume).sum() == 90
    assert fate_of(view, volume).whole == 100
    assert fate_of(view, volume).state == DataState.WHOLE
    space = pool_space(view, pool)
    assert (space.used, space.promised) == (20, 200)
    whole = pool_space(thin_site(mirror(2, Level.NODE), extents=10, aside=10), pool)
    assert (space.used, space.free, space.usable) == (whole.used, whole.free, whole.usable)
    # What the rest may still ask for is taken off what is free, with its copies, to the byte.
    promised, plain = space.ledger, whole.ledger
    assert promised.thin == 180 * pool.strip_bytes
    assert replace(promised, thin=0, free=plain.free, protection_kept=plain.protection_kept) == plain
    assert promised.thin + promised.free + promised.protection_kept == plain.free + plain.protection_kept


@pytest.mark.parametrize(
    "scheme", [mirror(2, Level.NODE), Scheme(2, 1, Level.NODE), Scheme(4, 2, Level.NODE)]
)
@pytest.mark.parametrize("headroom", [None, Level.NODE])
def test_room_is_given_until_only_what_is_held_back_is_left(scheme: Scheme, headroom: Level | None) -> None:
    view = thin_site(scheme, extents=1000, aside=4, headroom=headroom)
    pool, turns = view.pools[0], 0
    while True:
        volume = view.volumes[0]
        found = give(view, volume, wanted_by(view, volume, np.arange(1000)), 16)
        if not len(found.extents):
            break
        [placed] = found.placed
        assert placed.extents.tolist() == found.extents.tolist()
        placement = volume.whole.placement.copy()
        placement[placed.extents] = placed.rows
        whole = replace(volume.whole, placement=placement)
        view, turns = replace(view, volumes=(replace(volume, plies=(whole,)),)), turns + 1
    assert turns > 3
    given_ = int((~to_set_aside(view.volumes[0])).sum())
    assert found.left == 1000 - given_
    # As many as a thick volume could have had, but for strips that lie a little unevenly.
    empty = replace(view, volumes=())
    most = pool_space(empty, pool).free
    assert most - 3 <= given_ <= most
    if headroom is None:
        nodes = view.domain_of(scheme.level)
        assert most == usable_slots(view.disk_slots, nodes, scheme.strips, 1)
    elif scheme.strips < 6:  # of six nodes five could not heal six strips: nothing is held back for that
        assert pool_space(view, pool).ledger.held_back > 0
    placed_rows = view.row_of_number[view.volumes[0].whole.placement[~to_set_aside(view.volumes[0])]]
    assert all(len(set(view.disk_node[rows].tolist())) == scheme.strips for rows in placed_rows)
    assert (np.bincount(placed_rows.reshape(-1), minlength=len(view.disks)) <= view.disk_slots).all()


def test_a_new_thin_volume_may_be_promised_as_much_as_the_cap_says() -> None:
    scheme = mirror(2, Level.NODE)
    for cap in (1.0, 2.5):
        view = thin_site(scheme, extents=1, aside=1, cap=cap)
        pool = view.pools[0]
        room = pool_space(view, pool).room
        most = most_that_fits(view, pool, scheme, Tier.BULK, ahead_of, only=ANYWHERE).extents
        apart = usable_slots(view.disk_free, view.domain_of(Level.NODE), 2, 1)
        assert most == min(int(cap * room) // 2 - 1, int(cap * apart))
        assert fits(view, pool, scheme, Tier.BULK, most, ahead_of(most), only=ANYWHERE)
        assert not fits(view, pool, scheme, Tier.BULK, most + 1, ahead_of(most + 1), only=ANYWHERE)
        # A thick one takes all of it at once.
        assert most_that_fits(view, pool, scheme, Tier.BULK, only=ANYWHERE).extents < min(most, room // 2) + 1


def test_no_more_is_promised_than_could_ever_be_kept_apart() -> None:
    """By rack, of one large rack and two small ones: most of the large one's room is of no use for that."""
    view = make_site([[[200, 200]], [[20, 20]], [[20, 20]]], copies=2, level=Level.NODE)
    scheme, pool = mirror(3, Level.RACK), replace(view.pools[0], usual=mirror(1, Level.DISK))
    view = replace(view, pools=(pool,))
    assert pool_space(view, pool).room == 480
    most = most_that_fits(view, pool, scheme, Tier.BULK, ahead_of, only=ANYWHERE)
    assert (most.extents, most.limit) == (40, Limit.CAP)
    assert fits(view, pool, scheme, Tier.BULK, 40, ahead_of(40), only=ANYWHERE)
    assert not fits(view, pool, scheme, Tier.BULK, 41, ahead_of(41), only=ANYWHERE)


@pytest.mark.parametrize("scheme", [mirror(2, Level.NODE), mirror(2, Level.RACK), Scheme(2, 1, Level.NODE)])
@pytest.mark.parametrize("usual", [mirror(3, Level.RACK), mirror(2, Level.NODE), mirror(1, Level.DISK)])
def test_whatever_the_usual_protection_all_that_is_given_can_be_rebuilt(
    scheme: Scheme, usual: Scheme
) -> None:
    view = thin_site(scheme, extents=1000, aside=4, headroom=Level.NODE)
    view = replace(view, pools=(replace(view.pools[0], usual=usual),))
    while len(found := give(view, view.volumes[0], np.flatnonzero(to_set_aside(view.volumes[0])), 64).placed):
        volume = view.volumes[0]
        placement = volume.whole.placement.copy()
        placement[found[0].extents] = found[0].rows
        whole = replace(volume.whole, placement=placement)
        view = replace(view, volumes=(replace(volume, plies=(whole,)),))
    assert int((~to_set_aside(view.volumes[0])).sum()) > 100
    assert healing_of(view, view.pools[0], Level.NODE).holds


def test_what_no_room_would_heal_takes_none_of_what_is_held_back() -> None:
    """Parity over three racks of a node each: without one of them two are left, whatever is held back."""
    view = make_site([[[40, 40]]] * 3, copies=2, level=Level.RACK, headroom=Level.NODE)
    pool, scheme = view.pools[0], Scheme(2, 1, Level.RACK)
    space = pool_space(view, pool)
    assert space.ledger.held_back > 0
    assert most_to_give(view, pool, scheme, Tier.BULK, only=ANYWHERE) == 2 * space.free // 3 > 0
    assert most_to_give(view, pool, pool.usual, Tier.BULK, only=ANYWHERE) == space.free


def test_a_volume_that_is_not_thin_wants_all_that_it_lacks_whoever_asks() -> None:
    view = thin_site(mirror(2, Level.NODE), extents=50, aside=10)
    volume = view.volumes[0]
    assert wanted_by(view, volume, np.array([3, 12, 70])).tolist() == [12]
    assert wanted_by(view, replace(volume, thin=False), np.array([3])).tolist() == list(range(10, 50))


def anew_beside(view: SiteView, scheme: Scheme) -> Volume:
    """The volume, being written anew as another scheme; as yet nothing of it lies anywhere."""
    volume, pool = view.volumes[0], view.pools[0]
    whole = volume.whole
    extents = -(-whole.extents * whole.scheme.k // scheme.k)
    places = place_new(view, pool, Tier.BULK, scheme, extents, "anew", only=ANYWHERE)
    written = beside(np.flatnonzero(~whole.unwritten), whole, replace(whole, scheme=scheme, placement=places))
    placement = np.full((extents, scheme.strips), UNWRITTEN, dtype=np.int32)
    placement[written] = to_come(places)[written]
    anew = Ply(-2, 1, "v", 0, scheme, placement, purpose=Purpose.ANEW, source=whole.number)
    return replace(volume, anew=anew)


def test_what_is_set_aside_while_all_is_written_anew_is_written_anew_as_well() -> None:
    view = thin_site(mirror(2, Level.NODE), extents=60, aside=10)
    scheme = Scheme(4, 2, Level.NODE)
    volume = anew_beside(view, scheme)
    view = replace(view, volumes=(volume,))
    found = give(view, volume, np.arange(10, 19), 16)
    assert found.extents.tolist() == list(range(10, 19))
    whole, anew = found.placed
    assert (whole.ply, anew.ply) == (volume.whole.number, -2)
    # Extents 2 to 4 of four strips hold what is asked for; 2 holds something already.
    assert anew.extents.tolist() == [3, 4]
    assert (anew.rows < UNWRITTEN).all()
    assert volume.anew is not None
    placement, beside_ = volume.whole.placement.copy(), volume.anew.placement.copy()
    placement[whole.extents], beside_[anew.extents] = whole.rows, anew.rows
    then = replace(
        volume,
        plies=(replace(volume.whole, placement=placement),),
        anew=replace(volume.anew, placement=beside_),
    )
    # Taken back it is as before: what holds data of others stays.
    back = take_back(then, found.extents)
    assert [(p.ply, p.extents.tolist()) for p in back] == [
        (volume.whole.number, list(range(10, 19))),
        (-2, [3, 4]),
    ]
    assert all((p.rows == UNWRITTEN).all() for p in back)
