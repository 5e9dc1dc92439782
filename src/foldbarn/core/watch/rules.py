"""Watch rules: when a figure counts as out of bounds, from when that is told, and when it is over. Method:
docs/methods.md, "Watch rules".

One call judges each sample, whether it has just been taken or is tried on what happened before.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from foldbarn.core.errors import NotPossible
from foldbarn.core.watch.metrics import METRICS, Metric, Unit, say_value
from foldbarn.core.watch.samples import Sampled

GAP_INTERVALS = 3  # a pause between two samples that is longer is a gap
LONGEST_SECONDS = 86_400.0  # that a rule may want a breach to hold
LEAST_ABSENT_SECONDS = 20.0  # two intervals: a sample that is late is not missing


class Way(StrEnum):
    """On which side of its limit a figure is out of bounds."""

    ABOVE = "above"
    BELOW = "below"


class Severity(StrEnum):
    """How much it matters, least first."""

    NOTICE = "notice"
    URGENT = "urgent"

    @property
    def rank(self) -> int:
        """The more it matters, the higher."""
        return list(Severity).index(self)


def most_severe(severities: Iterable[Severity]) -> Severity:
    """Of at least one."""
    return max(severities, key=lambda one: one.rank)


class Phase(StrEnum):
    """How a rule stands with a thing."""

    QUIET = "quiet"
    PENDING = "pending"  # out of bounds, and not yet for as long as the rule wants
    FIRING = "firing"


@dataclass(frozen=True, slots=True)
class Bounds:
    """A limit, and the level from which on a breach is over. hold: seconds for which a breach must last."""

    way: Way
    limit: float
    clear: float
    hold: float = 0.0

    def breached(self, value: float) -> bool:
        """Equal to the limit is no breach."""
        return value > self.limit if self.way is Way.ABOVE else value < self.limit

    def cleared(self, value: float) -> bool:
        """At the clear level, or beyond it."""
        return value <= self.clear if self.way is Way.ABOVE else value >= self.clear

    def worse(self, one: float, other: float) -> float:
        """The one further out; a value that is not known is nearer than any."""
        if math.isnan(one) or math.isnan(other):
            return other if math.isnan(one) else one
        return max(one, other) if self.way is Way.ABOVE else min(one, other)

    def at_limit(self, limit: float) -> Bounds:
        """The same with another limit, and its clear level as far from it in proportion."""
        part = self.clear / self.limit if self.limit else 1.0
        return replace(self, limit=limit, clear=limit * part)


@dataclass(frozen=True, slots=True)
class Quiet:
    """Hours of each day in which nothing is told, in minutes since midnight UTC; they may go over midnight.
    What goes on beyond them is told when they end.
    """

    begins: int
    ends: int

    def covers(self, moment: float) -> bool:
        """moment: seconds since 1970."""
        minute = moment % 86_400 / 60
        if self.begins <= self.ends:
            return self.begins <= minute < self.ends
        return minute >= self.begins or minute < self.ends


@dataclass(frozen=True, slots=True)
class Chosen:
    """Which things of its kind a rule looks at: all of them, or those that are all of this. only: numbers;
    pool: that volumes and disks belong to; namespace: of the claims that volumes are for. 0 and nothing for
    any.
    """

    only: tuple[int, ...] = ()
    pool: int = 0
    namespace: str = ""


@dataclass(frozen=True, slots=True)
class Rule:
    """A watch rule. bounds: none where it only looks whether a thing is heard of; absent: seconds without any
    sample of a thing after which that is told, None for never. route: by number, to whom it is told; None
    for whoever hears of all. on: whether it is judged at all.
    """

    number: int
    name: str
    of: Sampled
    metric: Metric
    bounds: Bounds | None
    severity: Severity = Severity.NOTICE
    chosen: Chosen = Chosen()
    absent: float | None = None
    quiet: Quiet | None = None
    route: int | None = None
    on: bool = True

    @property
    def unit(self) -> Unit:
        return METRICS[self.metric].unit

    def judges_alike(self, other: Rule) -> bool:
        """Whether both find the same: what is under way by one is so by the other."""
        mine = self.of, self.metric, self.bounds, self.chosen, self.absent, self.on
        return mine == (other.of, other.metric, other.bounds, other.chosen, other.absent, other.on)

    def sentence(self) -> str:
        """What it looks for, whole."""
        about = f"of a {self.of} {METRICS[self.metric].words}"
        parts = []
        if self.bounds is not None:
            limit = say_value(self.unit, self.bounds.limit)
            held = f" for {_say_hold(self.bounds.hold)}" if self.bounds.hold else ""
            clear = say_value(self.unit, self.bounds.clear)
            beyond = "down to" if self.bounds.way is Way.ABOVE else "up to"
            parts.append(
                f"When {about} is {self.bounds.way} {limit}{held}; over once it is {beyond} {clear}."
            )
        if self.absent is not None:
            parts.append(f"When nothing is heard of a {self.of} for {_say_hold(self.absent)}.")
        return " ".join(parts)


def _say_hold(seconds: float) -> str:
    return f"{seconds:g} s" if seconds < 120 or seconds % 60 else f"{seconds / 60:g} min"


def check(rule: Rule) -> None:
    """Raises NotPossible where a rule can find nothing, or not what its words say."""
    known = METRICS[rule.metric]
    if rule.of not in known.of:
        kinds = " or ".join(f"a {kind}" for kind in known.of)
        raise NotPossible(f"There is no such figure of a {rule.of}, only of {kinds}.", about="metric")
    if rule.bounds is None and rule.absent is None:
        words = "A rule has a limit, or says for how long a thing may go unheard, or both."
        raise NotPossible(words, about="limit")
    if rule.absent is not None and not LEAST_ABSENT_SECONDS <= rule.absent <= LONGEST_SECONDS:
        words = f"A thing may go unheard for {LEAST_ABSENT_SECONDS:g} s to a day before that is told."
        raise NotPossible(words, about="absent")
    if rule.bounds is not None:
        _check_bounds(rule.bounds, known.unit)
    chosen = rule.chosen
    if chosen.namespace and rule.of != Sampled.VOLUME:
        raise NotPossible("Only volumes are for the claims of a namespace.", about="namespace")
    if chosen.pool and rule.of not in (Sampled.VOLUME, Sampled.DISK):
        raise NotPossible("Only volumes and disks belong to a pool.", about="pool")


def _check_bounds(bounds: Bounds, unit: Unit) -> None:
    if not all(map(math.isfinite, (bounds.limit, bounds.clear, bounds.hold))):
        raise NotPossible("A limit is a number.", about="limit")
    if not 0 <= bounds.hold <= LONGEST_SECONDS:
        raise NotPossible("A breach may have to hold for up to a day.", about="hold")
    if bounds.limit < 0 or bounds.clear < 0:
        raise NotPossible("No figure that is watched falls below zero.", about="limit")
    if bounds.way is Way.BELOW and bounds.limit == 0:
        raise NotPossible("No figure that is watched falls below zero.", about="limit")
    if unit is Unit.SHARE and bounds.way is Way.ABOVE and bounds.limit >= 1:
        raise NotPossible("A share is never more than 100 %.", about="limit")
    if bounds.worse(bounds.clear, bounds.limit) != bounds.limit:
        side = "no higher than" if bounds.way is Way.ABOVE else "no lower than"
        words = f"It is over at a level {side} its limit, or it would begin and end at once."
        raise NotPossible(words, about="clear")


@dataclass(frozen=True, slots=True)
class Standing:
    """How a rule stands with a thing after its last sample. since: of the first sample of the breach; fired:
    of the one from which on it counts; last: of the last of all, None before the first. Seconds since 1970.
    worst: of the samples since.
    """

    phase: Phase = Phase.QUIET
    since: float = 0.0
    fired: float | None = None
    worst: float = math.nan
    last: float | None = None


def after(bounds: Bounds, standing: Standing, at: float, value: float, interval: float) -> Standing:
    """How it stands after one more sample. at: when that was taken; interval: seconds between two.

    A value that is not known promotes nothing. After a gap, and where the clock was set, a breach begins
    anew unless it has fired.
    """
    if math.isnan(value):
        return standing
    gap = is_gap(standing.last, at, interval)
    if standing.last is not None and at <= standing.last and not gap:
        return standing  # it is known already
    if standing.phase is Phase.FIRING:
        if bounds.cleared(value):
            return Standing(last=at)
        return replace(standing, worst=bounds.worse(standing.worst, value), last=at)
    if not bounds.breached(value):
        return Standing(last=at)
    going_on = standing.phase is Phase.PENDING and not gap
    since = standing.since if going_on else at
    worst = bounds.worse(standing.worst, value) if going_on else value
    if at >= since + bounds.hold:
        return Standing(Phase.FIRING, since, at, worst, at)
    return Standing(Phase.PENDING, since, None, worst, at)


def is_gap(last: float | None, at: float, interval: float) -> bool:
    return last is not None and abs(at - last) > GAP_INTERVALS * interval


# Trying a rule on what happened. -------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Episode:
    """A breach, from its first sample. fired: when it had held; None where it did not for long enough. ended:
    of the sample after it; None while it goes on.
    """

    since: float
    fired: float | None
    ended: float | None
    worst: float


@dataclass(frozen=True, slots=True)
class Tried:
    """What a rule would have found. gaps: from the sample before to the one after."""

    episodes: tuple[Episode, ...]
    gaps: tuple[tuple[float, float], ...] = ()

    @property
    def fired(self) -> int:
        return sum(one.fired is not None for one in self.episodes)

    @property
    def held_back(self) -> int:
        """Breaches that were over before they had held."""
        return sum(one.fired is None and one.ended is not None for one in self.episodes)


def tried(bounds: Bounds, at: Sequence[float], values: Sequence[float], interval: float) -> Tried:
    """What a rule would have found in samples, oldest first."""
    episodes: list[Episode] = []
    gaps: list[tuple[float, float]] = []
    standing = Standing()
    for moment, value in zip(at, values, strict=True):
        if not math.isnan(value) and is_gap(standing.last, moment, interval):
            assert standing.last is not None
            gaps.append((standing.last, moment))
        was, standing = standing, after(bounds, standing, moment, value, interval)
        if was.phase is not Phase.QUIET and (standing.phase is Phase.QUIET or standing.since != was.since):
            episodes.append(Episode(was.since, was.fired, moment, was.worst))
    if standing.phase is not Phase.QUIET:
        episodes.append(Episode(standing.since, standing.fired, None, standing.worst))
    return Tried(tuple(episodes), tuple(gaps))


def absences(at: Sequence[float], absent: float, since: float, until: float) -> list[tuple[float, float]]:
    """When nothing was heard of a thing for so long that it is told, each from then until it was heard again:
    at: of its samples, oldest first, between two moments.
    """
    ends = [*at, until]
    begins = [since, *at]
    return [(begin + absent, end) for begin, end in zip(begins, ends, strict=True) if end - begin > absent]


def other_limits(bounds: Bounds, values: Sequence[float]) -> list[float]:
    """Limits beside its own that are worth comparing: a lower and a higher one, that figures have reached."""
    known = [value for value in values if not math.isnan(value)]
    if not known or not bounds.limit:
        return []
    tries = (bounds.limit * 0.6, bounds.limit * 1.5)
    return [_round(limit) for limit in tries if min(known) <= limit <= max(known)]


def _round(value: float) -> float:
    return float(f"{value:.2g}")
