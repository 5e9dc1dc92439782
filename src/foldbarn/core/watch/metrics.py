"""What may be watched of things: figures of their samples, in a unit, with a limit that is usual."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from foldbarn.core.arrays import Reals
from foldbarn.core.units import say_number, say_size
from foldbarn.core.volumes.pace import BOUNDS, LATE
from foldbarn.core.watch.samples import BUCKETS, MEASURES, Condensed, Measure, Sampled, Samples, unpacked


class Metric(StrEnum):
    """What of a thing is watched."""

    MEAN_TIME = "mean_time"
    LATE_TIME = "late_time"
    READS = "reads"
    WRITES = "writes"
    READ_BYTES = "read_bytes"
    WRITTEN_BYTES = "written_bytes"
    HELD_BYTES = "held_bytes"
    FULL = "full"
    SHORT = "short"
    CELSIUS = "celsius"
    WORN = "worn"
    DEFECTS = "defects"


class Unit(StrEnum):
    """In what a figure is counted. Shares are parts of 1."""

    SECONDS = "seconds"
    A_SECOND = "a second"
    BYTES_A_SECOND = "bytes a second"
    BYTES = "bytes"
    SHARE = "share"
    EXTENTS = "extents"
    CELSIUS = "celsius"
    SECTORS = "sectors"


@dataclass(frozen=True, slots=True)
class Known:
    """What is known of a metric. words: of what, as part of a sentence, such as "when of a volume the number
    of reads is above"; of: the kinds of things that have it; usual: a limit to begin with.
    """

    words: str
    unit: Unit
    of: tuple[Sampled, ...]
    usual: float


_SERVED = (Sampled.VOLUME, Sampled.POOL)
_WORKED = (Sampled.VOLUME, Sampled.POOL, Sampled.NODE)
_ALL = (*_WORKED, Sampled.DISK, Sampled.PORT)
METRICS: dict[Metric, Known] = {
    Metric.LATE_TIME: Known("the time in which 99 of 100 operations are done", Unit.SECONDS, _SERVED, 0.1),
    Metric.MEAN_TIME: Known("the time that an operation takes on average", Unit.SECONDS, _SERVED, 0.05),
    Metric.READS: Known("the number of reads", Unit.A_SECOND, _WORKED, 10_000.0),
    Metric.WRITES: Known("the number of writes", Unit.A_SECOND, _WORKED, 10_000.0),
    Metric.READ_BYTES: Known("what is read or sent", Unit.BYTES_A_SECOND, _ALL, 1e9),
    Metric.WRITTEN_BYTES: Known("what is written or received", Unit.BYTES_A_SECOND, _ALL, 1e9),
    Metric.HELD_BYTES: Known("what is held", Unit.BYTES, (*_WORKED, Sampled.DISK), 1e12),
    Metric.FULL: Known("the share of its room that is taken", Unit.SHARE, (Sampled.POOL,), 0.85),
    Metric.SHORT: Known("the number of extents that lack strips", Unit.EXTENTS, (Sampled.VOLUME,), 0.0),
    Metric.CELSIUS: Known("the temperature", Unit.CELSIUS, (Sampled.DISK,), 60.0),
    Metric.WORN: Known("the rated life that is used", Unit.SHARE, (Sampled.DISK,), 0.9),
    Metric.DEFECTS: Known("the number of sectors gone bad", Unit.SECTORS, (Sampled.DISK,), 100.0),
}


def say_value(unit: Unit, value: float) -> str:
    """A figure in its unit, as people read it."""
    match unit:
        case Unit.SECONDS:
            return f"{say_number(value * 1000)} ms" if value < 1 else f"{say_number(value)} s"
        case Unit.A_SECOND:
            return f"{say_number(value)} a second"
        case Unit.BYTES_A_SECOND:
            return f"{say_size(round(value))}/s"
        case Unit.BYTES:
            return say_size(round(value))
        case Unit.SHARE:
            return f"{say_number(value * 100)} %"
        case Unit.EXTENTS:
            return f"{value:,.0f} {'extent' if value == 1 else 'extents'}"
        case Unit.CELSIUS:
            return f"{say_number(value)} °C"
        case Unit.SECTORS:
            return f"{value:,.0f} {'sector' if value == 1 else 'sectors'}"


def figures_now(metric: Metric, found: Samples) -> Reals:
    """Of each series that was sampled, NaN where it is not known."""
    return _figures(metric, found.values, found.times)


def figures_of(metric: Metric, rows: Condensed) -> Reals:
    """Of each row of what was kept: of what was condensed, the average over it."""
    timed = metric in (Metric.MEAN_TIME, Metric.LATE_TIME)
    times = [unpacked(one, BUCKETS) for one in rows.times] if timed else []
    return _figures(metric, rows.mean, np.array(times).reshape(-1, BUCKETS))


def _figures(metric: Metric, values: Reals, times: Reals) -> Reals:
    match metric:
        case Metric.MEAN_TIME:
            return _mean_times(times)
        case Metric.LATE_TIME:
            return _times_within(times, LATE)
        case _:
            found: Reals = values[:, MEASURES.index(Measure(metric.value))]
            return found


_EDGES = np.concatenate([[0.0], BOUNDS, [BOUNDS[-1]]])


def _mean_times(times: Reals) -> Reals:
    """As core.volumes.pace.Pace.mean has it, of many rows at once."""
    total = times.sum(axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        found: Reals = np.where(total > 0, times @ ((_EDGES[:-1] + _EDGES[1:]) / 2) / total, np.nan)
    return found


def _times_within(times: Reals, share: float) -> Reals:
    """As core.volumes.pace.Pace.within has it, of many rows at once."""
    if not len(times):
        return np.zeros(0)
    reached, total = np.cumsum(times, axis=1), times.sum(axis=1)
    wanted = share * total
    bucket = np.minimum((reached < wanted[:, None] * (1 - 1e-12)).sum(axis=1), times.shape[1] - 1)
    rows = np.arange(len(times))
    mine = times[rows, bucket]
    before = reached[rows, bucket] - mine
    part = np.where(mine > 0, (wanted - before) / np.where(mine > 0, mine, 1.0), 1.0)
    within = _EDGES[bucket] + (_EDGES[bucket + 1] - _EDGES[bucket]) * np.minimum(part, 1.0)
    found: Reals = np.where(total > 0, within, np.nan)
    return found
