"""When thin volumes will have filled a pool, and which of them. Method: docs/methods.md, "Thin volumes"."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import cast

from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.site import Pool, SiteView, Tier, Volume
from foldbarn.core.units import DAY_SECONDS, say_duration, say_list
from foldbarn.core.volumes.thin import is_thin, to_set_aside

FEWEST = 8.0  # extents, set aside lately, below which nothing is said of a pace
SOON_SECONDS = 7 * DAY_SECONDS  # a pool that fills within this needs someone


@dataclass(frozen=True, slots=True)
class Filling:
    """When thin volumes will have taken what a tier of a pool has for them. seconds: at their pace of lately;
    earliest, latest: the same were that off by as much as so few extents may be; volumes: names and the part
    that each takes of it, the most first.
    """

    tier: Tier
    seconds: float
    earliest: float
    latest: float
    volumes: tuple[tuple[str, float], ...]

    def sentence(self) -> str:
        """Whole, without the pool's name."""
        takers = say_list([f"{name} ({part:.0%})" for name, part in self.volumes], 3)
        early = say_duration(self.earliest)
        span = f"{early} to {say_duration(self.latest)}" if math.isfinite(self.latest) else f"{early} or more"
        when = f"in about {say_duration(self.seconds)} ({span})"
        return f"At their pace of lately thin volumes have filled it {when}: {takers}."


def filling_of(view: SiteView, pool: Pool) -> Filling | None:
    """Of the tier that is full first; None where all that thin volumes may still take finds room, or nothing
    is known of their pace. Found once for each picture of the site.
    """
    key = ("filling", pool.number)
    if key not in view.findings:
        found = [one for tier in view.tiers_of(pool) if (one := _filling(view, pool, tier))]
        view.findings[key] = min(found, key=lambda one: one.seconds, default=None)
    return cast("Filling | None", view.findings[key])


def full_in(view: SiteView, volume: Volume) -> float | None:
    """Seconds until a thin volume, at its pace of lately, has taken all that it may, or its pool has no room
    left for it; None where its pace is not known, or it takes nothing more.
    """
    if not is_thin(view, volume) or not volume.served or volume.growth.extents < FEWEST:
        return None
    left, rate = int(to_set_aside(volume).sum()), volume.growth.a_second
    if not left or rate <= 0:
        return None
    filling = filling_of(view, view.pools[volume.pool])
    if filling is None or filling.tier != volume.whole.tier:
        return left / rate
    return min(left / rate, filling.seconds)


@dataclass(frozen=True, slots=True)
class _Taker:
    """A thin volume: strips that it takes in a second, those that it may still take, extents by which its
    pace is known.
    """

    name: str
    rate: float
    most: int
    seen: float


def _filling(view: SiteView, pool: Pool, tier: Tier) -> Filling | None:
    thin = (v for v in view.volumes_of(pool) if v.whole.tier == tier and is_thin(view, v))
    takers = [_taker(view, v) for v in thin if v.served]  # nobody writes to the others
    takers = [one for one in takers if one.rate > 0 and one.most > 0]
    seen = sum(one.seen for one in takers)
    if seen < FEWEST:
        return None
    space = pool_space(view, pool).of(tier)
    room = space.strips * space.free
    if not room:
        return None  # it is full: those that want room say so
    seconds = until_taken(room, [(one.rate, one.most) for one in takers])
    if seconds is None:
        return None
    off = 1 / math.sqrt(seen)
    earliest, latest = (
        until_taken(room, [(one.rate * (1 + way * off), one.most) for one in takers]) for way in (1, -1)
    )
    taken = [(one.name, min(one.rate * seconds, one.most)) for one in takers]
    total = sum(part for _, part in taken) or 1.0
    parts = sorted(((name, part / total) for name, part in taken), key=lambda p: (-p[1], p[0]))
    return Filling(tier, seconds, earliest or 0.0, math.inf if latest is None else latest, tuple(parts))


def _taker(view: SiteView, volume: Volume) -> _Taker:
    strips = volume.whole.scheme.strips
    growth = volume.growth
    left = int(to_set_aside(volume).sum())
    return _Taker(volume.name, growth.a_second * strips, left * strips, growth.extents)


def until_taken(room: float, takers: Sequence[tuple[float, float]]) -> float | None:
    """Seconds until so many strips are taken by those that take some a second each, up to a most; None where
    they never take so many.
    """
    if room <= 0:
        return 0.0
    passed = 0.0
    left = sorted(((most / rate, rate) for rate, most in takers if rate > 0), reverse=True)
    rate = sum(one for _, one in left)
    while left:
        ends, own = left.pop()  # that which has all it may take first
        if room <= rate * (ends - passed):
            return passed + room / rate
        room -= rate * (ends - passed)
        passed, rate = ends, rate - own
    return None
