"""The roles that disks take in a pool, which cache serves which disk, and how long flash lasts. Method:
docs/methods.md, "Tiers and cache".
"""

from __future__ import annotations

import heapq
import math
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal, cast

from foldbarn.core.errors import NotPossible
from foldbarn.core.names import natural_key
from foldbarn.core.pools.media import MEDIA_WORDS, PROFILES, alike, classes_of
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.site import Disk, Pool, Role, SiteView, Tier
from foldbarn.core.units import say_count, say_size

YEAR_DAYS = 365
WARRANTY_YEARS = 5  # over which a rating in drive writes a day is meant; common practice
LEAST_CACHE_SHARE = 0.10  # of the capacity behind it; common practice

Serves = Literal["cache", "fast tier", "capacity"]


@dataclass(frozen=True, slots=True)
class Assignment:
    """The role of one disk in a pool, and why. by_rule is what the rule alone would say."""

    disk: str
    role: Role
    tier: Tier
    reason: str
    by_rule: Role
    overridden: bool = False


@dataclass(frozen=True, slots=True)
class Override:
    """A person's choice of role for a disk, with the reason that is kept."""

    role: Role
    reason: str


def assign_roles(
    disks: Sequence[Disk], serves: Serves = "cache", overrides: Mapping[str, Override] | None = None
) -> list[Assignment]:
    """Roles by rule, in the order given: one class of media is all capacity; of several the fastest serves as
    `serves`, the rest is capacity.

    A cache serves disks of its own node only, so a disk of the fastest class is cache only where its node has
    something to serve.
    overrides: by disk name; raises NotPossible for one without a reason, or to a role that no disk of a pool
    has.
    """
    overrides = overrides or {}
    class_by_disk = dict(
        zip((d.name for d in disks), classes_of((d.media, d.bus) for d in disks), strict=True)
    )
    classes = sorted(set(class_by_disk.values()))
    fastest = classes[0] if classes else None
    behind = {d.node for d in disks if class_by_disk[d.name] != fastest}
    same_words = len({c.words for c in class_by_disk.values()}) == 1
    found = []
    for disk in disks:
        mine = class_by_disk[disk.name]
        role, tier = Role.CAPACITY, Tier.BULK
        if len(classes) == 1:
            reason = (
                "all chosen disks are "
                f"{mine.words if same_words else MEDIA_WORDS.get(mine.media, mine.media)}"
            )
        elif serves == "capacity":
            reason = "all classes serve as capacity, as wished"
        elif mine != fastest:
            reason = f"{mine.words} is not the fastest class here"
        elif serves == "fast tier":
            tier, reason = Tier.FAST, f"{mine.words} is the fastest class here"
        elif disk.node in behind:
            role, reason = Role.CACHE, f"{mine.words} is the fastest class here"
        else:
            reason = f"{mine.words} is the fastest class here, but its node has nothing to serve"
        wish = overrides.get(disk.name)
        if wish is None or wish.role == role:
            found.append(Assignment(disk.name, role, tier, reason, role))
            continue
        if wish.role not in (Role.CAPACITY, Role.CACHE, Role.SPARE):
            raise NotPossible(
                f"A disk of a pool is capacity, cache or spare, not {wish.role.value}.", about="overrides"
            )
        if not wish.reason.strip():
            raise NotPossible(
                f"{disk.name} is {role.value} by rule; making it {wish.role.value} wants a reason.",
                about="overrides",
                next_step="Write why in a few words.",
            )
        found.append(Assignment(disk.name, wish.role, Tier.BULK, wish.reason.strip(), role, overridden=True))
    return found


def bind_cache(cache: Sequence[Disk], capacity: Sequence[Disk]) -> dict[int, int]:
    """Number of the cache device that serves each capacity disk, by number; a disk whose node has no cache
    device is left out.

    Within a node, disks are dealt largest first to the device with the fewest bytes behind it, so that the
    load is even.
    """
    bound: dict[int, int] = {}
    by_node: dict[int, list[Disk]] = defaultdict(list)
    for device in sorted(cache, key=lambda d: natural_key(d.name)):
        by_node[device.node].append(device)
    for node, devices in by_node.items():
        heap = [(0, place, d.number) for place, d in enumerate(devices)]
        for disk in sorted(
            (d for d in capacity if d.node == node), key=lambda d: (-d.size_bytes, natural_key(d.name))
        ):
            behind, place, number = heapq.heappop(heap)
            bound[disk.number] = number
            heapq.heappush(heap, (behind + disk.size_bytes, place, number))
    return bound


def binding_of(view: SiteView, pool: Pool) -> dict[int, int]:
    """Number of the cache device that serves each capacity disk of a pool, by number. Devices that cannot be
    reached leave their disks to others. Kept with the view.
    """
    key = ("binding", pool.number)
    if key not in view.findings:
        view.findings[key] = _binding_of(view, pool)
    return cast(dict[int, int], view.findings[key])


def _binding_of(view: SiteView, pool: Pool) -> dict[int, int]:
    disks = view.all_of(pool)
    devices = [d for d in disks if d.role == Role.CACHE]
    bound = bind_cache(devices, [d for d in disks if d.role == Role.CAPACITY and not d.retiring])
    gone = {d.number for d in devices if not d.present}
    return rebind(bound, {d.number: d for d in disks}, {d.number for d in devices} - gone) if gone else bound


def rebind(bound: Mapping[int, int], disks: Mapping[int, Disk], left: set[int]) -> dict[int, int]:
    """The binding when only some cache devices (numbers) are left: only the disks that the others served go
    to the ones of their node.

    disks: by number, of everything bound. A disk with no device left in its node is left out.
    """
    kept = {disk: device for disk, device in bound.items() if device in left}
    load: dict[int, int] = dict.fromkeys(left, 0)
    for disk, device in kept.items():
        load[device] += disks[disk].size_bytes
    for disk in sorted(
        set(bound) - set(kept), key=lambda n: (-disks[n].size_bytes, natural_key(disks[n].name))
    ):
        near = [d for d in load if disks[d].node == disks[disk].node]
        if near:
            device = min(near, key=lambda d: (load[d], natural_key(disks[d].name)))
            kept[disk] = device
            load[device] += disks[disk].size_bytes
    return kept


def spare_for(view: SiteView, disk: Disk, called: set[str]) -> Disk | None:
    """The spare that should stand in for a pooled disk: of its pool and media class, ready, not smaller; in
    its node before its rack before others.

    called: names of spares that are being called in already. A cache device serves its own node only, so its
    spare must stand there too.
    """
    rank = {level: view.domain_of(level) for level in (Level.NODE, Level.RACK)}
    row = int(view.row_of_number[disk.number])
    found = []
    for r, spare in enumerate(view.disks):
        if (
            spare.role != Role.SPARE
            or spare.pool != disk.pool
            or spare.name in called
            or not view.disk_ready[r]
            or not spare.writable
        ):
            continue
        if not alike((spare.media, spare.bus), (disk.media, disk.bus)) or spare.size_bytes < disk.size_bytes:
            continue
        if disk.role == Role.CACHE and spare.node != disk.node:
            continue
        near = [bool(rank[level][r] != rank[level][row]) for level in (Level.NODE, Level.RACK)]
        found.append((near, spare.size_bytes, natural_key(spare.name), spare))
    return min(found, key=lambda f: f[:3])[3] if found else None


# Endurance. ------------------------------------------------------------------------------------------


def rated_bytes(size_bytes: int, drive_writes_a_day: float, years: float = WARRANTY_YEARS) -> int:
    """Bytes that may be written in all, from drive writes a day over years (JEDEC JESD218's terms: TBW =
    capacity x DWPD x 365 x years).
    """
    return round(size_bytes * drive_writes_a_day * YEAR_DAYS * years)


def drive_writes_a_day(rated: int, size_bytes: int, years: float = WARRANTY_YEARS) -> float:
    """The same the other way round."""
    return rated / (size_bytes * YEAR_DAYS * years)


@dataclass(frozen=True, slots=True)
class Endurance:
    """Whether devices of one kind last. Bytes, years; `drive_writes` is what is asked of each in a day, over
    its size.

    assumed: the rating is common practice for its class, as its maker's is not known.
    """

    devices: int
    size_bytes: int
    rated_bytes: int
    daily_bytes: float  # to each device
    assumed: bool

    @property
    def drive_writes(self) -> float:
        return self.daily_bytes / max(self.size_bytes, 1)

    @property
    def allowed(self) -> float:
        return drive_writes_a_day(self.rated_bytes, max(self.size_bytes, 1))

    @property
    def years(self) -> float:
        """Until what is written reaches the rating; infinite where nothing is written."""
        return self.rated_bytes / (self.daily_bytes * YEAR_DAYS) if self.daily_bytes else float("inf")

    @property
    def lasts(self) -> bool:
        return self.years >= WARRANTY_YEARS

    def sentence(self, what: str) -> str:
        """Such as "2 cache devices of 1.92 TB take 0.9 drive writes a day each, of 3.0 allowed, and last
        about 17 years".
        """
        years = "for ever" if self.years == float("inf") else f"about {_floor_years(self.years)} years"
        source = " (a rating assumed for their class)" if self.assumed else ""
        each, takes, lasts = ("", "takes", "lasts") if self.devices == 1 else (" each", "take", "last")
        return (
            f"{say_count(self.devices, what)} of {say_size(self.size_bytes)} {takes} "
            f"{self.drive_writes:.1f} drive writes a day{each}, "
            f"of {self.allowed:.1f} allowed{source}, and {lasts} {years}"
        )


def _floor_years(years: float) -> str:
    """Rounded down, so that what lasts less than the warranty never reads as long: one place below ten
    years.
    """
    return f"{math.floor(years * 10) / 10:.1f}" if years < 10 else f"{math.floor(years):,}"


def endurance(devices: Sequence[Disk], daily_bytes: float) -> list[Endurance]:
    """Endurance by kind (size and rating) when this many bytes a day are written to all of them together,
    each in proportion to its size.
    """
    total = sum(d.size_bytes for d in devices) or 1
    kinds: dict[tuple[int, int, bool], int] = defaultdict(int)
    for d in devices:
        rating = d.rated_bytes or rated_bytes(d.size_bytes, PROFILES[d.media].drive_writes_a_day)
        kinds[d.size_bytes, rating, not d.rated_bytes] += 1
    return [
        Endurance(count, size, rating, daily_bytes * size / total, assumed)
        for (size, rating, assumed), count in sorted(kinds.items())
    ]


def cache_share(cache: Sequence[Disk], capacity: Sequence[Disk]) -> float:
    """Bytes of cache over bytes of the capacity it serves; 0 where there is nothing to serve."""
    behind = sum(d.size_bytes for d in capacity)
    return sum(d.size_bytes for d in cache) / behind if behind else 0.0


def cache_concerns(cache: Sequence[Disk], capacity: Sequence[Disk], daily_writes: float) -> list[str]:
    """What speaks against these cache devices before the pool is formed: too small, worn out too soon, or
    nodes without any. Whole sentences.

    daily_writes: bytes that reach disks in a day, all strips counted.
    """
    if not cache:
        return []
    found = []
    served = {d.node for d in cache}
    bare = sorted({d.node for d in capacity} - served)
    behind = [d for d in capacity if d.node in served]
    share = cache_share(cache, behind)
    if behind and share < LEAST_CACHE_SHARE:
        words = (
            f"The cache is {share:.1%} of the capacity it serves; {LEAST_CACHE_SHARE:.0%} is common practice."
        )
        found.append(words)
    if bare:
        found.append(
            f"{say_count(len(bare), 'node')} would have capacity without cache; volumes there are as "
            "slow as the bare disks."
        )
    part = sum(d.size_bytes for d in behind) / max(1, sum(d.size_bytes for d in capacity))
    found += [
        f"{kind.sentence('cache device')}, less than {WARRANTY_YEARS}."
        for kind in endurance(cache, daily_writes * part)
        if not kind.lasts
    ]
    return found


@dataclass(frozen=True, slots=True)
class Writes:
    """How many bytes a pool's disks take in a day, and from which statement that follows."""

    daily_bytes: float
    sentence: str


def expected_writes(daily_writes: int, usable_bytes: int, scheme: Scheme) -> Writes:
    """Bytes a day to all disks: what was said of consumers, or a tenth of usable space where nothing was
    said; and of what protects them.
    """
    consumers = daily_writes or usable_bytes // 10
    source = "expected of consumers" if daily_writes else "assumed of consumers: a tenth of usable space"
    return Writes(
        consumers * scheme.strips / scheme.k,
        f"{say_size(consumers)} a day {source}, in {scheme.counted()}",
    )
