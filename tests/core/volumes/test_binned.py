"""The bin in the core: what is there, for how long, under which name, and in which row of the account."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import changed, make_site, with_volume, without_nodes

from foldbarn.core.errors import Conflict
from foldbarn.core.policies.limits import holders, terms_by_node, withheld_told
from foldbarn.core.pools.capacity import Ledger, pool_space
from foldbarn.core.site import NOWHERE, UNWRITTEN, Binned, Purpose, SiteView, Volume, to_come
from foldbarn.core.volumes.bin import against_altering, bin_of, bytes_held, check_volume_name, over
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp

NOW = 1_700_000_000.0
DAY = 86_400.0


def site_of(*binned: bool, written: int = 0) -> SiteView:
    """Three racks, and a volume of eight extents for each of these."""
    view = make_site([[[40, 40]], [[40, 40]], [[40, 40]]])
    for number in range(1, len(binned) + 1):
        view = with_volume(view, 8, number=number)
    there = Binned(NOW, NOW + 7 * DAY)
    volumes = tuple(
        replace(v, binned=there if gone else None, written_bytes=written)
        for v, gone in zip(view.volumes, binned, strict=True)
    )
    return changed(view, volumes=volumes)


def ledger_of(view: SiteView) -> Ledger:
    return pool_space(view, view.pools[0]).ledger


@given(st.lists(st.booleans(), min_size=1, max_size=4), st.integers(0, 8))
def test_the_bin_has_a_row_of_its_own_and_every_byte_is_still_in_one(
    binned: list[bool], extents: int
) -> None:
    used = site_of(*[False] * len(binned), written=extents << 30)
    view = site_of(*binned, written=extents << 30)
    ledger, before = ledger_of(view), ledger_of(used)
    assert sum(amount for _, amount in ledger.rows()) == ledger.raw == before.raw
    assert ledger.binned == sum(binned) * 8 * 2 << 30 == bytes_held(view, bin_of(view, view.pools[0]))
    kept = binned.count(False)
    assert (ledger.written, ledger.promised) == (kept * extents << 30, kept * (8 - extents) << 30)
    assert ledger.protection == kept * 8 << 30
    # Nothing is given to others for it: the room is free once the bin is emptied, and not before.
    assert (ledger.free, ledger.held_back) == (before.free, before.held_back)


def test_strips_that_lie_nowhere_are_in_no_row() -> None:
    view = site_of(True)
    placement = view.volumes[0].whole.placement.copy()
    placement[:3, 0] = 0
    volume = replace(view.volumes[0], plies=(replace(view.volumes[0].whole, placement=placement),))
    view = changed(view, volumes=(volume,))
    assert ledger_of(view).binned == 13 << 30 == bytes_held(view, [volume])
    assert ledger_of(view).protection == 0
    assert sum(amount for _, amount in ledger_of(view).rows()) == ledger_of(view).raw


def test_what_has_been_there_for_its_time_is_over_and_not_a_moment_before() -> None:
    view = site_of(True, False)
    pool = view.pools[0]
    assert over(view, pool, NOW + 7 * DAY - 1) == []
    assert over(view, pool, NOW + 7 * DAY) == [view.volumes[0]] == bin_of(view, pool)
    assert against_altering(view.volumes[1]) is None
    refusal = against_altering(view.volumes[0])
    assert refusal is not None
    assert (refusal.sentence, refusal.next_step) == ("v1 is in the bin.", "Bring it back first.")


def test_a_name_in_the_bin_is_kept_for_it_and_a_volume_may_keep_its_own() -> None:
    view = site_of(True, False)
    with pytest.raises(Conflict, match="A volume in the bin is called v1, and comes back under that name"):
        check_volume_name(view, " V1 ")
    with pytest.raises(Conflict, match="A volume named 'v2' exists already"):
        check_volume_name(view, "v2")
    assert check_volume_name(view, "V1", volume=1) == "V1"
    assert check_volume_name(view, " v3 ") == "v3"


def outlook(view: SiteView) -> Outlook:
    return Outlook(view, now=NOW, grace_seconds=600.0)


def test_a_volume_in_the_bin_or_offline_says_so_and_its_pool_is_none_the_worse() -> None:
    view = site_of(True, False)
    view = changed(view, volumes=(view.volumes[0], replace(view.volumes[1], offline=True)))
    first, second = (outlook(view).volume(row) for row in range(2))
    assert first.lamp == second.lamp == Lamp.AWAY
    assert first.reason.startswith("In the bin for 7 days more, then it is erased. Whole: ")
    assert second.reason.startswith("Offline: its nodes serve none of it. Whole: ")
    assert outlook(view).pool_with_volumes(0).lamp == Lamp.SOUND
    assert outlook(view).attention() == []
    late = replace(outlook(view), now=NOW + 8 * DAY)
    assert "its time there is over: it may be erased at any moment" in late.volume(0).reason
    # What it lacks is said all the same: it is to come back whole.
    short = without_nodes(view, {0})
    assert outlook(short).volume(0).lamp == Lamp.SHORT
    assert outlook(short).volume(0).reason.startswith("In the bin for 7 days more")
    assert "v1 is short of copies" in [a.title for a in outlook(short).attention()]


@given(st.data())
def test_who_holds_or_is_to_hold_strips_is_found_as_by_looking_at_each(data: st.DataObject) -> None:
    view = site_of(True)
    volume, disks = view.volumes[0], [d.number for d in view.disks]
    places = st.one_of(
        st.sampled_from([NOWHERE, UNWRITTEN]),
        st.sampled_from(disks),
        st.sampled_from(disks).map(lambda disk: int(to_come(np.int32(disk)))),
    )
    anew = np.array(data.draw(st.lists(places, min_size=4, max_size=12)), dtype=np.int32)[:, None]
    whole = volume.whole.placement.copy()
    whole[data.draw(st.integers(0, 7)), 0] = NOWHERE
    held = replace(volume.whole, placement=whole)
    coming = replace(held, number=99, placement=anew, source=held.number, purpose=Purpose.ANEW)
    volume = replace(volume, plies=(held,), anew=coming)
    view = changed(view, volumes=(volume,))
    expected = {
        (view.nodes[view.disks[row].node].number, ply.number)
        for ply in volume.every_ply
        for row in view.rows_kept_for(ply).flat
        if row < len(view.disks)
    }
    assert set(holders(view, volume)) == expected


@given(st.lists(st.sampled_from(["used", "binned", "offline"]), min_size=1, max_size=4))
def test_every_node_that_holds_some_withholds_just_what_nobody_may_use(states: list[str]) -> None:
    view = site_of(*[state == "binned" for state in states])
    volumes = [replace(v, offline=s == "offline") for v, s in zip(view.volumes, states, strict=True)]
    view = changed(view, volumes=tuple(volumes))
    terms = terms_by_node(view)
    for node in view.nodes:
        disks = [d.number for d in view.disks if view.nodes[d.node] is node]

        def lies_here(volume: Volume, disks: list[int] = disks) -> bool:
            return bool(np.isin(volume.whole.placement, disks).any())

        withheld = {ply for ply, of in terms.get(node.number, {}).items() if of.withheld}
        assert withheld == {v.whole.number for v in view.volumes if not v.served and lies_here(v)}
        assert terms.get(node.number, {}).keys() == withheld  # of the others nothing is said
    everything = [v.whole.number for v in view.volumes]
    assert withheld_told(view, everything) == [v.whole.number for v in view.volumes if not v.served]
