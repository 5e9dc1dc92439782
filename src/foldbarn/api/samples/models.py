"""Samples: what the API answers."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel

from foldbarn.core.watch.samples import Measure, Sampled
from foldbarn.core.watch.states import Lamp

Time = Literal["hour", "day", "week"]


class MeasureOut(BaseModel):
    """One measure, point by point; null where nobody knows. least, most: of the samples that a point was put
    together from; empty where each is one sample. average, highest: over all of it; usual: what 95 of 100
    samples did not exceed.
    """

    mean: list[float | None]
    least: list[float | None]
    most: list[float | None]
    average: float | None
    highest: float | None
    usual: float | None


class MarkOut(BaseModel):
    """Something that was going on meanwhile, from when until when in seconds since 1970 (null: still): a
    change, by its number, that a node was not heard or a disk not seen, or an alert, by the number of its
    incident.
    """

    begun: float
    ended: float | None
    lamp: Lamp
    words: str
    change: int | None
    incident: int | None


class SamplesOut(BaseModel):
    """The samples of a thing over a time. seconds: that each point stands for; since, until: of the drawing;
    at: the middle of each point, all in seconds since 1970; pieces: from and up to, of the points between
    which none is missing. mean_seconds, late_seconds: how long operations took, on average and 99 of 100 at
    the most. forecasts: of measures that grow toward a limit, when they reach it, in a sentence.
    """

    of: Sampled
    name: str
    part: str
    over: Time
    seconds: float
    since: float
    until: float
    at: list[float]
    pieces: list[list[int]]
    measures: dict[Measure, MeasureOut]
    mean_seconds: list[float | None]
    late_seconds: list[float | None]
    marks: list[MarkOut]
    forecasts: dict[Measure, str]
