"""Who shares the fast tier of a pool, outright or by heat: what moves next, and what each volume would gain
or lose by another share. Method: docs/methods.md, "Tiers by heat".
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.policies.matching import astray, hot_extents
from foldbarn.core.policies.policy import Wishes
from foldbarn.core.pools.capacity import most_that_fits
from foldbarn.core.site import ANYWHERE, OnlyOn, Ply, Pool, SiteView, Tier, Volume
from foldbarn.core.volumes.bin import against_altering
from foldbarn.core.volumes.heat import Heat
from foldbarn.core.volumes.loss import enough_to_read
from foldbarn.core.volumes.origins import against_reshaping
from foldbarn.core.volumes.tiers import Shift, Wanted, hottest, in_hot, next_shift

LEAST_SECONDS = 60.0  # sooner nobody knows what is asked for most
Heats = Mapping[int, Heat]  # by number of the volume


def shift_for(view: SiteView, pool: Pool, heat: Heats, most: int) -> Shift | None:
    """What is to move next in a pool, at most so many strips on disks; None for nothing. What lies on the
    fast tier outright comes before what is there for its heat.
    """
    if most <= 0:
        return None
    if outright := _outright(view, pool, most):
        return outright
    parts = _sharing(view, pool, heat)
    return None if not parts else next_shift(list(parts.values()), _room(view, pool, parts), most)


def _outright(view: SiteView, pool: Pool, most: int) -> Shift | None:
    """What of a pool's volumes does not lie where their policies have it outright, of the first of these, at
    most so many strips on disks; as far as there is room where it goes.
    """

    def room_for(ply: Ply, only: OnlyOn) -> int:
        return most_that_fits(view, pool, ply.scheme, ply.tier, only=only).extents

    for volume in view.volumes_of(pool):
        policy = view.policy_of(volume)
        if volume.hot is None or policy is None or not policy.wishes.first:
            continue
        if volume.forming or volume.anew is not None or against_altering(volume) or against_reshaping(volume):
            continue
        k, only = volume.whole.scheme.k, volume.only_on
        at_once = max(1, most // (k * volume.hot.scheme.strips))
        falls, rises = (astray(pool, volume, policy.wishes, up=up) for up in (False, True))
        rises = rises[enough_to_read(view, volume.whole)[rises]] if len(rises) else rises
        if len(falls):
            falls = falls[enough_to_read(view, volume.hot)[in_hot(falls, k)].reshape(-1, k).all(axis=1)]
        if len(falls) and (room := room_for(volume.whole, only)):
            return Shift(volume.number, False, falls[: min(at_once, room)])
        if len(rises) and (room := room_for(volume.hot, only) // k):
            return Shift(volume.number, True, rises[: min(at_once, room)])
    return None


def _sharing(view: SiteView, pool: Pool, heat: Heats) -> dict[int, Wanted]:
    """By number, what each volume of a pool wants on its fast tier."""
    found = {}
    for volume in view.volumes_of(pool):
        policy = view.policy_of(volume)
        if volume.hot is None or policy is None or volume.forming or volume.anew is not None:
            continue
        if not volume.served or not policy.wishes.share:
            continue  # nothing is asked of it: it stays as it lies
        wanted = _wanted(pool, volume, policy.wishes, heat.get(volume.number))
        if wanted is not None:
            found[volume.number] = wanted
    return found


def _wanted(pool: Pool, volume: Volume, wishes: Wishes, heat: Heat | None) -> Wanted | None:
    """What a volume wants on the fast tier by its heat and such wishes; None where nobody knows yet what."""
    whole, copies = volume.whole, wishes.hot_scheme
    if heat is None or heat.seconds < LEAST_SECONDS or len(heat.warmth) != whole.extents or copies is None:
        return None
    rates = heat.warmth / heat.seconds
    rates[whole.unwritten & ~volume.upper] = 0.0  # there is nothing to move
    strips = whole.scheme.k * copies.strips
    return Wanted(volume.number, rates, volume.upper, hot_extents(pool, volume, wishes), strips)


def _room(view: SiteView, pool: Pool, parts: Mapping[int, Wanted]) -> int:
    """Strips on disks that these may take on the fast tier, with those that they have there."""
    used = sum(int(part.upper.sum()) * part.strips for part in parts.values())
    schemes = {
        replace(policy.wishes, share=1).hot_scheme
        for number in parts
        if (policy := view.policy_of(view.volume_numbered(number))) is not None
    }
    free = min(
        most_that_fits(view, pool, s, Tier.FAST, only=ANYWHERE).extents * s.strips
        for s in schemes
        if s is not None
    )
    return used + free


@dataclass(frozen=True, slots=True)
class Served:
    """How a volume (by number) would fare: the share of what is asked of it that the fast tier takes now and
    would take then, 0 to 1, and extents there. short_of_room: whether more of it would rise then, were there
    room.
    """

    volume: int
    now: float
    then: float
    extents_now: int
    extents_then: int
    short_of_room: bool


def foreseen(view: SiteView, volume: Volume, heat: Heats, share: int) -> list[Served]:
    """What a share of the fast tier, in per cent, would bring a volume, and what the others that share it
    would lose; once all has moved, while what is asked for stays as it is. The volume itself comes first.

    Empty where it has no policy, its pool no fast tier, or nobody knows yet what is asked for most.
    """
    pool, policy = view.pools[volume.pool], view.policy_of(volume)
    if policy is None or Tier.FAST not in view.tiers_of(pool):
        return []
    wishes = replace(policy.wishes, share=max(share, 1), first=0)
    mine = _wanted(pool, volume, wishes, heat.get(volume.number))
    if mine is None:
        return []
    if not share:
        mine = replace(mine, most=0)
    parts = _sharing(view, pool, heat) | {volume.number: mine}
    chosen = hottest(list(parts.values()), _room(view, pool, parts))
    order = sorted(parts.values(), key=lambda part: part.volume != volume.number)
    return [_served(part, chosen[part.volume]) for part in order]


def _served(part: Wanted, then: np.ndarray) -> Served:
    total = float(part.rates.sum())
    now, later = (float(part.rates[those].sum()) / total if total else 0.0 for those in (part.upper, then))
    asked_for = min(part.most, int((part.upper | (part.rates > 0)).sum()))
    there = int(then.sum())
    return Served(part.volume, now, later, int(part.upper.sum()), there, short_of_room=there < asked_for)
