"""Samples, as a page draws them."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from foldbarn.api.samples.models import MarkOut, MeasureOut, SamplesOut, Time
from foldbarn.core.arrays import Reals
from foldbarn.core.site import SiteView
from foldbarn.core.volumes.pace import Pace, Work
from foldbarn.core.watch.forecast import forecast
from foldbarn.core.watch.metrics import Unit, say_value
from foldbarn.core.watch.samples import (
    BUCKETS,
    MEASURES,
    Condensed,
    Measure,
    Sampled,
    condensed,
    pieces,
    unpacked,
)
from foldbarn.core.watch.states import Lamp
from foldbarn.services.samples import Drawn
from foldbarn.store.outages import Out
from foldbarn.store.tables import AlertRow, ChangeRow, OutageRow

USUAL = 0.95  # the share of samples that is said to be usual
DIGITS = 4  # of what is drawn
_LAMPS = {"running": Lamp.MENDING, "paused": Lamp.WATCH, "done": Lamp.SOUND, "withdrawn": Lamp.AWAY}


def samples_out(view: SiteView, name: str, over: Time, drawn: Drawn) -> SamplesOut:
    rows, number = drawn.rows, len(drawn.rows)
    whole = condensed(rows, np.zeros(number, dtype=np.int64), 1)
    paces = [Pace(Work(times=unpacked(times, BUCKETS))) for times in rows.times]
    return SamplesOut(
        of=drawn.series.of,
        name=name,
        part=drawn.series.part,
        over=over,
        seconds=drawn.seconds,
        since=drawn.since,
        until=drawn.until,
        at=[round(moment, 1) for moment in drawn.at.tolist()],
        pieces=pieces(drawn.at, drawn.seconds),
        measures={
            measure: _measure_out(rows, whole, measure, taken=drawn.over.span == 0)
            for column, measure in enumerate(MEASURES)
            if whole.count[0, column]
        },
        mean_seconds=[short(pace.mean) for pace in paces],
        late_seconds=[short(pace.within()) for pace in paces],
        forecasts=_forecasts(view, drawn),
        marks=[
            *map(_change_mark, drawn.changes),
            *(_outage_mark(view, row) for row in drawn.outages),
            *(_alert_mark(row, rule) for row, rule in drawn.alerts),
        ],
    )


def _forecasts(view: SiteView, drawn: Drawn) -> dict[Measure, str]:
    """A pool reaches its fill line, a disk what it is rated for."""
    limits = {Measure.WORN: 1.0} if drawn.series.of is Sampled.DISK else {}
    if drawn.series.of is Sampled.POOL:
        limits[Measure.FULL] = next(p.fill_line for p in view.pools if p.number == drawn.series.number)
    found = {}
    for measure, limit in limits.items():
        ahead = forecast(drawn.at, drawn.rows.mean[:, MEASURES.index(measure)], limit)
        if ahead is not None:
            found[measure] = ahead.sentence(say_value(Unit.SHARE, limit))
    return found


def _measure_out(rows: Condensed, whole: Condensed, measure: Measure, *, taken: bool) -> MeasureOut:
    """taken: each row is one sample, and no more than that."""
    column = MEASURES.index(measure)
    return MeasureOut(
        mean=_listed(rows.mean[:, column]),
        least=[] if taken else _listed(rows.least[:, column]),
        most=[] if taken else _listed(rows.most[:, column]),
        average=short(float(whole.mean[0, column])),
        highest=short(float(whole.most[0, column])),
        usual=short(whole.not_exceeded(0, measure, USUAL)),
    )


def _listed(values: Reals) -> Sequence[float | None]:
    return [short(value) for value in values.tolist()]


def short(value: float | None) -> float | None:
    """As many digits as can be seen; none where nothing is known."""
    if value is None or math.isnan(value):
        return None
    return float(f"{value:.{DIGITS}g}")


def _change_mark(row: ChangeRow) -> MarkOut:
    assert row.started_at is not None
    return MarkOut(
        begun=row.started_at.timestamp(),
        ended=row.ended_at.timestamp() if row.ended_at else None,
        lamp=_LAMPS.get(row.state, Lamp.WATCH),
        words=row.title,
        change=row.id,
        incident=None,
    )


def _alert_mark(row: AlertRow, rule: str) -> MarkOut:
    doing = "it fired" if row.fired is not None else "out of bounds, and not yet for long enough"
    return MarkOut(
        begun=(row.fired or row.since).timestamp(),
        ended=row.ended.timestamp() if row.ended else None,
        lamp=Lamp.WATCH,
        words=f"{rule}: {doing}.",
        change=None,
        incident=row.incident_id,
    )


def _outage_mark(view: SiteView, row: OutageRow) -> MarkOut:
    if row.what == Out.NODE:
        node = next((n for n in view.nodes if n.number == row.number), None)
        words = f"{node.name if node else 'A node that is gone'} was not heard. {row.reason}"
    else:
        disk = view.known_number(row.number)
        words = f"{disk.name if disk else 'A disk that is gone'} was not seen. {row.reason}"
    return MarkOut(
        begun=row.since.timestamp(),
        ended=row.until.timestamp() if row.until else None,
        lamp=Lamp.NOT_HEARD if row.what == Out.NODE else Lamp.FAILED,
        words=words,
        change=None,
        incident=None,
    )
