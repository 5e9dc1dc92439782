"""The large site that ./barn bench measures with, filled in small: so that it fits the tables of today."""

from __future__ import annotations

import numpy as np
import pytest

from bench.large import COPIES, DISKS_A_NODE, RACKS, fill
from foldbarn.core.pools.protection import Level
from foldbarn.core.volumes.loss import single_losses
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view


@pytest.mark.usefixtures("database")
def test_the_benchs_site_is_one_that_fold_barn_reads_with_its_copies_apart() -> None:
    with transaction() as session:
        fill(session, nodes=2 * RACKS, volumes=3, extents=400)
    view = current_view()
    assert (len(view.nodes), len(view.disks)) == (2 * RACKS, 2 * RACKS * DISKS_A_NODE)
    assert [v.plies[0].placement.shape for v in view.volumes] == [(400, COPIES)] * 3
    for volume in view.volumes:
        racks = np.sort(view.disk_rack[view.rows(volume.plies[0])], axis=1)
        assert (np.diff(racks, axis=1) > 0).all()
        assert set(np.unique(racks)) == set(range(RACKS))
    assert single_losses(view, Level.RACK).lost.sum() == 3 * 400 * RACKS  # no agent is heard
