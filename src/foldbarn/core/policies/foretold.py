"""What volumes are to be expected to do under what is asked of them now, by the same rules as the bench:
how long operations take, and what they take of disks. Method: docs/methods.md, "Pace".
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from foldbarn.core.arrays import Ints, Reals
from foldbarn.core.policies.bench import landed_write, large_write, small_write
from foldbarn.core.policies.limits import limits_of
from foldbarn.core.policies.memory import is_in_memory, room_in, shares_a_room
from foldbarn.core.policies.performance import LATE, STEPS, Curve, DiskWork, in_turn, response, together
from foldbarn.core.policies.policy import Cache
from foldbarn.core.pools.cache import hottest_kept
from foldbarn.core.pools.media import PROFILES
from foldbarn.core.pools.roles import binding_of
from foldbarn.core.site import Ply, Pool, Purpose, SiteView, Volume
from foldbarn.core.volumes.heat import Heat
from foldbarn.core.volumes.pace import Pace

Paces = Mapping[int, Pace]  # by number of the volume
Heats = Mapping[int, Heat]  # by number of the volume
MOST_BUSY = 0.98  # of the time of a disk or a port: who waits for an answer never asks for more
MOST_TURNS = 100  # until everybody who is held back asks for as much as gets through
LONG = 14.0  # mean times after which next to nobody waits still
NEAR = 50  # disks are taken as alike where rates and times differ by less than one in so many


@dataclass(frozen=True, slots=True)
class Foretold:
    """mean, late: seconds of an operation on average, and for 99 of 100; None where its disks could not do
    what they did. disk_operations: on disks, for one of a consumer's; disk_bytes: written to disks for one
    byte written, with what settles later; None where nothing is written. cached: the share of reads that
    cache devices or the memory of nodes serve, 0 to 1; None where neither serves it. operations: a second,
    that are done of those asked for.
    """

    mean: float | None
    late: float | None
    disk_operations: float
    disk_bytes: float | None
    cached: float | None = None
    operations: float = 0.0


@dataclass(slots=True)
class _Part:
    """Part of a volume's operations that goes to the same ply, a second. asked: [disks] of its strips, by how
    much they are asked for, in all 1. reads_on, writes_on: [disks] the same where caches have their part of
    it; waits: of what is written, what does not go to its disk at once; block: bytes of an operation;
    settles: writes of disks, later, for one that is written here.
    """

    ply: Ply
    warmth: Reals  # [extents]
    asked: Reals
    reads: float
    writes: float
    work: DiskWork
    block: float
    settles: float = 0.0
    reads_on: Reals = field(init=False)
    writes_on: Reals = field(init=False)
    waits: float = 0.0
    cached: float = 0.0  # of the reads
    remembered: float = 0.0  # of the reads, those that no disk is asked for

    def __post_init__(self) -> None:
        self.reads_on = self.writes_on = self.asked

    @property
    def operations(self) -> float:
        """On disks, a second."""
        reads = self.reads * (1 - self.remembered)
        return reads + self.writes * (self.work.reads + self.work.writes)

    def on_disks(self) -> Reals:
        """[disks] of these."""
        return self._read() + self.received()

    def _read(self) -> Reals:
        found: Reals = self.reads_on * self.reads + self.asked * self.writes * self.work.reads
        return found

    def sent(self) -> Reals:
        """[disks] of these, and of reads from memory beside them, what is sent by its node."""
        return self._read() + self.asked * self.reads * self.remembered

    def received(self) -> Reals:
        """[disks] of these, what comes to its node."""
        found: Reals = self.writes_on * self.writes * self.work.writes
        return found


def foretold(
    view: SiteView, pool: Pool, paces: Paces, heat: Heats, only: Collection[int] | None = None
) -> dict[int, Foretold]:
    """By number, of each volume of a pool (or of these only) of which it is known what is asked. Of a volume
    of which nobody knows the heat, all extents are taken as asked for alike.
    """
    volumes = [v for v in view.volumes_of(pool) if (pace := paces.get(v.number)) and pace.work.operations]
    parts = {v.number: _parts(view, v, paces[v.number], heat.get(v.number)) for v in volumes}
    _through_caches(view, pool, {v.number: v for v in volumes}, parts)
    _from_memory(view, pool, parts, paces, heat)
    disks = _Disks.of(view)
    for part in (part for of_volume in parts.values() for part in of_volume):
        mine = part.on_disks()
        disks.rate[:] += mine
        disks.busy[:] += mine * (disks.access + part.block * disks.a_byte)
    _settle(view, pool, [part for of_volume in parts.values() for part in of_volume], disks)
    done = _done(view, volumes, parts, paces)
    wanted = [v.number for v in volumes if only is None or v.number in only]
    return {number: replace(_of(parts[number], disks), operations=done[number]) for number in wanted}


def _done(
    view: SiteView, volumes: Sequence[Volume], parts: Mapping[int, list[_Part]], paces: Paces
) -> dict[int, float]:
    """By number, operations a second that each volume's consumers get of those that they ask for: as many as
    its limits let through, and no more than keep every disk and every node's storage ports busy for
    MOST_BUSY of their time. Who is held back by one of these leaves more of the others.
    """
    comes, takes = {}, {}
    for volume in volumes:
        pace, limits = paces[volume.number], limits_of(view, volume)
        block = parts[volume.number][0].block
        asked = pace.a_second(pace.work.asked_for)
        by_bytes = limits.throughput / block if limits.throughput else np.inf
        comes[volume.number] = min(asked, limits.operations or np.inf, by_bytes)
        takes[volume.number] = _takes(view, parts[volume.number]) / pace.a_second(pace.work.operations)
    for _ in range(MOST_TURNS if takes else 0):
        used = np.sum([takes[number] * rate for number, rate in comes.items()], axis=0)
        if used.max() <= MOST_BUSY * (1 + 1e-9):
            break
        for number, mine in takes.items():
            busiest = float(used[mine > 0].max(initial=0.0))
            comes[number] *= min(1.0, MOST_BUSY / busiest) if busiest else 1.0
    return comes


def _takes(view: SiteView, parts: Sequence[_Part]) -> Reals:
    """Part of the time that a volume takes of each disk and of each node's storage ports, out and in, one
    after the other, [disks and twice nodes]. Ports of which nobody has told how fast they are hold nobody up.
    """
    disks, nodes = _Disks.of(view), len(view.nodes)
    fast = np.array([node.port_bytes_per_second or np.inf for node in view.nodes])
    busy, out, into = np.zeros(len(view.disks)), np.zeros(nodes), np.zeros(nodes)
    for part in parts:
        busy += part.on_disks() * (disks.access + part.block * disks.a_byte)
        out += np.bincount(view.disk_node, weights=part.sent() * part.block, minlength=nodes)
        into += np.bincount(view.disk_node, weights=part.received() * part.block, minlength=nodes)
    return np.concatenate([busy / disks.servers, out / fast, into / fast])


def _settle(view: SiteView, pool: Pool, parts: Sequence[_Part], disks: _Disks) -> None:
    """What waits on cache devices goes on to the disks in long runs, as far as both have time for it."""
    devices = _devices(view, pool)[:-1]
    moves = np.zeros(len(view.disks))  # bytes a second
    for part in parts:
        moves += part.asked * part.writes * part.work.writes * part.waits * part.block
    behind = devices >= 0
    read = np.bincount(devices[behind], weights=moves[behind], minlength=len(moves))
    more = (moves * behind + read) * disks.a_byte
    spare = np.maximum(MOST_BUSY * disks.servers - disks.busy, 0.0)
    disks.busy[:] += np.minimum(more, spare)


def _devices(view: SiteView, pool: Pool) -> Ints:
    """[disks + 1] the row of the cache device of each disk, or -1; the last is of a strip on no disk."""
    row_of = view.row_of_number
    devices = np.full(len(view.disks) + 1, -1, dtype=np.int64)
    for disk, device in binding_of(view, pool).items():
        devices[int(row_of[disk])] = int(row_of[device])
    return devices


def _through_caches(
    view: SiteView, pool: Pool, volumes: Mapping[int, Volume], parts: Mapping[int, list[_Part]]
) -> None:
    """Sends what is read most, as far as there is room, and what is written to the cache devices, as each
    volume's policy has it.
    """
    devices = _devices(view, pool)
    if (devices < 0).all():
        return
    found = []
    for number, of_volume in parts.items():
        policy = view.policy_of(volumes[number])
        cache = policy.wishes.cache if policy else Cache.ANY
        if cache not in (Cache.NONE, Cache.MEMORY):
            found += [(part, cache) for part in of_volume if part.ply.purpose != Purpose.LANDING]
    strips = [_Strips.of(view, part, devices) for part, _ in found]
    if not strips:
        return
    at = np.concatenate([of.devices for of in strips])
    asked = np.concatenate([of.reads for of in strips])
    sizes = np.full(len(at), pool.strip_bytes, dtype=np.int64)
    room = np.array([disk.size_bytes for disk in view.disks], dtype=np.int64)
    kept = hottest_kept(at, asked, sizes, room)
    ends = np.cumsum([len(of.devices) for of in strips])[:-1]
    for (part, cache), of, hits in zip(found, strips, np.split(kept, ends), strict=True):
        total = part.reads or 1.0
        moved, there = (
            np.bincount(rows[hits], weights=of.reads[hits] / total, minlength=len(view.disks)).astype(float)
            for rows in (of.disks, of.devices)
        )
        part.reads_on, part.cached = _less(part.asked, moved) + there, float(there.sum())
        if cache != Cache.READ:
            share, waits = (
                np.bincount(rows, weights=of.share, minlength=len(view.disks)).astype(np.float64)
                for rows in (of.disks, of.devices)
            )
            part.writes_on, part.waits = _less(part.asked, share) + waits, float(share.sum())


def _from_memory(
    view: SiteView, pool: Pool, parts: Mapping[int, list[_Part]], paces: Paces, heat: Heats
) -> None:
    """What is read most of volumes that share room in their nodes' memory is not read from disks. They may
    lie in several pools.
    """
    if not any(is_in_memory(policy) for policy in view.policies):
        return
    mine = {row: policy for row, v in enumerate(view.volumes) if is_in_memory(policy := view.policy_of(v))}
    rooms: dict[str, int] = {}
    found: list[tuple[_Part, _Strips]] = []
    room: list[int] = []
    for row, policy in mine.items():
        volume, pace = view.volumes[row], paces.get(view.volumes[row].number)
        if pace is None or not pace.work.operations or policy is None:
            continue
        of_volume = parts.get(volume.number) or _parts(view, volume, pace, heat.get(volume.number))
        name = shares_a_room(policy)
        if name not in rooms:
            rooms[name] = len(rooms)
            room += [room_in(node, policy) for node in view.nodes]
        first = rooms[name] * len(view.nodes)
        places = np.append(view.disk_node + first, -1).astype(np.int64)
        found += [
            (part, _Strips.of(view, part, places))
            for part in of_volume
            if part.reads and part.ply.purpose != Purpose.LANDING
        ]
    if not found:
        return
    at = np.concatenate([of.devices for _, of in found])
    asked = np.concatenate([of.reads for _, of in found])
    sizes = np.concatenate(
        [
            np.full(len(of.devices), view.pools[part.ply.pool].strip_bytes, dtype=np.int64)
            for part, of in found
        ]
    )
    kept = hottest_kept(at, asked, sizes, np.array(room, dtype=np.int64))
    ends = np.cumsum([len(of.devices) for _, of in found])[:-1]
    for (part, of), hits in zip(found, np.split(kept, ends), strict=True):
        gone = np.bincount(of.disks[hits], weights=of.reads[hits] / part.reads, minlength=len(view.disks))
        part.reads_on = _less(part.reads_on, gone.astype(np.float64))
        part.remembered = part.cached = float(gone.sum())


def _less(all_of_it: Reals, some: Reals) -> Reals:
    """What is left; nothing where both are the same but for rounding."""
    same = np.isclose(all_of_it, some, rtol=1e-9, atol=1e-15)
    return np.where(same, 0.0, np.maximum(all_of_it - some, 0.0))


@dataclass(frozen=True, slots=True)
class _Strips:
    """Those of a part that lie behind cache devices, [strips]: rows of disk and device, the share of what is
    asked of the part, and reads a second.
    """

    disks: Ints
    devices: Ints
    share: Reals
    reads: Reals

    @classmethod
    def of(cls, view: SiteView, part: _Part, devices: Ints) -> _Strips:
        rows = view.rows(part.ply)
        asked = np.broadcast_to(part.warmth[:, None], rows.shape)
        total = float(asked[rows < len(view.disks)].sum()) or 1.0
        behind = devices[rows] >= 0
        share = asked[behind] / total
        mine = rows[behind].astype(np.int64)
        return cls(mine, devices[mine], share, share * part.reads)


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
    scheme = whole.scheme
    found = [
        _part(
            view,
            whole,
            warmth * ~volume.upper if hot is not None else warmth,
            reads * (1 - served),
            (writes - lands) * (1 - served),
            small_write(scheme),
            block,
        )
    ]
    if hot is not None and served:
        rises = np.repeat(warmth * volume.upper, scheme.k)
        found.append(_part(view, hot, rises, reads * served, writes * served, small_write(hot.scheme), block))
    if landing is not None:
        even = np.ones(landing.extents)
        lands_on = _part(view, landing, even, 0.0, lands, landed_write(scheme), block)
        lands_on.settles = large_write(scheme).writes
        found.append(lands_on)
    return found


def _part(
    view: SiteView, ply: Ply, warmth: Reals, reads: float, writes: float, work: DiskWork, block: float
) -> _Part:
    """warmth: [extents] by how much each is asked for; each strip of one is asked alike."""
    rows = view.rows(ply)
    there = rows < len(view.disks)  # the others are on none
    weights = np.broadcast_to(warmth[:, None], rows.shape)[there]
    asked = np.bincount(rows[there], weights=weights, minlength=len(view.disks)).astype(np.float64)
    return _Part(
        ply=ply,
        warmth=warmth,
        asked=asked / (asked.sum() or 1.0),
        reads=reads,
        writes=writes,
        work=work,
        block=block,
    )


def _of(parts: list[_Part], disks: _Disks) -> Foretold:
    reads, writes = sum(p.reads for p in parts), sum(p.writes for p in parts)
    on_disks = sum(p.operations for p in parts) / (reads + writes)
    written = sum(p.writes * (p.work.writes * (1 + p.waits) + p.settles) for p in parts)
    cached = sum(p.reads * p.cached for p in parts) / reads if reads else 0.0
    told = on_disks, written / writes if writes else None, cached if any(p.cached for p in parts) else None
    servers, rate, busy = disks.servers, disks.rate, disks.busy
    used = np.flatnonzero(np.sum([p.on_disks() for p in parts], axis=0))
    if not len(used) and any(p.remembered for p in parts):
        return Foretold(0.0, 0.0, *told)  # no disk is asked for anything
    if not len(used) or (busy[used] >= servers[used]).any():
        return Foretold(None, None, *told)
    seconds = busy[used] / rate[used]
    spare = 1 - busy[used] / servers[used]
    times = np.linspace(
        0.0, LONG * float((seconds * np.maximum(1.0, 1 / servers[used] / spare)).max()), STEPS
    )
    mixed = np.zeros(STEPS)
    for part in parts:
        if part.reads:
            mixed += part.reads * (_one(part.reads_on, part.block, disks, times) + part.remembered)
        if part.writes:
            mixed += part.writes * _written(part, disks, times)
    mixed /= reads + writes
    mean, late = float(np.trapezoid(1 - mixed, times)), float(np.interp(LATE, mixed, times))
    return Foretold(mean, late, *told)


def _written(part: _Part, disks: _Disks, times: Reals) -> Curve:
    """The distribution of the time of a write: what it reads first is read where it lies."""
    one = _one(part.writes_on, part.block, disks, times)
    if not part.work.reads:
        return together(one, part.work)
    before = together(_one(part.asked, part.block, disks, times), DiskWork(part.work.reads, 0))
    return in_turn(before, together(one, DiskWork(0, part.work.writes)))


def _one(share: Reals, block: float, disks: _Disks, times: Reals) -> Curve:
    """The distribution of the time of a request of so many bytes. share: [disks] of the requests."""
    rows = np.flatnonzero(share > 0)
    seconds = disks.busy[rows] / disks.rate[rows]
    near = [np.rint(np.log(of) * NEAR) for of in (seconds, disks.rate[rows])]
    alike = np.stack([disks.servers[rows], disks.access[rows], disks.a_byte[rows], *near], axis=1)
    one = np.zeros(len(times))
    for kind in np.unique(alike, axis=0):
        mine = rows[(alike == kind).all(axis=1)]
        of_these = share[mine]
        rate, busy = (float((of[mine] * of_these).sum() / of_these.sum()) for of in (disks.rate, disks.busy))
        own = float(kind[1]), float(kind[2]) * block
        one += of_these.sum() * response(int(kind[0]), busy / rate, rate, times, own)
    return one
