"""What is told of alerts: who uses what they are of, and what carries it, by name."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import StrEnum

from foldbarn.core.site import SiteView
from foldbarn.core.units import say_count, say_duration, say_list
from foldbarn.core.volumes.lineage import Link, lineage_of
from foldbarn.core.watch.causes import Cause, Of
from foldbarn.core.watch.covering import name_of
from foldbarn.core.watch.metrics import say_value
from foldbarn.core.watch.rules import Rule, Severity, Way
from foldbarn.core.watch.samples import Sampled, Series

MOST_TOLD = 12  # alerts of one message that are told one by one


class Event(StrEnum):
    """Of what a message tells."""

    FIRED = "fired"
    WORSE = "worse"  # something more urgent has fired of the same cause
    OVER = "over"
    TEST = "test"


@dataclass(frozen=True, slots=True)
class Alert:
    """That a rule fires, or fired, of a thing. name: what the thing was called when it began; absent: it is
    that nothing is heard of it. since: of the first sample of the breach, ended: of the last one; value: now.
    """

    rule: Rule
    series: Series
    name: str
    absent: bool
    since: float
    worst: float = math.nan
    value: float = math.nan
    ended: float | None = None


@dataclass(frozen=True, slots=True)
class Kin:
    """Who uses a thing, and what carries it, each in words such as "claim ticketing/seat-ledger"."""

    consumers: tuple[str, ...]
    carriers: tuple[str, ...]


_LINKS = {
    Sampled.VOLUME: Link.VOLUME,
    Sampled.POOL: Link.POOL,
    Sampled.NODE: Link.NODE,
    Sampled.PORT: Link.NODE,
    Sampled.DISK: Link.DISK,
}
_CONSUMERS = (Link.CLAIM, Link.VM, Link.SHARE, Link.HOST)
_CARRIERS = (Link.POOL, Link.NODE)


def kin_of(view: SiteView, series: Series) -> Kin:
    """Nobody and nothing where the thing is gone."""
    name = name_of(view, Series(series.of, series.number))
    if not name:
        return Kin((), ())
    found = lineage_of(view, _LINKS[series.of], name).kin
    consumers = [f"{link} {one}" for link in _CONSUMERS for one in found.get(link, ())]
    if series.of is not Sampled.VOLUME:
        consumers = [f"volume {one}" for one in found.get(Link.VOLUME, ())] or consumers
    own = _LINKS[series.of]
    carriers = [f"{link} {one}" for link in _CARRIERS if link != own for one in found.get(link, ())]
    return Kin(tuple(consumers), tuple(carriers))


@dataclass(frozen=True, slots=True)
class Message:
    subject: str
    text: str


def told(
    view: SiteView,
    event: Event,
    cause: Cause,
    alerts: Sequence[Alert],
    *,
    now: float,
    beside: Sequence[str] = (),
    path: str = "",
) -> Message:
    """What is told of the alerts of one cause, the first that began first. beside: titles of the changes that
    are under way; path: where Fold Barn shows it.
    """
    alerts = sorted(alerts, key=lambda one: (one.absent, one.since, one.name))
    lines = [line for one in alerts[:MOST_TOLD] for line in _lines(view, one, event, now)]
    if len(alerts) > MOST_TOLD:
        lines.append(f"And {len(alerts) - MOST_TOLD:,} more.")
    if beside and event is not Event.OVER:
        lines.append(f"Going on beside it: {say_list(list(beside))}.")
    if path:
        lines.append(f"In Fold Barn: {path}")
    return Message(_subject(view, event, cause, alerts, now), "\n".join(lines) + "\n")


def _subject(view: SiteView, event: Event, cause: Cause, alerts: Sequence[Alert], now: float) -> str:
    urgent = any(one.rule.severity is Severity.URGENT for one in alerts)
    first = {Event.OVER: "Over", Event.FIRED: "Urgent" if urgent else "Notice", Event.WORSE: "Urgent"}[event]
    many = f", {say_count(len(alerts), 'alert')}" if len(alerts) > 1 else ""
    what = headline(view, cause, alerts) + many
    if event is Event.OVER:
        begun = min(one.since for one in alerts)
        return f"{first}: {what}, after {say_duration(max(one.ended or now for one in alerts) - begun)}"
    return f"{first}: {what}"


def headline(view: SiteView, cause: Cause, alerts: Sequence[Alert]) -> str:
    """What an incident is, in a few words that stay true while more joins it."""
    match cause.of:
        case Of.NODE:
            name = name_of(view, Series(Sampled.NODE, cause.number)) or "a node that is gone"
            return f"{name} is not heard"
        case Of.DISK:
            name = name_of(view, Series(Sampled.DISK, cause.number)) or "a disk that is gone"
            return f"{name} is missing"
        case Of.RULE:
            return f"{alerts[0].rule.name}: several {alerts[0].rule.of}s"
        case Of.THING:
            rules = say_list(list(dict.fromkeys(one.rule.name for one in alerts)))
            return f"{rules}: {alerts[0].name}"


def _lines(view: SiteView, one: Alert, event: Event, now: float) -> list[str]:
    found = [f"{_kind(one)} {one.name}: {said(one, now)}"]
    kin = kin_of(view, one.series)
    if event is not Event.OVER and kin.consumers:
        found.append(f"  Used by {say_list(list(kin.consumers), 5)}.")
    if event is not Event.OVER and kin.carriers:
        found.append(f"  Carried by {say_list(list(kin.carriers), 6)}.")
    return found


def _kind(one: Alert) -> str:
    return one.series.of.value.capitalize()


def said(one: Alert, now: float) -> str:
    """How it is or was with the thing, in a sentence or two."""
    since = datetime.fromtimestamp(one.since, UTC).strftime("%H:%M:%S UTC on %d %B")
    lasted = say_duration((one.ended if one.ended is not None else now) - one.since)
    if one.absent or one.rule.bounds is None:
        if one.ended is not None:
            return f"heard again; nothing was heard of it for {lasted}, from {since} on."
        return f"nothing is heard of it since {since}."
    bounds, unit = one.rule.bounds, one.rule.unit
    side = "above" if bounds.way is Way.ABOVE else "below"
    limit = say_value(unit, bounds.limit)
    worst = "" if math.isnan(one.worst) else f" At the worst {say_value(unit, one.worst)}."
    if one.ended is not None:
        return f"was {side} {limit} for {lasted}, from {since} on.{worst}"
    value = "" if math.isnan(one.value) else f"{say_value(unit, one.value)}, "
    return f"{value}{side} {limit} since {since}.{worst}"
