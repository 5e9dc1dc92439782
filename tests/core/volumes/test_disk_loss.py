"""What a disk holds, and what its loss would mean: checked against losing it."""

from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from sites import make_site, with_volume, without_nodes

from foldbarn.core.pools.protection import Level
from foldbarn.core.site import SiteView
from foldbarn.core.volumes.disk_loss import disk_loss, disk_loss_sentence


def unreadable_here(view: SiteView, row: int) -> int:
    """Extents with a strip on a disk that cannot be read once it is gone, counted one by one."""
    return sum(
        row in extent and not any(view.disk_ready[r] for r in extent if r != row)
        for ply in view.plies
        for extent in view.rows(ply).tolist()
    )


@settings(max_examples=30, deadline=None)
@given(
    racks=st.integers(min_value=2, max_value=5),
    copies=st.integers(min_value=1, max_value=2),
    extents=st.integers(min_value=1, max_value=40),
    away=st.booleans(),
)
def test_what_cannot_be_read_without_a_disk_is_what_its_loss_makes_unreadable(
    racks: int, copies: int, extents: int, away: bool
) -> None:
    view = with_volume(make_site([[[60], [60]] for _ in range(racks)], copies=2), extents, copies)
    if away:
        view = without_nodes(view, {1})
    for row, disk in enumerate(view.disks):
        loss = disk_loss(view, disk)
        assert loss.unreadable == unreadable_here(view, row)
        assert loss.strips == int(view.disk_used[row])
        assert loss.found + loss.stuck + loss.unreadable == loss.strips
        assert loss.stuck >= 0


def test_what_nobody_can_read_even_now_is_not_called_readable() -> None:
    """One copy, on a node that is silent."""
    view = without_nodes(with_volume(make_site([[[60]] for _ in range(3)], copies=2), 30, 1), {0})
    loss = disk_loss(view, view.disks[0])
    assert (loss.unreadable, loss.found, loss.stuck) == (loss.strips, 0, 0)
    assert "could not be read without it" in disk_loss_sentence(loss, view.pools[0].strip_bytes)


def test_its_sentence_tells_the_worst_first() -> None:
    view = with_volume(make_site([[[60]] for _ in range(3)], copies=2), 30, 2)
    fine = disk_loss(view, view.disks[0])
    words = disk_loss_sentence(fine, view.pools[0].strip_bytes)
    assert words.startswith("Everything it holds can be read without it.")
    assert f"{fine.strips} strips" in words
    assert "would be written again elsewhere" in words
    # With one copy only, without it the data is gone.
    view = with_volume(make_site([[[60]] for _ in range(3)], copies=2), 30, 1, Level.NODE)
    bare = disk_loss(view, view.disks[0])
    assert bare.unreadable == bare.strips > 0
    words = disk_loss_sentence(bare, view.pools[0].strip_bytes)
    assert words == f"{bare.strips} extents of v1 could not be read without it."
    # With as many racks as copies nothing finds a place.
    view = with_volume(make_site([[[60]] for _ in range(2)], copies=2), 30, 2)
    tight = disk_loss(view, view.disks[0])
    assert (tight.found, tight.stuck) == (0, 30)
    assert np.sum([h.bare for h in tight.held]) == 30
    assert "30 strips would find no place." in disk_loss_sentence(tight, view.pools[0].strip_bytes)
