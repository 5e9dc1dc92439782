"""Where the bytes go: usable and stranded space of uneven domains, headroom, and the ledger.

Method: docs/methods.md, "Usable space" and "Headroom". Slots are whole strips; a ledger is in bytes and its
rows sum to the raw size exactly.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cached_property
from itertools import combinations
from typing import cast

import numpy as np

from foldbarn.core.arrays import Flags, Ints
from foldbarn.core.figures import Figure, Part, make_figure
from foldbarn.core.pools.only_on import may_hold
from foldbarn.core.pools.placement import expected_take, usable_slots
from foldbarn.core.pools.protection import MOST_COPIES, Level, Scheme, mirror
from foldbarn.core.site import OnlyOn, Ply, Pool, Purpose, Role, SiteView, Tier, metadata_of
from foldbarn.core.units import say_count, say_size
from foldbarn.core.volumes.bin import bin_of


def by_domain(values: Ints, domain_of: Ints) -> tuple[Ints, Ints]:
    """Labels of the domains that occur, [n], and the sum of `values` in each, [n]."""
    labels, index = np.unique(domain_of, return_inverse=True)
    return labels, np.bincount(index, weights=values, minlength=len(labels)).astype(np.int64)


def usable_extents(slots: Ints, domain_of: Ints, scheme: Scheme) -> int:
    """Extents that disks with this many slots can hold under a protection; whole, rounded down.

    slots, domain_of: [disks]. The largest U with sum_i min(t*U, sum_j min(d_ij, U)) >= w*U.
    """
    return usable_slots(slots, domain_of, scheme.strips, scheme.per_domain)


def stranded_slots(slots: Ints, domain_of: Ints, scheme: Scheme) -> dict[int, int]:
    """Slots of each domain that no placement can use because the domains are uneven; by domain label."""
    usable = usable_extents(slots, domain_of, scheme)
    labels, room = by_domain(slots, domain_of)
    if scheme.per_domain == 1:
        taken = np.minimum(room, usable)
    else:
        inside = by_domain(np.minimum(slots, usable), domain_of)[1]
        taken = np.minimum(inside, usable * scheme.per_domain)
    return {int(label): int(left) for label, left in zip(labels, room - taken, strict=True)}


@dataclass(frozen=True, slots=True)
class Headroom:
    """Whether the worst losses at a level leave enough room and domains to hold anything of one protection.

    usable: extents that can be held while so many losses stay healable; worst: labels of the domains whose
    loss leaves least.
    """

    level: Level
    usable: int
    worst: tuple[int, ...]
    losses: int = 1

    @property
    def possible(self) -> bool:
        return self.usable > 0


def most_headroom(
    slots: Ints, spread_of: Ints, loss_of: Ints, loss_level: Level, scheme: Scheme, losses: int
) -> Headroom:
    """As headroom_for, for so many losses or, where these leave too few domains, for the most that can be
    healed: better some room held back than none.
    """
    found = headroom_for(slots, spread_of, loss_of, loss_level, scheme, losses)
    while not found.possible and found.losses > 1:
        found = headroom_for(slots, spread_of, loss_of, loss_level, scheme, found.losses - 1)
    return found


_Pick = tuple[int, tuple[int, ...]]  # room taken out, labels of the lost domains that do it


def headroom_for(
    slots: Ints, spread_of: Ints, loss_of: Ints, loss_level: Level, scheme: Scheme, losses: int = 1
) -> Headroom:
    """What can be held so that, after any `losses` losses at `loss_level`, the rest can hold it all.

    slots, spread_of (domain at the protection's level), loss_of (domain at the loss level; one of the two
    nests in the other): [disks].

    Without trying every set: what w strips can use of room c_i is the least, over sets J of j < w domains
    called full, of (total - room of J) / (w - j). The least of that over losses L as well takes out the most
    room by j full domains and the losses outside them, which is a knapsack over the domains of the wider
    level.
    """
    if not len(slots):
        return Headroom(loss_level, 0, (), losses)
    if scheme.per_domain > 1:
        return _headroom_by_trying(slots, spread_of, loss_of, loss_level, scheme, losses)
    strips = scheme.strips
    best = _most_taken_out(slots, spread_of, loss_of, strips - 1, losses)
    total = int(slots.sum())
    usable, worst = min(
        ((total - best[j][losses][0]) // (strips - j), best[j][losses][1]) for j in range(strips)
    )
    return Headroom(loss_level, usable, worst, losses)


def room_outside(slots: Ints, spread_of: Ints, loss_of: Ints, full: int, losses: int) -> list[int]:
    """Room that the worst losses leave outside j domains called full, for j from 0 to `full`. [disks] as
    headroom_for.
    """
    best = _most_taken_out(slots, spread_of, loss_of, full, losses)
    total = int(slots.sum())
    return [total - best[j][losses][0] for j in range(full + 1)]


def _most_taken_out(slots: Ints, spread_of: Ints, loss_of: Ints, full: int, losses: int) -> list[list[_Pick]]:
    """The most room that j domains called full (0 to `full`) and h losses outside them (0 to `losses`) take
    out, [j][h].
    """
    best: list[list[_Pick]] = [[(0, ())] * (losses + 1) for _ in range(full + 1)]
    for options in _options(slots, spread_of, loss_of, full, losses):
        before = best
        best = [row.copy() for row in before]
        for j in range(full + 1):
            for h in range(losses + 1):
                for use_j, use_h, gain, labels in options:
                    if use_j <= j and use_h <= h and before[j - use_j][h - use_h][0] + gain > best[j][h][0]:
                        best[j][h] = (
                            before[j - use_j][h - use_h][0] + gain,
                            before[j - use_j][h - use_h][1] + labels,
                        )
    return best


def _options(
    slots: Ints, spread_of: Ints, loss_of: Ints, full: int, losses: int
) -> list[list[tuple[int, int, int, tuple[int, ...]]]]:
    """Per domain of the wider level, the ways to take room out of it: full domains used, losses used, room,
    labels lost.

    Only domains that can be among the best are listed: a choice uses at most full + losses of them.
    """
    loss_in_spread = len(np.unique(spread_of)) <= len(np.unique(loss_of))
    wide, narrow, most = (spread_of, loss_of, losses) if loss_in_spread else (loss_of, spread_of, full)
    wide_labels, wide_index = np.unique(wide, return_inverse=True)
    whole = np.bincount(wide_index, weights=slots, minlength=len(wide_labels)).astype(np.int64)
    narrow_labels, first, narrow_index = np.unique(narrow, return_index=True, return_inverse=True)
    parts = np.bincount(narrow_index, weights=slots, minlength=len(narrow_labels)).astype(np.int64)
    inside = wide_index[first]
    # The largest parts of every wide domain, in falling order: [wide, most].
    order = np.lexsort((-parts, inside))
    rank = np.arange(len(order)) - np.searchsorted(inside[order], inside[order], side="left")
    top = np.zeros((len(wide_labels), max(most, 1)), dtype=np.int64)
    who = np.full(top.shape, -1, dtype=np.int64)
    kept = rank < most
    top[inside[order][kept], rank[kept]] = parts[order][kept]
    who[inside[order][kept], rank[kept]] = narrow_labels[order][kept]
    sums = np.cumsum(top, axis=1)
    reach = full + losses
    listed = set(np.argsort(-whole, kind="stable")[:reach].tolist())
    for a in range(most):
        listed |= set(np.argsort(-sums[:, a], kind="stable")[:reach].tolist())
    options: list[list[tuple[int, int, int, tuple[int, ...]]]] = []
    for w in sorted(listed):
        if loss_in_spread:
            mine: list[tuple[int, int, int, tuple[int, ...]]] = [(1, 0, int(whole[w]), ())]
            mine += [
                (0, a + 1, int(sums[w, a]), tuple(int(n) for n in who[w, : a + 1] if n >= 0))
                for a in range(most)
            ]
        else:
            mine = [(0, 1, int(whole[w]), (int(wide_labels[w]),))]
            mine += [(a + 1, 0, int(sums[w, a]), ()) for a in range(most)]
        options.append(mine)
    return options


def _headroom_by_trying(
    slots: Ints, spread_of: Ints, loss_of: Ints, loss_level: Level, scheme: Scheme, losses: int
) -> Headroom:
    """Sets of losses in turn; of those that look the same from the rest, one."""
    labels = _unlike(slots, spread_of, loss_of, losses)
    least: tuple[int, tuple[int, ...]] | None = None
    for lost in combinations(labels, min(losses, len(labels))):
        kept = ~np.isin(loss_of, lost)
        usable = usable_extents(slots[kept], spread_of[kept], scheme)
        if least is None or usable < least[0]:
            least = (usable, lost)
    return Headroom(loss_level, least[0] if least else 0, least[1] if least else (), losses)


def _unlike(slots: Ints, spread_of: Ints, loss_of: Ints, losses: int) -> list[int]:
    """Labels of lost domains that are enough to try: of those with the same disks, in wider domains with the
    same inside, as many as may be lost together. One level nests in the other.
    """
    loss_is_wider = len(np.unique(loss_of)) <= len(np.unique(spread_of))
    wide, narrow = (loss_of, spread_of) if loss_is_wider else (spread_of, loss_of)
    disks: dict[int, dict[int, list[int]]] = {}
    for outer, inner, room in zip(wide.tolist(), narrow.tolist(), slots.tolist(), strict=True):
        disks.setdefault(outer, {}).setdefault(inner, []).append(room)
    kept: list[int] = []
    wide_seen: Counter[object] = Counter()
    for outer, inside in sorted(disks.items()):
        looks = {inner: tuple(sorted(rooms)) for inner, rooms in inside.items()}
        whole = tuple(sorted(looks.values()))
        wide_seen[whole] += 1
        if wide_seen[whole] > losses:
            continue
        if loss_is_wider:
            kept.append(outer)
            continue
        narrow_seen: Counter[object] = Counter()
        for inner, look in sorted(looks.items()):
            narrow_seen[look] += 1
            if narrow_seen[look] <= losses:
                kept.append(inner)
    return kept


@dataclass(frozen=True, slots=True)
class Ledger:
    """The account of every raw byte of a set of disks. All fields but `raw` add up to `raw`, to the byte."""

    raw: int
    boot_and_unfit: int = 0
    unclaimed: int = 0
    metadata: int = 0
    cache: int = 0  # devices that take writes first; they hold nothing for good
    spare: int = 0  # disks that stand in for one that is given up
    leaving: int = 0  # free, but on disks that are being retired
    out_of_reach: int = 0  # free, but on disks that cannot be reached or written now
    stranded: int = 0
    held_back: int = 0
    thin: int = 0  # free, and promised to thin volumes for what they have yet to write, with its protection
    protection_kept: int = 0  # that what is free will need, beyond its data
    protection: int = 0  # of what volumes take, beyond their data
    landing: int = 0  # areas that take what is written first, with all their copies
    past: int = 0  # room for what was overwritten since snapshots were taken, with all that protects it
    binned: int = 0  # volumes in the bin, with all that protects them
    moving: int = 0  # reserved for strips on their way
    promised: int = 0  # set aside for volumes and not written yet
    written: int = 0
    free: int = 0

    def rows(self) -> list[tuple[str, int]]:
        """The parts in the order they are taken off."""
        return [(name, getattr(self, name)) for name in LEDGER_PARTS]

    def __add__(self, other: Ledger) -> Ledger:
        return Ledger(**{name: getattr(self, name) + getattr(other, name) for name in ("raw", *LEDGER_PARTS)})

    @property
    def volumes(self) -> int:
        """What volumes take, each extent counted once."""
        return self.promised + self.written


LEDGER_PARTS = (
    "boot_and_unfit",
    "unclaimed",
    "metadata",
    "cache",
    "spare",
    "leaving",
    "out_of_reach",
    "stranded",
    "held_back",
    "protection",
    "thin",
    "protection_kept",
    "landing",
    "past",
    "binned",
    "moving",
    "promised",
    "written",
    "free",
)

# What consumers write moves bytes from one of these to the other.
LEDGER_GROWS = frozenset({"promised", "written", "thin"})
LEDGER_LABELS = {
    "boot_and_unfit": "boot and unfit",
    "unclaimed": "unclaimed",
    "metadata": "metadata and offcuts",
    "cache": "cache",
    "spare": "spare",
    "leaving": "leaving with their disks",
    "out_of_reach": "out of reach now",
    "stranded": "stranded by uneven domains",
    "held_back": "held back for rebuild",
    "protection": "protection of what volumes take",
    "thin": "promised to thin volumes",
    "protection_kept": "protection kept for what is free",
    "landing": "landings of volumes",
    "past": "kept for snapshots",
    "binned": "deleted volumes",
    "moving": "strips on their way",
    "promised": "promised, not written",
    "written": "written",
    "free": "free to use",
}


@dataclass(frozen=True, slots=True)
class PoolSpace:
    """A pool's room under its usual protection. Extents are data; strips are what lies on disks.

    slots, used, usable, free and what follows are of its bulk tier; fast is the same of its fast tier, where
    it has one. usable: extents the tier holds in all while keeping its headroom; without_headroom: were
    nothing held back; free: extents that can still be added; stranded: strips by domain label; strips: of an
    extent at the usual protection; promised: strips of all volumes. ledger: of every disk of the pool.
    """

    ledger: Ledger
    slots: int
    used: int
    usable: int
    without_headroom: int
    free: int
    stranded: dict[int, int]
    headroom: Headroom | None
    extent_bytes: int
    strips: int
    promised: int
    fast: PoolSpace | None = None
    alone: Ledger | None = None  # of the disks of the bulk tier, where there is a fast one

    @property
    def room(self) -> int:
        """Strips that are taken, and that can still be taken at the usual protection. What is stranded or
        held back is no room.
        """
        return self.used + self.strips * self.free

    @property
    def full(self) -> float:
        """Share of the room that is taken. The fill line, the lamp and the sizing bench go by this figure."""
        return self.used / self.room if self.room else 0.0

    @property
    def overcommit(self) -> float:
        """What is promised to volumes over what can be held, in raw bytes: above 1 more is promised than
        there is.
        """
        return self.promised / self.room if self.room else 0.0

    @property
    def held_back(self) -> int:
        return self.ledger.held_back - (self.fast.ledger.held_back if self.fast else 0)

    def of(self, tier: Tier) -> PoolSpace:
        """The account of one tier, its ledger too."""
        if self.fast is None or self.alone is None:
            return self
        return self.fast if tier == Tier.FAST else replace(self, ledger=self.alone, fast=None, alone=None)


def account_pool(
    sizes: Ints,
    used: Ints,
    data_strips: int,
    moving: int,
    spread_of: Ints,
    headroom_of: Ints | None,
    pool: Pool,
    reachable: Flags | None = None,
    retiring: Flags | None = None,
    written: int = 0,
    demands: Sequence[tuple[Scheme, int]] | None = None,
    landing: int = 0,
    promised: int | None = None,
    binned: int = 0,
    past: int = 0,
) -> PoolSpace:
    """Accounts for each raw byte of the disks that hold a pool's strips.

    sizes (bytes), used (strips held), spread_of and headroom_of (domain labels at the spread and headroom
    levels), reachable (can take new strips now; all when None), retiring (none when None): [disks].
    data_strips: strips of the pool's volumes that hold data, and not what protects it; moving: strips on
    their way, contained in `used`; written: bytes of data; demands: scheme and extents of all plies (the
    usual protection throughout when None); promised: strips of all volumes, also those of thin ones that are
    not set aside (those of the demands when None). binned: strips of volumes in the bin, past: of what
    snapshots hold, all of which are neither in data_strips nor in landing.
    """
    scheme = pool.usual
    strips = scheme.strips
    strip = pool.strip_bytes
    most = (sizes - metadata_of(sizes, pool.compress_unit)) // strip
    slots = most if retiring is None else np.where(retiring, used, most)
    leaving = int((most - slots).sum())
    staying = slots if retiring is None else np.where(retiring, 0, most)
    there = staying if reachable is None else np.where(reachable, staying, 0)
    free_slots = np.maximum(slots - used, 0)
    if reachable is not None:
        free_slots = np.where(reachable, free_slots, 0)
    free_raw = int(slots.sum() - used.sum())
    free_plain = usable_extents(free_slots, spread_of, scheme)
    headroom: Headroom | None = None
    free = free_plain
    if demands is None:
        demands = ((scheme, -(-int(used.sum()) // strips)),)
    if headroom_of is not None and pool.headroom is not None and len(sizes):
        headroom = most_headroom(staying, spread_of, headroom_of, pool.headroom, scheme, pool.headroom_losses)
        free = _can_join(staying, there, spread_of, headroom_of, scheme, headroom, demands, free_plain)
    taken = sum(held.strips * extents for held, extents in demands)
    promised = taken if promised is None else promised
    spoken_for = min(free, -(-(promised - taken) // strips))
    # whole numbers of any size: a lying disk of exabytes must not turn the sum around
    total = sum(sizes.tolist())
    data = data_strips * strip
    ledger = Ledger(
        raw=total,
        metadata=total - int(most.sum()) * strip,
        leaving=leaving * strip,
        out_of_reach=(free_raw - int(free_slots.sum())) * strip,
        stranded=(int(free_slots.sum()) - strips * free_plain) * strip,
        held_back=strips * (free_plain - free) * strip,
        protection=(int(used.sum()) - moving - data_strips - landing - past - binned) * strip,
        landing=landing * strip,
        past=past * strip,
        binned=binned * strip,
        thin=strips * spoken_for * strip,
        protection_kept=scheme.m * (free - spoken_for) * strip,
        moving=moving * strip,
        promised=data - min(written, data),
        written=min(written, data),
        free=scheme.k * (free - spoken_for) * strip,
    )
    without_headroom = usable_extents(staying, spread_of, scheme)
    usable = without_headroom
    if headroom is not None and headroom.possible:
        usable = min(usable, headroom.usable)
    return PoolSpace(
        ledger=ledger,
        slots=int(staying.sum()),
        used=int(used.sum()),
        usable=usable,
        without_headroom=without_headroom,
        free=free,
        stranded=stranded_slots(free_slots, spread_of, scheme) if len(sizes) else {},
        headroom=headroom,
        extent_bytes=pool.extent_bytes,
        strips=strips,
        promised=promised,
    )


def _can_join(
    staying: Ints,
    there: Ints,
    spread_of: Ints,
    headroom_of: Ints,
    scheme: Scheme,
    headroom: Headroom,
    demands: Sequence[tuple[Scheme, int]],
    most: int,
) -> int:
    """Extents of a protection, at most so many, that can join what is there (demands) without what is held
    back for the headroom's losses. staying, there, spread_of, headroom_of: [disks].
    """
    if not headroom.possible:
        return most
    # What is gone already is one of the losses that room is held back for: it is what the room is for.
    losses = max(0, headroom.losses - _gone(staying, there, headroom_of))
    free = _free_beside(there, spread_of, headroom_of, scheme, losses, demands, most)
    # Yet no more than if it were there: what is lent to a loss is not given away while the loss lasts.
    return _free_beside(staying, spread_of, headroom_of, scheme, headroom.losses, demands, free)


def _gone(staying: Ints, there: Ints, loss_of: Ints) -> int:
    """Domains of the loss level that have disks, and none that takes strips now."""
    most = int(loss_of.max(initial=0)) + 1
    has, takes = (np.bincount(loss_of[slots > 0], minlength=most) > 0 for slots in (staying, there))
    return int((has & ~takes).sum())


def _free_beside(
    slots: Ints,
    spread_of: Ints,
    loss_of: Ints,
    scheme: Scheme,
    losses: int,
    demands: Sequence[tuple[Scheme, int]],
    most: int,
) -> int:
    """Extents of a protection, at most so many, that can join what is there so that the rest can hold all
    after any losses.

    As headroom_for, with what the volumes there demand of each cut: an extent of w strips, t of them in a
    domain at the most, asks for w - t*j of them outside any j domains called full. One with more strips than
    domains are left asks for no more than it could find.
    """
    strips = scheme.strips
    if scheme.per_domain > 1:
        held = sum(other.strips * extents for other, extents in demands)
        usable = _headroom_by_trying(slots, spread_of, loss_of, scheme.level, scheme, losses).usable
        return max(0, min(most, usable - -(-held // strips)))
    left = fewest_domains_left(slots, spread_of, loss_of, losses)
    outside = room_outside(slots, spread_of, loss_of, strips - 1, losses)
    for j in range(strips):
        asked = sum(
            extents * max(0, min(held.strips, held.per_domain * left) - held.per_domain * j)
            for held, extents in demands
        )
        most = min(most, (outside[j] - asked) // (strips - j))
    return max(0, most)


def fewest_domains_left(slots: Ints, spread_of: Ints, loss_of: Ints, losses: int) -> int:
    """Domains of the spread level that the worst losses leave with room. One level nests in the other."""
    has = slots > 0
    span = int(loss_of.max(initial=0)) + 1
    # Each pair of domains once; a pair as one number is found many times quicker than as two.
    spread, loss = np.divmod(np.unique(spread_of[has] * span + loss_of[has]), span)
    parts, wholes = (counts[counts > 0] for counts in (np.bincount(spread), np.bincount(loss)))
    domains = len(parts)
    if np.count_nonzero(np.bincount(loss_of)) >= np.count_nonzero(np.bincount(spread_of)):
        # Losses inside domains: those with the fewest parts are emptied first.
        return domains - int((np.cumsum(np.sort(parts)) <= losses).sum())
    return domains - int(np.sort(wholes)[::-1][:losses].sum())


def pool_space(view: SiteView, pool: Pool) -> PoolSpace:
    """A pool's account as it stands: its tiers, its cache devices and its spare disks. Kept with the view."""
    key = ("space", pool)
    kept = view.findings.get(key)
    if not isinstance(kept, PoolSpace):
        kept = view.findings[key] = _pool_space(view, pool)
    return kept


def _pool_space(view: SiteView, pool: Pool) -> PoolSpace:
    bulk, *faster = [_tier_space(view, pool, tier) for tier in view.tiers_of(pool)]
    aside = _bytes_aside(view, pool)
    ledger = bulk.ledger + Ledger(raw=sum(aside.values()), cache=aside[Role.CACHE], spare=aside[Role.SPARE])
    for space in faster:
        ledger += space.ledger
    if not faster:
        return replace(bulk, ledger=ledger)
    return replace(bulk, ledger=ledger, fast=faster[0], alone=bulk.ledger)


def _bytes_aside(view: SiteView, pool: Pool) -> dict[Role, int]:
    """What its cache devices and its spare disks have. Kept with the view."""
    key = ("aside", pool.number)
    if key not in view.findings:
        aside = dict.fromkeys((Role.CACHE, Role.SPARE), 0)
        for disk in view.all_of(pool):
            if disk.role in aside:
                aside[disk.role] += disk.size_bytes
        view.findings[key] = aside
    return cast(dict[Role, int], view.findings[key])


def _tier_space(
    view: SiteView,
    pool: Pool,
    tier: Tier,
    more: Ints | None = None,
    new: Scheme | None = None,
    extents: int = 0,
    aside: int = 0,
) -> PoolSpace:
    """more: strips that a volume yet to be made would put on each disk, [disks]; new, extents: its scheme and
    extents; aside: of these, for how many room would be set aside at once.
    """
    rows = view.in_pool(pool, tier)
    plies = view.plies_of(pool, tier)
    # What of a copy has still to be written is promised too, though only room is kept for it so far.
    copied = [
        v.anew for v in view.volumes_of(pool) if v.origin is not None and v.anew and v.whole.tier == tier
    ]
    gone = {v.number for v in bin_of(view, pool)}
    there = [p for p in plies if p.volume not in gone]
    holding = [p for p in there if p.purpose not in (Purpose.LANDING, Purpose.PAST)]
    landing, past = (
        sum(p.scheme.strips * p.extents_somewhere for p in there if p.purpose == purpose)
        for purpose in (Purpose.LANDING, Purpose.PAST)
    )
    binned = sum(int((view.rows(p) < len(view.disks)).sum()) for p in plies if p.volume in gone)
    return account_pool(
        view.disk_sizes[rows],
        view.disk_used[rows] if more is None else view.disk_used[rows] + more[rows],
        sum(p.scheme.k * p.extents_somewhere for p in holding) + (new.k * aside if new else 0),
        int(view.disk_moving[rows].sum()),
        view.domain_of(pool.usual.level)[rows],
        view.domain_of(pool.headroom)[rows] if pool.headroom else None,
        pool,
        view.disk_open[rows],
        view.disk_retiring[rows],
        _written(view, pool, tier),
        [*_demands([*plies, *copied]), *([(new, aside)] if new else [])],
        landing,
        sum(p.scheme.strips * p.extents_here for p in plies)
        + sum(p.scheme.strips * p.extents_set_aside for p in copied)
        + (new.strips * extents if new else 0),
        binned,
        past,
    )


def _demands(plies: Sequence[Ply]) -> list[tuple[Scheme, int]]:
    """Extents by scheme: there may be hundreds of plies, and few schemes."""
    demands: Counter[Scheme] = Counter()
    for ply in plies:
        demands[ply.scheme] += ply.extents_set_aside
    return list(demands.items())


def _written(view: SiteView, pool: Pool, tier: Tier) -> int:
    """Bytes of data written to a tier. What waits in a landing counts where it will settle; of a volume that
    lies in two tiers, as much in each as its extents there.
    """
    written = 0
    for volume in view.volumes_of(pool):
        if volume.binned is not None:
            continue  # all of it has a row of its own
        up = (
            volume.written_bytes * int(volume.upper.sum()) // max(volume.whole.extents, 1)
            if volume.hot
            else 0
        )
        written += up if tier == Tier.FAST else 0
        written += volume.written_bytes - up if volume.whole.tier == tier else 0
    return written


class Limit(StrEnum):
    """What keeps a new volume from being larger."""

    APART = "apart"  # free room, where its strips can be kept apart
    FILL_LINE = "fill line"
    CAP = "cap"  # on overcommit


@dataclass(frozen=True, slots=True)
class Fit:
    """The most extents that a new volume may have, and what limits it."""

    extents: int
    limit: Limit


class _Taking:
    """A tier of a pool as it takes a new volume of a protection."""

    def __init__(self, view: SiteView, pool: Pool, scheme: Scheme, tier: Tier, only: OnlyOn) -> None:
        self.view, self.pool, self.scheme, self.tier = view, pool, scheme, tier
        rows = view.in_pool(pool, tier)
        if (may := may_hold(view, only)) is not None:
            rows = rows[may[rows]]
        self.rows = rows[view.disk_open[rows] & (view.disk_free[rows] > 0)]
        self.domain_of = view.domain_of(scheme.level)[self.rows]
        self.free, self.nodes = view.disk_free[self.rows], view.disk_node[self.rows]

    @cached_property
    def most_apart(self) -> int:
        """Extents whose strips can be kept apart in the free room."""
        return usable_extents(self.free, self.domain_of, self.scheme)

    def surely_takes(self, extents: int, aside: int) -> bool:
        """Whether a bound shows, without a trial, that so many extents break nothing. Each strip takes a
        place, and with it no more than one extent of the usual protection from what can still be taken.
        """
        space, strips = pool_space(self.view, self.pool).of(self.tier), aside * self.scheme.strips
        used, promised = space.used + strips, space.promised + extents * self.scheme.strips
        room = used + space.strips * (space.free - strips - 1)
        most = min(self.pool.fill_line * room, room)
        fine = used <= most and promised <= self.pool.overcommit_cap * room
        return fine and not self._promises_too_much(extents, aside)

    def _promises_too_much(self, extents: int, aside: int) -> bool:
        """Whether what is not set aside at once would find no place apart even were all of the tier's room
        for it, as often as the cap allows.
        """
        return aside < extents and extents > self.pool.overcommit_cap * self.most_apart

    def space(self, extents: int, aside: int) -> PoolSpace:
        """The tier with so many extents more, of which room is set aside for some at once."""
        scheme = self.scheme
        taken = np.zeros(len(self.view.disks), dtype=np.int64)
        taken[self.rows] = expected_take(
            self.free, self.domain_of, self.nodes, aside, scheme.strips, scheme.per_domain
        )
        return _tier_space(self.view, self.pool, self.tier, taken, self.scheme, extents, aside)

    def broken(self, extents: int, aside: int) -> Limit | None:
        """What so many extents would break; grows with their number."""
        space = self.space(extents, aside)
        if space.overcommit > self.pool.overcommit_cap or self._promises_too_much(extents, aside):
            return Limit.CAP
        return Limit.FILL_LINE if space.full > self.pool.fill_line else None


def _taking(view: SiteView, pool: Pool, scheme: Scheme, tier: Tier, only: OnlyOn) -> _Taking:
    """Kept with the view."""
    key = ("taking", pool, scheme, tier, only)
    kept = view.findings.get(key)
    if not isinstance(kept, _Taking):
        kept = view.findings[key] = _Taking(view, pool, scheme, tier, only)
    return kept


def fits(
    view: SiteView,
    pool: Pool,
    scheme: Scheme,
    tier: Tier,
    extents: int,
    aside: int | None = None,
    *,
    only: OnlyOn,
) -> bool:
    """Whether a new volume may have so many extents, as `most_that_fits` has it, by one trial. aside: of
    these, for how many room is set aside at once; for all when None. only: where they may lie.
    """
    taking = _taking(view, pool, scheme, tier, only)
    aside = extents if aside is None else aside
    if aside > taking.most_apart:
        return False
    return taking.surely_takes(extents, aside) or taking.broken(extents, aside) is None


def full_with(
    view: SiteView,
    pool: Pool,
    scheme: Scheme,
    tier: Tier,
    extents: int,
    aside: int | None = None,
    *,
    only: OnlyOn,
) -> float:
    """How full a tier would be with a new volume of so many extents, 0 to 1; they must fit."""
    return _taking(view, pool, scheme, tier, only).space(extents, extents if aside is None else aside).full


def most_to_give(view: SiteView, pool: Pool, scheme: Scheme, tier: Tier, *, only: OnlyOn) -> int:
    """Extents of a protection for which room can be set aside in a volume that is there: placed apart, and
    without what is held back for a rebuild.

    Where a loss leaves too few domains for that protection, no room would heal it: then it takes none of what
    is held back at the usual one.
    """
    rows, most = view.in_pool(pool, tier), _taking(view, pool, scheme, tier, only).most_apart
    if pool.headroom is None or not most:
        return most
    staying = np.where(view.disk_retiring[rows], 0, view.disk_most[rows])
    spread_of, headroom_of = view.domain_of(scheme.level)[rows], view.domain_of(pool.headroom)[rows]
    headroom = most_headroom(staying, spread_of, headroom_of, pool.headroom, scheme, pool.headroom_losses)
    if not headroom.possible:
        space = pool_space(view, pool).of(tier)
        return min(most, space.strips * space.free // scheme.strips)
    there, demands = np.where(view.disk_open[rows], staying, 0), _demands(view.plies_of(pool, tier))
    return _can_join(staying, there, spread_of, headroom_of, scheme, headroom, demands, most)


def most_that_fits(
    view: SiteView,
    pool: Pool,
    scheme: Scheme,
    tier: Tier,
    aside: Callable[[int], int] | None = None,
    *,
    only: OnlyOn,
) -> Fit:
    """Extents of a protection that a new volume may have: placed apart, and within the fill line and the cap
    on overcommit. aside: of so many, for how many room is set aside at once; for all when None.

    By trying: the tier is accounted for with each number, halving what is left.
    """
    taking = _taking(view, pool, scheme, tier, only)
    low, high = 0, taking.most_apart + 1
    if aside is not None:
        high = max(high, int(pool.overcommit_cap * taking.most_apart) + 2)
    limit = Limit.APART
    while high - low > 1:
        middle = (low + high) // 2
        at_once = middle if aside is None else aside(middle)
        found = taking.broken(middle, at_once) if at_once <= taking.most_apart else Limit.APART
        if found is None:
            low = middle
        else:
            high, limit = middle, found
    return Fit(low, limit)


def outside_ledger(view: SiteView) -> Ledger:
    """The account of the disks that are in no pool."""
    outside = view.disks_where(lambda d: d.pool < 0)
    resting = sum(d.size_bytes for d in outside if d.role in (Role.BOOT, Role.UNFIT))
    raw = sum(d.size_bytes for d in outside)
    return Ledger(raw=raw, boot_and_unfit=resting, unclaimed=raw - resting)


def site_ledgers(view: SiteView) -> list[tuple[str, Ledger]]:
    """Ledgers by pool name in the site's order, then "outside pools"."""
    return [
        *((p.name, pool_space(view, p).ledger) for p in view.pools),
        ("outside pools", outside_ledger(view)),
    ]


def free_figure(pool: Pool, space: PoolSpace) -> Figure:
    """How much can still be written at the pool's usual protection, opened into its sum."""
    ledger = space.ledger
    parts = [Part("+", f"disks of {pool.name}", ledger.raw, "bytes")]
    taken_off = (
        (name, getattr(ledger, name)) for name in LEDGER_PARTS if name not in ("protection_kept", "free")
    )
    parts += [
        Part("−", LEDGER_LABELS[name], amount, "bytes", grows=name in LEDGER_GROWS)
        for name, amount in taken_off
        if amount
    ]
    usual = pool.usual
    if usual.k > 1:
        parts.append(Part("×", "strips of data in an extent", usual.k, "count"))
    words = f"{usual.strips} copies" if usual.is_mirror else f"{usual.strips} strips in an extent"
    parts.append(Part("÷", f"{words}, its usual protection", usual.strips, "count"))
    return make_figure(
        f"Free in {pool.name}",
        "bytes",
        parts,
        "A volume with another protection fits more or less than this. Nothing here counts on compression.",
    )


# What other protections would give, and what to buy. ---------------------------------------------------


@dataclass(frozen=True, slots=True)
class UsableRow:
    """What the disks of a pool hold under one protection: bytes in all without and with headroom. why_not: in
    a sentence, where it cannot be held.

    heals: whether the headroom's losses could be healed at all under it.
    """

    scheme: Scheme
    domains: int
    usable: int
    with_headroom: int
    heals: bool
    why_not: str = ""


def survives_losses(scheme: Scheme, level: Level) -> bool:
    """Whether losing one thing at a level always leaves a copy to rebuild from: there are several, and they
    are kept apart at that level or a wider one.
    """
    order = list(Level)
    return scheme.survives > 0 and order.index(scheme.level) <= order.index(level)


def usable_by_protection(view: SiteView, pool: Pool) -> list[UsableRow]:
    """Usable space for one to five copies at every level the site has, the widest level first; those the
    domains do not allow say why.
    """
    rows = view.in_pool(pool, Tier.BULK)
    slots = view.disk_slots[rows]
    found = []
    for level in Level:
        spread_of = view.domain_of(level)[rows]
        there = len(np.unique(spread_of[slots > 0]))
        for copies in range(1, MOST_COPIES + 1):
            if copies == 1 and level != Level.DISK:
                continue  # one copy is kept apart from nothing
            scheme = mirror(copies, level)
            if there < copies:
                why = (
                    f"It needs {say_count(copies, level.value)}; there {'is' if there == 1 else 'are'} "
                    f"{there}."
                )
                found.append(UsableRow(scheme, there, 0, 0, False, why))
                continue
            usable = usable_extents(slots, spread_of, scheme)
            loss_of = view.domain_of(pool.headroom)[rows] if pool.headroom else None
            healed = (
                most_headroom(slots, spread_of, loss_of, pool.headroom, scheme, pool.headroom_losses)
                if pool.headroom and loss_of is not None
                else None
            )
            held = min(usable, healed.usable) if healed and healed.possible else usable
            heals = bool(healed and healed.possible) and survives_losses(scheme, pool.headroom or level)
            found.append(
                UsableRow(scheme, there, usable * pool.extent_bytes, held * pool.extent_bytes, heals)
            )
    return found


@dataclass(frozen=True, slots=True)
class Addition:
    """Something that could be bought, and what it would raise: usable bytes with headroom, at the pool's
    usual protection.
    """

    what: str
    raw_bytes: int
    gain_bytes: int

    @property
    def yield_(self) -> float:
        """Usable bytes gained for each raw byte bought."""
        return self.gain_bytes / self.raw_bytes


def best_additions(view: SiteView, pool: Pool, most: int = 6) -> list[Addition]:
    """What would raise usable space most, found by trying each: one more disk of any size in use, in every
    node that differs from the others; one more node like any that it has, in every rack; such a node in a
    rack of its own. By what it gains for each byte bought.
    """
    rows = view.in_pool(pool, Tier.BULK)
    slots = view.disk_slots[rows]
    if not len(rows) or not slots.any():
        return []
    row = _Trial(view, pool, rows, slots)
    sizes = sorted({int(s) for s in view.disk_sizes[rows][slots > 0].tolist()})
    found: list[Addition] = []
    boxes = {
        box: tuple(sorted(view.disk_sizes[rows][view.disk_box[rows] == box].tolist()))
        for box in np.unique(view.disk_box[rows]).tolist()
    }
    rack_of = {
        int(b): int(r)
        for b, r in zip(view.disk_box[rows].tolist(), view.disk_rack[rows].tolist(), strict=True)
    }
    seen: set[tuple[int, tuple[int, ...]]] = set()
    names = view.domain_names(Level.NODE)
    for box, inside in boxes.items():
        if (rack_of[box], inside) in seen:
            continue  # a disk in this node does the same as in its like
        seen.add((rack_of[box], inside))
        found += [
            Addition(
                f"a disk of {say_size(size)} in {names[box]}",
                size,
                row.gain([size], box=box, rack=rack_of[box]),
            )
            for size in sizes
        ]
    shapes = sorted(set(boxes.values()), key=lambda s: (-sum(s), s))[:4]
    for shape in shapes:
        words = f"a node with {say_count(len(shape), 'disk')}, {say_size(sum(shape))}"
        found += [
            Addition(f"{words}, in {view.racks[r].name}", sum(shape), row.gain(list(shape), rack=r))
            for r in sorted(set(rack_of.values()))
        ]
        found.append(Addition(f"{words}, in a rack of its own", sum(shape), row.gain(list(shape))))
    found = [a for a in found if a.gain_bytes > 0]
    return sorted(found, key=lambda a: (-a.yield_, a.raw_bytes, a.what))[:most]


class _Trial:
    """Tries additions: usable space with headroom, before and with more disks."""

    def __init__(self, view: SiteView, pool: Pool, rows: Ints, slots: Ints) -> None:
        self.view, self.pool, self.slots = view, pool, slots
        self.labels = {level: view.domain_of(level)[rows] for level in Level}
        self.before = self._usable(slots, self.labels)

    def _usable(self, slots: Ints, labels: dict[Level, Ints]) -> int:
        scheme, pool = self.pool.usual, self.pool
        usable = usable_extents(slots, labels[scheme.level], scheme)
        if pool.headroom:
            healed = most_headroom(
                slots,
                labels[scheme.level],
                labels[pool.headroom],
                pool.headroom,
                scheme,
                pool.headroom_losses,
            )
            usable = min(usable, healed.usable) if healed.possible else usable
        return usable

    def gain(self, sizes: list[int], box: int = -1, rack: int = -1) -> int:
        """Bytes that these disks add, in this node and rack; -1 for a new one, which stands in the first room
        or, alone, in a new one.
        """
        view = self.view
        room = view.racks[rack].room if rack >= 0 else len(view.rooms)
        place = {
            Level.ROOM: room,
            Level.RACK: rack if rack >= 0 else len(view.racks),
            Level.NODE: box if box >= 0 else len(view.nodes) + len(view.enclosures),
        }
        added = np.array([self.pool.slots_of(s) for s in sizes], dtype=np.int64)
        labels = {
            level: np.concatenate(
                [
                    old,
                    len(view.disks) + np.arange(len(sizes))
                    if level == Level.DISK
                    else np.full(len(sizes), place[level]),
                ]
            )
            for level, old in self.labels.items()
        }
        return (
            max(0, self._usable(np.concatenate([self.slots, added]), labels) - self.before)
            * self.pool.extent_bytes
        )
