"""Thin volumes: room for an extent is set aside on disks when it is about to be written, not when the volume
is made. Method: docs/methods.md, "Thin volumes".
"""

from __future__ import annotations

import numpy as np

from foldbarn.core.arrays import Flags, Ints
from foldbarn.core.site import Ply, SiteView, Volume

AHEAD = 64  # a part of so many is set aside ahead of what is written
LEAST_AHEAD = 4  # extents, at the least


def ahead_of(extents: int) -> int:
    """Extents that are set aside ahead of what is written, of a volume of so many; the first of them as it is
    made.
    """
    return min(extents, max(LEAST_AHEAD, -(-extents // AHEAD)))


def is_thin(view: SiteView, volume: Volume) -> bool:
    """Whether a volume takes room as it is written: as its policy says or, where it has none, as it was
    made.
    """
    policy = view.policy_of(volume)
    return policy.wishes.thin if policy is not None else volume.thin


def to_set_aside(volume: Volume) -> Flags:
    """Which extents of the ply of all of a volume no room is set aside for yet, [extents]."""
    flags: Flags = volume.whole.unwritten & ~volume.upper & ~volume.through
    return flags


def extents_of(strips: Ints, k: int, extents: int) -> Ints:
    """Extents of k strips of data each, of so many, that hold these ranges of a volume's strips of data.

    strips: [ranges, 2], from and up to, each counted over the whole volume. What goes beyond it is left out.
    """
    wanted = np.zeros(extents + 1, dtype=np.int64)
    first = np.clip(strips[:, 0] // k, 0, extents)
    last = np.clip(-(-strips[:, 1] // k), 0, extents)
    np.add.at(wanted, first, 1)
    np.add.at(wanted, np.maximum(first, last), -1)
    found: Ints = np.flatnonzero(np.cumsum(wanted)[:-1] > 0)
    return found


def beside(extents: Ints, of: Ply, other: Ply) -> Ints:
    """Extents of another ply that hold data of these extents of one; both are of all of a volume."""
    k = of.scheme.k
    ranges = np.stack([extents * k, extents * k + k], axis=1)
    return extents_of(ranges, other.scheme.k, other.extents)
