"""Judging what was sampled by the watch rules: what begins, fires and ends, and what that has in common."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

from foldbarn.core.site import SiteView
from foldbarn.core.watch.causes import Cause, Fired, causes_of
from foldbarn.core.watch.covering import covered, name_of
from foldbarn.core.watch.messages import Alert, Event, headline, told
from foldbarn.core.watch.metrics import Metric, figures_now
from foldbarn.core.watch.rules import (
    Bounds,
    Phase,
    Rule,
    Severity,
    Standing,
    after,
    is_gap,
    most_severe,
)
from foldbarn.core.watch.samples import Sampled, Samples, Series
from foldbarn.settings import settings
from foldbarn.store import alerts as kept
from foldbarn.store import changes
from foldbarn.store.database import Session, tell
from foldbarn.store.tables import AlertRow, IncidentRow, RouteRow

GONE = "There is no such thing any more, or the rule does not look at it."
Key = tuple[int, Series, bool]  # number of the rule, the thing, whether it is that nothing is heard of it


@dataclass(slots=True)
class _Round:
    """One round of judging: what was sampled just now, how rules stood with things before, and what comes of
    it: alerts that are new, altered or forgotten, and those that fire from now on.

    places: of each series that was sampled; rows: the alerts that are open; interval: seconds between two
    samples.
    """

    view: SiteView
    found: Samples
    rows: Mapping[Key, AlertRow]
    at: datetime
    interval: float
    places: dict[Series, int] = field(default_factory=dict)
    figures: dict[Metric, list[float]] = field(default_factory=dict)
    new: list[dict[str, Any]] = field(default_factory=list)
    altered: list[dict[str, Any]] = field(default_factory=list)
    forgotten: list[int] = field(default_factory=list)
    fired: list[Key] = field(default_factory=list)
    ended: bool = False

    def __post_init__(self) -> None:
        self.places = {series: place for place, series in enumerate(self.found.series)}

    @property
    def anything(self) -> bool:
        return bool(self.new or self.altered or self.forgotten or self.fired or self.ended)

    def value(self, rule: Rule, series: Series) -> float:
        """What a thing's figure is now; NaN where it is not known."""
        place = self.places.get(series)
        if place is None:
            return math.nan
        if rule.metric not in self.figures:
            self.figures[rule.metric] = figures_now(rule.metric, self.found).tolist()
        return self.figures[rule.metric][place]

    def by_limit(
        self, rule: Rule, bounds: Bounds, things: Sequence[Series], last: Mapping[Series, float]
    ) -> None:
        """Most things are within it and were before: there nothing is to be done. last: when each was sampled
        before.
        """
        moment = self.at.timestamp()
        for series in things:
            value, key = self.value(rule, series), (rule.number, series, False)
            row = self.rows.get(key)
            if row is None and (math.isnan(value) or not bounds.breached(value)):
                continue
            was = _standing(row, last.get(series))
            now = after(bounds, was, moment, value, self.interval)
            if now != was:
                self._note(key, row, was, now)

    def by_word(
        self, rule: Rule, absent: float, things: Sequence[Series], last: Mapping[Series, float], began: float
    ) -> None:
        """Whether things are heard of. began: since when somebody has looked, before which nothing counts as
        missing.
        """
        moment = self.at.timestamp()
        for series in things:
            key = (rule.number, series, True)
            row = self.rows.get(key)
            if series in self.places:
                if row is not None:
                    self._note(key, row, _standing(row, None), Standing(last=moment))
                continue
            before = last.get(series, began)
            heard = max(before, began) if before <= moment else began  # or the clock was set back
            if row is None and moment - heard > absent:
                now = Standing(Phase.FIRING, heard, moment, math.nan, heard)
                self._note(key, None, Standing(), now)

    def let_go(self, looked_at: Mapping[int, frozenset[Series]]) -> None:
        """Of what was under way with things that are gone, or that their rule looks at no more. looked_at: by
        number of a rule.
        """
        for (number, series, _), row in self.rows.items():
            if series in looked_at.get(number, ()):
                continue
            if row.fired is None:
                self.forgotten.append(row.id)
            else:
                self.altered.append({"id": row.id, "ended": self.at, "why": GONE})
                self.ended = True

    def _note(self, key: Key, row: AlertRow | None, was: Standing, now: Standing) -> None:
        """What has become of how a rule stands with a thing."""
        if now.phase is Phase.QUIET:
            if row is None:
                return
            if row.fired is None:
                self.forgotten.append(row.id)
            else:
                ended = now.last if now.last is not None else was.since
                self.altered.append({"id": row.id, "ended": _moment(ended)})
                self.ended = True
            return
        columns = {
            "since": _moment(now.since),
            "fired": None if now.fired is None else _moment(now.fired),
            "worst": None if math.isnan(now.worst) else now.worst,
        }
        if row is None:
            self.new.append(self._thing(key) | columns)
        elif (was.phase, was.since, was.worst) != (now.phase, now.since, now.worst):
            self.altered.append({"id": row.id, **columns})
        if now.phase is Phase.FIRING and was.phase is not Phase.FIRING:
            self.fired.append(key)

    def _thing(self, key: Key) -> dict[str, Any]:
        rule, series, absent = key
        return {
            "rule_id": rule,
            "absent": absent,
            "what": series.of.value,
            "number": series.number,
            "part": series.part,
            "name": name_of(self.view, series),
        }


@dataclass(slots=True)
class Judge:
    """Its own memory is when each thing was sampled last, which samples tell a process that begins. All else
    is in the database: a breach goes on though nobody judged for a while.
    """

    last: dict[Series, float] | None = None
    began: float = 0.0  # since when somebody has looked without a pause
    looked: float = 0.0  # when that was done last
    covering: dict[int, tuple[Rule, list[Series]]] = field(default_factory=dict)  # by rule, of one picture
    revision: int = -1

    def take(self, session: Session, view: SiteView, found: Samples, at: datetime, interval: float) -> None:
        """Judges the samples of a moment; interval: seconds between two."""
        moment = at.timestamp()
        if self.last is None:
            self.last = kept.last_samples(session, at)
        if is_gap(self.looked, moment, interval):
            self.began = moment  # that nothing was heard before is no fault of theirs
        self.looked = moment
        rules = [rule for rule in kept.rules(session) if rule.on]
        rows = {_key(row): row for row in kept.open_alerts(session)}
        round_ = _Round(view, found, rows, at, interval)
        for rule in rules:
            things = self._covered(view, rule)
            if rule.bounds is not None:
                round_.by_limit(rule, rule.bounds, things, self.last)
            if rule.absent is not None:
                round_.by_word(rule, rule.absent, things, self.last, self.began)
        round_.let_go({rule.number: frozenset(self.covering[rule.number][1]) for rule in rules})
        self.last.update(dict.fromkeys(found.series, moment))
        _keep(session, round_, {rule.number: rule for rule in rules})

    def _covered(self, view: SiteView, rule: Rule) -> list[Series]:
        """Found once for each picture of the site."""
        if view.revision != self.revision:
            self.revision, self.covering = view.revision, {}
        known = self.covering.get(rule.number)
        if known is None or known[0].chosen != rule.chosen or known[0].of != rule.of:
            known = self.covering[rule.number] = rule, covered(view, rule.of, rule.chosen)
        return known[1]


def _keep(session: Session, round_: _Round, rules: Mapping[int, Rule]) -> None:
    """Writes down what has come of a round, and makes the messages that are due. rules: those that are on."""
    kept.forget_alerts(session, round_.forgotten)
    kept.add_alerts(session, round_.new)
    kept.alter_alerts(session, round_.altered)
    if round_.fired:
        _gather(session, round_, rules)
    if announce_incidents(session, round_) or round_.anything:
        tell(session, "alerts")


def _key(row: AlertRow) -> Key:
    return row.rule_id, series_of(row), row.absent


def series_of(row: AlertRow) -> Series:
    return Series(Sampled(row.what), row.number, row.part)


def _standing(row: AlertRow | None, last: float | None) -> Standing:
    if row is None:
        return Standing(last=last)
    return Standing(
        phase=Phase.PENDING if row.fired is None else Phase.FIRING,
        since=row.since.timestamp(),
        fired=None if row.fired is None else row.fired.timestamp(),
        worst=math.nan if row.worst is None else row.worst,
        last=last,
    )


def _moment(seconds: float) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)


# What alerts have in common, and whom it is told. --------------------------------------------------------


def _gather(session: Session, round_: _Round, rules: Mapping[int, Rule]) -> None:
    """Alerts that fire from now on join what goes on of the same cause, or begin it."""
    view = round_.view
    under_way = {kept.cause_of(row): row for row in kept.open_incidents(session)}
    fired = [Fired(rule, series) for rule, series, _ in round_.fired]
    numbers = {_key(row): row for row in kept.open_alerts(session)}
    joined: dict[Cause, list[Key]] = {}
    for cause, key in zip(causes_of(view, fired, under_way.keys()), round_.fired, strict=True):
        joined.setdefault(cause, []).append(key)
    altered = []
    for cause, keys in joined.items():
        severity = most_severe(rules[key[0]].severity for key in keys)
        row = under_way.get(cause)
        if row is None:
            rows = [numbers[key] for key in keys]
            words = headline(view, cause, [_as_alert(one, rules[one.rule_id]) for one in rows])
            number = kept.begin_incident(session, cause, severity, words, round_.at)
        else:
            number = row.id
            row.severity = most_severe((severity, Severity(row.severity))).value
        altered += [{"id": numbers[key].id, "incident_id": number} for key in keys]
    kept.alter_alerts(session, altered)


def _as_alert(row: AlertRow, rule: Rule, value: float = math.nan) -> Alert:
    return Alert(
        rule=rule,
        series=series_of(row),
        name=row.name,
        absent=row.absent,
        since=row.since.timestamp(),
        worst=math.nan if row.worst is None else row.worst,
        value=value,
        ended=None if row.ended is None else row.ended.timestamp(),
    )


def announce_incidents(session: Session, round_: _Round) -> bool:
    """Ends incidents of which every alert is over, and makes the messages that are due: of what was not told
    yet, of what has become more urgent, of what is over. Nobody is told in quiet hours or while a person
    wants silence; what goes on after them, or is over, is told then. Whether anything came of it.
    """
    at, spoken = round_.at, False
    for row in kept.over(session):
        row.ended, spoken = at, True
    session.flush()
    to_whom = kept.routes(session)
    if not to_whom:
        return spoken  # whoever is to be told from some moment on hears of what goes on then
    rules = {rule.number: rule for rule in kept.rules(session)}
    for row in kept.to_tell(session):
        event = _due(row)
        if event is None or (row.silent_until is not None and row.silent_until > at):
            continue
        found = [
            _as_alert(one, rules[one.rule_id], round_.value(rules[one.rule_id], series_of(one)))
            for one in kept.of_incident(session, row.id, most=MOST_ALERTS)
            if one.rule_id in rules
        ]
        loud = [one for one in found if one.rule.quiet is None or not one.rule.quiet.covers(at.timestamp())]
        if not found and event is Event.OVER:
            row.told = kept.TOLD_OVER  # its rules are deleted, and what they found with them
        if not loud:
            continue
        severity = most_severe(one.rule.severity for one in loud)
        hearing = {route.id: [one for one in found if _hears(route, one, severity)] for route in to_whom}
        for route in to_whom:
            if mine := hearing[route.id]:
                _tell(session, round_, row, event, route, mine)
        if event is Event.OVER:
            row.told = kept.TOLD_OVER
        elif any(hearing.values()):  # else it is told as soon as somebody is to hear of it
            row.told, spoken = severity.value, True
    return spoken


MOST_ALERTS = 10_000  # of an incident, that a message is made from


def _due(row: IncidentRow) -> Event | None:
    """What of an incident is to be told now."""
    if row.ended is not None:
        return Event.OVER
    if row.told is None:
        return Event.FIRED
    if Severity(row.severity).rank > Severity(row.told).rank and row.seen_at is None:
        return Event.WORSE
    return None


def _tell(
    session: Session,
    round_: _Round,
    row: IncidentRow,
    event: Event,
    route: RouteRow,
    alerts: Sequence[Alert],
) -> None:
    """A message to one who hears of an incident."""
    message = told(
        round_.view,
        event,
        kept.cause_of(row),
        alerts,
        now=round_.at.timestamp(),
        beside=[one.title for one in changes.unfinished(session) if one.state == "running"],
        path=f"{settings().public_url}/watch/{row.id}",
    )
    kept.add_message(session, route.id, event, message.subject, message.text, row.id)


def _hears(route: RouteRow, alert: Alert, severity: Severity) -> bool:
    """Whether who is told this way hears of an alert, in an incident of this severity."""
    mine = route.usual if alert.rule.route is None else alert.rule.route == route.id
    return mine and severity.rank >= Severity(route.least).rank
