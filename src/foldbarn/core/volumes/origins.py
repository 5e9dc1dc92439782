"""Volumes that read from a snapshot of another one: copies, until all of them is written, and snapshots that
are shown as volumes of their own. Method: docs/methods.md, "From a snapshot".
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection
from dataclasses import replace
from typing import cast

import numpy as np

from foldbarn.core.arrays import Disks, Flags
from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.matching import extents_for
from foldbarn.core.pools.protection import Scheme
from foldbarn.core.site import UNWRITTEN, Ply, Purpose, SiteView, Volume, plain_volume, to_come
from foldbarn.core.units import say_binary, say_list
from foldbarn.core.volumes.bin import against_bringing_back
from foldbarn.core.volumes.snapshots import Origin, Snapshot


def as_read(whole: Ply, origin: Origin, source: int) -> tuple[Ply, Ply | None]:
    """The ply of all of a volume with an origin as far as that holds it, and what is still to be written into
    it from another ply (source, its number), if anything. An extent holds itself once every strip of it is
    there: what consumers write to it from then on is nowhere else.
    """
    if origin.shown:
        return replace(whole, elsewhere=np.ones(whole.extents, dtype=np.bool_)), None
    comes: Flags = np.asarray((whole.placement < UNWRITTEN).any(axis=1))
    if not comes.any():
        return replace(whole, elsewhere=None), None
    nothing = np.int32(UNWRITTEN)
    holds = replace(
        whole, placement=np.where(comes[:, None], nothing, whole.placement), elsewhere=comes, source=0
    )
    anew = replace(
        whole,
        placement=np.where(comes[:, None], whole.placement, nothing),
        elsewhere=None,
        purpose=Purpose.ANEW,
        source=source,
    )
    return holds, anew


def shown_as(view: SiteView, volume: Volume, snapshot: Snapshot, name: str) -> Volume:
    """A volume that shows a snapshot of one, under a number of no other."""
    size = snapshot.bytes or volume.size_bytes
    scheme = volume.whole.scheme
    extents = extents_for(size, view.pools[volume.pool], scheme)
    nothing = np.full((extents, scheme.strips), UNWRITTEN, dtype=np.int32)
    plain = plain_volume(0, name, volume.pool, size, scheme, nothing, tier=volume.whole.tier)
    origin = Origin(volume.number, snapshot.number, shown=True)
    whole, _ = as_read(plain.whole, origin, 0)
    return replace(plain, plies=(whole,), origin=origin)


def copied_from(placement: Disks, written: Flags, aside: int) -> Disks:
    """A placement for a copy, [extents, strips]: room is kept for what its origin has (written, [extents]),
    and set aside at once for the first `aside` extents of what that never wrote.
    """
    at_once = ~written & (np.arange(len(written)) < aside)
    found = np.full(placement.shape, UNWRITTEN, dtype=np.int32)
    found[at_once] = placement[at_once]
    found[written] = to_come(placement[written])
    return found


def written_in(source: Volume, scheme: Scheme, extents: int) -> Flags:
    """Which extents of another scheme, so many, hold anything that was ever written to a volume."""
    whole = source.whole
    data = np.repeat(~whole.unwritten | source.upper, whole.scheme.k)
    found = np.zeros(extents * scheme.k, dtype=np.bool_)
    found[: len(data)] = data[: len(found)]
    return np.asarray(found.reshape(-1, scheme.k).any(axis=1))


def is_to_be_written(volume: Volume) -> bool:
    """Whether what a volume still reads from its origin is written by itself. What is in the bin may be
    erased before long.
    """
    origin = volume.origin
    if origin is None or origin.shown or origin.left:
        return False
    return not volume.forming and volume.binned is None


def bearer_of(view: SiteView, volume: Volume) -> Volume:
    """The volume whose strips hold it: another one, where it shows a snapshot of that."""
    shows = volume.origin is not None and volume.origin.shown
    return snapshot_of(view, volume)[0] if shows else volume


def snapshot_of(view: SiteView, volume: Volume) -> tuple[Volume, Snapshot]:
    """What a volume with an origin reads from."""
    assert volume.origin is not None
    origin = view.volume_numbered(volume.origin.volume)
    return origin, next(s for s in origin.snapshots if s.number == volume.origin.snapshot)


def readers_of(view: SiteView, volume: Volume, numbers: Collection[int] | None = None) -> list[Volume]:
    """The volumes that read from snapshots of one: from any, or from those of these numbers."""
    found = _readers(view).get(volume.number, [])
    return [v for v in found if numbers is None or (v.origin is not None and v.origin.snapshot in numbers)]


def _readers(view: SiteView) -> dict[int, list[Volume]]:
    """The volumes that read from snapshots of each, by its number. Found once for each picture."""
    if "readers" not in view.findings:
        found: dict[int, list[Volume]] = defaultdict(list)
        for volume in view.volumes:
            if volume.origin is not None:
                found[volume.origin.volume].append(volume)
        view.findings["readers"] = dict(found)
    return cast("dict[int, list[Volume]]", view.findings["readers"])


def gives_way(view: SiteView, volume: Volume) -> Snapshot | None:
    """The snapshot of a volume that goes first where the room for them fills up: the oldest that no volume
    reads from, and of those that are read from the oldest.
    """
    read = {v.origin.snapshot for v in readers_of(view, volume) if v.origin is not None}
    there = [snapshot for snapshot in volume.snapshots if snapshot.there]
    return min(there, key=lambda snapshot: (snapshot.number in read, snapshot.number), default=None)


def said_to_give_way(view: SiteView, volume: Volume) -> str:
    """What happens once that room is full, as the end of a sentence; empty where there is nothing to lose."""
    first = gives_way(view, volume)
    if first is None:
        return ""
    readers = [v.name for v in readers_of(view, volume, [first.number])]
    with_it = f", and with it what {say_list(readers)} {_reads(readers)} from it" if readers else ""
    return f"{first.name} gives way{with_it}"


def _reads(names: Collection[str]) -> str:
    return "read" if len(names) > 1 else "reads"


def against_losing(
    view: SiteView, volume: Volume, numbers: Collection[int] | None = None, *, about: str
) -> NotPossible | None:
    """Why snapshots of a volume (by number; all of them, and the volume, when None) cannot be let go of; None
    where they can.
    """
    found = readers_of(view, volume, numbers)
    if not found:
        return _against_asked(volume) if numbers is None else None
    shown = [v.name for v in found if v.origin and v.origin.shown]
    copies = [v.name for v in found if v.origin and not v.origin.shown]
    names = [v.name for v in found]
    what = "what is to go" if numbers is None or len(numbers) > 1 else "it"
    words = f"{say_list(names)} {_reads(names)} from {what}."
    steps = [f"wait until {say_list(copies)} {'stand' if len(copies) > 1 else 'stands'} alone"] * bool(copies)
    steps += [f"delete {say_list(shown)}"] * bool(shown)
    step = " and ".join(steps)
    return NotPossible(words, about=about, next_step=f"{step[0].upper()}{step[1:]} first.")


def asked_of(volume: Volume) -> list[str]:
    """What orchestrators have asked for of a volume, and have still: as it is called there."""
    there = [s.asked for s in volume.snapshots if s.there and s.asked is not None]
    return sorted(asked.path for asked in there if not asked.fills)


def _against_asked(volume: Volume) -> NotPossible | None:
    """What an orchestrator asked for outlives the claim whose volume it was taken of."""
    asked = asked_of(volume)
    if not asked:
        return None
    words = f"It holds {say_list(asked, 3)}, which an orchestrator asked for and has still."
    step = "Delete that there first, or the snapshot here."
    return NotPossible(words, about="volumes", next_step=step)


def against_reshaping(volume: Volume) -> NotPossible | None:
    """Why a volume can be held no other way while it reads from another one; None where it stands alone."""
    if volume.origin is None:
        return None
    if volume.origin.shown:
        words = f"{volume.name} shows a snapshot, and holds nothing itself."
        return NotPossible(words, about="volume", next_step="Make a volume from that snapshot instead.")
    words = f"{volume.name} does not stand alone yet."
    return NotPossible(words, about="volume", next_step="Wait until all of it is written.")


def against_marking(volume: Volume) -> NotPossible | None:
    """Why no snapshot of a volume is taken; None where one can be."""
    if volume.origin is None or not volume.origin.shown:
        return None
    return NotPossible(f"{volume.name} shows a snapshot: it is one already.", about="volumes")


def against_reading(volume: Volume, snapshot: Snapshot) -> NotPossible | None:
    """Why no volume can be made to read from a snapshot of one; None where it can. What is in the bin can be
    read.
    """
    if snapshot.forming:
        return NotPossible(f"{snapshot.name} is being taken.", about="snapshot")
    if snapshot.lost:
        return NotPossible(f"{snapshot.name} is lost. {snapshot.lost}", about="snapshot")
    return against_bringing_back(volume) or against_reshaping(volume)


def against_strips(view: SiteView, volume: Volume, pool: int) -> NotPossible | None:
    """Why a volume cannot be copied into a pool (by its row); None where it can: strips of data go over as
    they are.
    """
    theirs, ours = view.pools[volume.pool], view.pools[pool]
    if theirs.strip_bytes == ours.strip_bytes:
        return None
    words = f"{ours.name} has strips of {say_binary(ours.strip_bytes)}, and {theirs.name} of "
    words += f"{say_binary(theirs.strip_bytes)}: strips are copied as they are."
    return NotPossible(words, about="pool", next_step=f"Choose a pool with strips like {theirs.name}.")
