"""How long what a failed disk or node held stays short, of a pool that is only on paper. Method:
docs/methods.md, "Rebuild".

The copying is bounded from the loads that shares put on disks and ports, as for infinitely many extents; no
placement is drawn. Every load is one that a plan could cause, so the bound is never below that of the best
plan.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import cast

import numpy as np

from foldbarn.core.arrays import Flags, Ints, Reals
from foldbarn.core.errors import NotPossible
from foldbarn.core.moving.readings import Estimate
from foldbarn.core.pools.capacity import usable_extents
from foldbarn.core.pools.media import PROFILES
from foldbarn.core.pools.placement import ONE, shares
from foldbarn.core.pools.protection import Scheme
from foldbarn.core.site import Pool, SiteView, Tier
from foldbarn.core.units import say_size

NOTICE_SECONDS = 3.0  # until a silence is noticed; see FOLDBARN_SILENT_SECONDS


@dataclass(frozen=True, slots=True)
class Fill:
    """What one tier holds when it is filled to its line. rows: [disks] of the tier; extents: of the usual
    protection.
    """

    tier: Tier
    rows: Ints
    extents: int


@dataclass(frozen=True, slots=True)
class Repair:
    """From a failure until everything has all its copies again, in seconds.

    noticing, grace: before anything is copied; replacing: the wait for a replacement, where the rest has no
    place for it all; copying: the least that the disks and ports allow.
    """

    noticing: float
    grace: float
    replacing: float
    copying: Estimate

    @property
    def seconds(self) -> float:
        return self.noticing + self.grace + self.replacing + self.copying.seconds

    @property
    def finds_a_place(self) -> bool:
        return not self.replacing


@dataclass(frozen=True, slots=True, eq=False)
class Loads:
    """Strips read from and written to each disk, [disks] over all disks, when some are lost and written
    again.
    """

    read: Reals
    written: Reals

    @property
    def strips(self) -> float:
        return float(self.written.sum())


def held_when_filled(view: SiteView, fill: Fill, scheme: Scheme) -> Reals:
    """Strips on each disk, [disks] over all disks, of a tier filled with so many extents: shares of its
    domain's.
    """
    held = np.zeros(len(view.disks))
    slots = view.disk_slots[fill.rows].astype(np.float64)
    domain_of = view.domain_of(scheme.level)[fill.rows]
    labels, index = np.unique(domain_of, return_inverse=True)
    room = np.bincount(index, weights=slots, minlength=len(labels))
    try:
        part = shares(room.astype(np.int64), scheme.strips, scheme.per_domain) / ONE
    except NotPossible:
        return held
    held[fill.rows] = fill.extents * part[index] * slots / np.maximum(room[index], 1)
    return held


def loads_of(view: SiteView, fill: Fill, scheme: Scheme, gone: Flags) -> Loads:
    """What writing the strips of lost disks again reads and writes, by shares. gone: [disks], all in the tier
    or not in it.

    An extent that lost a strip in one domain has its others in the rest, each in proportion to its room (the
    same sampling that places it); they are read in turn. Writes go where there is room, in proportion to it,
    and to no domain more than there are extents that may have another strip in it.
    """
    most = scheme.per_domain
    read, written = np.zeros(len(view.disks)), np.zeros(len(view.disks))
    held = held_when_filled(view, fill, scheme)
    domain_of = view.domain_of(scheme.level)[fill.rows]
    labels, index = np.unique(domain_of, return_inverse=True)
    here, lost = held[fill.rows], gone[fill.rows]
    kept = np.where(lost, 0.0, here)
    free = np.where(lost, 0.0, np.maximum(view.disk_slots[fill.rows] - here, 0.0))
    by_domain = np.bincount(index, weights=kept, minlength=len(labels))
    free_by_domain = np.bincount(index, weights=free, minlength=len(labels))
    for domain in np.unique(index[lost & (here > 0)]).tolist():
        strips = float(here[lost & (index == domain)].sum())
        beside = by_domain.copy()
        # Beside the lost strip its own domain holds at the most one fewer.
        beside[domain] *= (most - 1) / most
        try:
            # In whole thousandths of strips, which is what `shares` takes.
            chance = shares(np.ceil(beside * 1000).astype(np.int64), scheme.strips - 1, most) / ONE
        except NotPossible:
            continue
        inside = np.divide(kept, by_domain[index], out=np.zeros_like(kept), where=by_domain[index] > 0)
        read[fill.rows] += strips * scheme.k * chance[index] / (scheme.strips - 1) * inside
        open_to: Reals = np.maximum(most - chance, 0.0)
        into = _filled(strips, by=free_by_domain * open_to, most=strips * open_to)
        part = np.divide(
            free, free_by_domain[index], out=np.zeros_like(free), where=free_by_domain[index] > 0
        )
        written[fill.rows] += into[index] * part
    return Loads(read, written)


def _filled(total: float, by: Reals, most: Reals) -> Reals:
    """A total spread in proportion to weights, none above its most; what does not fit anywhere is left out.

    Those that would get more than their most get just that, and the others share the rest in the same way.
    """
    given, full = np.zeros(len(by)), by <= 0
    while not full.all() and (left := total - float(given[full].sum())) > 0:
        given[~full] = left * by[~full] / by[~full].sum()
        over = ~full & (given > most)
        if not over.any():
            break
        given[over] = most[over]
        full |= over
    return given


def bound(view: SiteView, loads: Sequence[Loads], strip_bytes: int, rate: int = 0) -> Estimate:
    """The least time that loads take: the busiest disk or port over its bandwidth, or the limit on the
    rate.
    """
    read = np.sum([x.read for x in loads], axis=0)
    written = np.sum([x.written for x in loads], axis=0)
    total = float(written.sum())
    if not total:
        return Estimate(0.0, 0, "")
    speeds = _speeds(view)
    by_disk = (read + written) * strip_bytes / speeds
    worst = int(np.argmax(by_disk))
    moved = round(total * strip_bytes)
    found = Estimate(float(by_disk[worst]), moved, view.disks[worst].name)
    nodes = len(view.nodes)
    out = np.bincount(view.disk_node, weights=read, minlength=nodes)
    into = np.bincount(view.disk_node, weights=written, minlength=nodes)
    # What is read and written on the same node crosses no port.
    sent = out * (1.0 - into / total)
    received = into * (1.0 - out / max(float(read.sum()), 1e-9))
    ports = np.array([max(n.port_bytes_per_second, 1) for n in view.nodes], dtype=np.float64)
    by_node = np.maximum(sent, received) * strip_bytes / ports
    busiest = int(np.argmax(by_node))
    if by_node[busiest] > found.seconds:
        found = Estimate(float(by_node[busiest]), moved, f"the ports of {view.nodes[busiest].name}")
    if rate and moved / rate > found.seconds:
        found = Estimate(moved / rate, moved, f"the limit of {say_size(rate)}/s")
    return found


def _speeds(view: SiteView) -> Reals:
    """Bytes per second of each disk, [disks]; found once for each picture of the site."""
    if "speeds" not in view.findings:
        speeds = [PROFILES[d.media].bytes_per_second for d in view.disks]
        view.findings["speeds"] = np.array(speeds, dtype=np.float64)
    return cast(Reals, view.findings["speeds"])


def repair_of(
    view: SiteView, pool: Pool, fills: Sequence[Fill], gone: Flags, *, grace: float, replacing: float
) -> Repair:
    """Losing some disks, [disks], of a pool filled as told. grace: seconds it may be away; replacing: until a
    new one is there.
    """
    places = all(_has_place(view, fill, pool.usual, gone) for fill in fills)
    if places:
        loads = [loads_of(view, fill, pool.usual, gone) for fill in fills]
        return Repair(NOTICE_SECONDS, grace, 0.0, bound(view, loads, pool.strip_bytes, pool.rebuild_rate))
    # With nowhere else to go, everything is written to what replaces the lost disks.
    back = []
    for fill in fills:
        held = held_when_filled(view, fill, pool.usual)
        back.append(Loads(loads_of(view, fill, pool.usual, gone).read, np.where(gone, held, 0.0)))
    return Repair(NOTICE_SECONDS, grace, replacing, bound(view, back, pool.strip_bytes, pool.rebuild_rate))


def _has_place(view: SiteView, fill: Fill, scheme: Scheme, gone: Flags) -> bool:
    """Whether the rest of a tier can hold all that it held: a rebuild moves what must move."""
    kept = fill.rows[~gone[fill.rows]]
    domain_of = view.domain_of(scheme.level)[kept]
    return usable_extents(view.disk_slots[kept], domain_of, scheme) >= fill.extents
