"""When a figure that grows reaches a limit, as far as its history tells. Method: docs/methods.md,
"Forecasts".
"""

from __future__ import annotations

import math
from collections import Counter
from dataclasses import dataclass
from statistics import NormalDist

import numpy as np

from foldbarn.core.arrays import Reals
from foldbarn.core.units import say_duration

CONFIDENCE = 0.95
FEWEST = 12  # samples below which nothing is said
LEAST_SECONDS = 1800.0  # that they must cover
MOST_AHEAD = 10.0  # times the time that they cover: further ahead they tell nothing
MOST_POINTS = 400  # of which all pairs are looked at; of more every so manieth


@dataclass(frozen=True, slots=True)
class Slope:
    """How fast a figure grows, a second; and between which two slopes that is, with CONFIDENCE."""

    middle: float
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Forecast:
    """Seconds until a limit is reached; at the earliest, and at the latest, which may be never. over: seconds
    of history that it was found from.
    """

    seconds: float
    earliest: float
    latest: float
    over: float

    def sentence(self, limit: str) -> str:
        """limit: in words."""
        early, late = say_duration(self.earliest), say_duration(self.latest)
        between = f" ({early} to {late})" if early != late else ""
        if math.isinf(self.latest):
            between = f" ({early} or more)"
        pace = f"At its pace of the last {say_duration(self.over)}"
        return f"{pace} it reaches {limit} in about {say_duration(self.seconds)}{between}."


def theil_sen(at: Reals, values: Reals) -> Slope:
    """The median of the slopes between all pairs of points, and its confidence interval (Theil 1950; Sen
    1968, "Estimates of the Regression Coefficient Based on Kendall's Tau"), with ties in either.
    """
    rows, columns = np.triu_indices(len(at), k=1)
    apart = at[columns] - at[rows]
    there = apart != 0
    slopes = np.sort((values[columns] - values[rows])[there] / apart[there])
    size, number = len(at), len(slopes)
    ties = sum(n * (n - 1) * (2 * n + 5) for of in (at, values) for n in Counter(of.tolist()).values())
    sigma = math.sqrt(max(size * (size - 1) * (2 * size + 5) - ties, 0) / 18)
    reach = NormalDist().inv_cdf((1 + CONFIDENCE) / 2) * sigma
    low = max(round((number - reach) / 2) - 1, 0)
    high = min(round((number + reach) / 2), number - 1)
    return Slope(float(np.median(slopes)), float(slopes[low]), float(slopes[high]))


def forecast(at: Reals, values: Reals, limit: float) -> Forecast | None:
    """When a figure reaches a limit from below; None where it is there, does not grow, or its history is too
    short to say. at: seconds, oldest first; values: NaN where not known.
    """
    known = ~np.isnan(values)
    at, values = at[known], values[known]
    if len(at) < FEWEST or at[-1] - at[0] < LEAST_SECONDS or values[-1] >= limit:
        return None
    step = math.ceil(len(at) / MOST_POINTS)
    slope = theil_sen(at[::-step][::-1], values[::-step][::-1])
    over = float(at[-1] - at[0])
    left = float(limit - values[-1])
    if slope.middle <= 0 or left / slope.middle > MOST_AHEAD * over:
        return None
    latest = left / slope.low if slope.low > 0 else math.inf
    return Forecast(left / slope.middle, left / max(slope.high, slope.middle), latest, over)
