"""A picture of the curve that an alert is about, for those who read of it in their mail."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.dates import AutoDateLocator, ConciseDateFormatter, date2num
from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter

from foldbarn.core.arrays import Reals
from foldbarn.core.watch.metrics import Unit, say_value
from foldbarn.core.watch.rules import Bounds, Way
from foldbarn.core.watch.samples import gaps

INCHES, DOTS = (9.0, 3.2), 100
PAPER, INK, SOFT, LINE, OVER = "#FCF9F3", "#1F2A2E", "#4C5758", "#3F6B8A", "#B84E00"
ROOM = 1.15  # above the highest of what is drawn


@dataclass(frozen=True, slots=True, eq=False)
class Curve:
    """What is drawn. at: seconds since 1970 of each sample; seconds: that each stands for; told: from when on
    it was told of; title: of what it is.
    """

    title: str
    unit: Unit
    at: Reals
    values: Reals
    seconds: float
    bounds: Bounds | None
    told: Sequence[float] = ()


def draw(curve: Curve) -> bytes:
    """A PNG; where nothing is known that is what it shows."""
    figure = Figure(figsize=INCHES, dpi=DOTS, facecolor=PAPER)
    FigureCanvasAgg(figure)
    axes = figure.add_subplot(facecolor=PAPER)
    axes.set_title(curve.title, loc="left", fontsize=10, color=INK)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    axes.tick_params(colors=SOFT, labelsize=8)
    if not len(curve.at) or np.isnan(curve.values).all():
        axes.text(0.5, 0.5, "Nothing is known of it.", ha="center", color=SOFT, transform=axes.transAxes)
    else:
        _draw_line(axes, curve)
    for moment in curve.told:
        axes.axvline(_time(moment), color=OVER, linestyle=":", linewidth=1.2)
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: say_value(curve.unit, value)))
    figure.tight_layout()
    file = io.BytesIO()
    figure.savefig(file, format="png")
    return file.getvalue()


def _draw_line(axes: Axes, curve: Curve) -> None:
    top = float(np.nanmax(curve.values))
    if curve.bounds is not None:
        limit, above = curve.bounds.limit, curve.bounds.way is Way.ABOVE
        top = max(top, limit)
        begins, ends = (limit, top * ROOM) if above else (0.0, limit)
        axes.axhspan(begins, ends, color=OVER, alpha=0.08, linewidth=0)
        axes.axhline(limit, color=INK, linewidth=1.0)
        if curve.bounds.clear != limit:
            axes.axhline(curve.bounds.clear, color=SOFT, linewidth=0.8, linestyle="--")
    cuts = np.flatnonzero(gaps(curve.at, curve.seconds))
    for at, values in zip(np.split(curve.at, cuts), np.split(curve.values, cuts), strict=True):
        # Where nothing is known nothing is drawn.
        axes.plot([_time(moment) for moment in at.tolist()], values, color=LINE, linewidth=1.4)
    axes.set_ylim(0, top * ROOM or 1.0)
    locator = AutoDateLocator(tz=UTC)  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator, tz=UTC))  # type: ignore[no-untyped-call]


def _time(moment: float) -> float:
    """In days, as axes of time count."""
    return float(date2num(datetime.fromtimestamp(moment, UTC)))  # type: ignore[no-untyped-call]
