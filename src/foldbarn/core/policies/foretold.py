"""What volumes are to be expected to do under what is asked of them now, by the same rules as the bench:
how long operations take, and what they take of disks. Method: docs/methods.md, "Pace".
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from foldbarn.core.arrays import Reals
from foldbarn.core.policies.bench import landed_write, large_write, small_write
from foldbarn.core.policies.performance import LATE, STEPS, Curve, DiskWork, response, together
from foldbarn.core.pools.media import PROFILES
from foldbarn.core.site import Ply, Pool, SiteView, Volume
from foldbarn.core.volumes.heat import Heat
from foldbarn.core.volumes.pace import Pace

Paces = Mapping[int, Pace]  # by number of the volume
Heats = Mapping[int, Heat]  # by number of the volume
LONG = 14.0  # mean times after which next to nobody waits still
NEAR = 50  # disks are taken as alike where rates and times differ by less than one in so many


@dataclass(frozen=True, slots=True)
class Foretold:
    """mean, late: seconds of an operation on average, and for 99 of 100; None where its disks could not do
    what they did. disk_operations: on disks, for one of a consumer's; disk_bytes: written to disks for one
    byte written, with what settles later; None where nothing is written.
    """

    mean: float | None
    late: float | None
    disk_operations: float
    disk_bytes: float | None


@dataclass(frozen=True, slots=True)
class _Part:
    """Part of a volume's operations that goes to the same disks, a second. share: [disks] of them that each
    takes. settles: writes of disks, later, for one that is written here.
    """

    share: Reals
    reads: float
    writes: float
    work: DiskWork
    settles: float = 0.0

    @property
    def on_disks(self) -> float:
        return self.reads + self.writes * (self.work.reads + self.work.writes)


def foretold(view: SiteView, pool: Pool, paces: Paces, heat: Heats) -> dict[int, Foretold]:
    """By number, of each volume of a pool of which it is known what is asked. Of a volume of which nobody
    knows the heat, all extents are taken as asked for alike.
    """
    volumes = [v for v in view.volumes_of(pool) if (pace := paces.get(v.number)) and pace.work.operations]
    parts = {v.number: _parts(view, v, paces[v.number], heat.get(v.number)) for v in volumes}
    profiles = [PROFILES[disk.media] for disk in view.disks]
    servers = np.array([profile.at_once for profile in profiles], dtype=np.float64)
    access = np.array([profile.access_seconds for profile in profiles])
    bandwidth = np.array([profile.bytes_per_second for profile in profiles], dtype=np.float64)
    rate, busy = np.zeros(len(profiles)), np.zeros(len(profiles))
    for volume in volumes:
        work = paces[volume.number].work
        block = (work.read_bytes + work.written_bytes) / work.operations
        for part in parts[volume.number]:
            mine = part.share * part.on_disks
            rate += mine
            busy += mine * (access + block * servers / bandwidth)
    return {v.number: _of(parts[v.number], servers, rate, busy) for v in volumes}


def _parts(view: SiteView, volume: Volume, pace: Pace, heat: Heat | None) -> list[_Part]:
    reads, writes = pace.a_second(pace.work.reads), pace.a_second(pace.work.writes)
    whole, hot, landing = volume.whole, volume.hot, volume.landing
    warmth = np.ones(whole.extents)
    if heat is not None and len(heat.warmth) == whole.extents and heat.warmth.any():
        warmth = heat.warmth
    served = float(warmth[volume.upper].sum() / warmth.sum()) if hot is not None else 0.0
    lands = 0.0 if landing is None else writes
    found = [
        _Part(
            _share(view, whole, warmth),
            reads * (1 - served),
            (writes - lands) * (1 - served),
            small_write(whole.scheme),
        )
    ]
    if hot is not None and served:
        found.append(
            _Part(
                _share(view, hot, np.repeat(warmth, whole.scheme.k)),
                reads * served,
                writes * served,
                small_write(hot.scheme),
            )
        )
    if landing is not None:
        found.append(
            _Part(
                _share(view, landing, np.ones(landing.extents)),
                0.0,
                lands,
                landed_write(whole.scheme),
                large_write(whole.scheme).writes,
            )
        )
    return found


def _share(view: SiteView, ply: Ply, warmth: Reals) -> Reals:
    """[disks] of what is asked of a ply, by the warmth of its extents; each strip of one is asked alike."""
    rows = view.rows(ply)
    there = rows >= 0
    asked = np.broadcast_to(warmth[:, None], rows.shape)[there]
    held = np.bincount(rows[there], weights=asked, minlength=len(view.disks)).astype(np.float64)
    return held / held.sum() if held.sum() else held


def _of(parts: list[_Part], servers: Reals, rate: Reals, busy: Reals) -> Foretold:
    reads, writes = sum(p.reads for p in parts), sum(p.writes for p in parts)
    on_disks = sum(p.on_disks for p in parts) / (reads + writes)
    written = sum(p.writes * (p.work.writes + p.settles) for p in parts) / writes if writes else None
    used = np.flatnonzero(sum(p.share * p.on_disks for p in parts))
    if not len(used) or (busy[used] >= servers[used]).any():
        return Foretold(None, None, on_disks, written)
    seconds = busy[used] / rate[used]
    spare = 1 - busy[used] / servers[used]
    times = np.linspace(
        0.0, LONG * float((seconds * np.maximum(1.0, 1 / servers[used] / spare)).max()), STEPS
    )
    mixed = np.zeros(STEPS)
    for part in parts:
        if part.on_disks:
            one = _one(part, servers, rate, busy, times)
            mixed += part.reads * together(one, DiskWork(1, 0)) + part.writes * together(one, part.work)
    mixed /= reads + writes
    mean, late = float(np.trapezoid(1 - mixed, times)), float(np.interp(LATE, mixed, times))
    return Foretold(mean, late, on_disks, written)


def _one(part: _Part, servers: Reals, rate: Reals, busy: Reals, times: Reals) -> Curve:
    """The distribution of the time of one request to the disks of a part."""
    rows = np.flatnonzero(part.share)
    seconds = busy[rows] / rate[rows]
    alike = np.stack(
        [servers[rows], np.rint(np.log(seconds) * NEAR), np.rint(np.log(rate[rows]) * NEAR)], axis=1
    )
    one = np.zeros(len(times))
    for kind in np.unique(alike, axis=0):
        mine = rows[(alike == kind).all(axis=1)]
        share = part.share[mine]
        mean_rate = float((rate[mine] * share).sum() / share.sum())
        mean_seconds = float((busy[mine] * share).sum() / (rate[mine] * share).sum())
        one += share.sum() * response(int(kind[0]), mean_seconds, mean_rate, times)
    return one
