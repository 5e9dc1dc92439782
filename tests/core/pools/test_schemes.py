"""Schemes with several strips of data, and what was never written."""

from __future__ import annotations

from dataclasses import replace
from itertools import product

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import EXTENT, changed, make_site, placed_as, with_volume, without_nodes

from foldbarn.core.errors import NotPossible
from foldbarn.core.moving.comparing import placed
from foldbarn.core.moving.rebuild import lost_strips, plan_rebuild
from foldbarn.core.policies.policy import MOST_DATA, MOST_PARITY
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.healing import Want, healing_of
from foldbarn.core.pools.protection import MOST_COPIES, Level, Scheme, mirror
from foldbarn.core.site import NOWHERE, UNWRITTEN, SiteView, plain_volume
from foldbarn.core.volumes.loss import DataState, ended_by, enough_to_read, fate, state_by_present


def of_scheme(scheme: Scheme, placement: np.ndarray, nodes: int = 8) -> SiteView:
    """A site of equal nodes, each in a rack of its own, with one volume of a scheme."""
    view = make_site([[[40]] for _ in range(nodes)])
    pools = (replace(view.pools[0], usual=scheme),)
    volume = plain_volume(1, "v", 0, len(placement) * scheme.k * EXTENT, scheme, placement.astype(np.int32))
    return changed(view, pools=pools, volumes=(volume,))


@pytest.mark.parametrize(("k", "m"), [(1, 0), (1, 2), (2, 1), (4, 2)])
def test_any_k_strips_are_enough_to_read_an_extent(k: int, m: int) -> None:
    scheme = Scheme(k, m, Level.RACK)
    placement = np.array([np.arange(k + m) + 1])
    view = of_scheme(scheme, placement)
    for present in product([True, False], repeat=k + m):
        ready = np.array([*present, *([True] * (8 - k - m))])
        state = fate(view, view.plies[0], ready).state
        assert (state in (DataState.WHOLE, DataState.REDUCED, DataState.BARE)) == (sum(present) >= k)
        assert (state == DataState.WHOLE) == all(present)
        assert (state == DataState.BARE) == (sum(present) == k < k + m)
    assert len(state_by_present(scheme)) == k + m + 1
    assert scheme.survives == m


@given(st.integers(1, 4), st.integers(1, 3), st.data())
def test_what_ends_an_extent_is_found_as_by_trying(k: int, m: int, data: st.DataObject) -> None:
    width = k + m
    row = st.lists(st.integers(0, 3), min_size=width, max_size=width)
    labels = np.array(data.draw(st.lists(row, min_size=1, max_size=4)), dtype=np.int64)
    flags = st.lists(st.booleans(), min_size=width, max_size=width)
    readable = np.array(data.draw(st.lists(flags, min_size=len(labels), max_size=len(labels))))
    found = ended_by(labels, readable, k)
    for extent in range(len(labels)):
        ends = [
            label
            for label in sorted(set(labels[extent].tolist()))
            if readable[extent].sum() >= k > (readable[extent] & (labels[extent] != label)).sum()
        ]
        assert sorted(labels[extent, found[extent]].tolist()) == ends


def test_every_byte_is_accounted_for_with_strips_of_parity() -> None:
    """Four and two in eight equal domains hold two thirds of what is there."""
    scheme = Scheme(4, 2, Level.RACK)
    placement = np.array([np.roll(np.arange(8), -e)[:6] + 1 for e in range(8)])
    view = of_scheme(scheme, placement)
    space = pool_space(view, view.pools[0])
    assert sum(amount for _, amount in space.ledger.rows()) == space.ledger.raw
    assert space.without_headroom * scheme.strips == 8 * 40 - 8 * 40 % scheme.strips
    assert space.ledger.promised == 8 * 4 * EXTENT
    assert space.ledger.protection == 8 * 2 * EXTENT
    assert space.ledger.free == 4 * space.free * EXTENT
    assert space.ledger.protection_kept == 2 * space.free * EXTENT


def test_what_is_lost_is_written_again_only_where_enough_is_left_to_read() -> None:
    scheme = Scheme(2, 1, Level.RACK)
    placement = np.array([[1, 2, 3], [1, 4, 5], [4, 5, 6]])
    view = without_nodes(of_scheme(scheme, placement), {0})
    assert lost_strips(view, view.plies[0]).tolist() == [[True, False, False]] * 2 + [[False] * 3]
    assert len(plan_rebuild(view, view.pools[0], seed=1)) == 2
    both = without_nodes(of_scheme(scheme, placement), {0, 3})
    assert enough_to_read(both, both.plies[0]).tolist() == [True, False, True]
    assert lost_strips(both, both.plies[0]).sum(axis=1).tolist() == [1, 0, 1]
    [first] = healing_of(both, both.pools[0], Level.RACK).unhealed
    assert (first.want, first.amount) == (Want.UNREADABLE, 1)


def test_never_written_is_not_lost() -> None:
    view = with_volume(make_site([[[40]], [[40]], [[40]]]), 3)
    placement = view.plies[0].placement.copy()
    placement[0] = UNWRITTEN
    placement[1, 0] = NOWHERE
    view = changed(view, volumes=(placed_as(view.volumes[0], placement),))
    [ply] = view.plies
    found = fate(view, ply)
    assert (found.whole, found.bare, found.lost) == (2, 1, 0)
    assert lost_strips(view, ply).tolist() == [[False, False], [True, False], [False, False]]
    assert int(view.disk_used.sum()) == 3
    assert ply.extents_somewhere == 2
    assert len(placed(view, view.pools[0]).disk) == 3
    space = pool_space(view, view.pools[0])
    assert sum(amount for _, amount in space.ledger.rows()) == space.ledger.raw
    # Lost altogether it would be said to be.
    gone = changed(view, volumes=(placed_as(view.volumes[0], np.where(placement > 0, 0, placement)),))
    assert fate(gone, gone.plies[0]).lost == 2


def test_a_mirror_is_a_scheme_of_one_strip_of_data() -> None:
    assert mirror(3, Level.RACK) == Scheme(1, 2, Level.RACK)
    assert mirror(3, Level.RACK).counted() == "3 copies"
    assert Scheme(4, 2, Level.NODE).sentence() == (
        "strips of 4 and 2 of parity, each in another node; survives the loss of any two nodes"
    )
    for copies in (0, MOST_COPIES + 1):
        with pytest.raises(NotPossible, match="between 1 and 5 copies"):
            mirror(copies, Level.RACK)
    with pytest.raises(NotPossible):
        Scheme(0, 2, Level.RACK)


def test_each_strip_has_a_name_of_its_own_however_many_there_are() -> None:
    assert mirror(3, Level.RACK).strip_names() == ["A", "B", "C"]
    assert mirror(3, Level.RACK).strip_lines() == ["Copy A", "Copy B", "Copy C"]
    parity = Scheme(4, 2, Level.RACK)
    assert parity.strip_names() == ["1", "2", "3", "4", "P1", "P2"]
    assert parity.strip_lines() == ["Data 1", "Data 2", "Data 3", "Data 4", "Parity 1", "Parity 2"]
    widest = Scheme(MOST_DATA, MOST_PARITY, Level.NODE)
    assert len(set(widest.strip_names())) == widest.strips
