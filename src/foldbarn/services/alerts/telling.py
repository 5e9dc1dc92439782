"""Sending what is to be told: by mail and to webhooks, tried again while it is not taken, and never twice
once it is known that it was.
"""

from __future__ import annotations

import math
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from typing import Any

import structlog

from foldbarn.changes.engine.mailing import mail_server
from foldbarn.core.errors import BarnError
from foldbarn.core.units import DAY_SECONDS
from foldbarn.core.watch.messages import Event
from foldbarn.core.watch.metrics import METRICS, figures_of
from foldbarn.core.watch.samples import TIMES
from foldbarn.links.mail import Letter, send
from foldbarn.links.webhooks import post
from foldbarn.sealed import unseal
from foldbarn.services.alerts.judging import series_of
from foldbarn.services.duties import Duty, Round
from foldbarn.settings import settings
from foldbarn.store import alerts as kept
from foldbarn.store import samples
from foldbarn.store.database import tell, transaction
from foldbarn.store.tables import AlertRow

log = structlog.get_logger()
SEND_SECONDS = 2.0  # between two looks at what is to be sent
AT_ONCE = 4  # messages that are sent side by side: one server that hangs holds up no other
MOST_AT_ONCE = 20  # in one turn
FIRST_PAUSE, LONGEST_PAUSE = 5.0, 300.0  # seconds between two tries, which grow
GIVEN_UP_AFTER = DAY_SECONDS
SHOWN = timedelta(minutes=50)  # of the curve, before what is told of


def sending() -> Round:
    return Round((Duty("send what is to be told", SEND_SECONDS, lambda: send_due()),))


def send_due() -> None:
    """Sends those messages whose time has come."""
    with transaction() as session:
        due = kept.take_due(session, MOST_AT_ONCE)
    if not due:
        return  # as nearly always
    with transaction() as session:
        if given_up := kept.give_up_oldest(session):
            log.error("messages given up: too many wait", messages=given_up)
    with ThreadPoolExecutor(max_workers=AT_ONCE) as crew:
        for one, problem in zip(due, crew.map(_try, due), strict=True):
            _note(one, problem)


def pause_after(tries: int) -> float:
    """Seconds until a message is tried again after so many tries."""
    return min(FIRST_PAUSE * 2.0**tries, LONGEST_PAUSE)


def _note(one: kept.Due, problem: str) -> None:
    with transaction() as session:
        if not problem:
            kept.note_sent(session, one.number)
        else:
            late = time.time() - one.made > GIVEN_UP_AFTER or one.event is Event.TEST
            log.info("message not taken", message=one.number, why=problem, given_up=late)
            kept.note_unsent(session, one.number, problem, None if late else pause_after(one.tries))
        tell(session, "alerts")


def _try(one: kept.Due) -> str:
    """Why a message was not taken; empty where it was."""
    try:
        if one.kind == "mail":
            send(mail_server(), _letter(one))
        else:
            post(one.target, said(one), one.mark, unseal(one.sealed))
    except BarnError as error:
        return error.sentence
    except Exception as error:  # what breaks here must not keep others from being sent
        log.exception("message broke off", message=one.number)
        return f"It broke off with {type(error).__name__}."
    return ""


def _letter(one: kept.Due) -> Letter:
    picture = b"" if one.incident is None else _picture(one.incident)
    return Letter(
        to=one.target,
        subject=one.subject,
        text=one.text,
        mark=one.mark,
        made=one.made,
        picture=picture,
    )


def _picture(incident: int) -> bytes:
    """Of the first of its alerts that is about a figure; nothing where there is none."""
    from foldbarn.services.alerts.curves import Curve, draw  # what draws takes long to load

    with transaction() as session:
        rows = kept.of_incident(session, incident, most=50)
        row = next((one for one in rows if not one.absent), None)
        rule = None if row is None else kept.rule(session, row.rule_id)
        if row is None or rule is None:
            return b""
        span, seconds = _span(row)
        at, found = samples.of_series(session, series_of(row), span, row.since - SHOWN)
    curve = Curve(
        title=f"{row.name}: {METRICS[rule.metric].words}",
        unit=rule.unit,
        at=at,
        values=figures_of(rule.metric, found),
        seconds=seconds,
        bounds=rule.bounds,
        told=[] if row.fired is None else [row.fired.timestamp()],
    )
    return draw(curve)


def _span(row: AlertRow) -> tuple[int, float]:
    """By which samples it is drawn: those as taken go back for an hour. And seconds that each stands for."""
    began = (datetime.now(UTC) - row.since + SHOWN).total_seconds()
    for over in TIMES.values():
        if began <= over.seconds:
            return over.span, float(over.span or settings().sample_seconds)
    return TIMES["week"].span, float(TIMES["week"].span)


def said(one: kept.Due) -> dict[str, Any]:
    """What a webhook is told."""
    with transaction() as session:
        row = None if one.incident is None else kept.incident(session, one.incident)
        rows = [] if one.incident is None else kept.of_incident(session, one.incident, most=100)
        rules = {rule.number: rule for rule in kept.rules(session)}
    return {
        "id": one.mark,
        "event": one.event.value,
        "made": datetime.fromtimestamp(one.made, UTC).isoformat(),
        "subject": one.subject,
        "text": one.text,
        "incident": None
        if row is None
        else {"number": row.id, "headline": row.headline, "severity": row.severity, "cause": row.cause},
        "alerts": [_alert(found, rules[found.rule_id].name) for found in rows if found.rule_id in rules],
    }


def _alert(row: AlertRow, rule: str) -> dict[str, Any]:
    worst = None if row.worst is None or math.isnan(row.worst) else row.worst
    return {
        "rule": rule,
        "kind": row.what,
        "name": row.name,
        "absent": row.absent,
        "since": row.since.isoformat(),
        "ended": None if row.ended is None else row.ended.isoformat(),
        "worst": worst,
    }


def send_test(number: int, subject: str, text: str) -> str:
    """Makes a test of a route and sends it at once; why it was not taken, empty where it was."""
    with transaction() as session:
        one = kept.begin_test(session, number, subject, text)
    problem = _try(one)
    _note(one, problem)
    return problem
