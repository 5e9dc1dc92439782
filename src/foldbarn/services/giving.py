"""The duty that sets room aside for what is about to be written."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from foldbarn.changes.engine.giving import finish, give, open_again
from foldbarn.core.arrays import Ints
from foldbarn.core.machines.reading import Wants
from foldbarn.core.policies.giving import wanted_by
from foldbarn.core.site import Volume
from foldbarn.core.volumes.thin import extents_of, is_thin
from foldbarn.store import giving
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view


@dataclass(slots=True)
class RoomGiver:
    """Gives room, and looks at nothing anew while nobody wants any and the site is as it was.

    rested: the revision of the site at which no volume wanted any; -1 where some may.
    """

    rested: int = -1

    def give(self) -> None:
        with transaction() as session:
            wanted, revision = giving.wanted(session)
        if wanted or revision != self.rested:
            any_lacks = give_room()
            self.rested = -1 if wanted or any_lacks else revision


def give_room() -> bool:
    """Gives every volume the room that it wants, as far as its pool has it. Returns whether any wanted
    some.
    """
    with transaction() as session:
        asked, begun = giving.asked(session), giving.begun(session)
    for one in begun:
        finish(one)
    view, any_lacks = current_view(), False
    for volume in view.volumes:
        pool = view.pools[volume.pool]
        if volume.forming or pool.closing:
            continue
        wants = [asked[ply.number] for ply in volume.every_ply if ply.number in asked]
        lacks = volume.whole.extents_set_aside < volume.whole.extents_here
        if not wants and volume.short is None and (not lacks or is_thin(view, volume)):
            continue
        any_lacks = True
        extents = _extents(volume, wants)
        open_again(view, volume, extents)
        wanted = wanted_by(view, volume, extents)
        if len(wanted) or volume.short is not None:
            give(pool, volume, extents, refuses=any(one.refuses for one in wants))
    return any_lacks or bool(begun)


def _extents(volume: Volume, wants: list[Wants]) -> Ints:
    """What nodes ask for, as extents of the ply of all of a volume."""
    ranges = np.array([r for one in wants for r in one.strips], dtype=np.int64).reshape(-1, 2)
    return extents_of(ranges, volume.whole.scheme.k, volume.whole.extents)
