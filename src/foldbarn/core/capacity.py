"""Where the bytes go: usable and stranded space of uneven domains, headroom, and the ledger.

Method: docs/methods.md, "Usable space" and "Headroom". Slots are whole strips; a ledger is in bytes and its
rows sum to the raw size exactly.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from foldbarn.core.arrays import Flags, Ints
from foldbarn.core.figures import Figure, Part, make_figure
from foldbarn.core.placement import usable_fraction
from foldbarn.core.protection import Level, Protection
from foldbarn.core.site import Pool, Role, SiteView


def by_domain(values: Ints, domain_of: Ints) -> tuple[Ints, Ints]:
    """Labels of the domains that occur, [n], and the sum of `values` in each, [n]."""
    labels, index = np.unique(domain_of, return_inverse=True)
    return labels, np.bincount(index, weights=values, minlength=len(labels)).astype(np.int64)


def usable_extents(slots: Ints, domain_of: Ints, protection: Protection) -> int:
    """Extents that disks with this many slots can hold under a protection; whole, rounded down.

    slots, domain_of: [disks]. Where a domain may hold one strip of an extent, a domain's disks act as one.
    Where it may hold more, two strips still never share a disk, which limits lopsided domains:
    the largest U with sum_i min(t*U, sum_j min(d_ij, U)) >= w*U.
    """
    if not len(slots):
        return 0
    if protection.per_domain == 1:
        _, room = by_domain(slots, domain_of)
        return int(usable_fraction(room, protection.strips))
    return _usable_nested(slots, domain_of, protection.strips, protection.per_domain)


def _usable_nested(slots: Ints, domain_of: Ints, strips: int, per_domain: int) -> int:
    """The nested case without search.

    The left side is the least, over ways to call J disks or shares of a domain "full at U", of the room of
    the rest plus J*U. So U = min over J < w of (total - removed(J)) / (w - J), where removed(J) is the most
    room that calling J of them full can take out: by domain, the a < t largest disks, or everything for a = t.
    """
    removed = np.zeros(strips, dtype=np.int64)
    for label in np.unique(domain_of):
        largest = np.sort(slots[domain_of == label])[::-1]
        gains = [int(largest[:a].sum()) for a in range(per_domain)] + [int(largest.sum())]
        best = removed.copy()
        for a, gain in enumerate(gains[:strips]):
            best[a:] = np.maximum(best[a:], removed[: strips - a] + gain)
        removed = best
    total = int(slots.sum())
    return min((total - int(removed[j])) // (strips - j) for j in range(strips))


def stranded_slots(slots: Ints, domain_of: Ints, protection: Protection) -> dict[int, int]:
    """Slots of each domain that no placement can use because the domains are uneven; by domain label."""
    usable = usable_extents(slots, domain_of, protection)
    labels, room = by_domain(slots, domain_of)
    if protection.per_domain == 1:
        taken = np.minimum(room, usable)
    else:
        inside = by_domain(np.minimum(slots, usable), domain_of)[1]
        taken = np.minimum(inside, usable * protection.per_domain)
    return {int(label): int(left) for label, left in zip(labels, room - taken, strict=True)}


@dataclass(frozen=True, slots=True)
class Healing:
    """Whether any one loss at a level leaves enough room and domains to make everything whole again.

    usable: extents that can be held while one loss stays healable; worst: label of the domain whose loss leaves least.
    """

    level: Level
    usable: int
    worst: int | None

    @property
    def possible(self) -> bool:
        return self.usable > 0


def healing(slots: Ints, spread_of: Ints, loss_of: Ints, loss_level: Level, protection: Protection) -> Healing:
    """What can be held so that, after any one loss at `loss_level`, the rest can hold it all.

    slots, spread_of (domain at the protection's level), loss_of (domain at the loss level): [disks].
    """
    least, worst = None, None
    for label in np.unique(loss_of).tolist():
        kept = loss_of != label
        usable = usable_extents(slots[kept], spread_of[kept], protection)
        if least is None or usable < least:
            least, worst = usable, label
    return Healing(loss_level, least or 0, worst)


@dataclass(frozen=True, slots=True)
class Ledger:
    """The account of every raw byte of a set of disks. All fields but `raw` add up to `raw`, to the byte."""

    raw: int
    boot_and_unfit: int = 0
    unclaimed: int = 0
    metadata: int = 0
    out_of_reach: int = 0  # free, but on disks that cannot be reached now
    stranded: int = 0
    held_back: int = 0
    protection_kept: int = 0  # copies that what is free will need
    protection: int = 0  # copies beyond the first of what volumes take
    moving: int = 0  # reserved for strips on their way
    volumes: int = 0
    free: int = 0

    def rows(self) -> list[tuple[str, int]]:
        """The parts in the order they are taken off."""
        return [(name, getattr(self, name)) for name in LEDGER_PARTS]

    def __add__(self, other: Ledger) -> Ledger:
        return Ledger(**{name: getattr(self, name) + getattr(other, name) for name in ("raw", *LEDGER_PARTS)})


LEDGER_PARTS = (
    "boot_and_unfit",
    "unclaimed",
    "metadata",
    "out_of_reach",
    "stranded",
    "held_back",
    "protection",
    "protection_kept",
    "moving",
    "volumes",
    "free",
)

LEDGER_LABELS = {
    "boot_and_unfit": "boot and unfit",
    "unclaimed": "unclaimed",
    "metadata": "metadata and remainders",
    "out_of_reach": "out of reach now",
    "stranded": "stranded by uneven domains",
    "held_back": "held back for rebuild",
    "protection": "copies of what volumes take",
    "protection_kept": "copies kept for what is free",
    "moving": "strips on their way",
    "volumes": "volumes",
    "free": "free to use",
}


@dataclass(frozen=True, slots=True)
class PoolSpace:
    """A pool's room under its usual protection. Extents are data; strips are what lies on disks.

    usable: extents the pool holds in all while keeping its headroom; free: extents that can still be added;
    stranded: strips by domain label.
    """

    ledger: Ledger
    slots: int
    used: int
    usable: int
    free: int
    stranded: dict[int, int]
    healing: Healing | None
    extent_bytes: int

    @property
    def full(self) -> float:
        """Share of the room (slots less what is held back) that is taken."""
        return self.full_with(0)

    def full_with(self, strips: int) -> float:
        """The same, were this many more strips taken."""
        room = self.slots - self.ledger.held_back // self.extent_bytes
        return (self.used + strips) / room if room > 0 else 0.0


def account_pool(
    sizes: Ints,
    used: Ints,
    data_extents: int,
    moving: int,
    spread_of: Ints,
    headroom_of: Ints | None,
    pool: Pool,
    reachable: Flags | None = None,
) -> PoolSpace:
    """Accounts for each raw byte of a pool.

    sizes (bytes), used (strips held), spread_of and headroom_of (domain labels at the spread and headroom
    levels), reachable (can take new strips now; all when None): [disks]. data_extents: extents of the pool's
    volumes, each counted once; moving: strips on their way, contained in `used`.
    """
    protection = pool.usual
    strips = protection.strips
    extent = pool.extent_bytes
    slots = np.array([pool.slots_of(int(s)) for s in sizes], dtype=np.int64)
    free_slots = np.maximum(slots - used, 0)
    if reachable is not None:
        free_slots = np.where(reachable, free_slots, 0)
    free_raw = int(slots.sum() - used.sum())
    free_plain = usable_extents(free_slots, spread_of, protection)
    healed: Healing | None = None
    free = free_plain
    if headroom_of is not None and pool.headroom is not None and len(sizes):
        healed = healing(slots, spread_of, headroom_of, pool.headroom, protection)
        taken = -(-int(used.sum()) // strips)
        if healed.possible:
            free = max(0, min(free_plain, healed.usable - taken))
    total = int(sizes.sum())
    raw_left = total - int(slots.sum()) * extent
    ledger = Ledger(
        raw=total,
        metadata=raw_left,
        out_of_reach=(free_raw - int(free_slots.sum())) * extent,
        stranded=(int(free_slots.sum()) - strips * free_plain) * extent,
        held_back=strips * (free_plain - free) * extent,
        protection=(int(used.sum()) - moving - data_extents) * extent,
        protection_kept=(strips - 1) * free * extent,
        moving=moving * extent,
        volumes=data_extents * extent,
        free=free * extent,
    )
    usable = usable_extents(slots, spread_of, protection)
    if healed is not None and healed.possible:
        usable = min(usable, healed.usable)
    return PoolSpace(
        ledger=ledger,
        slots=int(slots.sum()),
        used=int(used.sum()),
        usable=usable,
        free=free,
        stranded=stranded_slots(free_slots, spread_of, protection) if len(sizes) else {},
        healing=healed,
        extent_bytes=extent,
    )


def pool_space(view: SiteView, pool: Pool) -> PoolSpace:
    """A pool's account as it stands."""
    rows = view.in_pool(pool)
    volumes = view.volumes_of(pool)
    placed = sum(int((v.placement > 0).any(axis=1).sum()) for v in volumes)
    incoming = sum(view.incoming.get(int(view.disk_numbers[r]), 0) for r in rows.tolist())
    return account_pool(
        np.array([view.disks[r].size_bytes for r in rows.tolist()], dtype=np.int64),
        view.disk_used[rows],
        placed,
        incoming,
        view.domain_of(pool.usual.level)[rows],
        view.domain_of(pool.headroom)[rows] if pool.headroom else None,
        pool,
        view.disk_ready[rows],
    )


def outside_ledger(view: SiteView) -> Ledger:
    """The account of the disks that are in no pool."""
    outside = view.disks_where(lambda d: d.pool < 0)
    resting = sum(d.size_bytes for d in outside if d.role in (Role.BOOT, Role.UNFIT))
    raw = sum(d.size_bytes for d in outside)
    return Ledger(raw=raw, boot_and_unfit=resting, unclaimed=raw - resting)


def site_ledgers(view: SiteView) -> list[tuple[str, Ledger]]:
    """Ledgers by pool name in the site's order, then "outside pools"."""
    return [*((p.name, pool_space(view, p).ledger) for p in view.pools), ("outside pools", outside_ledger(view))]


def free_figure(pool: Pool, space: PoolSpace) -> Figure:
    """How much can still be written at the pool's usual protection, opened into its sum."""
    ledger = space.ledger
    parts = [Part("+", f"disks of {pool.name}", ledger.raw, "bytes")]
    for name in ("metadata", "out_of_reach", "stranded", "held_back", "protection", "moving", "volumes"):
        amount = getattr(ledger, name)
        if amount:
            parts.append(Part("−", LEDGER_LABELS[name], amount, "bytes"))
    parts.append(Part("÷", f"{pool.usual.copies} copies, its usual protection", pool.usual.copies, "count"))
    return make_figure(
        f"Free in {pool.name}", "bytes", parts, "A volume with another number of copies fits more or less than this. Nothing here counts on compression."
    )
