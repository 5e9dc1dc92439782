"""What becomes of a volume that is short: what is on its way, what has a place, and what has none and why."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.moving.moves import Hindrance, say_hindrances
from foldbarn.core.moving.rebuild import plan_rebuild
from foldbarn.core.site import Pool, SiteView, Volume


@dataclass(frozen=True, slots=True)
class Prospect:
    """Of one ply, were everything given up that cannot be reached now. under_way: strips being copied to
    another disk; placeable: strips that a rebuild would write again; hindrances: strips that it would find no
    place for.
    """

    under_way: int = 0
    placeable: int = 0
    hindrances: tuple[Hindrance, ...] = ()

    def stuck_sentence(self, view: SiteView) -> str:
        """What has no place, and why; empty where everything has one."""
        return say_hindrances(view, self.hindrances)


def prospects_of(view: SiteView, pool: Pool) -> dict[int, Prospect]:
    """By ply number, for the plies of a pool of which anything is lost, missing or on its way. Kept with
    the view.
    """
    key = ("prospects", pool.number)
    kept = view.findings.get(key)
    if not isinstance(kept, dict):
        kept = view.findings[key] = _look_ahead(view, pool)
    return kept


def prospect_of(view: SiteView, volume: Volume) -> Prospect:
    """The same of all plies of a volume."""
    by_ply = prospects_of(view, view.pools[volume.pool])
    parts = [by_ply[ply.number] for ply in volume.plies if ply.number in by_ply]
    return Prospect(
        under_way=sum(part.under_way for part in parts),
        placeable=sum(part.placeable for part in parts),
        hindrances=tuple(h for part in parts for h in part.hindrances),
    )


def _look_ahead(view: SiteView, pool: Pool) -> dict[int, Prospect]:
    disks = tuple(
        d if ready else replace(d, given_up=True)
        for d, ready in zip(view.disks, view.disk_ready.tolist(), strict=True)
    )
    moves = plan_rebuild(replace(view, disks=disks), pool, seed=1)
    planned = moves.ply[~moves.makes_room]
    found = {}
    for ply in view.plies_of(pool):
        under_way = sum(number == ply.number for number, _, _ in view.under_way)
        placeable = int(np.count_nonzero(planned == ply.number))
        hindrances = tuple(h for h in moves.hindrances if h.ply == ply.number)
        if under_way or placeable or hindrances:
            found[ply.number] = Prospect(under_way, placeable, hindrances)
    return found
