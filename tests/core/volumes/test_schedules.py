"""When snapshots are taken and which are kept, against croniter's times and a plain reading of the rules."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest
from croniter import croniter
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.errors import NotPossible
from foldbarn.core.units import DAY_SECONDS
from foldbarn.core.volumes.schedules import (
    HOUR_SECONDS,
    NO_SCHEDULE,
    Schedule,
    begin_of,
    coming,
    is_due,
    schedule_of,
    to_drop,
)

MOMENTS = st.floats(1.0e9, 2.0e9)
SCHEDULES = st.builds(Schedule, st.integers(0, 30), st.integers(0, 14), st.integers(0, 6))


@given(
    MOMENTS,
    st.sampled_from(
        [
            (Schedule(hourly=1), "0 * * * *"),
            (Schedule(daily=1), "0 0 * * *"),
            (Schedule(weekly=1), "0 0 * * 1"),
        ]
    ),
)
def test_they_come_when_a_cron_table_would_have_them_come(now: float, rule: tuple[Schedule, str]) -> None:
    """croniter, a library that reads cron tables; in UTC."""
    schedule, line = rule
    times = croniter(line, datetime.fromtimestamp(now, UTC))
    wanted = [times.get_next(float) for _ in range(4)]
    begun = {1: begin_of(schedule.rules[0][0], now)}
    assert [one.at for one in coming(schedule, begun, now, 4)] == wanted


@given(SCHEDULES, MOMENTS, st.integers(1, 2000))
def test_what_is_kept_is_what_the_rules_say(schedule: Schedule, now: float, hours: int) -> None:
    """Taken every hour for so long: the first of each of the newest hours, days and weeks."""
    first = begin_of(HOUR_SECONDS, now)
    taken = {n: first + n * HOUR_SECONDS for n in range(hours)}
    gone = set(to_drop(schedule, taken))
    left = [n for n in taken if n not in gone]
    wanted: set[int] = set()
    for count, of in ((schedule.hourly, "%Y-%j-%H"), (schedule.daily, "%Y-%j"), (schedule.weekly, "%G-%V")):
        firsts: dict[str, int] = {}
        for n, at in taken.items():
            firsts.setdefault(datetime.fromtimestamp(at, UTC).strftime(of), n)
        wanted |= set(list(firsts.values())[-count:] if count else [])
    assert left == sorted(wanted)
    assert not to_drop(schedule, {n: taken[n] for n in left})  # and once more drops nothing


@given(SCHEDULES, MOMENTS)
def test_one_is_due_until_it_has_been_taken(schedule: Schedule, now: float) -> None:
    assert is_due(schedule, [], now) == bool(schedule.rules)
    assert not is_due(schedule, [now], now)
    if schedule.rules:
        period = schedule.rules[0][0]
        assert is_due(schedule, [begin_of(period, now) - 1], now)
        assert not is_due(schedule, [begin_of(period, now)], now)


def test_the_coming_ones_tell_what_each_will_drop() -> None:
    noon = datetime(2026, 3, 4, 12, 20, tzinfo=UTC).timestamp()
    schedule = Schedule(hourly=2, daily=1)
    taken = {
        1: noon - 13 * 3600,
        2: noon - 1 * 3600,
        3: noon - 600,
    }  # of the day before, of eleven, of twelve
    found = coming(schedule, taken, noon, 3)
    assert [datetime.fromtimestamp(one.at, UTC).hour for one in found] == [13, 14, 15]
    # The first of the day is kept as that; the first of an hour goes as its hour is the third newest.
    assert [one.drops for one in found] == [(1,), (3,), (-1,)]
    assert coming(NO_SCHEDULE, taken, noon, 3) == []


def test_absurd_rules_are_refused() -> None:
    for wish, words in (
        ((-1, 0, 0, None), "Between 1 and 400 hourly"),
        ((0, 500, 0, None), "Between 1 and 400 daily"),
        ((1, 0, 0, 0), "between 1 and 100 %"),
        ((0, 0, 0, 20), "there are none"),
    ):
        with pytest.raises(NotPossible, match=words):
            schedule_of(*wish)
    assert schedule_of(24, 7, 4, None).sentence() == (
        " A snapshot every hour; kept are those of 24 hours, 7 days and 4 weeks, in 20 % of its size."
    )
    assert schedule_of(0, 0, 0, None).sentence() == ""
    assert Schedule(daily=1).rules == [(DAY_SECONDS, 1)]
