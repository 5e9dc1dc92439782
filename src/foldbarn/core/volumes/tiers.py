"""Volumes that lie in two tiers: what is asked for most in a hot ply on the fast one, the rest on the bulk
one. Method: docs/methods.md, "Tiers by heat".
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.arrays import Flags, Ints, Reals
from foldbarn.core.pools.protection import Scheme
from foldbarn.core.site import UNWRITTEN, Ply, Purpose, Tier, Volume

# An extent takes another's place only where it is asked for so many times as often: what is asked for about
# as much must not go to and fro.
MARGIN = 1.5


def new_hot(volume: Volume, scheme: Scheme) -> Ply:
    """An empty hot ply for a volume: everything still lies in the ply of all of it. Its extents are single
    strips of data, k of them to an extent of that.
    """
    whole = volume.whole
    extents = whole.extents * whole.scheme.k
    return Ply(
        number=-2 * volume.number - 1,
        volume=volume.number,
        name=volume.name,
        pool=volume.pool,
        scheme=scheme,
        placement=np.full((extents, scheme.strips), UNWRITTEN, dtype=np.int32),
        tier=Tier.FAST,
        purpose=Purpose.HOT,
        elsewhere=np.ones(extents, dtype=np.bool_),
    )


def in_tiers(plies: Sequence[Ply], holds: Flags) -> tuple[tuple[Ply, ...], Ply | None]:
    """A volume's plies as they hold it, and what is on its way from the one tier to the other, if anything.

    plies: with all that is placed, also what does not hold anything yet. holds: [extents] of the ply of all
    of it, which lie in the hot one instead.
    """
    whole = next(ply for ply in plies if ply.purpose == Purpose.WHOLE)
    hot = next(ply for ply in plies if ply.purpose == Purpose.HOT)
    cold = ~np.repeat(holds, whole.scheme.k)
    found = {whole.number: _without(whole, holds), hot.number: _without(hot, cold)}
    rises, falls = _only(hot, cold, whole.number), _only(whole, holds, hot.number)
    return tuple(found.get(ply.number, ply) for ply in plies), rises or falls


def _without(ply: Ply, away: Flags) -> Ply:
    placement = np.where(away[:, None], np.int32(UNWRITTEN), ply.placement)
    return replace(ply, placement=placement, elsewhere=away)


def _only(ply: Ply, away: Flags, source: int) -> Ply | None:
    """What is placed of a ply and does not hold anything yet."""
    comes = away & (ply.placement[:, 0] != UNWRITTEN)
    if not comes.any():
        return None
    placement = np.where(comes[:, None], ply.placement, np.int32(UNWRITTEN))
    return replace(ply, placement=placement, purpose=Purpose.ANEW, source=source)


def in_hot(extents: Ints, data: int) -> Ints:
    """The extents of a hot ply that are these of the ply of all of it, which have so many strips of data."""
    found: Ints = (np.asarray(extents, dtype=np.int64)[:, None] * data + np.arange(data)).reshape(-1)
    return found


@dataclass(frozen=True, slots=True, eq=False)
class Wanted:
    """A volume that wants what is asked for most of it on the fast tier.

    rates: [extents] operations a second; upper: [extents] which lie there; most: of them that may; strips: on
    disks for each.
    """

    volume: int
    rates: Reals
    upper: Flags
    most: int
    strips: int


def hottest(parts: Sequence[Wanted], room: int) -> dict[int, Flags]:
    """Which extents of each volume (by number) are to lie on a fast tier with room for so many strips,
    [extents].

    Those that are asked for most often for the room that they take, of each volume at most as many as may.
    What lies there stays unless what would take its place is MARGIN times as hot; what nobody asks for goes
    up by itself for no reason.
    """
    worth, strips, where = [], [], []
    for number, part in enumerate(parts):
        value = np.where(part.upper, np.maximum(part.rates, 1e-12) * MARGIN, part.rates)
        first = _first(-value, part.most)
        first = first[value[first] > 0]
        worth.append(value[first] / part.strips)
        strips.append(np.full(len(first), part.strips))
        where.append(np.stack([np.full(len(first), number), first]))
    chosen = {part.volume: np.zeros(len(part.rates), dtype=np.bool_) for part in parts}
    if not parts:
        return chosen
    order = np.argsort(-np.concatenate(worth), kind="stable")
    taken = np.cumsum(np.concatenate(strips)[order])
    numbers, extents = np.concatenate(where, axis=1)[:, order[taken <= room]]
    for number, part in enumerate(parts):
        chosen[part.volume][extents[numbers == number]] = True
    return chosen


def _first(values: Reals, most: int) -> Ints:
    """Where the least of some values stand, at most so many, the least first; of equals the first."""
    rows = np.arange(len(values))
    if most < len(values):
        limit = np.partition(values, most - 1)[most - 1] if most > 0 else -np.inf
        rows = np.flatnonzero(values <= limit)
    found: Ints = rows[np.argsort(values[rows], kind="stable")][:most]
    return found


@dataclass(frozen=True, slots=True, eq=False)
class Shift:
    """Extents of one volume (by number) that are to go to the other tier next, hottest first where they rise,
    coldest first where they fall; up: to the fast one. rates: operations a second of each; None where they
    belong there outright.
    """

    volume: int
    up: bool
    extents: Ints
    rates: Reals | None = None


def next_shift(parts: Sequence[Wanted], room: int, most: int) -> Shift | None:
    """What is to move next: what has to make room before what takes it, of the volume where that matters
    most. At most so many strips on disks. None where all lies as it should.
    """
    chosen = hottest(parts, room)
    shifts: list[tuple[float, Shift]] = []
    for part in parts:
        wanted = chosen[part.volume]
        for up, those in ((False, part.upper & ~wanted), (True, wanted & ~part.upper)):
            extents = np.flatnonzero(those)
            if len(extents):
                rates = part.rates[extents]
                extents = extents[_first(-rates if up else rates, max(1, most // part.strips))]
                rates = part.rates[extents]
                shifts.append((float(rates.sum()), Shift(part.volume, up, extents, rates)))
    falling = [shift for _, shift in shifts if not shift.up]
    if falling:
        return max(falling, key=lambda shift: (len(shift.extents), -shift.volume))
    rising = max(shifts, key=lambda one: (one[0], -one[1].volume), default=None)
    return None if rising is None else rising[1]
