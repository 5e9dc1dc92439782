"""Losses: what a set of lost disks does, against counting by hand."""

from dataclasses import replace

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from sites import changed, make_site, uneven_racks, with_volume, without_nodes

from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.site import NOWHERE, UNWRITTEN, plain_volume
from foldbarn.core.volumes.loss import DataState, fate, fate_of, single_losses, survivors, without


@given(uneven_racks(least=3), st.integers(1, 3), st.data())
def test_fates_match_counting_by_hand(racks: list, copies: int, data: st.DataObject) -> None:
    view = with_volume(make_site(racks, copies), 1, copies)
    volume = view.volumes[0]
    ready = np.array(data.draw(st.lists(st.booleans(), min_size=len(view.disks), max_size=len(view.disks))))
    found = fate_of(view, volume, ready)
    present = [sum(bool(ready[number - 1]) for number in row) for row in volume.plies[0].placement.tolist()]
    assert found.whole == sum(p == copies for p in present)
    assert found.unavailable == sum(p == 0 for p in present)
    assert found.bare == sum(p == 1 < copies for p in present)
    assert found.whole + found.reduced + found.bare + found.unavailable + found.lost == volume.extents


@given(uneven_racks(least=3), st.data())
def test_what_is_all_there_is_seen_as_quickly_as_truly(racks: list, data: st.DataObject) -> None:
    """Told of the same disks, fate counts strip by strip; asked of the site as it is, it need not."""
    view = with_volume(make_site(racks, 2), 1, 2)
    [volume] = view.volumes
    placement = volume.whole.placement.copy()
    placement[:: data.draw(st.integers(1, 3))] = data.draw(st.sampled_from([UNWRITTEN, NOWHERE, 1]))
    placement[-1, -1] = data.draw(st.sampled_from([NOWHERE, placement[-1, -1]]))
    elsewhere = (placement == UNWRITTEN).all(axis=1) & data.draw(st.booleans())
    whole = replace(volume.whole, placement=placement, elsewhere=elsewhere)
    gone = data.draw(st.sets(st.integers(0, len(view.nodes) - 1), max_size=1))
    view = without_nodes(changed(view, volumes=(replace(volume, plies=(whole,)),)), gone)
    assert fate(view, whole) == fate(view, whole, view.disk_ready)


def test_a_strip_nowhere_is_lost_only_when_all_are() -> None:
    view = with_volume(make_site([[[9]], [[9]], [[9]]]), 4)
    placement = view.plies[0].placement.copy()
    placement[0] = 0
    placement[1, 0] = 0
    old = view.volumes[0]
    view = changed(view, volumes=(plain_volume(1, "v", 0, old.size_bytes, old.plies[0].scheme, placement),))
    found = fate_of(view, view.volumes[0])
    assert (found.lost, found.bare, found.whole, found.state) == (1, 1, 2, DataState.LOST)


@given(uneven_racks(least=3), st.integers(2, 3), st.sampled_from([Level.RACK, Level.NODE, Level.DISK]))
def test_all_single_losses_at_once_match_one_by_one(racks: list, copies: int, level: Level) -> None:
    view = with_volume(make_site(racks, copies), 1, copies)
    view = with_volume(view, 1, 1, Level.DISK, number=2) if view.disk_free.sum() else view
    losses = single_losses(view, level)
    for domain in range(len(view.domain_names(level))):
        for row, volume in enumerate(view.volumes):
            alone = fate_of(view, volume, without(view, level, domain))
            assert losses.lost[row, domain, 0] == alone.whole
            assert losses.lost[row, domain].sum() == volume.extents
    kept = survivors(losses, view)
    assert kept[0].all()  # copies kept apart by rack survive any one rack, node or disk


def test_strips_sharing_a_domain_are_lost_together() -> None:
    view = make_site([[[9, 9]], [[9]]])
    placement = np.array([[1, 2], [1, 3]], dtype=np.int32)
    view = changed(view, volumes=(plain_volume(1, "v", 0, 1, mirror(2, Level.DISK), placement),))
    losses = single_losses(view, Level.RACK)
    assert losses.lost[0].tolist() == [[0, 1, 1], [1, 1, 0]]
    assert survivors(losses, view).tolist() == [[False, True]]


def test_a_silent_node_makes_its_strips_unreadable() -> None:
    view = without_nodes(with_volume(make_site([[[9]], [[9]]]), 5), {0})
    assert fate_of(view, view.volumes[0]).state == DataState.BARE
