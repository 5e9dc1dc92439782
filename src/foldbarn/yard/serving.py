"""What disks and ports do for consumers: where each operation goes, how busy that makes them, what no longer
gets through, and how long an operation takes.

The load is summed up each minute of the yard's time, and whenever a strip, a limit, the power or a full cache
changes. How long operations take is tried out on a few of them each second. What waits on cache devices goes
on to the disks as far as these, and the devices, have nothing else to do; consumers are held back for it only
where a device is full.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field
from itertools import chain
from typing import TYPE_CHECKING

import numpy as np

from foldbarn.core.arrays import Flags, Ints, Reals
from foldbarn.core.pools.cache import hottest_kept
from foldbarn.core.pools.media import PROFILES
from foldbarn.core.units import MB
from foldbarn.core.volumes.pace import BOUNDS, COUNTED
from foldbarn.yard.consumers import operations_a_second, workload_of

if TYPE_CHECKING:
    from foldbarn.yard.machines import Machines

WRITE_BACK = 2
DOES = {"none": 0, "memory": 0, "read": 1, "write-back": WRITE_BACK}  # what a cache device does
CACHE_FULL, CACHE_HAS_ROOM = 0.999, 0.95  # of a device, from which on it is full, and until it has room again
FULL = 0.98  # of a disk or a port: consumers that wait for an answer never ask for more
STEADY_SECONDS = 60.0  # of the yard's time, for which the load is taken to stay as it is
LOOK_TICKS = 10  # between two looks at which strips have moved, and between two tries of operations
TRIED = 256  # operations of a volume whose time is tried out at once
VOLUMES_TRIED = 32
ON_THE_WAY_SECONDS = 50e-6  # of an operation, to its node and back


@dataclass(slots=True)
class Strips:
    """Where the strips of a ply lie, [strips] each: extent, strip of it, row of the disk."""

    extents: Ints
    strips: Ints
    disks: Ints


def _nothing() -> Reals:
    return np.zeros(0)


@dataclass(slots=True)
class Part:
    """What is asked of a ply, and of which disks, in a second at the height of a rush.

    rate: operations that find their data. on_strips: [strips] each, where these lie (Load.lie): reads, reads
    before writes, and writes. reads: [disks] of disks if all of them read, of which `cached` on cache
    devices; remembered: [disks] what their nodes have in memory instead; before, writes: [disks] of disks if
    all of them write, and what has to be read before it is written; settles: [disks] what is written there
    later instead of at once.
    """

    ply: int
    rate: float
    on_strips: tuple[Reals, Reals, Reals]
    reads: Reals = field(default_factory=_nothing)
    cached: Reals = field(default_factory=_nothing)
    remembered: Reals = field(default_factory=_nothing)
    before: Reals = field(default_factory=_nothing)
    writes: Reals = field(default_factory=_nothing)
    settles: Reals = field(default_factory=_nothing)


@dataclass(slots=True)
class Uses:
    """What all that is asked of a volume takes of disks in a second at the height of a rush, [disks] each:
    operations that read, that write, and writes that come from a cache device later; remembered: reads that
    take nothing of it. block: bytes of each.
    """

    reads: Reals
    remembered: Reals
    writes: Reals
    settles: Reals
    block: int


@dataclass(slots=True)
class Volume:
    """What its consumers get. parts: the plies that it is read from and, where nothing lands, written to.
    rate: operations in a second at the height of a rush; wanted: what they want of it now, and height: what
    they get; uses: what those take of disks.
    """

    first: int
    parts: list[Part]
    landing: Part | None
    rate: float
    uses: Uses | None = None
    wanted: float = 0.0
    height: float = 0.0
    due: float = 0.0  # operations since some were tried out

    @property
    def all_parts(self) -> list[Part]:
        return [*self.parts, self.landing] if self.landing else self.parts

    @property
    def written_at(self) -> list[Part]:
        return [self.landing] if self.landing else self.parts


@dataclass(slots=True)
class Load:
    """The yard's own notes, which are made anew when it is started."""

    on_disk: dict[str, Ints] = field(default_factory=dict)  # by serial: ply, extent, strip, [strips, 3]
    lie: dict[int, Strips] = field(default_factory=dict)  # by ply
    volumes: dict[int, Volume] = field(default_factory=dict)  # by first ply
    disks: list[str] = field(default_factory=list)  # serials, by row
    sight: tuple[object, ...] = ()  # of power and disks that are out, when it was seen which work
    working: Ints = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    summed_at: float | None = None  # by the yard's clock; None: something has changed since
    consumers: float = 1.0  # when it was summed up
    ticks: int = 0
    busy: Reals = field(default_factory=lambda: np.zeros(0))  # [disks] requests in service on average
    asked: Reals = field(default_factory=lambda: np.zeros(0))  # [disks] requests a second
    settling: Reals = field(default_factory=lambda: np.zeros(0))  # [disks] of these, what comes from a device
    devices: Ints = field(default_factory=lambda: np.zeros(0, dtype=np.int64))  # [disks] row of its, or -1
    full: Flags = field(default_factory=lambda: np.zeros(0, dtype=np.bool_))  # [disks] devices with no room
    waits: Reals = field(default_factory=lambda: np.zeros(0))  # [disks] bytes a second that begin to wait
    read: Reals = field(default_factory=lambda: np.zeros(0))  # [disks] bytes a second
    written: Reals = field(default_factory=lambda: np.zeros(0))
    sent: Reals = field(default_factory=lambda: np.zeros(0))  # [nodes] bytes a second, to consumers
    received: Reals = field(default_factory=lambda: np.zeros(0))
    counts: dict[int, dict[str, Reals]] = field(default_factory=dict)  # by ply and node: COUNTED, a second
    luck: np.random.Generator = field(default_factory=lambda: np.random.default_rng(1))


def serve(machines: Machines, seconds: float) -> None:
    """Consumers work for so long, by the yard's clock."""
    load = machines.load
    _look(machines, load)
    if load.consumers != machines.consumers:
        load.consumers, load.summed_at = machines.consumers, None
    if load.summed_at is None or not 0 <= machines.clock - load.summed_at < STEADY_SECONDS:
        _sum_up(machines, load)
    for row in np.flatnonzero(load.read + load.written).tolist():
        counters = machines.counters[load.disks[row]]
        counters.read_bytes += float(load.read[row]) * seconds
        counters.written_bytes += float(load.written[row]) * seconds
    for node, sent, received in zip(machines.nodes, load.sent, load.received, strict=False):
        if sent or received:
            machines.pass_on(node, sent=float(sent) * seconds, received=float(received) * seconds)
    _settle(machines, load, seconds)
    for ply, by_node in load.counts.items():
        for node, counts in by_node.items():
            machines.work[node][ply][: len(COUNTED)] += counts * seconds
    for volume in load.volumes.values():
        machines.asked[str(volume.first)] += volume.height * seconds
        volume.due += volume.height * volume.rate * seconds
    if load.ticks % LOOK_TICKS == 0:
        _try_out(machines, load)
    load.ticks += 1


def busy_part(machines: Machines, serial: str) -> float:
    """Part of a disk's time that consumers take, 0 to 1."""
    load = machines.load
    row = machines.row_of.get(serial)
    if row is None or row >= len(load.busy):
        return 0.0
    busy = float(load.busy[row] + load.settling[row])
    return min(busy / PROFILES[machines.disks[serial].media].at_once, 1.0)


def landed_bytes(machines: Machines, first: int) -> float:
    """Bytes a second that consumers write now to a volume."""
    volume, workload = machines.load.volumes.get(first), workload_of(first)
    return volume.height * volume.rate * (1 - workload.reads) * workload.block_bytes if volume else 0.0


# Which disks serve what. ---------------------------------------------------------------------------------


def _look(machines: Machines, load: Load) -> None:
    """Which strips have moved, and which disks work."""
    if len(load.disks) != len(machines.disks):
        load.disks = list(machines.disks)
        machines.row_of = {serial: row for row, serial in enumerate(load.disks)}
        load.working, load.volumes, load.summed_at = np.zeros(0, dtype=np.int64), {}, None
    working = load.working
    sight = (tuple(machines.power.values()), frozenset(machines.pulled), len(load.disks))
    if sight != load.sight or not len(working):
        load.sight = sight
        working = np.array([machines.works(serial) for serial in load.disks], dtype=np.int64)
    stale: set[int] = set()
    if load.ticks % LOOK_TICKS == 0 or machines.moved - load.lie.keys():
        stale = set(machines.moved)
        machines.moved.clear()
        _find(machines, load, stale)
    if not np.array_equal(working, load.working):
        load.working, stale = working, stale | load.lie.keys()
    if not stale:
        return
    plies: dict[int, list[int]] = defaultdict(list)
    for ply in load.lie.keys() - machines.pasts.keys():  # nobody asks for what snapshots hold
        plies[_first(machines, ply)].append(ply)
    firsts = {_first(machines, ply) for ply in stale - machines.pasts.keys()}
    # A landing may have been taken away from one that stays.
    firsts |= {v.first for v in load.volumes.values() if v.landing and v.landing.ply in stale}
    for first in firsts:
        volume = _volume(machines, load, first, plies.get(first, []))
        if volume is None:
            load.volumes.pop(first, None)
        else:
            volume.due = load.volumes[first].due if first in load.volumes else 0.0
            load.volumes[first] = volume
    _through_caches(machines, load)
    load.summed_at = None


def _first(machines: Machines, ply: int) -> int:
    """The ply that the data of its volume was first written to."""
    landing = machines.landings.get(str(ply))
    return landing.lands_for if landing else machines.facts_of(ply).first


def _find(machines: Machines, load: Load, plies: set[int]) -> None:
    """Finds all strips of some plies."""
    for serial in machines.stirred:
        held = machines.strips[serial]
        flat = np.fromiter(chain.from_iterable(held), dtype=np.int64, count=3 * len(held))
        load.on_disk[serial] = flat.reshape(-1, 3)
    machines.stirred.clear()
    for ply in plies:
        found, rows = [], []
        for row, serial in enumerate(load.disks):
            if serial in machines.held and machines.held[serial][ply]:
                table = load.on_disk[serial]
                mine = table[table[:, 0] == ply]
                if shut := machines.closed.get(ply):
                    mine = mine[~np.isin(mine[:, 1], list(shut))]
                found.append(mine)
                rows.append(np.full(len(found[-1]), row, dtype=np.int64))
        if found and sum(map(len, found)):
            table = np.concatenate(found)
            load.lie[ply] = Strips(table[:, 1], table[:, 2], np.concatenate(rows))
        else:
            load.lie.pop(ply, None)
            for of_node in machines.work.values():
                of_node.pop(ply, None)


def _volume(machines: Machines, load: Load, first: int, plies: list[int]) -> Volume | None:
    parts, landing = [], None
    for ply in plies:
        if str(ply) in machines.landings:
            landing = _landing(machines, load, ply)
        else:
            parts.append(_part(machines, load, ply))
    parts = [part for part in parts if part.rate > 0]
    rate = sum(part.rate for part in parts)
    return Volume(first, parts, landing, rate) if parts else None


def _part(machines: Machines, load: Load, ply: int) -> Part:
    """A mirror is read from any copy, parity from the strip of data or, where that is out, from as many
    others as there are strips of data.
    """
    lie, known = load.lie[ply], machines.facts_of(ply)
    extents, place = np.unique(lie.extents, return_inverse=True)
    works = load.working[lie.disks] > 0
    there = np.bincount(place[works], minlength=len(extents))
    k, width = known.data, int(lie.strips.max()) + 1
    wanted = operations_a_second(known.first, extents, k) * (there >= k)
    each = wanted / np.maximum(there, 1)  # of a strip that is there, where all are asked alike
    is_data = lie.strips < k
    data_there = np.bincount(place[works & is_data], minlength=len(extents))
    if k in (1, width):
        reads = each[place]
        writes, before = wanted[place], np.zeros(len(place))
    else:
        # What is out is a k-th of it each, and takes k reads; one that moves may be there twice.
        made = np.maximum(k - data_there, 0) * each
        reads = np.where(is_data, wanted[place] / k, 0.0) + made[place]
        writes = np.where(is_data, wanted[place] / k, wanted[place])
        parity = width - k
        before = each[place] * min(1 + parity, k - 1)

    return Part(ply, float(wanted.sum()), (reads * works, before * works, writes * works))


def _landing(machines: Machines, load: Load, ply: int) -> Part | None:
    """Where a write lands; None where no disk of it works."""
    lie = load.lie[ply]
    works = load.working[lie.disks] > 0
    if not works.any():
        return None
    nothing = np.zeros(len(works))
    return Part(ply, 1.0, (nothing, nothing, works / works.sum() * machines.landings[str(ply)].copies))


def _through_caches(machines: Machines, load: Load) -> None:
    """Which disks and cache devices serve what is asked of strips. Behind each device, what is read most lies
    there too, as far as there is room.
    """
    size = len(load.disks)
    found = [part for volume in load.volumes.values() for part in volume.all_parts]
    devices = np.full(size, -1, dtype=np.int64)
    for disk, device in machines.bound.items():
        if machines.works(device):
            devices[machines.row_of[disk]] = machines.row_of[device]
    load.devices = devices
    does = [_does(machines, load, part.ply, devices) for part in found]
    kept = _kept(machines, load, found, does, devices)
    in_memory = _remembered(machines, load, found)
    for part, mine, hit, known in zip(found, does, kept, in_memory, strict=True):
        disks = load.lie[part.ply].disks
        reads, before, writes = part.on_strips
        part.remembered = np.bincount(disks, weights=reads * known, minlength=size).astype(np.float64)
        reads = reads * ~known
        waits = mine == WRITE_BACK

        def on(rows: Ints, of: Reals) -> Reals:
            return np.bincount(rows, weights=of, minlength=size).astype(np.float64)

        part.reads = on(np.where(hit, devices[disks], disks), reads)
        part.cached = on(np.where(hit, devices[disks], 0), reads * hit)
        part.before = on(disks, before)
        part.writes = on(np.where(waits, devices[disks], disks), writes)
        part.settles = on(disks, writes * waits)
    for volume in load.volumes.values():
        volume.uses = _uses(volume)


def _does(machines: Machines, load: Load, ply: int, devices: Ints) -> Ints:
    """What the cache device of each strip of a ply does for it: DOES, [strips]."""
    disks = load.lie[ply].disks
    by_disk = np.zeros(len(load.disks), dtype=np.int64)
    for row in np.unique(disks).tolist():
        if devices[row] >= 0:
            by_disk[row] = DOES[machines.caches(load.disks[row], ply)]
    found: Ints = by_disk[disks]
    return found


def _kept(machines: Machines, load: Load, parts: list[Part], does: list[Ints], devices: Ints) -> list[Flags]:
    """Which strips of each part are read from a cache device."""
    behind = [mine > 0 for mine in does]
    if not any(mine.any() for mine in behind):
        return behind
    at = [devices[load.lie[part.ply].disks[mine]] for part, mine in zip(parts, behind, strict=True)]
    reads = [part.on_strips[0][mine] for part, mine in zip(parts, behind, strict=True)]
    sizes = [np.full(len(a), machines.facts_of(p.ply).bytes) for p, a in zip(parts, at, strict=True)]
    room = np.array([machines.disks[serial].size_bytes for serial in load.disks], dtype=np.int64)
    hits = hottest_kept(np.concatenate(at), np.concatenate(reads), np.concatenate(sizes), room)
    found = [np.zeros(len(mine), dtype=np.bool_) for mine in behind]
    for mine, where, hit in zip(
        found, behind, np.split(hits, np.cumsum([len(a) for a in at])[:-1]), strict=True
    ):
        mine[where] = hit
    return found


def _remembered(machines: Machines, load: Load, parts: list[Part]) -> list[Flags]:
    """Which strips of each part their nodes have in memory: of those that share a room there the most
    read.
    """
    if not any(machines.remembering.values()):
        return [np.zeros(len(load.lie[part.ply].disks), dtype=np.bool_) for part in parts]
    names, rooms, sizes_of_rooms = list(machines.nodes), dict[tuple[str, str], int](), list[int]()
    rows_of = {name: row for row, name in enumerate(names)}
    node_of = np.array([rows_of[machines.node_of[serial]] for serial in load.disks])
    found, at, reads, sizes = [], [], [], []
    for part in parts:
        lie, place = load.lie[part.ply], np.full(len(names), -1, dtype=np.int64)
        for row, name in enumerate(names):
            told = machines.remembering.get(name, {}).get(part.ply)
            if told is None or machines.caching[name].get(part.ply) != "memory":
                continue
            if (name, told[0]) not in rooms:
                rooms[name, told[0]] = len(rooms)
                sizes_of_rooms.append(told[1])
            place[row] = rooms[name, told[0]]
        mine = place[node_of[lie.disks]]
        found.append(mine >= 0)
        at.append(mine[mine >= 0])
        reads.append(part.on_strips[0][mine >= 0])
        sizes.append(np.full(len(at[-1]), machines.facts_of(part.ply).bytes, dtype=np.int64))
    if not rooms:
        return [np.zeros(len(mine), dtype=np.bool_) for mine in found]
    kept = hottest_kept(
        np.concatenate(at), np.concatenate(reads), np.concatenate(sizes), np.array(sizes_of_rooms)
    )
    for mine, hits in zip(found, np.split(kept, np.cumsum([len(a) for a in at])[:-1]), strict=True):
        mine[mine] = hits
    return found


# How busy they are. --------------------------------------------------------------------------------------


@dataclass(slots=True)
class _Built:
    """[disks] each: requests that it works on at once, seconds before bytes flow, bytes a second; its
    node.
    """

    servers: Reals
    access: Reals
    bandwidth: Reals
    node: Ints


def _built(machines: Machines, load: Load) -> _Built:
    profiles = [PROFILES[machines.disks[serial].media] for serial in load.disks]
    rows = {name: row for row, name in enumerate(machines.nodes)}
    return _Built(
        np.array([p.at_once for p in profiles], dtype=np.float64),
        np.array([p.access_seconds for p in profiles]),
        np.array([p.bytes_per_second for p in profiles], dtype=np.float64),
        np.array([rows[machines.node_of[serial]] for serial in load.disks], dtype=np.int64),
    )


def _uses(volume: Volume) -> Uses:
    workload = workload_of(volume.first)
    reads, remembered = (_sum(volume.parts, of) * workload.reads for of in ("reads", "remembered"))
    if volume.landing:
        writes, settles = volume.landing.writes * volume.rate, np.zeros_like(reads)
    else:
        writes, settles = (_sum(volume.parts, of) for of in ("writes", "settles"))
        reads = reads + _sum(volume.parts, "before") * (1 - workload.reads)
    writing = 1 - workload.reads
    return Uses(reads, remembered, writes * writing, settles * writing, workload.block_bytes)


def _sum(parts: list[Part], of: str) -> Reals:
    found: Reals = np.sum([getattr(part, of) for part in parts], axis=0)
    return found


def _busy(uses: Uses, built: _Built) -> Reals:
    """[disks] requests in service on average, of what consumers wait for."""
    moves = uses.block * built.servers / built.bandwidth
    found: Reals = (uses.reads + uses.writes) * (built.access + moves)
    return found


def _busy_settling(load: Load, settles: Reals, built: _Built) -> Reals:
    """[disks] the same for so many bytes a second that go from cache devices on to disks, in long runs."""
    found = settles * built.servers / built.bandwidth
    behind = load.devices >= 0
    read = np.bincount(load.devices[behind], weights=settles[behind], minlength=len(settles))
    return found + read * built.servers / built.bandwidth


def _sum_up(machines: Machines, load: Load) -> None:
    """What each volume's consumers want now, what of it gets through, and what that makes of the disks."""
    built, size = _built(machines, load), len(load.disks)
    volumes = list(load.volumes.values())
    most = most_by_limits(machines)
    ports = np.array(
        [
            sum(p.megabits for p in node.ports if p.up and p.purpose == "storage") * MB / 8
            for node in machines.nodes.values()
        ]
    )
    resting = machines.out_of_use()
    for volume in volumes:
        wanted = workload_of(volume.first).height(machines.clock) * machines.consumers
        wanted *= volume.first not in resting
        volume.wanted = wanted
        volume.height = min(wanted, most.get(volume.first, wanted))
    urgent = np.append(load.full, False)[load.devices] if len(load.full) else np.zeros(size, dtype=np.bool_)
    wants = []  # of each volume at height 1: of disks, of ports out and in
    for volume in volumes:
        uses = volume.uses or _uses(volume)
        settles = _busy_settling(load, uses.settles * uses.block * urgent, built)
        sent = uses.reads + uses.remembered
        ways = [np.bincount(built.node, of * uses.block, len(ports)) for of in (sent, uses.writes)]
        wants.append((_busy(uses, built) + settles, *(way.astype(np.float64) for way in ways)))
    for _ in range(4):  # who is held back by one disk leaves more of the others
        busy, out, into = np.zeros(size), np.zeros(len(ports)), np.zeros(len(ports))
        for volume, (of_disks, of_out, of_in) in zip(volumes, wants, strict=True):
            busy, out = busy + of_disks * volume.height, out + of_out * volume.height
            into = into + of_in * volume.height
        parts = [busy / built.servers, out / np.maximum(ports, 1.0), into / np.maximum(ports, 1.0)]
        if all(part.max(initial=0.0) <= FULL * (1 + 1e-9) for part in parts):
            break
        for volume, want in zip(volumes, wants, strict=True):
            worst = max(part[mine > 0].max(initial=0.0) for part, mine in zip(parts, want, strict=True))
            volume.height *= min(1.0, FULL / worst) if worst else 1.0
    _note(machines, load, built)
    load.summed_at = machines.clock


def most_by_limits(machines: Machines) -> dict[int, float]:
    """How busy the consumers of volumes with limits may be, as a part of the height of a rush; by the ply
    that the volume was first written to. The nodes of a volume keep to the sum of their parts together.
    """
    parts: dict[int, list[float]] = {}
    for limits in machines.limits.values():
        for ply, (operations, size) in limits.items():
            first = machines.facts_of(ply).first
            so_far = parts.setdefault(first, [0.0, 0.0])
            so_far[0] += operations
            so_far[1] += size / workload_of(first).block_bytes
    found = {}
    for first, limits_of in parts.items():
        most = min((limit for limit in limits_of if limit), default=0.0)
        volume = machines.load.volumes.get(first)
        if most and volume is not None and volume.rate:
            found[first] = most / volume.rate
    return found


def _note(machines: Machines, load: Load, built: _Built) -> None:
    """What goes on in a second from now on."""
    size = len(load.disks)
    load.busy, load.asked, load.read, load.written, load.waits = (np.zeros(size) for _ in range(5))
    if len(load.settling) != size:
        load.settling, load.full = np.zeros(size), np.zeros(size, dtype=np.bool_)
    load.counts = {}
    names = list(machines.nodes)
    load.sent, load.received = np.zeros(len(names)), np.zeros(len(names))
    for volume in load.volumes.values():
        height, uses = volume.height, volume.uses or _uses(volume)
        load.asked += (uses.reads + uses.writes) * height
        load.busy += _busy(uses, built) * height
        load.read += uses.reads * uses.block * height
        load.written += uses.writes * uses.block * height
        load.waits += uses.settles * uses.block * height
        sent = uses.reads + uses.remembered
        for flow, of in ((load.sent, sent), (load.received, uses.writes)):
            flow += np.bincount(built.node, of * uses.block * height, len(names))
        for part in volume.all_parts:
            times = [volume.wanted if name == "wanted" else height for name in COUNTED]
            counted = _counted(volume, part, built, len(names)) * times
            load.counts[part.ply] = {
                names[row]: counted[row] for row in np.flatnonzero(counted.any(axis=1)).tolist()
            }


def _settle(machines: Machines, load: Load, seconds: float) -> None:
    """What waits on cache devices goes on to the disks, as far as both have nothing else to do."""
    held = np.array([machines.in_cache.get(serial, 0.0) for serial in load.disks])
    if not load.waits.any() and not held.any():
        return
    built = _built(machines, load)
    spare = np.maximum(FULL - load.busy / built.servers, 0.0) * built.bandwidth * seconds
    behind = (load.devices >= 0) & (load.working > 0)
    waiting = held + load.waits * seconds
    goes = np.where(behind, np.minimum(waiting, spare), 0.0)
    size = len(held)
    rows = np.where(behind, load.devices, 0)
    at_device = np.bincount(rows, weights=goes * behind, minlength=size)
    goes *= np.minimum(1.0, spare[rows] / np.maximum(at_device[rows], 1.0))
    room = np.array([float(machines.disks[serial].size_bytes) for serial in load.disks])
    left = np.bincount(rows, weights=(waiting - goes) * behind, minlength=size)
    # What finds no room went on at once: the load is summed up anew only with the next tick.
    over = np.maximum(left - room, 0.0) / np.maximum(left, 1.0)
    goes += (waiting - goes) * over[rows] * behind
    for row in np.flatnonzero(waiting).tolist():
        serial, moved = load.disks[row], float(goes[row])
        machines.in_cache[serial] = float(waiting[row]) - moved
        machines.counters[serial].written_bytes += moved
        if behind[row]:
            machines.counters[load.disks[load.devices[row]]].read_bytes += moved
    load.settling = _busy_settling(load, goes / seconds, built) if seconds else np.zeros(size)
    filled = np.bincount(rows, weights=(waiting - goes) * behind, minlength=size) / room
    full = (filled >= CACHE_FULL) | (load.full & (filled >= CACHE_HAS_ROOM))
    if not np.array_equal(full, load.full):
        load.full, load.summed_at = full, None


def _counted(volume: Volume, part: Part, built: _Built, nodes: int) -> Reals:
    """COUNTED of a ply, [nodes, counted], in a second at height 1. An operation counts where it is taken: a
    read at the disk that is read, a write on the nodes as they share what is written.
    """
    workload = workload_of(volume.first)

    def by_node(of: Reals) -> Reals:
        return np.bincount(built.node, weights=of, minlength=nodes).astype(np.float64)

    def shared(of: Reals, total: float) -> Reals:
        there = by_node(of)
        return there / there.sum() * total if there.sum() else there

    reads, writes, before, written, settled = (np.zeros(nodes) for _ in range(5))
    if part is not volume.landing:
        reads = shared(part.reads + part.remembered, part.rate * workload.reads)
    disk_reads = by_node(part.reads) * workload.reads
    if part in volume.written_at:
        times = volume.rate if part is volume.landing else 1.0
        asked = volume.rate if part is volume.landing else part.rate
        writes = shared(part.writes, asked * (1 - workload.reads))
        before = by_node(part.before) * times * (1 - workload.reads)
        written = by_node(part.writes) * times * (1 - workload.reads)
        settled = by_node(part.settles) * times * (1 - workload.reads)
    block = workload.block_bytes
    columns = {
        "reads": reads,
        "writes": writes,
        "read_bytes": reads * block,
        "written_bytes": writes * block,
        "disk_reads": disk_reads + before,
        "disk_writes": written,
        "disk_written_bytes": (written + settled) * block,
        "cached_reads": by_node(part.cached + part.remembered) * workload.reads,
        "wanted": reads + writes,
    }
    return np.stack([columns[name] for name in COUNTED], axis=1)


# How long an operation takes. ----------------------------------------------------------------------------


@dataclass(slots=True)
class _Queues:
    """[disks] each: seconds before a request's bytes flow, and of each byte; the chance that it has to wait,
    and requests a second by which a queue grows shorter; the row of its node.
    """

    access: Reals
    a_byte: Reals
    waits: Reals
    empties: Reals
    node: Ints


def _queues(machines: Machines, load: Load) -> _Queues:
    built = _built(machines, load)
    busy = np.minimum(load.busy + load.settling, FULL * built.servers)
    mean = busy / np.maximum(load.asked, 1e-12)
    return _Queues(
        access=built.access,
        a_byte=built.servers / built.bandwidth,
        waits=_waits(busy, built.servers),
        empties=np.maximum(built.servers / np.maximum(mean, 1e-12) - load.asked, 1e-9),
        node=built.node,
    )


def _waits(busy: Reals, servers: Reals) -> Reals:
    """[disks] the chance that a request finds every server at work (Erlang's second formula, by the recursion
    of his first).
    """
    blocked = np.ones(len(busy))
    for n in range(1, int(servers.max(initial=0)) + 1):
        blocked = np.where(n <= servers, busy * blocked / (n + busy * blocked), blocked)
    waits: Reals = np.where(busy > 0, blocked / (1 - busy / servers * (1 - blocked)), 0.0)
    return np.clip(waits, 0.0, 1.0)


def _try_out(machines: Machines, load: Load) -> None:
    """Tries out some operations of the volumes that had the most since the last time. How long they take is
    noted with the ply and the node that took them, each standing for as many as were not tried.
    """
    due = sorted((v for v in load.volumes.values() if v.due >= 1.0), key=lambda v: -v.due)
    if not due:
        return
    queues = _queues(machines, load)
    for volume in due[:VOLUMES_TRIED]:
        workload, count = workload_of(volume.first), min(TRIED, int(volume.due))
        reading = int(load.luck.binomial(count, workload.reads))
        for part, tries in _dealt(load, volume.parts, reading):
            known = _tries_from_memory(load, part, tries)
            if known:
                nodes = queues.node[_drawn(load, part.remembered, (known,))]
                at_once = nodes, np.full(known, 2 * ON_THE_WAY_SECONDS)
                _note_times(machines, part.ply, at_once, volume.due / count)
            took = _took(load, queues, [(part.reads, 1)], tries - known, workload.block_bytes)
            _note_times(machines, part.ply, took, volume.due / count)
        for part, tries in _dealt(load, volume.written_at, count - reading):
            steps = [(of, round(float(of.sum()) / part.rate)) for of in (part.before, part.writes)]
            took = _took(load, queues, steps, tries, workload.block_bytes)
            _note_times(machines, part.ply, took, volume.due / count)
        volume.due = 0.0


def _tries_from_memory(load: Load, part: Part, tries: int) -> int:
    """How many of these reads find what they want in a node's memory."""
    remembered = float(part.remembered.sum())
    if not remembered:
        return 0
    return int(load.luck.binomial(tries, min(1.0, remembered / (remembered + float(part.reads.sum())))))


def _drawn(load: Load, share: Reals, shape: tuple[int, ...]) -> Ints:
    """Rows of disks, as these shares of requests go to them."""
    found: Ints = load.luck.choice(len(share), shape, p=share / share.sum())
    return found


def _dealt(load: Load, parts: list[Part], tries: int) -> list[tuple[Part, int]]:
    """So many operations, as parts are asked for."""
    rates = np.array([part.rate for part in parts])
    counts = load.luck.multinomial(tries, rates / rates.sum()).tolist()
    return [(part, count) for part, count in zip(parts, counts, strict=True) if count]


def _took(
    load: Load, queues: _Queues, steps: list[tuple[Reals, int]], tries: int, block: int
) -> tuple[Ints, Reals]:
    """The row of the node that takes each operation, and seconds until it is done, [tries]. steps: one after
    the other, each with [disks] the share of requests to them, and how many of those go at once. Empty where
    no disk takes the last of them.
    """
    steps = [(share, at_once) for share, at_once in steps if at_once]
    if not steps or not steps[-1][0].any():
        return np.zeros(0, dtype=np.int64), np.zeros(0)
    took = np.full(tries, ON_THE_WAY_SECONDS * (steps[-1][1] > 1) + ON_THE_WAY_SECONDS)
    disks = np.zeros((tries, 1), dtype=np.int64)
    for share, at_once in steps:
        disks = _drawn(load, share, (tries, at_once))
        took += _sojourn(load, queues, disks, block).max(axis=1)
    return queues.node[disks[:, 0]], took


def _sojourn(load: Load, queues: _Queues, disks: Ints, block: int) -> Reals:
    """Seconds of one request on each of these disks, its wait for others among them: what is moved takes its
    time, and getting there takes now more, now less.
    """
    has_to_wait = load.luck.random(disks.shape) < queues.waits[disks]
    wait = has_to_wait * load.luck.exponential(1.0, disks.shape) / queues.empties[disks]
    gets_there = load.luck.exponential(1.0, disks.shape) * queues.access[disks]
    took: Reals = wait + gets_there + block * queues.a_byte[disks]
    return took


def _note_times(machines: Machines, ply: int, took: tuple[Ints, Reals], weight: float) -> None:
    nodes, seconds = took
    buckets = np.searchsorted(BOUNDS, seconds)
    names = list(machines.nodes)
    for row in np.unique(nodes).tolist():
        np.add.at(machines.work[names[row]][ply], len(COUNTED) + buckets[nodes == row], weight)
