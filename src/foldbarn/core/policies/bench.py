"""Schemes side by side on the disks of a pool: what each would hold, survive and cost. Method:
docs/methods.md, "Policies", "Sizing on paper" and "Chance of loss".
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.figures import Figure, Part, make_figure
from foldbarn.core.policies.matching import Against, can_land, sharing_that_fits, too_few_domains
from foldbarn.core.policies.performance import DiskWork, Load, Speed, speed_of
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.durability import LossChance
from foldbarn.core.pools.protection import MOST_COPIES, Level, Scheme, mirror
from foldbarn.core.pools.repair import Repair, held_when_filled
from foldbarn.core.pools.roles import Endurance, binding_of, endurance
from foldbarn.core.pools.sizing import Settings, chance_of, fills_of, repairs_of
from foldbarn.core.site import ANYWHERE, Pool, SiteView, Tier
from foldbarn.core.units import DAY_SECONDS
from foldbarn.core.volumes.loss import survives_at

TIB = 2**40
# Data and parity that one meets often; the editor of a policy takes any.
PARITIES = ((2, 1), (3, 1), (4, 1), (8, 1), (2, 2), (4, 2), (6, 2), (8, 2), (4, 3), (8, 3))


@dataclass(frozen=True, slots=True)
class BenchRow:
    """One scheme on the disks of a pool, empty and kept to its fill line. against: what keeps it from being
    held; nothing else is said of it then but what it always takes. closer: the same strips, more of them in
    one domain, with which it could be.

    usable: bytes with headroom; takes: bytes on disks for a TiB; survives: losses at each level that leave
    all readable, whichever they are; needs, to_heal: domains at its level, at all and to heal from losing one
    of them. small_write: of less than a strip; landed: the same where it lands on the fast tier first, None
    where it cannot, after which it settles as a large write does; large_write: for each strip of data of a
    whole stripe; read_short: of one strip while its disk is lost. speed: under a load of consumers. life: of
    the fast media that this load writes to, those that last the shortest; None where it writes to none.
    """

    scheme: Scheme
    against: Against | None
    closer: Scheme | None
    takes: Figure
    needs: int
    to_heal: int
    small_write: DiskWork
    large_write: DiskWork
    read_short: DiskWork
    usable: Figure | None = None
    survives: tuple[tuple[Level, int], ...] = ()
    repair_disk: Repair | None = None
    repair_node: Repair | None = None
    chance: LossChance | None = None
    speed: Speed | None = None
    landed: DiskWork | None = None
    life: Life | None = None


@dataclass(frozen=True, slots=True)
class Life:
    """How long fast media last under a load, and what they are: cache devices, or disks of the fast tier."""

    what: str
    endurance: Endurance


def schemes_at(level: Level) -> list[Scheme]:
    """Those that are laid side by side at a level."""
    copies = [mirror(n, level) for n in range(1, MOST_COPIES + 1)]
    return copies + [Scheme(k, m, level) for k, m in PARITIES]


def small_write(scheme: Scheme) -> DiskWork:
    """A write of less than a strip. A mirror writes each copy. Parity is made anew from what is written and
    either what stood there (the old strip and the old parity are read) or what the others hold (the other
    strips of data are read), whichever reads less.
    """
    if scheme.is_mirror:
        return DiskWork(0, scheme.strips)
    return DiskWork(min(1 + scheme.m, scheme.k - 1), 1 + scheme.m)


def landed_write(scheme: Scheme) -> DiskWork:
    """A write of less than a strip where it lands first: on as many copies as parity survives losses, and one
    more (common practice). Nothing is read.
    """
    return DiskWork(0, scheme.m + 1)


def large_write(scheme: Scheme) -> DiskWork:
    """A whole stripe at once, for each strip of its data: nothing is read."""
    return DiskWork(0, scheme.strips / scheme.k)


def read_short(scheme: Scheme) -> DiskWork:
    """A strip whose disk is lost: another copy, or as many strips of its stripe as make it."""
    return DiskWork(scheme.k, 0)


def lay_side_by_side(
    view: SiteView,
    pool: Pool,
    schemes: Sequence[Scheme],
    load: Load | None = None,
    settings: Settings | None = None,
) -> list[BenchRow]:
    """Each scheme on the bulk tier of a pool, as if nothing lay there yet. settings: failure rate, grace and
    the wait for a replacement that the times and the chance are of.
    """
    wish = settings or Settings()
    paper = replace(view, volumes=(), incoming={}, under_way={})
    return [_row(view, paper, pool, scheme, load or Load(), wish) for scheme in schemes]


def _row(view: SiteView, paper: SiteView, pool: Pool, scheme: Scheme, load: Load, wish: Settings) -> BenchRow:
    """paper: the same site with nothing on its disks."""
    takes = make_figure(
        "A TiB on disks",
        "bytes",
        [
            Part("+", "a TiB of data", TIB, "bytes"),
            Part("×", "strips of an extent", scheme.strips, "count"),
            Part("÷", "strips of data in it", scheme.k, "count"),
        ],
        "Rounded up to whole extents where a volume is smaller than those.",
    )
    against = too_few_domains(view, pool, scheme, Tier.BULK, ANYWHERE)
    there = BenchRow(
        scheme=scheme,
        against=against,
        closer=sharing_that_fits(view, pool, scheme, Tier.BULK) if against else None,
        takes=takes,
        needs=scheme.least_domains,
        to_heal=scheme.least_domains + 1,
        small_write=small_write(scheme),
        large_write=large_write(scheme),
        read_short=read_short(scheme),
    )
    if there.against:
        return there
    if not scheme.is_mirror and can_land(view, pool, scheme):
        there = replace(there, landed=landed_write(scheme))
    tried = replace(pool, usual=scheme)
    space = pool_space(paper, tried)
    fills = [f for f in fills_of(paper, tried, space) if f.tier == Tier.BULK]
    disk, node = repairs_of(paper, tried, fills, wish)
    held = sum((held_when_filled(paper, f, scheme) for f in fills), start=np.zeros(len(paper.disks)))
    rows = np.flatnonzero(held > 0)
    extent = tried.extent_bytes
    usable = make_figure(
        f"Usable in {pool.name}",
        "bytes",
        [
            Part("+", "extents, were nothing held back", space.without_headroom, "count"),
            Part("−", "held back for rebuild", space.without_headroom - space.usable, "count"),
            Part("×", "bytes of data in an extent", extent, "bytes"),
        ],
        "Of the bulk tier, empty.",
    )
    return replace(
        there,
        usable=usable,
        survives=tuple((level, survives_at(paper, pool, Tier.BULK, scheme, level)) for level in Level),
        repair_disk=disk,
        repair_node=node,
        chance=chance_of(paper, tried, fills, wish),
        speed=speed_of(paper, rows.tolist(), held[rows], there.small_write, load) if len(rows) else None,
        life=_life(view, pool, there, load),
    )


def _life(view: SiteView, pool: Pool, row: BenchRow, load: Load) -> Life | None:
    """Small writes land on the fast tier where they can; else they wait on cache devices where there are
    any. Each device is written to in proportion to its size.
    """
    written = load.operations_per_second * (1 - load.reads) * load.block_bytes * DAY_SECONDS
    if row.landed is not None:
        devices = [view.disks[at] for at in view.in_pool(pool, Tier.FAST).tolist()]
        what, on_disks = "disk of the fast tier", written * row.landed.writes
    else:
        serving = set(binding_of(view, pool).values())
        devices = [disk for disk in view.all_of(pool) if disk.number in serving]
        what, on_disks = "cache device", written * row.small_write.writes
    kinds = endurance(devices, on_disks)
    return Life(what, min(kinds, key=lambda kind: kind.years)) if kinds else None
