"""What things did lately: samples of what went through them, taken from counters that only grow, and
condensed as they grow old. Method: docs/methods.md, "Samples".
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from itertools import pairwise

import numpy as np

from foldbarn.core.arrays import Flags, Ints, Reals
from foldbarn.core.machines.health import Health
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.site import SiteView
from foldbarn.core.volumes.loss import fate_of
from foldbarn.core.volumes.pace import BOUNDS, COUNTED
from foldbarn.core.watch.glance import glance

MINUTE, HOUR = 60, 3600  # seconds that condensed samples stand for


class Sampled(StrEnum):
    """Kinds of things of which there are samples."""

    VOLUME = "volume"
    DISK = "disk"
    PORT = "port"
    NODE = "node"
    POOL = "pool"


@dataclass(frozen=True, slots=True, order=True)
class Series:
    """The samples of one thing, by number; of a port, by the number of its node and its own name."""

    of: Sampled
    number: int
    part: str = ""


class Measure(StrEnum):
    """What is sampled: flows and operations are a second. Read from a volume, a pool or a disk, sent by a
    port; a node reads and writes what its disks do. Operations are those of consumers. Held: bytes that
    consumers have written to a volume, or that strips take of a disk, a node or a pool. Full: the share of a
    pool's room that is taken. Short: extents of a volume that lack strips. Of a disk, as it says itself: how
    warm it is in degrees Celsius, the share of its rated life that is used, and defects, its sectors that
    were reallocated, wait to be, or cannot be read.
    """

    READ_BYTES = "read_bytes"
    WRITTEN_BYTES = "written_bytes"
    READS = "reads"
    WRITES = "writes"
    HELD_BYTES = "held_bytes"
    FULL = "full"
    SHORT = "short"
    CELSIUS = "celsius"
    WORN = "worn"
    DEFECTS = "defects"


# In the order in which they are kept: another one goes to the end, and what was kept before lacks it.
MEASURES = tuple(Measure)
_FLOWS = [COUNTED.index(name) for name in ("read_bytes", "written_bytes", "reads", "writes")]
_HELD = MEASURES.index(Measure.HELD_BYTES)
_FULL, _SHORT = MEASURES.index(Measure.FULL), MEASURES.index(Measure.SHORT)
SAID = (Measure.CELSIUS, Measure.WORN, Measure.DEFECTS)  # by a disk, of itself
_SAID = [MEASURES.index(measure) for measure in SAID]
BUCKETS = len(BOUNDS) + 1  # of operations, by the time that they took


def said_of(health: Health) -> tuple[float, ...]:
    """What a disk says of itself, in the order of SAID."""
    warm = math.nan if health.temperature is None else float(health.temperature)
    sectors = health.reallocated + health.pending + health.uncorrectable
    return warm, health.percentage_used / 100, float(sectors)


# Taking samples. -----------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True, eq=False)
class Counted:
    """What a node has counted since it started. uptime: seconds that its own clock has run. disks: by serial,
    bytes read and written since each was made; ports: by name, bytes sent and received. plies: [plies]
    numbers; work: [plies, COUNTED and BUCKETS] what it has done for consumers of each. said: by serial, what
    disks say of themselves, in the order of SAID, NaN where one does not.
    """

    uptime: float
    disks: Mapping[str, tuple[int, int]]
    ports: Mapping[str, tuple[int, int]]
    plies: Ints
    work: Reals
    said: Mapping[str, tuple[float, ...]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, eq=False)
class Samples:
    """One sample of each of many series. values: [series, measures], NaN where not known; times: [series,
    BUCKETS] operations by the time that they took.
    """

    series: tuple[Series, ...]
    values: Reals
    times: Reals


@dataclass(frozen=True, slots=True, eq=False)
class _Flow:
    """What went through a node, a second, since it was asked before: NaN where a count fell, so that nobody
    knows.
    """

    disks: dict[str, tuple[float, float]]
    ports: dict[str, tuple[float, float]]
    plies: Ints
    work: Reals
    times: Reals


def sampled(view: SiteView, before: Mapping[int, Counted], now: Mapping[int, Counted]) -> Samples:
    """A sample of everything, by what nodes (by number) have counted, and had counted the last time they were
    asked. Where one of those that worked for a volume then does not tell now, or has been started anew,
    nobody knows what the volume got, nor what its pool did: of both only what does not flow is sampled.
    """
    flows = {n: flow for n, one in now.items() if n in before and (flow := _flow(before[n], one))}
    rows = {node.number: row for row, node in enumerate(view.nodes)}
    found = _Rows()
    strip_bytes = np.array([pool.strip_bytes for pool in view.pools] + [0], dtype=np.int64)
    taken = view.disk_used * strip_bytes[view.disk_pool] if view.disks else np.zeros(0, dtype=np.int64)
    moved = np.zeros((len(view.nodes), 2))  # by the disks that each carries
    for row, disk in enumerate(view.disks):
        node = view.nodes[disk.node].number
        flow = flows.get(node)
        if flow is not None and (bytes_ := flow.disks.get(disk.serial)) is not None:
            series = Series(Sampled.DISK, disk.number)
            found.add(series, bytes_, held=float(taken[row]), said=now[node].said.get(disk.serial))
            moved[disk.node] += bytes_
    ports = [{port.name for port in node.ports} for node in view.nodes]
    held = np.bincount(view.disk_node, weights=taken, minlength=len(view.nodes)) if view.disks else None
    for number, flow in flows.items():
        if number not in rows:
            continue
        row = rows[number]
        for name, bytes_ in flow.ports.items():
            if name in ports[row]:
                found.add(Series(Sampled.PORT, number, name), bytes_)
        done = flow.work[:, _FLOWS[2:]].sum(axis=0).tolist()
        of_node = (*moved[row].tolist(), *done)
        found.add(Series(Sampled.NODE, number), of_node, held=0.0 if held is None else float(held[row]))
    times = np.zeros((len(found.series), BUCKETS))
    of_volumes = _of_volumes(view, before, flows)
    of_pools = _of_pools(view, of_volumes, taken)
    return _known(
        [*found.series, *of_volumes.series, *of_pools.series],
        np.concatenate([found.matrix(), of_volumes.values, of_pools.values]),
        np.concatenate([times, of_volumes.times, of_pools.times]),
    )


@dataclass(slots=True)
class _Rows:
    """Samples as they are found one by one: what went through, what is held, what is said."""

    series: list[Series] = field(default_factory=list)
    values: list[list[float]] = field(default_factory=list)

    def add(
        self,
        series: Series,
        flows: Sequence[float],
        held: float = math.nan,
        said: Sequence[float] | None = None,
    ) -> None:
        """flows: the first of the measures, as many as are known."""
        row = [math.nan] * len(MEASURES)
        row[: len(flows)], row[_HELD] = flows, held
        for place, value in zip(_SAID, said or (), strict=False):
            row[place] = value
        self.series.append(series)
        self.values.append(row)

    def matrix(self) -> Reals:
        return np.array(self.values).reshape(-1, len(MEASURES))


def _known(series: Sequence[Series], values: Reals, times: Reals) -> Samples:
    """Without those of which nothing is known but what they hold."""
    told = np.delete(values, _HELD, axis=1)
    known: Flags = ~np.asarray(np.isnan(told).all(axis=1))
    times[np.isnan(values[:, :_HELD]).any(axis=1)] = 0.0
    left = (one for one, there in zip(series, known.tolist(), strict=True) if there)
    return Samples(tuple(left), values[known], times[known])


def _flow(before: Counted, now: Counted) -> _Flow | None:
    """None where the node's clock has not gone on: it was started anew, and its counts with it."""
    seconds = now.uptime - before.uptime
    if seconds <= 0:
        return None
    order = np.argsort(before.plies)
    place = np.minimum(np.searchsorted(before.plies[order], now.plies), max(len(order) - 1, 0))
    known = np.zeros_like(now.work)
    if len(order):
        same = before.plies[order][place] == now.plies
        known[same] = before.work[order[place[same]]]
    grown = now.work - known
    grown[(grown < 0).any(axis=1)] = np.nan
    return _Flow(
        disks=_rates(before.disks, now.disks, seconds),
        ports=_rates(before.ports, now.ports, seconds),
        plies=now.plies,
        work=grown[:, : len(COUNTED)] / seconds,
        times=grown[:, len(COUNTED) :],
    )


def _rates(
    before: Mapping[str, tuple[int, int]], now: Mapping[str, tuple[int, int]], seconds: float
) -> dict[str, tuple[float, float]]:
    """How fast pairs of counts grew, by name; NaN for one that fell."""

    def rate(was: int, is_: int) -> float:
        return (is_ - was) / seconds if is_ >= was else math.nan

    return {
        name: (rate(before[name][0], found[0]), rate(before[name][1], found[1]))
        for name, found in now.items()
        if name in before
    }


def _of_volumes(view: SiteView, before: Mapping[int, Counted], flows: Mapping[int, _Flow]) -> Samples:
    """Of all volumes that are not being made still, in the order of the site's picture."""
    row_of = {p.number: row for row, volume in enumerate(view.volumes) for p in volume.every_ply}
    size = len(view.volumes)
    values, times = np.full((size, len(MEASURES)), np.nan), np.zeros((size, BUCKETS))
    values[:, :_HELD] = 0.0
    for number, told in before.items():
        flow = flows.get(number)
        plies = (told if flow is None else flow).plies.tolist()
        at = np.array([row_of.get(ply, -1) for ply in plies], dtype=np.int64)
        there = at >= 0
        if flow is None:
            values[at[there], :_HELD] = np.nan  # what it did since, nobody knows
            continue
        for column, counted in enumerate(_FLOWS):
            np.add.at(values[:, column], at[there], flow.work[there, counted])
        np.add.at(times, at[there], flow.times[there])
    values[:, _HELD] = [volume.written_bytes for volume in view.volumes]
    values[:, _SHORT] = _short(view)
    # Where nobody has told anything, nothing is known of any.
    told_of = [row for row, volume in enumerate(view.volumes) if flows and not volume.forming]
    series = tuple(Series(Sampled.VOLUME, view.volumes[row].number) for row in told_of)
    return Samples(series, values[told_of], times[told_of])


def _short(view: SiteView) -> Ints:
    """Extents that lack strips, of each volume: which volumes may have some is seen of all at once."""
    short = np.zeros(len(view.volumes), dtype=np.int64)
    for row in np.flatnonzero(~glance(view).there).tolist():
        short[row] = fate_of(view, view.volumes[row]).short
    return short


def _of_pools(view: SiteView, of_volumes: Samples, taken: Ints) -> Samples:
    """What went through all volumes of each pool."""
    row_of = {volume.number: volume.pool for volume in view.volumes}
    rows = np.array([row_of[series.number] for series in of_volumes.series], dtype=np.int64)
    pools = view.pools if of_volumes.series else ()
    values, times = np.full((len(pools), len(MEASURES)), np.nan), np.zeros((len(pools), BUCKETS))
    values[:, :_HELD] = 0.0
    if pools:
        np.add.at(values[:, :_HELD], rows, of_volumes.values[:, :_HELD])
        np.add.at(times, rows, of_volumes.times)
        on_disks = np.bincount(view.disk_pool + 1, weights=taken, minlength=len(pools) + 1)
        values[:, _HELD] = on_disks[1:]
        values[:, _FULL] = [pool_space(view, pool).full for pool in pools]
    return Samples(tuple(Series(Sampled.POOL, pool.number) for pool in pools), values, times)


# Condensing them. ----------------------------------------------------------------------------------------


WIDTH = 1.04  # of a bin: the next begins at so many times where this one does
LOWEST = 0.01  # what is less counts as nothing
BINS = 1 + math.ceil(math.log(1e19) / math.log(WIDTH))  # the first for nothing; up to 10^17
_ENTRY = np.dtype([("index", "<u2"), ("count", "<f4")])  # of a histogram of which most is empty


@dataclass(frozen=True, slots=True, eq=False)
class Condensed:
    """Samples of many intervals, each put together as one. count: [rows, measures] samples in which each was
    known; mean, least, most: of these, NaN where there are none. spread: [rows] histograms of the samples, of
    one measure after the other, from which percentiles are read; times: of operations. Both packed.
    """

    count: Ints
    mean: Reals
    least: Reals
    most: Reals
    spread: list[bytes]
    times: list[bytes]

    def __len__(self) -> int:
        return len(self.count)

    def not_exceeded(self, row: int, measure: Measure, share: float) -> float | None:
        """What this share of a row's samples did not exceed, which lies between the least and the most of
        them; None where there are none.
        """
        found, column = percentile(self.spread[row], measure, share), MEASURES.index(measure)
        if found is None:
            return None
        return float(np.clip(found, self.least[row, column], self.most[row, column]))


def of_samples(values: Reals, times: list[bytes]) -> Condensed:
    """Samples as they were taken, [rows, measures]; each is then a row of its own."""
    known = ~np.isnan(values)
    entries = np.zeros(int(known.sum()), dtype=_ENTRY)
    measures = np.nonzero(known)[1]
    entries["index"] = measures * BINS + bins_of(values[known])
    entries["count"] = 1.0
    ends = np.cumsum(known.sum(axis=1)).tolist()
    spread = [entries[a:b].tobytes() for a, b in zip([0, *ends], ends, strict=False)]
    return Condensed(known.astype(np.int64), values, values, values, spread, times)


def condensed(rows: Condensed, groups: Ints, size: int) -> Condensed:
    """Rows put together: groups [rows] tells for each which of so many rows it goes into. Whether they come
    as they were taken, or condensed before, makes no difference but for rounding.
    """
    count = np.zeros((size, len(MEASURES)), dtype=np.int64)
    total, least = np.zeros(count.shape), np.full(count.shape, np.inf)
    most = np.full(count.shape, -np.inf)
    np.add.at(count, groups, rows.count)
    np.add.at(total, groups, np.where(rows.count > 0, rows.mean * rows.count, 0.0))
    np.fmin.at(least, groups, rows.least)
    np.fmax.at(most, groups, rows.most)
    there = count > 0
    return Condensed(
        count=count,
        mean=np.where(there, total / np.maximum(count, 1), np.nan),
        least=np.where(there, least, np.nan),
        most=np.where(there, most, np.nan),
        spread=_put_together(rows.spread, groups, size),
        times=_put_together(rows.times, groups, size),
    )


def bins_of(values: Reals) -> Ints:
    """The bin of each value, 0 for nothing."""
    least = np.maximum(values, LOWEST)
    bins = np.ceil(np.log(least / LOWEST) / math.log(WIDTH) - 1e-9).astype(np.int64)
    found: Ints = np.where(values < LOWEST, 0, np.clip(bins + 1, 1, BINS - 1))
    return found


def value_of(bin_: int) -> float:
    """What stands for all that is in a bin: no further from any of it than half of its width, about 2 %."""
    return 0.0 if bin_ == 0 else 2 * LOWEST * WIDTH ** (bin_ - 1) / (WIDTH + 1)


def percentile(spread: bytes, measure: Measure, share: float) -> float | None:
    """What this share of the samples did not exceed, by nearest rank; None where there are none."""
    entries = np.frombuffer(spread, dtype=_ENTRY)
    mine = np.flatnonzero(entries["index"] // BINS == MEASURES.index(measure))
    if not len(mine):
        return None
    mine = mine[np.argsort(entries["index"][mine], kind="stable")]
    reached = np.cumsum(entries["count"][mine].astype(np.float64))
    at = min(int(np.searchsorted(reached, share * reached[-1] - 1e-6)), len(mine) - 1)
    return value_of(int(entries["index"][mine[at]]) % BINS)


def packed(counts: Reals) -> list[bytes]:
    """Histograms, [rows, buckets], of which most is empty, as few bytes each."""
    rows, index = np.nonzero(counts)
    entries = np.zeros(len(rows), dtype=_ENTRY)
    entries["index"], entries["count"] = index, counts[rows, index]
    return _cut(entries, rows, len(counts))


def unpacked(histogram: bytes, buckets: int) -> Reals:
    entries = np.frombuffer(histogram, dtype=_ENTRY)
    found = np.zeros(buckets)
    found[entries["index"]] = entries["count"]
    return found


def _put_together(histograms: list[bytes], groups: Ints, size: int) -> list[bytes]:
    entries = np.frombuffer(b"".join(histograms), dtype=_ENTRY)
    lengths = np.array([len(h) // _ENTRY.itemsize for h in histograms], dtype=np.int64)
    keys = np.repeat(groups, lengths) * (1 << 16) + entries["index"].astype(np.int64)
    found, place = np.unique(keys, return_inverse=True)
    together = np.zeros(len(found), dtype=_ENTRY)
    together["index"] = found % (1 << 16)
    together["count"] = np.bincount(place.reshape(-1), weights=entries["count"], minlength=len(found))
    return _cut(together, found >> 16, size)


def _cut(entries: np.ndarray, rows: Ints, size: int) -> list[bytes]:
    """Entries in the order of their rows, as one packed histogram for each row."""
    ends = np.searchsorted(rows, np.arange(size), side="right").tolist()
    whole, step = entries.tobytes(), _ENTRY.itemsize
    return [whole[a * step : b * step] for a, b in zip([0, *ends], ends, strict=False)]


# Reading them. -------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Over:
    """A time over which samples are drawn: seconds; span: of what each was condensed to, 0 for as taken;
    point: seconds that a point of the drawing stands for, 0 for as they are.
    """

    seconds: int
    span: int
    point: int = 0


TIMES = {
    "hour": Over(seconds=HOUR, span=0),
    "day": Over(seconds=24 * HOUR, span=MINUTE, point=5 * MINUTE),
    "week": Over(seconds=7 * 24 * HOUR, span=HOUR),
}
# Seconds for which samples are kept, by what they were condensed to: as long as they are drawn, and a while.
KEPT = {0: HOUR + 15 * MINUTE, MINUTE: 26 * HOUR, HOUR: 35 * 24 * HOUR}


LEAST_PART = 6  # of the time that is asked for: so little of it is drawn where no more is known


def begins(at: Reals, seconds: float, over: Over, until: float) -> float:
    """From when on samples are drawn: what is known of fills the drawing, down to a part of the time. at: of
    each sample, oldest first; seconds: that each stands for.
    """
    since = until - over.seconds
    first = float(at[0]) - seconds if len(at) else since
    return max(since, min(first, until - over.seconds / LEAST_PART))


def in_points(at: Reals, rows: Condensed, point: int) -> tuple[Reals, Condensed]:
    """Rows put together by so many seconds each, and when each of these begins; at: when each row does."""
    starts, groups = np.unique(np.floor(at / point) * point, return_inverse=True)
    return starts, condensed(rows, groups.reshape(-1), len(starts))


def gaps(at: Reals, seconds: float) -> Flags:
    """Whether more has passed before a sample than there is between two: nobody knows what was meanwhile."""
    return np.diff(at, prepend=at[:1]) > 1.5 * seconds


def pieces(at: Reals, seconds: float) -> list[list[int]]:
    """Runs of samples with none missing between them: from which, and up to which."""
    begins = [0, *np.flatnonzero(gaps(at, seconds)).tolist(), len(at)]
    return [[first, last] for first, last in pairwise(begins) if last > first]


def keys_of(series: Iterable[Series]) -> dict[Series, int]:
    """Each series once, with its place."""
    return {one: place for place, one in enumerate(dict.fromkeys(series))}
