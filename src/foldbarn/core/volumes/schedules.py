"""When snapshots are taken by themselves, and which of them are kept. Hours, days and weeks begin as UTC has
them, a week on a Monday. Method: docs/methods.md, "Schedules".
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime

from foldbarn.core.errors import NotPossible
from foldbarn.core.units import DAY_SECONDS, say_count, say_list
from foldbarn.core.volumes.snapshots import MOST_ROOM, USUAL_ROOM

HOUR_SECONDS, A_DAY = 3600, int(DAY_SECONDS)
WEEK_SECONDS = 7 * A_DAY
MOST_KEPT = 400  # of one rule
_MONDAY = 4 * A_DAY  # the first one since 1970


@dataclass(frozen=True, slots=True)
class Schedule:
    """How many snapshots are kept of the first of each hour, of each day, and of each week; none where all
    are 0. room: per cent of a volume that is set aside for what is overwritten.
    """

    hourly: int = 0
    daily: int = 0
    weekly: int = 0
    room: int = USUAL_ROOM

    @property
    def rules(self) -> list[tuple[int, int]]:
        """Seconds between two, and how many are kept; what comes most often first."""
        found = [(HOUR_SECONDS, self.hourly), (A_DAY, self.daily), (WEEK_SECONDS, self.weekly)]
        return [(period, count) for period, count in found if count]

    @property
    def per_cent(self) -> int:
        """Of a volume, for what is overwritten; 0 where no snapshots are taken."""
        return self.room if self.rules else 0

    def sentence(self) -> str:
        """Empty where there are none."""
        names = {HOUR_SECONDS: "hour", A_DAY: "day", WEEK_SECONDS: "week"}
        said = [f"{say_count(count, names[period])}" for period, count in self.rules]
        if not said:
            return ""
        every = names[self.rules[0][0]]
        return f" A snapshot every {every}; kept are those of {say_list(said)}, in {self.room} % of its size."


NO_SCHEDULE = Schedule()


def schedule_of(hourly: int, daily: int, weekly: int, room: int | None) -> Schedule:
    """Raises NotPossible."""
    for about, count in (("hourly", hourly), ("daily", daily), ("weekly", weekly)):
        if not 0 <= count <= MOST_KEPT:
            words = f"Between 1 and {MOST_KEPT} {about} snapshots are kept, not {count}."
            raise NotPossible(words, about=about, next_step="Leave it out for none.")
    if room is not None and not 1 <= room <= MOST_ROOM:
        words = f"Room for snapshots is between 1 and {MOST_ROOM} % of a volume, not {room} %."
        raise NotPossible(words, about="snapshot_room")
    if room is not None and not (hourly or daily or weekly):
        words = "Room for snapshots is for those that are taken by themselves, and there are none."
        raise NotPossible(words, about="snapshot_room", next_step="Leave it out, or say how many are kept.")
    return Schedule(hourly, daily, weekly, USUAL_ROOM if room is None else room)


def begin_of(period: int, moment: float) -> float:
    """When the hour, the day or the week began that a moment lies in; seconds since 1970."""
    shift = _MONDAY if period == WEEK_SECONDS else 0
    return (moment - shift) // period * period + shift


def auto_name(moment: float) -> str:
    """What a snapshot is called that is taken by itself."""
    return f"auto-{datetime.fromtimestamp(moment, UTC):%Y-%m-%d-%H%M}"


def is_due(schedule: Schedule, taken: Collection[float], now: float) -> bool:
    """Whether a snapshot is to be taken, where others were at these moments."""
    if not schedule.rules:
        return False
    return max(taken, default=float("-inf")) < begin_of(schedule.rules[0][0], now)


def to_drop(schedule: Schedule, taken: Mapping[int, float]) -> list[int]:
    """Which of these snapshots (by number, with their moments) no rule keeps. Each rule keeps the first one
    of each of its newest periods in which there are some.
    """
    kept: set[int] = set()
    for period, count in schedule.rules:
        firsts: dict[float, int] = {}
        for number, moment in sorted(taken.items(), key=lambda one: one[1]):
            firsts.setdefault(begin_of(period, moment), number)
        kept.update(firsts[begin] for begin in sorted(firsts)[-count:])
    return sorted(number for number in taken if number not in kept)


@dataclass(frozen=True, slots=True)
class Coming:
    """A snapshot that will be taken, when, and which ones go then; those yet to come by numbers below 0."""

    at: float
    number: int
    drops: tuple[int, ...]


def coming(schedule: Schedule, taken: Mapping[int, float], now: float, times: int) -> list[Coming]:
    """The next so many, as if each were taken at its moment."""
    if not schedule.rules:
        return []
    period = schedule.rules[0][0]
    there, found = dict(taken), []
    at = now if is_due(schedule, there.values(), now) else begin_of(period, now) + period
    for number in range(-1, -times - 1, -1):
        there[number] = at
        gone = to_drop(schedule, there)
        there = {one: moment for one, moment in there.items() if one not in gone}
        found.append(Coming(at, number, tuple(gone)))
        at = begin_of(period, at) + period
    return found
