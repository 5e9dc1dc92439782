"""Setting room aside for extents of volumes that are about to be written, or that a policy wants set aside
whole. Method: docs/methods.md, "Thin volumes".
"""

from __future__ import annotations

import zlib
from dataclasses import dataclass

import numpy as np

from foldbarn.core.arrays import Disks, Ints
from foldbarn.core.policies.matching import place_new
from foldbarn.core.pools.capacity import most_to_give
from foldbarn.core.site import UNWRITTEN, OnlyOn, Ply, Pool, SiteView, Volume, to_come
from foldbarn.core.volumes.thin import beside, is_thin, to_set_aside


@dataclass(frozen=True, slots=True, eq=False)
class Placed:
    """Extents of a ply (by number) and the disks for their strips, as they go into its placement."""

    ply: int
    extents: Ints
    rows: Disks


@dataclass(frozen=True, slots=True, eq=False)
class Given:
    """What is set aside for a volume. extents: of the ply of all of it; placed: there, and in what it is
    being written anew as, where it is; left: of those wanted, how many find no room.
    """

    extents: Ints
    placed: tuple[Placed, ...]
    left: int


def wanted_by(view: SiteView, volume: Volume, asked: Ints) -> Ints:
    """Extents of a volume for which room is to be set aside now: of a thin one what its nodes ask for (asked:
    extents), of any other all that it lacks.
    """
    lacks = to_set_aside(volume)
    if not is_thin(view, volume):
        found: Ints = np.flatnonzero(lacks)
        return found
    inside = asked[asked < volume.whole.extents]
    kept: Ints = inside[lacks[inside]]
    return kept


def give(view: SiteView, volume: Volume, wanted: Ints, most: int) -> Given:
    """Sets room aside for as many of the extents wanted as find it, at most so many, the first ones first.

    What is held back for a rebuild stays held back: nobody's healing is given away for what a volume might
    still write. A fill line and a cap are for promises, which were made with the volume.
    """
    pool, whole, anew = view.pools[volume.pool], volume.whole, _beside(volume)
    first = wanted[:most]
    room, only = room_to_give(view, pool, whole, volume.only_on), volume.only_on
    takes = first[:room]
    if anew is not None and len(takes):
        # What is written meanwhile has to be written anew as well: it takes room in both.
        while len(takes) and len(_new_beside(takes, whole, anew)) > room_to_give(view, pool, anew, only):
            takes = takes[: len(takes) // 2]
    if not len(takes):
        return Given(takes, (), len(wanted))
    free = view.disk_free.copy()
    rows = _place(view, pool, whole, takes, f"{volume.number}", free, only)
    placed = [Placed(whole.number, takes, rows)]
    if anew is not None and len(also := _new_beside(takes, whole, anew)):
        free -= np.bincount(view.row_of_number[rows].reshape(-1), minlength=len(free))[: len(free)]
        anew_rows = _place(view, pool, anew, also, f"{volume.number} anew", free, only)
        placed.append(Placed(anew.number, also, to_come(anew_rows)))
    return Given(takes, tuple(placed), len(wanted) - len(takes))


def take_back(volume: Volume, extents: Ints) -> tuple[Placed, ...]:
    """What makes extents of a volume as if no room had been set aside for them, where nothing was written
    there yet.
    """
    whole, anew = volume.whole, _beside(volume)
    found = [_nothing(whole, extents)]
    if anew is not None:
        others = to_set_aside(volume)
        others[extents] = True
        alone = [e for e in beside(extents, whole, anew).tolist() if _covers(others, e, whole, anew)]
        if alone:
            found.append(_nothing(anew, np.array(alone, dtype=np.int64)))
    return tuple(found)


def room_to_give(view: SiteView, pool: Pool, ply: Ply, only: OnlyOn) -> int:
    """Extents of a ply that room can still be set aside for, where it may lie."""
    return most_to_give(view, pool, ply.scheme, ply.tier, only=only)


def _beside(volume: Volume) -> Ply | None:
    """What all of a volume is being written anew as, if it is."""
    anew = volume.anew
    if anew is None or volume.hot is not None or anew.source != volume.whole.number:
        return None
    return anew


def _new_beside(extents: Ints, whole: Ply, anew: Ply) -> Ints:
    found = beside(extents, whole, anew)
    kept: Ints = found[anew.unwritten[found]]
    return kept


def _covers(unset: np.ndarray, extent: int, whole: Ply, anew: Ply) -> bool:
    """Whether all the data of an extent of what is written anew lies in extents that are not set aside."""
    mine = beside(np.array([extent]), anew, whole)
    return bool(unset[mine].all())


def _nothing(ply: Ply, extents: Ints) -> Placed:
    rows = np.full((len(extents), ply.scheme.strips), UNWRITTEN, dtype=np.int32)
    return Placed(ply.number, extents, rows)


def _place(view: SiteView, pool: Pool, ply: Ply, extents: Ints, name: str, free: Ints, only: OnlyOn) -> Disks:
    """The first of them tells one batch from the next, so that each does not begin with the same disks."""
    seed = zlib.crc32(f"{name} {int(extents[0])}".encode())
    return place_new(view, pool, ply.tier, ply.scheme, len(extents), f"{seed:x}", free, only=only)
