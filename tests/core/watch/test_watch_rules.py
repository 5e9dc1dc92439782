"""Watch rules: when a breach counts, when it is over, and what a rule would have found."""

from __future__ import annotations

import math
from collections.abc import Sequence

import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.errors import NotPossible
from foldbarn.core.watch.metrics import Metric
from foldbarn.core.watch.rules import (
    Bounds,
    Chosen,
    Phase,
    Quiet,
    Rule,
    Standing,
    Way,
    absences,
    after,
    check,
    other_limits,
    tried,
)
from foldbarn.core.watch.samples import Sampled

EVERY = 10.0  # seconds between two samples
UNKNOWN = math.nan
LATE = Bounds(Way.ABOVE, limit=100.0, clear=80.0, hold=30.0)


def phases(bounds: Bounds, values: Sequence[float], at: Sequence[float] | None = None) -> str:
    """A letter for each sample: quiet, pending, firing."""
    standing, found = Standing(), ""
    for moment, value in zip(at or [EVERY * n for n in range(len(values))], values, strict=True):
        standing = after(bounds, standing, moment, value, EVERY)
        found += standing.phase.value[0]
    return found


def test_a_breach_fires_at_the_first_sample_at_which_it_has_held() -> None:
    assert phases(LATE, [90, 101, 101, 101, 101, 101]) == "qpppff"
    # Equal to the limit is no breach; one sample within it, and the next breach begins anew.
    assert phases(LATE, [100, 101, 101, 100, 101, 101, 101, 101]) == "qppqpppf"
    at_once = Bounds(Way.ABOVE, limit=0.0, clear=0.0)
    assert phases(at_once, [0, 1, 1, 0]) == "qffq"


def test_what_fires_is_over_at_its_clear_level_and_not_before() -> None:
    assert phases(LATE, [101] * 4 + [99, 81, 80, 99]) == "pppfffqq"
    low = Bounds(Way.BELOW, limit=10.0, clear=12.0)
    assert phases(low, [10, 9, 11, 12]) == "qffq"


def test_a_missing_sample_promotes_nothing_and_a_gap_begins_anew() -> None:
    at = [0.0, 10.0, 20.0, 30.0, 40.0]
    # The third sample is not known: the breach holds by the others all the same.
    assert phases(LATE, [101, 101, UNKNOWN, 101, 101], at) == "pppff"
    assert phases(LATE, [101, UNKNOWN, UNKNOWN, UNKNOWN], at[:4]) == "pppp"
    # More than three intervals without one: nobody knows that it held.
    assert phases(LATE, [101, 101, 101, 101, 101], [0, 10, 41, 51, 61]) == "ppppp"
    assert phases(LATE, [101, 101, 101, 101, 101], [0, 10, 40, 50, 60]) == "ppfff"
    # What fires goes on firing.
    assert phases(LATE, [101] * 4 + [90], [0, 10, 20, 30, 500]) == "pppff"


def test_a_clock_that_was_set_back_is_a_gap_and_the_same_sample_twice_is_one() -> None:
    assert phases(LATE, [101, 101, 101], [1000, 1000, 1000]) == "ppp"
    assert phases(LATE, [101, 101, 101, 101], [1000, 1010, 20, 50]) == "pppf"


VALUES = st.lists(st.one_of(st.just(UNKNOWN), st.sampled_from([70.0, 80.0, 90.0, 100.0, 101.0, 150.0])))
STEPS = st.sampled_from([10.0, 10.0, 10.0, 20.0, 31.0])


@given(VALUES, st.data(), st.sampled_from([0.0, 10.0, 25.0, 40.0]))
def test_phases_are_those_of_the_definition(values: list[float], data: st.DataObject, hold: float) -> None:
    """By the definition of docs/methods.md, looked up for each sample anew from all samples before it."""
    steps = data.draw(st.lists(STEPS, min_size=len(values), max_size=len(values)))
    at = [sum(steps[: n + 1]) for n in range(len(values))]
    bounds = Bounds(Way.ABOVE, 100.0, 80.0, hold)
    known = [(moment, value) for moment, value in zip(at, values, strict=True) if not math.isnan(value)]
    firing = False
    wanted = {}
    for place, (moment, value) in enumerate(known):
        if firing:
            firing = value > 80.0
            wanted[moment] = Phase.FIRING if firing else Phase.QUIET
            continue
        begin = place
        while begin >= 0 and known[begin][1] > 100.0:
            begin -= 1
            if begin >= 0 and known[begin + 1][0] - known[begin][0] > 3 * EVERY:
                break
        run = known[begin + 1 : place + 1]
        firing = bool(run) and moment - run[0][0] >= hold
        wanted[moment] = Phase.FIRING if firing else Phase.PENDING if run else Phase.QUIET
    standing = Standing()
    for moment, value in zip(at, values, strict=True):
        was, standing = standing, after(bounds, standing, moment, value, EVERY)
        assert standing.phase is wanted.get(moment, was.phase)


@given(VALUES, st.sampled_from([0.0, 10.0, 25.0]))
def test_what_was_tried_is_what_would_have_been(values: list[float], hold: float) -> None:
    bounds = Bounds(Way.ABOVE, 100.0, 80.0, hold)
    at = [EVERY * n for n in range(len(values))]
    standing, fired, worst = Standing(), 0, []
    for moment, value in zip(at, values, strict=True):
        was, standing = standing, after(bounds, standing, moment, value, EVERY)
        fired += standing.phase is Phase.FIRING and was.phase is not Phase.FIRING
        worst += [standing.worst] if standing.phase is not Phase.QUIET else []
    found = tried(bounds, at, values, EVERY)
    assert found.fired == fired
    assert len(found.episodes) >= found.fired + found.held_back
    if worst:
        assert max(one.worst for one in found.episodes) == max(worst)


def test_gaps_and_silences_are_told_apart_from_breaches() -> None:
    at = [0.0, 10.0, 20.0, 100.0, 110.0]
    found = tried(LATE, at, [50.0] * 5, EVERY)
    assert found.episodes == ()
    assert found.gaps == ((20.0, 100.0),)
    assert absences(at, absent=30.0, since=0.0, until=200.0) == [(50.0, 100.0), (140.0, 200.0)]
    assert absences(at, absent=90.0, since=0.0, until=120.0) == []


def test_limits_worth_comparing_are_those_that_figures_have_reached() -> None:
    bounds = Bounds(Way.ABOVE, 0.1, 0.08)
    assert other_limits(bounds, [0.02, 0.18, UNKNOWN]) == [0.06, 0.15]
    assert other_limits(bounds, [0.02, 0.09]) == [0.06]
    assert bounds.at_limit(0.2).clear == pytest.approx(0.16)


def test_quiet_hours_may_go_over_midnight() -> None:
    night = Quiet(22 * 60, 6 * 60)
    noon = Quiet(12 * 60, 13 * 60)
    hours = [night.covers(hour * 3600.0) for hour in (21, 22, 23, 0, 5, 6)]
    assert hours == [False, True, True, True, True, False]
    assert [noon.covers(86_400 * 9 + minute * 60.0) for minute in (719, 720, 779, 780)] == [0, 1, 1, 0]


def rule(**more: object) -> Rule:
    known = {"number": 0, "name": "late", "of": Sampled.VOLUME, "metric": Metric.LATE_TIME, "bounds": LATE}
    return Rule(**known | more)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("wrong", "about"),
    [
        ({"of": Sampled.NODE}, "metric"),
        ({"bounds": None}, "limit"),
        ({"absent": 5.0}, "absent"),
        ({"bounds": Bounds(Way.ABOVE, 100.0, 101.0)}, "clear"),
        ({"bounds": Bounds(Way.BELOW, 100.0, 99.0)}, "clear"),
        ({"bounds": Bounds(Way.BELOW, 0.0, 0.0)}, "limit"),
        ({"bounds": Bounds(Way.ABOVE, math.inf, 1.0)}, "limit"),
        ({"bounds": Bounds(Way.ABOVE, 1.0, 1.0, 1e6)}, "hold"),
        ({"of": Sampled.POOL, "metric": Metric.FULL, "bounds": Bounds(Way.ABOVE, 1.0, 0.9)}, "limit"),
        ({"of": Sampled.POOL, "chosen": Chosen(namespace="ticketing")}, "namespace"),
        ({"of": Sampled.NODE, "metric": Metric.READS, "chosen": Chosen(pool=1)}, "pool"),
    ],
)
def test_a_rule_that_can_find_nothing_is_refused(wrong: dict[str, object], about: str) -> None:
    check(rule())
    with pytest.raises(NotPossible) as refused:
        check(rule(**wrong))
    assert refused.value.about == about


def test_a_rule_says_what_it_looks_for() -> None:
    found = rule(bounds=Bounds(Way.ABOVE, 0.1, 0.08, 180.0), absent=30.0).sentence()
    assert found == (
        "When of a volume the time in which 99 of 100 operations are done is above 100 ms for 3 min; over "
        "once it is down to 80 ms. When nothing is heard of a volume for 30 s."
    )
    assert rule().judges_alike(rule(name="other"))
    assert not rule().judges_alike(rule(absent=60.0))
