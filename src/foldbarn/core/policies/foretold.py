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
    takes. block: bytes of an operation; settles: writes of disks, later, for one
    that is written here.
    """

    share: Reals
    reads: float
    writes: float
    work: DiskWork
    block: float
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
    disks = _Disks.of(view)
    for volume in volumes:
        for part in parts[volume.number]:
            mine = part.share * part.on_disks
            disks.rate[:] += mine
            disks.busy[:] += mine * (disks.access + part.block * disks.a_byte)
    return {v.number: _of(parts[v.number], disks) for v in volumes}


@dataclass(frozen=True, slots=True)
class _Disks:
    """[disks] each: requests that one works on at once, seconds of one of these before its bytes flow, and of
    each byte; requests a second, and requests in service on average.
    """

    servers: Reals
    access: Reals
    a_byte: Reals
    rate: Reals
    busy: Reals

    @classmethod
    def of(cls, view: SiteView) -> _Disks:
        """That do nothing yet."""
        profiles = [PROFILES[disk.media] for disk in view.disks]
        return cls(
            servers=np.array([p.at_once for p in profiles], dtype=np.float64),
            access=np.array([p.access_seconds for p in profiles]),
            a_byte=np.array([p.at_once / p.bytes_per_second for p in profiles]),
            rate=np.zeros(len(profiles)),
            busy=np.zeros(len(profiles)),
        )


def _parts(view: SiteView, volume: Volume, pace: Pace, heat: Heat | None) -> list[_Part]:
    reads, writes = pace.a_second(pace.work.reads), pace.a_second(pace.work.writes)
    whole, hot, landing = volume.whole, volume.hot, volume.landing
    warmth = np.ones(whole.extents)
    if heat is not None and len(heat.warmth) == whole.extents and heat.warmth.any():
        warmth = heat.warmth
    block = (pace.work.read_bytes + pace.work.written_bytes) / pace.work.operations
    served = float(warmth[volume.upper].sum() / warmth.sum()) if hot is not None else 0.0
    lands = 0.0 if landing is None else writes
    found = [
        _Part(
            share=_share(view, whole, warmth),
            reads=reads * (1 - served),
            writes=(writes - lands) * (1 - served),
            work=small_write(whole.scheme),
            block=block,
        )
    ]
    if hot is not None and served:
        found.append(
            _Part(
                share=_share(view, hot, np.repeat(warmth, whole.scheme.k)),
                reads=reads * served,
                writes=writes * served,
                work=small_write(hot.scheme),
                block=block,
            )
        )
    if landing is not None:
        found.append(
            _Part(
                share=_share(view, landing, np.ones(landing.extents)),
                reads=0.0,
                writes=lands,
                work=landed_write(whole.scheme),
                block=block,
                settles=large_write(whole.scheme).writes,
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


def _of(parts: list[_Part], disks: _Disks) -> Foretold:
    reads, writes = sum(p.reads for p in parts), sum(p.writes for p in parts)
    on_disks = sum(p.on_disks for p in parts) / (reads + writes)
    written = sum(p.writes * (p.work.writes + p.settles) for p in parts) / writes if writes else None
    servers, rate, busy = disks.servers, disks.rate, disks.busy
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
            one = _one(part, disks, times)
            mixed += part.reads * together(one, DiskWork(1, 0)) + part.writes * together(one, part.work)
    mixed /= reads + writes
    mean, late = float(np.trapezoid(1 - mixed, times)), float(np.interp(LATE, mixed, times))
    return Foretold(mean, late, on_disks, written)


def _one(part: _Part, disks: _Disks, times: Reals) -> Curve:
    """The distribution of the time of one request to the disks of a part."""
    rows = np.flatnonzero(part.share)
    seconds = disks.busy[rows] / disks.rate[rows]
    near = [np.rint(np.log(of) * NEAR) for of in (seconds, disks.rate[rows])]
    alike = np.stack([disks.servers[rows], disks.access[rows], disks.a_byte[rows], *near], axis=1)
    one = np.zeros(len(times))
    for kind in np.unique(alike, axis=0):
        mine = rows[(alike == kind).all(axis=1)]
        share = part.share[mine]
        rate, busy = (float((of[mine] * share).sum() / share.sum()) for of in (disks.rate, disks.busy))
        own = float(kind[1]), float(kind[2]) * part.block
        one += share.sum() * response(int(kind[0]), busy / rate, rate, times, own)
    return one
