"""Watch rules, alerts and routes: what the API has."""

from __future__ import annotations

import math
from datetime import timedelta

from fastapi import APIRouter, Response

from foldbarn.api.alerts.models import (
    IncidentPage,
    MadeOut,
    MailServerIn,
    RouteIn,
    RoutesOut,
    RulesOut,
    SentOut,
    SilenceIn,
    TrialIn,
    TrialOut,
    WatchOut,
    WatchRuleIn,
    WatchRuleOut,
)
from foldbarn.api.alerts.pictures import (
    alert_out,
    health_out,
    incident_out,
    losses_out,
    mail_server_out,
    message_out,
    metrics_out,
    nobody_is_told,
    route_out,
    rule_of,
    rule_out,
    trial_out,
)
from foldbarn.api.common import Number, person
from foldbarn.core.errors import NotFound
from foldbarn.core.units import DAY_SECONDS
from foldbarn.core.watch.metrics import figures_of
from foldbarn.core.watch.samples import TIMES, Series
from foldbarn.services.alerts import writing
from foldbarn.services.alerts.judging import series_of
from foldbarn.services.alerts.telling import GIVEN_UP_AFTER
from foldbarn.services.site import outlook
from foldbarn.store import alerts, samples
from foldbarn.store.database import Session, transaction
from foldbarn.store.views import current_view

routes = APIRouter(prefix="/watch")
RECENT = timedelta(days=7)
MOST = 200  # incidents that are over, alerts of one, and messages


@routes.get("")
def read_watch() -> WatchOut:
    """What goes on, what was over lately, and how everything is."""
    seen = outlook()
    with transaction() as session:
        now = samples.now(session)
        still, over = alerts.open_incidents(session), alerts.recent_incidents(session, now - RECENT, MOST)
        numbers = [row.id for row in (*still, *over)]
        counted, told = alerts.counts(session, numbers), alerts.told_of(session, numbers)
        rules, open_ = alerts.rules(session), alerts.open_alerts(session)
        sent = alerts.messages(session, MOST)
        return WatchOut(
            open=[incident_out(row, counted, told) for row in reversed(still)],
            over=[incident_out(row, counted, told) for row in over],
            rules=sum(rule.on for rule in rules),
            pending=sum(row.fired is None for row in open_),
            health=health_out(seen),
            losses=losses_out(seen),
            recent_days=RECENT.days,
            tried_days=GIVEN_UP_AFTER / DAY_SECONDS,
            nobody=nobody_is_told(alerts.routes(session), rules),
            stuck=[message_out(row, to) for row, to in sent if row.problem and row.event != "test"],
        )


@routes.get("/incidents/{number}")
def read_incident(number: Number) -> IncidentPage:
    """An incident with its alerts, and what was sent of it."""
    view = current_view()
    with transaction() as session:
        row = alerts.incident(session, number)
        if row is None:
            raise NotFound("There is no such incident.", about="incident")
        rules = {rule.number: rule for rule in alerts.rules(session)}
        found = [one for one in alerts.of_incident(session, number, MOST) if one.rule_id in rules]
        now = samples.now(session).timestamp()
        values = _values_now(session, {(series_of(one), one.rule_id) for one in found if one.ended is None})
        return IncidentPage(
            incident=incident_out(row, alerts.counts(session, [number]), alerts.told_of(session, [number])),
            alerts=[
                alert_out(
                    view, one, rules[one.rule_id], values.get((series_of(one), one.rule_id), math.nan), now
                )
                for one in found
            ],
            messages=[message_out(one, to) for one, to in alerts.messages(session, MOST, number)],
        )


def _values_now(session: Session, wanted: set[tuple[Series, int]]) -> dict[tuple[Series, int], float]:
    """The figure of each thing by each rule, as it was sampled last."""
    found: dict[tuple[Series, int], float] = {}
    rules = {rule.number: rule for rule in alerts.rules(session)}
    for kind in {series.of for series, _ in wanted}:
        series, rows = samples.newest(session, kind)
        for number in {rule for one, rule in wanted if one.of is kind}:
            values = figures_of(rules[number].metric, rows).tolist()
            found |= {(one, number): value for one, value in zip(series, values, strict=True)}
    return found


@routes.post("/incidents/{number}/see", status_code=204)
def see_incident(number: Number) -> Response:
    """Says that one sees to it: nothing more is told of it but that it is over."""
    writing.see(person(), number)
    return Response(status_code=204)


@routes.post("/incidents/{number}/silence", status_code=204)
def silence_incident(number: Number, wish: SilenceIn) -> Response:
    """Nothing is told of it for so long."""
    writing.silence(person(), number, wish.seconds)
    return Response(status_code=204)


@routes.get("/rules")
def read_rules() -> RulesOut:
    view = current_view()
    with transaction() as session:
        open_ = alerts.open_alerts(session)
        found = [rule_out(view, rule, open_) for rule in alerts.rules(session)]
        return RulesOut(rules=found, metrics=metrics_out())


@routes.post("/rules")
def make_rule(wish: WatchRuleIn) -> WatchRuleOut:
    view = current_view()
    return rule_out(view, writing.save_rule(person(), rule_of(view, wish)), [])


@routes.put("/rules/{number}")
def alter_rule(number: Number, wish: WatchRuleIn) -> WatchRuleOut:
    """What was under way by a rule that judges otherwise from now on is over."""
    view = current_view()
    made = writing.save_rule(person(), rule_of(view, wish, _some(number)))
    with transaction() as session:
        return rule_out(view, made, alerts.open_alerts(session))


@routes.delete("/rules/{number}", status_code=204)
def delete_rule(number: Number) -> Response:
    """With all that it found."""
    writing.delete_rule(person(), number)
    return Response(status_code=204)


@routes.post("/rules/try")
def try_rule(wish: TrialIn) -> TrialOut:
    """What a rule would have found over the last hour, day or week. Nothing is kept, and nothing is sent."""
    view = current_view()
    rule = rule_of(view, wish.rule)
    return trial_out(view, rule, writing.try_rule(view, rule, TIMES[wish.over]))


@routes.get("/routes")
def read_routes() -> RoutesOut:
    """To whom alerts are told, by which server, and what was sent."""
    with transaction() as session:
        rules = alerts.rules(session)
        return RoutesOut(
            routes=[route_out(row, rules) for row in alerts.routes(session)],
            mail=mail_server_out(alerts.mail_server(session)),
            messages=[message_out(row, to) for row, to in alerts.messages(session, MOST)],
        )


@routes.post("/routes")
def make_route(wish: RouteIn) -> MadeOut:
    return MadeOut(secret=_save(wish, 0))


@routes.put("/routes/{number}")
def alter_route(number: Number, wish: RouteIn) -> MadeOut:
    return MadeOut(secret=_save(wish, _some(number)))


def _save(wish: RouteIn, number: int) -> str:
    return writing.save_route(person(), number, wish.name, wish.kind, wish.target, wish.least, wish.usual)


def _some(number: int) -> int:
    """Raises NotFound for 0, which means one that is yet to be made."""
    if not number:
        raise NotFound("There is nothing of that number.", about="number")
    return number


@routes.delete("/routes/{number}", status_code=204)
def delete_route(number: Number) -> Response:
    """With the record of what was sent to it."""
    writing.delete_route(person(), number)
    return Response(status_code=204)


@routes.post("/routes/{number}/test")
def test_route(number: Number) -> SentOut:
    """Sends a test at once."""
    return SentOut(problem=writing.try_route(person(), number))


@routes.put("/mail", status_code=204)
def set_mail_server(wish: MailServerIn) -> Response:
    """Which server takes mail."""
    writing.set_mail_server(
        person(),
        host=wish.host,
        port=wish.port,
        sender=wish.sender,
        encrypted=wish.encrypted,
        trusted=wish.trusted,
        account=wish.account,
        password=wish.password,
    )
    return Response(status_code=204)
