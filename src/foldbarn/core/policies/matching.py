"""Which pools can keep a policy's wishes, and what stands against the others. A volume is made by the same
rule.
"""

from __future__ import annotations

import heapq
import zlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import cast

import numpy as np

from foldbarn.core.arrays import Disks, Ints
from foldbarn.core.names import folded, natural_key
from foldbarn.core.policies.memory import silent_of_memory
from foldbarn.core.policies.policy import Cache, Wishes
from foldbarn.core.pools.cache import burst, most_behind_one, most_that_comes, without_cache
from foldbarn.core.pools.capacity import Fit, Limit, fits, full_with, most_that_fits, usable_extents
from foldbarn.core.pools.only_on import may_hold
from foldbarn.core.pools.placement import place
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.site import ANYWHERE, Disk, OnlyOn, Pool, SiteView, Tier, Volume
from foldbarn.core.units import say_binary, say_count, say_list, say_size
from foldbarn.core.volumes.snapshots import room_extents
from foldbarn.core.volumes.thin import ahead_of


class Wish(StrEnum):
    """What of a wish is not kept."""

    OPEN = "open"
    TIER = "tier"
    ENCRYPTION = "encryption"
    COMPRESSION = "compression"
    DOMAINS = "domains"
    ROOM = "room"
    SIZE = "size"
    LANDING = "landing"
    SHARE = "share"
    LABELS = "labels"
    CACHE = "cache"
    # Of a volume that is there, and is to keep another policy.
    UNCHANGED = "unchanged"
    WHOLE = "whole"  # its strips that stay have to be there


@dataclass(frozen=True, slots=True)
class Against:
    """One thing that stands against a pool, and what would change it."""

    wish: Wish
    sentence: str
    cure: str


@dataclass(frozen=True, slots=True)
class Answer:
    """A pool's answer to a policy: it keeps it, or everything that stands against it. room: bytes that a new
    volume may have there, None where that was not asked; full: how full its tier would be, 0 to 1, with the
    volume that was asked for. cache: how it would take what is written, where writes are to wait there.
    """

    pool: int  # row
    against: tuple[Against, ...]
    room: int | None = None
    full: float = 0.0
    cache: tuple[str, ...] = ()

    @property
    def keeps(self) -> bool:
        return not self.against


def tier_of(wishes: Wishes) -> Tier:
    return Tier.FAST if wishes.fast else Tier.BULK


def open_disks(view: SiteView, pool: Pool, tier: Tier, only: OnlyOn) -> Ints:
    """Rows of the disks of a tier that can take new strips of what may lie there."""
    rows = view.in_pool(pool, tier)
    found: Ints = rows[view.disk_open[rows] & (view.disk_free[rows] > 0)]
    may = may_hold(view, only)
    return found if may is None else found[may[found]]


def place_new(
    view: SiteView,
    pool: Pool,
    tier: Tier,
    scheme: Scheme,
    extents: int,
    name: str,
    room: Ints | None = None,
    *,
    only: OnlyOn,
) -> Disks:
    """Disk numbers of every strip of what is new on a tier, [extents, strips]. The same site and name give
    the same placement. room: [disks] strips that each can still take, what is free as it stands when None.
    only: where it may lie.
    """
    free = view.disk_free if room is None else room
    rows = open_disks(view, pool, tier, only)
    rows = rows[free[rows] > 0]
    domain_of = view.domain_of(scheme.level)[rows]
    seed = zlib.crc32(folded(name.strip()).encode())
    placed = place(
        free[rows], domain_of, view.disk_node[rows], extents, scheme.strips, seed, scheme.per_domain
    )
    numbers: Disks = view.disk_numbers[rows][placed]
    return numbers


def rounded_size(size: int, pool: Pool) -> int:
    """The size rounded up to the pool's allocation unit, in bytes."""
    return -(-size // pool.allocation_bytes) * pool.allocation_bytes


def extents_for(size: int, pool: Pool, scheme: Scheme) -> int:
    """Extents that a volume of this many bytes takes; the last one may be partly used."""
    return -(-rounded_size(size, pool) // (scheme.k * pool.strip_bytes))


def landing_extents(size: int, pool: Pool, wishes: Wishes) -> int:
    """Extents of the landing of a volume of this many bytes; 0 where it has none."""
    if not wishes.landing:
        return 0
    return max(1, -(-rounded_size(size, pool) * wishes.landing // (100 * pool.strip_bytes)))


def landing_as_wished(volume: Volume, pool: Pool, wishes: Wishes) -> bool:
    """Whether a volume's landing, if any, is what is wished for."""
    has, extents = volume.landing, landing_extents(volume.size_bytes, pool, wishes)
    if has is None:
        return not extents
    return (has.scheme, has.extents, has.tier) == (wishes.landing_scheme, extents, Tier.FAST)


def aside_rule(wishes: Wishes) -> Callable[[int], int] | None:
    """For how many of so many extents room is set aside as a volume is made; None where it is for all."""
    return ahead_of if wishes.thin else None


def aside_for(wishes: Wishes, extents: int) -> int:
    """Of a new volume of so many extents, those for which room is set aside as it is made."""
    rule = aside_rule(wishes)
    return extents if rule is None else rule(extents)


def against(
    view: SiteView,
    pool: Pool,
    wishes: Wishes,
    size: int,
    aside: int | None = None,
    only: OnlyOn = ANYWHERE,
    *,
    volumes: int = 0,
    rises: bool = False,
) -> list[Against]:
    """Everything that stands against a volume of these wishes in a pool. size: bytes of it; 0 for the
    smallest there can be; aside: extents for which room is set aside at once, those of a new volume when
    None; only: where it may lie. volumes: how many it is about together where they are there already, 0 for
    a new one; rises: whether all of it lies on its tier to begin with, and its first part goes to the fast
    one after that. The same holds for a preview and for a step that makes the volume.
    """
    tier, scheme = tier_of(wishes), wishes.scheme
    first = first_extents(pool, wishes)
    if not volumes and (small := too_small(pool, wishes, size)):
        return [small]
    found: list[Against] = []
    if pool.closing:
        found.append(Against(Wish.OPEN, f"{pool.name} is being deleted.", "Choose another pool."))
    if pool.forming:
        words = f"{pool.name} is still being formed."
        found.append(Against(Wish.OPEN, words, "Wait until its change is done."))
    if wishes.encrypted and not pool.encrypted:
        words = f"Disks of {pool.name} do not hold everything encrypted."
        cure = "Choose another pool, or form one with encryption: that is chosen as a pool is formed."
        found.append(Against(Wish.ENCRYPTION, words, cure))
    if wishes.compressed and not pool.compress_unit:
        words = f"Disks of {pool.name} hold what is written as it is."
        cure = "Choose another pool, or form one that compresses: that is chosen as a pool is formed."
        found.append(Against(Wish.COMPRESSION, words, cure))
    if lacks := [label for label in wishes.labels if label not in pool.labels]:
        words = f"{pool.name} is not labelled {say_list(lacks)}."
        cure = f"Choose another pool, or give {pool.name} that label in its settings, where it is true of it."
        found.append(Against(Wish.LABELS, words, cure))
    if tier not in view.tiers_of(pool):
        cure = "Choose the bulk tier, or form a pool of two media classes."
        return [*found, Against(Wish.TIER, f"{pool.name} has no fast tier.", cure)]
    if few := too_few_domains(view, pool, scheme, tier, only):
        return [*found, few]
    extents = max(1 + first, extents_for(size, pool, scheme))
    # With a new volume's first snapshot comes room for what is overwritten.
    past = room_extents(extents, wishes.schedule.per_cent) if aside is None else 0
    at_once = aside_for(wishes, extents) if aside is None else aside
    elsewhere = 0 if rises else first
    here, now = extents - elsewhere + past, at_once - elsewhere + past
    if not fits(view, pool, scheme, tier, here, now, only=only):
        found.append(_too_large(view, pool, wishes, size, only, elsewhere))
    found += against_cache(view, pool, wishes, only)
    found += _against_landing(view, pool, wishes, size, only)
    return found + _against_fast(view, pool, wishes, max(1, volumes), only)


def _against_landing(view: SiteView, pool: Pool, wishes: Wishes, size: int, only: OnlyOn) -> list[Against]:
    """What stands against the landing of such a volume. It lies on another tier than the rest, so that
    neither takes the other's room.
    """
    scheme = wishes.landing_scheme
    if scheme is None:
        return []
    if Tier.FAST not in view.tiers_of(pool):
        cure = "Leave the landing out, or form a pool of two media classes."
        return [Against(Wish.LANDING, f"{pool.name} has no fast tier for its landing.", cure)]
    if few := too_few_domains(view, pool, scheme, Tier.FAST, only):
        return [Against(Wish.LANDING, f"For its landing: {few.sentence}", few.cure)]
    extents = landing_extents(size, pool, wishes)
    if not fits(view, pool, scheme, Tier.FAST, extents, only=only):
        fit = most_that_fits(view, pool, scheme, Tier.FAST, only=only)
        words = (
            f"Its landing of {say_size(extents * pool.strip_bytes)} does not fit: the fast tier of "
            f"{pool.name} can take {say_size(fit.extents * pool.strip_bytes)} more with {scheme.counted()}, "
            f"{said_limit(pool, scheme, fit.limit)}."
        )
        return [Against(Wish.LANDING, words, "Choose a smaller size or landing, or add fast disks.")]
    return []


def _against_fast(view: SiteView, pool: Pool, wishes: Wishes, volumes: int, only: OnlyOn) -> list[Against]:
    """What stands against a part of so many such volumes lying on the fast tier. What is asked for most needs
    no room to begin with: as much of it as finds room there rises. What comes first has its room outright.
    """
    scheme = wishes.hot_scheme
    if scheme is None:
        return []
    what = f"its first {say_binary(wishes.first)}" if wishes.first else "what is asked for most"
    if Tier.FAST not in view.tiers_of(pool):
        cure = f"Leave {'them' if wishes.first else 'the share'} out, or form a pool of two media classes."
        return [Against(Wish.SHARE, f"{pool.name} has no fast tier for {what}.", cure)]
    if few := too_few_domains(view, pool, scheme, Tier.FAST, only):
        return [Against(Wish.SHARE, f"For {what}: {few.sentence}", few.cure)]
    extents = volumes * first_extents(pool, wishes) * wishes.scheme.k
    if not extents or fits(view, pool, scheme, Tier.FAST, extents, only=only):
        return []
    fit = most_that_fits(view, pool, scheme, Tier.FAST, only=only)
    each = " of each" if volumes > 1 else ""
    words = (
        f"{say_size(wishes.first)}{each} does not fit on the fast tier of {pool.name}: it can take "
        f"{say_size(fit.extents * pool.strip_bytes)} more with {scheme.counted()}, "
        f"{said_limit(pool, scheme, fit.limit)}."
    )
    return [Against(Wish.SHARE, words, "Wish for less of it there, or add fast disks.")]


def first_extents(pool: Pool, wishes: Wishes) -> int:
    """Extents of the ply of all of a volume that lie on the fast tier outright; whole ones."""
    return -(-wishes.first // (wishes.scheme.k * pool.strip_bytes))


def too_small(pool: Pool, wishes: Wishes, size: int) -> Against | None:
    """That a volume of so many bytes would lie on the fast tier whole, and has nothing for the bulk tier; for
    0 bytes nothing is said.
    """
    first = first_extents(pool, wishes)
    if not size or not first or extents_for(size, pool, wishes.scheme) > first:
        return None
    words = f"Its first {say_binary(wishes.first)}, which lie on the fast tier, would be all of it."
    cure = f"Choose more than {say_binary(first * wishes.scheme.k * pool.strip_bytes)}, or another policy."
    return Against(Wish.SIZE, words, cure)


def against_cache(view: SiteView, pool: Pool, wishes: Wishes, only: OnlyOn = ANYWHERE) -> list[Against]:
    """What stands against a pool's cache devices, or the memory of its nodes, doing what is wished for."""
    if wishes.cache == Cache.MEMORY:
        silent = silent_of_memory(view, pool, tier_of(wishes), only)
        if not silent:
            return []
        does = (
            "does not tell how much memory it has"
            if len(silent) == 1
            else "do not tell how much memory they have"
        )
        cure = "Choose another cache, or let their agents tell."
        return [Against(Wish.CACHE, f"{say_list(silent)} {does}.", cure)]
    if wishes.cache not in (Cache.READ, Cache.WRITE_BACK):
        return []
    bare = without_cache(view, pool, tier_of(wishes))
    if bare:
        words = f"{pool.name} has no cache device for {say_disks(bare, view)}."
        cure = "Leave the cache out, or add a cache device to each of these nodes."
        return [Against(Wish.CACHE, words, cure)]
    together = most_behind_one(view, pool, wishes.scheme)
    if wishes.cache == Cache.WRITE_BACK and wishes.survives and together > wishes.scheme.m:
        words = (
            f"One cache device of {pool.name} may hold what waits for {together} strips of an extent, and "
            f"{wishes.scheme.counted()} go on without {wishes.scheme.m}."
        )
        return [Against(Wish.CACHE, words, "Spread over nodes or more, or wish for a read cache.")]
    return []


def say_disks(disks: Sequence[Disk], view: SiteView) -> str:
    """So many disks, and the nodes they are in."""
    names = sorted({view.nodes[disk.node].name for disk in disks}, key=natural_key)
    return f"{say_count(len(disks), 'disk')} of {say_list(names)}"


def said_of_cache(view: SiteView, pool: Pool, wishes: Wishes) -> list[str]:
    """How a pool's cache would take what is written at the limit that is wished for, or as much as can come.
    Nothing where nothing waits there.
    """
    if wishes.cache != Cache.WRITE_BACK:
        return []
    rate, why = float(wishes.throughput), "its limit"
    if not rate:
        rate, why = most_that_comes(view, pool, wishes.scheme), "as much as its nodes' ports let in"
    found = burst(view, pool, wishes.scheme, rate)
    return found.sentences(why) if found else []


def hot_extents(pool: Pool, volume: Volume, wishes: Wishes) -> int:
    """How many extents of a volume may lie on the fast tier, for their heat or outright; 0 for none."""
    if wishes.first:
        return min(volume.whole.extents, first_extents(pool, wishes))
    return volume.whole.extents * wishes.share // 100


def astray(pool: Pool, volume: Volume, wishes: Wishes, *, up: bool) -> Ints:
    """Extents of a volume that are to lie on the fast tier outright, and lie on the other one (up), or lie
    there though they do not come first. None of a volume of which nothing is to lie there outright.
    """
    if not wishes.first or volume.origin is not None:
        return np.zeros(0, dtype=np.int64)
    comes_first = np.arange(volume.whole.extents) < hot_extents(pool, volume, wishes)
    upper = volume.upper
    found: Ints = np.flatnonzero(
        comes_first & ~upper & ~volume.whole.unwritten if up else upper & ~comes_first
    )
    return found


def hot_as_wished(volume: Volume, wishes: Wishes) -> bool:
    """Whether a volume's hot ply, if any, is as is wished for; what lies in it now is not asked."""
    return (volume.hot.scheme if volume.hot else None) == wishes.hot_scheme


def answer(
    view: SiteView,
    pool: Pool,
    wishes: Wishes,
    size: int = 0,
    *,
    room: bool = True,
    only: OnlyOn = ANYWHERE,
    copied: bool = False,
) -> Answer:
    """What a pool says to a policy. size: bytes of a volume that is to be made there, on chosen disks only
    where there are such. room: whether it is to be found out how much more fits, which takes many trials.
    copied: whether it is to be a copy of another one. Found out once for each picture of the site.
    """
    key = ("answer", pool.number, wishes, size, room, only, copied)
    if key not in view.findings:
        view.findings[key] = _answer(view, pool, wishes, size, room, only, copied)
    return cast(Answer, view.findings[key])


def _answer(
    view: SiteView, pool: Pool, wishes: Wishes, size: int, room: bool, only: OnlyOn, copied: bool
) -> Answer:
    tier, scheme = tier_of(wishes), wishes.scheme
    found = against(view, pool, wishes, size, only=only, rises=copied)
    most, full = 0 if room else None, 0.0
    if room and all(a.wish == Wish.ROOM for a in found):
        most = room_for(view, pool, wishes, only).bytes
    if size and not found:
        extents = extents_for(size, pool, scheme)
        elsewhere = 0 if copied else first_extents(pool, wishes)
        at_once = aside_for(wishes, extents) - elsewhere
        full = full_with(view, pool, scheme, tier, extents - elsewhere, at_once, only=only)
    cached = () if found else tuple(said_of_cache(view, pool, wishes))
    return Answer(view.pool_row(pool), tuple(found), most, full, cached)


def can_land(view: SiteView, pool: Pool, scheme: Scheme) -> bool:
    """Whether a pool has a fast tier on which a landing of a scheme of parity would find its domains."""
    landing = Wishes(scheme, scheme.survives, landing=1).landing_scheme
    if landing is None or Tier.FAST not in view.tiers_of(pool):
        return False
    return too_few_domains(view, pool, landing, Tier.FAST, ANYWHERE) is None


@dataclass(frozen=True, slots=True)
class Room:
    """Bytes that a new volume may have, and what limits them: the room of its tier, or of the fast tier for
    its landing.
    """

    bytes: int
    limit: Limit
    for_landing: bool = False


def room_for(view: SiteView, pool: Pool, wishes: Wishes, only: OnlyOn = ANYWHERE) -> Room:
    """The largest volume of these wishes that a pool has room for, where it may lie."""
    scheme, first = wishes.scheme, first_extents(pool, wishes)
    fit = _most_beside_past(view, pool, wishes, only, first)
    extents = fit.extents + (first if fit.extents else 0)
    most = Room(extents * scheme.k * pool.strip_bytes, fit.limit)
    landing = wishes.landing_scheme
    if landing is None:
        return most
    fast = most_that_fits(view, pool, landing, Tier.FAST, only=only)
    whole = fast.extents * pool.strip_bytes * 100 // wishes.landing
    rounded = whole // pool.allocation_bytes * pool.allocation_bytes
    return most if most.bytes <= rounded else Room(rounded, fast.limit, for_landing=True)


def _most_beside_past(view: SiteView, pool: Pool, wishes: Wishes, only: OnlyOn, elsewhere: int) -> Fit:
    """The most extents of a volume of these wishes on its tier, beside which there is room for what snapshots
    hold of all of it. elsewhere: extents of it that lie on the other one.
    """
    tier, rule, per_cent = tier_of(wishes), aside_rule(wishes), wishes.schedule.per_cent
    if not per_cent:
        return most_that_fits(view, pool, wishes.scheme, tier, rule, only=only)

    def volume(both: int) -> int:
        extents = max(0, (both * 100 - elsewhere * per_cent) // (100 + per_cent))
        # Room for the past is whole extents, rounded up.
        past = room_extents(extents + elsewhere, per_cent)
        return extents if extents + past <= both else max(extents - 1, 0)

    def at_once(both: int) -> int:
        return both if rule is None else rule(volume(both)) + both - volume(both)

    fit = most_that_fits(view, pool, wishes.scheme, tier, at_once, only=only)
    return Fit(volume(fit.extents), fit.limit)


def too_few_domains(view: SiteView, pool: Pool, scheme: Scheme, tier: Tier, only: OnlyOn) -> Against | None:
    """That a tier has too few domains for a scheme where it may lie, where it has; with every change of the
    wish that would do.
    """
    there = _domains_open(view, pool, scheme.level, tier, only)
    if there >= scheme.least_domains:
        return None
    if only:
        level = say_count(scheme.least_domains, scheme.level.value)
        where = f"the fast tier of {pool.name}" if tier == Tier.FAST else pool.name
        words = f"{scheme.counted()} need {level}; of what was chosen, {there} in {where} can take it now."
        return Against(Wish.DOMAINS, words, "Choose more nodes or disks, or none.")
    level = scheme.level.value
    sharing = f", {scheme.apart()}," if scheme.per_domain > 1 else ""
    words = (
        f"{scheme.counted()}{sharing} need {say_count(scheme.least_domains, level)}; {pool.name} has "
        f"room in {there} now."
    )
    if not there:
        return Against(Wish.DOMAINS, words, "Bring its nodes back first.")
    # Another pool only where one would do; more domains always would.
    widest = _widest(view, scheme.level, tier)
    enough = any(there >= scheme.least_domains for there, other in widest if other != pool.number)
    cures = ["another pool" if enough else f"more {level}s"]
    if scheme.is_mirror:
        cures.insert(0, f"at most {say_count(there, 'copy', 'copies')}")
    elif there - scheme.m >= 2:
        cures.insert(0, f"at most {there - scheme.m} strips of data")
    if closer := sharing_that_fits(view, pool, scheme, tier):
        what = "copies" if scheme.is_mirror else "strips"
        lost = say_count(closer.survives, level)
        cures.insert(-1, f"{closer.per_domain} {what} in one {level} (then it survives {lost})")
    narrower = list(Level)[list(Level).index(scheme.level) + 1 :]
    for other in narrower:
        if other == Level.DISK:
            break  # disks of one node are lost together: nobody who asks for more is served by that
        if _domains_open(view, pool, other, tier, ANYWHERE) >= scheme.least_domains:
            cures.insert(-1, f"to spread over {other.value}s")
            break
    listed = f"{', '.join(cures[:-1])}, or {cures[-1]}" if len(cures) > 1 else cures[0]
    return Against(Wish.DOMAINS, words, f"Choose {listed}.")


def _widest(view: SiteView, level: Level, tier: Tier) -> list[tuple[int, int]]:
    """The two pools in which a tier has the most domains that can take new strips, with how many: one of them
    is another than any pool. Kept with the view.
    """
    key = ("widest", level, tier)
    if key not in view.findings:
        there = [(_domains_open(view, p, level, tier, ANYWHERE), p.number) for p in view.pools]
        view.findings[key] = heapq.nlargest(2, there)
    return cast(list[tuple[int, int]], view.findings[key])


def _domains_open(view: SiteView, pool: Pool, level: Level, tier: Tier, only: OnlyOn) -> int:
    """Domains of a level in which a tier can take new strips now, where they may lie. Kept with the view."""
    key = ("domains open", pool.number, level, tier, only)
    if key not in view.findings:
        view.findings[key] = len(np.unique(view.domain_of(level)[open_disks(view, pool, tier, only)]))
    return cast(int, view.findings[key])


def sharing_that_fits(view: SiteView, pool: Pool, scheme: Scheme, tier: Tier) -> Scheme | None:
    """The same strips with as few more in one domain as a tier needs to hold any of them; None where that
    would survive the loss of no domain, or no number does.
    """
    rows = open_disks(view, pool, tier, ANYWHERE)
    domain_of = view.domain_of(scheme.level)[rows]
    most = scheme.m if scheme.level != Level.DISK else 1
    for per_domain in range(scheme.per_domain + 1, most + 1):
        closer = replace(scheme, per_domain=per_domain)
        if usable_extents(view.disk_free[rows], domain_of, closer):
            return closer
    return None


def said_limit(pool: Pool, scheme: Scheme, limit: Limit) -> str:
    """What keeps a volume of a pool from being larger."""
    return {
        Limit.APART: "where its copies can be kept apart"
        if scheme.is_mirror
        else "where its strips can be kept apart",
        Limit.FILL_LINE: f"up to its fill line of {pool.fill_line:.0%}",
        Limit.CAP: f"up to its cap on overcommit of {pool.overcommit_cap:g}",
    }[limit]


def _too_large(
    view: SiteView, pool: Pool, wishes: Wishes, size: int, only: OnlyOn, elsewhere: int
) -> Against:
    """That a volume does not fit, with what limits its size; elsewhere: as _most_beside_past has it."""
    scheme, fit = wishes.scheme, _most_beside_past(view, pool, wishes, only, elsewhere)
    smaller = "Choose a smaller size, fewer copies, or add disks."
    if not scheme.is_mirror:
        smaller = "Choose a smaller size, or add disks."
    steps = {
        Limit.APART: smaller,
        Limit.FILL_LINE: smaller,
        Limit.CAP: "Choose a smaller size, or raise the cap in the pool's settings.",
    }
    asked = f"{say_size(rounded_size(size, pool))} does" if size else "The smallest volume does"
    where = f"{pool.name} can" if not only else f"what was chosen of {pool.name} can"
    most = fit.extents + (elsewhere if fit.extents else 0)
    words = (
        f"{asked} not fit: {where} take {say_size(most * scheme.k * pool.strip_bytes)} more "
        f"with {scheme.counted()}, {said_limit(pool, scheme, fit.limit)}."
    )
    return Against(Wish.ROOM, words, steps[fit.limit])


def answers(
    view: SiteView,
    wishes: Wishes,
    size: int = 0,
    *,
    room: bool = True,
    only: OnlyOn = ANYWHERE,
    copied: bool = False,
) -> list[Answer]:
    """What every pool says, in the site's order."""
    return [answer(view, pool, wishes, size, room=room, only=only, copied=copied) for pool in view.pools]


def best(found: list[Answer]) -> Answer | None:
    """Of the pools that keep it the one that would be the least full; none where none does."""
    keeping = [a for a in found if a.keeps]
    return min(keeping, key=lambda a: (a.full, a.pool), default=None)
