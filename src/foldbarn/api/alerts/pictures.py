"""Watch rules, alerts and routes, as pages show them."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Collection, Mapping, Sequence

from foldbarn.api.alerts.models import (
    AlertOut,
    BoundsBody,
    IncidentOut,
    KindHealthOut,
    MailServerOut,
    MessageOut,
    MetricOut,
    NamedOut,
    OtherOut,
    QuietBody,
    RouteIn,
    RouteOut,
    SpanOut,
    TrialOut,
    TriedOut,
    WatchRuleIn,
    WatchRuleOut,
)
from foldbarn.api.bodies import StateOut
from foldbarn.api.samples.pictures import short
from foldbarn.core.errors import BarnError
from foldbarn.core.site import SiteView
from foldbarn.core.watch.covering import covered, names_of
from foldbarn.core.watch.health import could_lose, health_of
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.messages import Alert, kin_of, said
from foldbarn.core.watch.metrics import METRICS, say_value
from foldbarn.core.watch.rules import Bounds, Chosen, Quiet, Rule, Severity
from foldbarn.core.watch.samples import Sampled, pieces
from foldbarn.links.mail import server_of_settings
from foldbarn.services.alerts.judging import series_of
from foldbarn.services.alerts.writing import OnOne, Trial
from foldbarn.store.tables import AlertRow, IncidentRow, MailServerRow, MessageRow, RouteRow

MOST_SHOWN = 12  # things that a rule was tried on


def health_out(outlook: Outlook) -> list[KindHealthOut]:
    return [
        KindHealthOut(
            kind=one.kind,
            counts=dict(one.counts),
            worst=[NamedOut(name=name, state=StateOut.of(state)) for name, state in one.worst],
        )
        for one in health_of(outlook)
    ]


def losses_out(outlook: Outlook) -> list[NamedOut]:
    return [NamedOut(name=one.pool, state=StateOut.of(one.state)) for one in could_lose(outlook)]


def metrics_out() -> list[MetricOut]:
    return [
        MetricOut(metric=metric, words=known.words, unit=known.unit, of=list(known.of), usual=known.usual)
        for metric, known in METRICS.items()
    ]


# Rules. --------------------------------------------------------------------------------------------------


def rule_of(view: SiteView, wish: WatchRuleIn, number: int = 0) -> Rule:
    """A rule as it was wished for. Raises NotFound where it names what there is not."""
    bounds = wish.bounds
    only = tuple(sorted({_number_of(view, wish.of, name) for name in wish.names}))
    return Rule(
        number=number,
        name=wish.name,
        of=wish.of,
        metric=wish.metric,
        bounds=None if bounds is None else Bounds(bounds.way, bounds.limit, bounds.clear, bounds.hold),
        severity=wish.severity,
        chosen=Chosen(only, view.pool(wish.pool).number if wish.pool else 0, wish.namespace),
        absent=wish.absent,
        quiet=None if wish.quiet is None else Quiet(wish.quiet.begins, wish.quiet.ends),
        route=wish.route,
        on=wish.on,
    )


def _number_of(view: SiteView, of: Sampled, name: str) -> int:
    match of:
        case Sampled.VOLUME:
            return view.volume(name).number
        case Sampled.DISK:
            return view.disk(name).number
        case Sampled.POOL:
            return view.pool(name).number
        case Sampled.NODE | Sampled.PORT:
            return view.node(name).number


def rule_out(view: SiteView, rule: Rule, alerts: Sequence[AlertRow]) -> WatchRuleOut:
    """alerts: all that are open."""
    mine = [one for one in alerts if one.rule_id == rule.number]
    names, bounds, chosen = names_of(view), rule.bounds, rule.chosen
    pool = next((pool.name for pool in view.pools if pool.number == chosen.pool), "")
    wish = WatchRuleIn(
        name=rule.name,
        of=rule.of,
        metric=rule.metric,
        bounds=None
        if bounds is None
        else BoundsBody(way=bounds.way, limit=bounds.limit, clear=bounds.clear, hold=bounds.hold),
        names=[names[rule.of, number] for number in chosen.only if (rule.of, number) in names],
        pool=pool,
        namespace=chosen.namespace,
        absent=rule.absent,
        severity=rule.severity,
        quiet=None if rule.quiet is None else QuietBody(begins=rule.quiet.begins, ends=rule.quiet.ends),
        route=rule.route,
        on=rule.on,
    )
    return WatchRuleOut(
        number=rule.number,
        wish=wish,
        sentence=rule.sentence(),
        covers=len(covered(view, rule.of, chosen)),
        firing=sum(one.fired is not None for one in mine),
        pending=sum(one.fired is None for one in mine),
    )


def trial_out(view: SiteView, rule: Rule, trial: Trial) -> TrialOut:
    drawn = trial.found[0] if trial.found else None
    return TrialOut(
        sentence=rule.sentence(),
        unit=rule.unit,
        covers=trial.covers,
        tried=len(trial.found),
        told=trial.told,
        held_back=trial.held_back,
        others=[
            OtherOut(limit=limit, words=say_value(rule.unit, limit), told=told)
            for limit, told in trial.others
        ],
        things=[_tried_out(view, one) for one in trial.found[:MOST_SHOWN]],
        drawn=drawn.name if drawn else "",
        since=trial.since,
        until=trial.until,
        seconds=trial.seconds,
        at=[round(moment, 1) for moment in drawn.at.tolist()] if drawn else [],
        values=[short(value) for value in drawn.values.tolist()] if drawn else [],
        pieces=pieces(drawn.at, trial.seconds) if drawn else [],
        spans=_spans(drawn) if drawn else [],
        gaps=[list(gap) for gap in drawn.tried.gaps] if drawn else [],
        subject=trial.message.subject if trial.message else "",
        text=trial.message.text if trial.message else "",
    )


def _tried_out(view: SiteView, one: OnOne) -> TriedOut:
    kin = kin_of(view, one.series)
    return TriedOut(
        name=one.name,
        told=one.told,
        held_back=one.tried.held_back,
        worst=short(one.worst),
        consumers=list(kin.consumers),
        carriers=list(kin.carriers),
    )


def _spans(one: OnOne) -> list[SpanOut]:
    breaches = [SpanOut(since=e.since, fired=e.fired, ended=e.ended) for e in one.tried.episodes]
    return breaches + [SpanOut(since=begun, fired=begun, ended=ended) for begun, ended in one.absent]


# Alerts. -------------------------------------------------------------------------------------------------


def incident_out(
    row: IncidentRow, counted: Mapping[int, tuple[int, int]], told: Collection[int]
) -> IncidentOut:
    """counted: alerts of each incident; told: those of which somebody was told."""
    alerts, left = counted.get(row.id, (0, 0))
    return IncidentOut(
        number=row.id,
        headline=row.headline,
        severity=Severity(row.severity),
        cause=row.cause,
        begun=row.begun.timestamp(),
        ended=row.ended.timestamp() if row.ended else None,
        alerts=alerts,
        left=left,
        told=row.id in told,
        seen_by=row.seen_by or "",
        seen_at=row.seen_at.timestamp() if row.seen_at else None,
        silent_until=row.silent_until.timestamp() if row.silent_until else None,
    )


def alert_out(view: SiteView, row: AlertRow, rule: Rule, value: float, now: float) -> AlertOut:
    series = series_of(row)
    kin = kin_of(view, series)
    alert = Alert(
        rule=rule,
        series=series,
        name=row.name,
        absent=row.absent,
        since=row.since.timestamp(),
        worst=math.nan if row.worst is None else row.worst,
        value=value,
        ended=row.ended.timestamp() if row.ended else None,
    )
    words = said(alert, now)
    return AlertOut(
        rule=rule.name,
        rule_number=rule.number,
        metric=rule.metric,
        kind=series.of,
        name=row.name,
        thing=names_of(view).get((series.of, series.number), ""),
        absent=row.absent,
        since=row.since.timestamp(),
        fired=row.fired.timestamp() if row.fired else None,
        ended=row.ended.timestamp() if row.ended else None,
        said=words[:1].upper() + words[1:],
        why=row.why,
        consumers=list(kin.consumers),
        carriers=list(kin.carriers),
    )


def message_out(row: MessageRow, to: str) -> MessageOut:
    return MessageOut(
        number=row.id,
        to=to,
        event=row.event,
        subject=row.subject,
        text=row.body,
        state=row.state,
        tries=row.tries,
        problem=row.problem,
        made=row.made_at.timestamp(),
        sent=row.sent_at.timestamp() if row.sent_at else None,
        incident=row.incident_id,
    )


# Routes. -------------------------------------------------------------------------------------------------


def route_out(row: RouteRow, rules: Sequence[Rule]) -> RouteOut:
    wish = RouteIn(
        name=row.name,
        kind=row.kind,
        target=row.target,
        least=Severity(row.least),
        usual=row.usual,
    )
    return RouteOut(number=row.id, wish=wish, rules=[rule.name for rule in rules if rule.route == row.id])


def mail_server_out(row: MailServerRow | None) -> MailServerOut:
    if row is not None:
        return MailServerOut(
            chosen=True,
            host=row.host,
            port=row.port,
            sender=row.sender,
            encrypted=row.encrypted,
            trusted=row.trusted,
            account=row.account,
        )
    try:
        found = server_of_settings()
        host, port, sender = found.host, found.port, found.sender
    except BarnError:
        host, port, sender = "", 25, ""
    return MailServerOut(
        chosen=False, host=host, port=port, sender=sender, encrypted=False, trusted="", account=""
    )


def nobody_is_told(routes: Sequence[RouteRow], rules: Sequence[Rule]) -> str:
    """Why of some rules nobody is told; empty where somebody is of all."""
    if not routes:
        return "Nobody is told of alerts: there is no route yet."
    if any(row.usual for row in routes):
        return ""
    without = Counter(rule.route is None for rule in rules if rule.on)[True]
    if not without:
        return ""
    named = "One rule names" if without == 1 else f"{without} rules name"
    return f"{named} no route, and no route is the usual one: nobody is told of what they find."
