"""Watch rules, what they find, who is told of it, and what was sent."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import ColumnElement, and_, delete, func, or_, select, update
from sqlalchemy.dialects.postgresql import insert

from foldbarn.core.watch.causes import Cause, Of
from foldbarn.core.watch.messages import Event
from foldbarn.core.watch.metrics import Metric
from foldbarn.core.watch.rules import Bounds, Chosen, Quiet, Rule, Severity, Way
from foldbarn.core.watch.samples import Sampled, Series
from foldbarn.store.database import Session
from foldbarn.store.tables import (
    AlertRow,
    IncidentRow,
    MailServerRow,
    MessageRow,
    RouteRow,
    SampleRow,
    WatchRuleRow,
)

KEPT = timedelta(days=35)  # of what is over, as long as the longest samples
MOST_WAITING = 1000  # messages; of more the oldest are given up
LATELY = timedelta(minutes=15)  # samples of which a process that begins looks when each was taken

# Rules. --------------------------------------------------------------------------------------------------


def rules(session: Session) -> list[Rule]:
    """All of them, by name."""
    return [
        _rule(row) for row in session.scalars(select(WatchRuleRow).order_by(func.lower(WatchRuleRow.name)))
    ]


def rule(session: Session, number: int) -> Rule | None:
    row = session.get(WatchRuleRow, number)
    return None if row is None else _rule(row)


def save_rule(session: Session, wish: Rule) -> Rule:
    """Makes a rule, or alters the one of its number; as it is then."""
    row = session.get(WatchRuleRow, wish.number) if wish.number else None
    if row is None:
        row = WatchRuleRow()
        session.add(row)
    bounds, chosen = wish.bounds, wish.chosen
    row.name, row.of, row.metric = wish.name, wish.of.value, wish.metric.value
    row.bounds = None
    if bounds is not None:
        row.bounds = {
            "way": bounds.way.value,
            "limit": bounds.limit,
            "clear": bounds.clear,
            "hold": bounds.hold,
        }
    said = {"only": list(chosen.only), "pool": chosen.pool, "namespace": chosen.namespace}
    row.chosen = {name: value for name, value in said.items() if value}
    row.absent, row.severity = wish.absent, wish.severity.value
    row.quiet = None if wish.quiet is None else [wish.quiet.begins, wish.quiet.ends]
    row.route_id, row.is_on = wish.route, wish.on
    session.flush()
    return _rule(row)


def delete_rule(session: Session, number: int) -> None:
    session.execute(delete(WatchRuleRow).where(WatchRuleRow.id == number))


def _rule(row: WatchRuleRow) -> Rule:
    bounds = None
    if row.bounds is not None:
        said = row.bounds
        bounds = Bounds(Way(said["way"]), float(said["limit"]), float(said["clear"]), float(said["hold"]))
    chosen = row.chosen
    return Rule(
        number=row.id,
        name=row.name,
        of=Sampled(row.of),
        metric=Metric(row.metric),
        bounds=bounds,
        severity=Severity(row.severity),
        chosen=Chosen(tuple(chosen.get("only", ())), chosen.get("pool", 0), chosen.get("namespace", "")),
        absent=row.absent,
        quiet=None if row.quiet is None else Quiet(*row.quiet),
        route=row.route_id,
        on=row.is_on,
    )


# Alerts. -------------------------------------------------------------------------------------------------


def open_alerts(session: Session) -> list[AlertRow]:
    return list(session.scalars(select(AlertRow).where(AlertRow.ended.is_(None))))


def add_alerts(session: Session, found: Sequence[dict[str, Any]]) -> None:
    """Those that are open already stay as they are."""
    if found:
        session.execute(insert(AlertRow).on_conflict_do_nothing(), found)


def alter_alerts(session: Session, found: Sequence[dict[str, Any]]) -> None:
    """found: of each its id, and what of it is another now."""
    by_columns: dict[frozenset[str], list[dict[str, Any]]] = {}
    for one in found:
        by_columns.setdefault(frozenset(one), []).append(one)
    for alike in by_columns.values():
        session.execute(update(AlertRow), alike)


def forget_alerts(session: Session, numbers: Collection[int]) -> None:
    """What never fired leaves no trace."""
    if numbers:
        session.execute(delete(AlertRow).where(AlertRow.id.in_(numbers)))


def end_alerts(session: Session, rule_number: int, at: datetime, why: str) -> None:
    """Of a rule: those that have fired are over, and the others are forgotten."""
    mine = AlertRow.rule_id == rule_number, AlertRow.ended.is_(None)
    session.execute(delete(AlertRow).where(*mine, AlertRow.fired.is_(None)))
    session.execute(update(AlertRow).where(*mine).values(ended=at, why=why))


def of_thing(session: Session, series: Series, moment: datetime, most: int) -> list[AlertRow]:
    """Of one thing those that lasted beyond a moment, oldest first, pending ones among them."""
    mine = (
        AlertRow.what == series.of.value,
        AlertRow.number == series.number,
        AlertRow.part == series.part,
        or_(AlertRow.ended.is_(None), AlertRow.ended > moment),
    )
    return list(session.scalars(select(AlertRow).where(*mine).order_by(AlertRow.since).limit(most)))


def of_incident(session: Session, number: int, most: int) -> list[AlertRow]:
    """Those that began first, first."""
    mine = select(AlertRow).where(AlertRow.incident_id == number).order_by(AlertRow.since, AlertRow.id)
    return list(session.scalars(mine.limit(most)))


def counts(session: Session, incidents: Collection[int]) -> dict[int, tuple[int, int]]:
    """By incident: how many alerts it has, and of how many things is still so."""
    still = func.count().filter(AlertRow.ended.is_(None))
    rows = select(AlertRow.incident_id, func.count(), still).where(AlertRow.incident_id.in_(incidents))
    found = session.execute(rows.group_by(AlertRow.incident_id))
    return {int(number): (int(all_), int(left)) for number, all_, left in found if number is not None}


def told_of(session: Session, incidents: Collection[int]) -> set[int]:
    """Of which of these incidents somebody was told: a message was taken."""
    sent = MessageRow.incident_id.in_(incidents), MessageRow.state == "sent"
    return {n for n in session.scalars(select(MessageRow.incident_id).where(*sent)) if n is not None}


def last_samples(session: Session, at: datetime) -> dict[Series, float]:
    """When each series was sampled last before a moment, of those that were lately; seconds since 1970."""
    key = SampleRow.what, SampleRow.number, SampleRow.part
    rows = (
        select(*key, func.max(SampleRow.at))
        .where(SampleRow.at > at - LATELY, SampleRow.at < at)
        .group_by(*key)
    )
    return {Series(Sampled(w), n, part): last.timestamp() for w, n, part, last in session.execute(rows)}


# Incidents. ----------------------------------------------------------------------------------------------


def open_incidents(session: Session) -> list[IncidentRow]:
    """Oldest first."""
    rows = select(IncidentRow).where(IncidentRow.ended.is_(None)).order_by(IncidentRow.begun, IncidentRow.id)
    return list(session.scalars(rows))


def recent_incidents(session: Session, moment: datetime, most: int) -> list[IncidentRow]:
    """Those that ended after a moment, newest first."""
    rows = select(IncidentRow).where(IncidentRow.ended > moment).order_by(IncidentRow.ended.desc())
    return list(session.scalars(rows.limit(most)))


def incident(session: Session, number: int) -> IncidentRow | None:
    return session.get(IncidentRow, number)


def cause_of(row: IncidentRow) -> Cause:
    return Cause(Of(row.cause), row.number, row.kind, row.part)


def begin_incident(session: Session, cause: Cause, severity: Severity, headline: str, at: datetime) -> int:
    made = IncidentRow(
        cause=cause.of.value,
        number=cause.number,
        kind=cause.kind,
        part=cause.part,
        headline=headline,
        severity=severity.value,
        begun=at,
    )
    session.add(made)
    session.flush()
    return made.id


TOLD_OVER = "over"  # what is told of an incident last


def to_tell(session: Session) -> list[IncidentRow]:
    """Those that are open, and those that ended of which was told that they began, oldest first."""
    waits = and_(IncidentRow.told.is_not(None), IncidentRow.told != TOLD_OVER)
    rows = select(IncidentRow).where(or_(IncidentRow.ended.is_(None), waits))
    return list(session.scalars(rows.order_by(IncidentRow.begun, IncidentRow.id)))


def over(session: Session) -> list[IncidentRow]:
    """Open ones of which every alert is over."""
    still = select(AlertRow.id).where(AlertRow.incident_id == IncidentRow.id, AlertRow.ended.is_(None))
    rows = select(IncidentRow).where(IncidentRow.ended.is_(None), ~still.exists())
    return list(session.scalars(rows))


# Routes. -------------------------------------------------------------------------------------------------


def routes(session: Session) -> list[RouteRow]:
    return list(session.scalars(select(RouteRow).order_by(func.lower(RouteRow.name))))


def route(session: Session, number: int) -> RouteRow | None:
    return session.get(RouteRow, number)


def add_route(session: Session, **columns: Any) -> RouteRow:
    row = RouteRow(**columns)
    session.add(row)
    session.flush()
    return row


def only_usual(session: Session, number: int) -> None:
    """No other route than this one is for rules that name none."""
    session.execute(update(RouteRow).where(RouteRow.id != number).values(usual=False))


def delete_route(session: Session, number: int) -> None:
    session.execute(delete(RouteRow).where(RouteRow.id == number))


def mail_server(session: Session) -> MailServerRow | None:
    return session.get(MailServerRow, 1)


def set_mail_server(session: Session, **columns: Any) -> None:
    row = session.get(MailServerRow, 1)
    if row is None:
        row = MailServerRow(id=1)
        session.add(row)
    for name, value in columns.items():
        setattr(row, name, value)
    session.flush()


# Messages. -----------------------------------------------------------------------------------------------


def add_message(
    session: Session, route_number: int, event: Event, subject: str, text: str, incident_number: int | None
) -> int | None:
    """Its number; None where that route was told of this already."""
    values = {
        "route_id": route_number,
        "event": event.value,
        "subject": subject,
        "body": text,
        "incident_id": incident_number,
    }
    made = insert(MessageRow).values(**values).on_conflict_do_nothing().returning(MessageRow.id)
    return session.scalar(made)


HELD = timedelta(minutes=1)  # for which nobody else sends what whoever made it sends at once


def begin_test(session: Session, route_number: int, subject: str, text: str) -> Due:
    """A message that whoever makes it sends at once."""
    made = MessageRow(
        route_id=route_number,
        event=Event.TEST.value,
        subject=subject,
        body=text,
        next_at=func.now() + HELD,
    )
    session.add(made)
    session.flush()
    [due] = _take(session, MessageRow.id == made.id, 1)
    return due


@dataclass(frozen=True, slots=True)
class Due:
    """A message that is to be sent now. tries: before this one; made: when it was, in seconds since 1970."""

    number: int
    mark: str
    incident: int | None
    event: Event
    subject: str
    text: str
    kind: str
    target: str
    sealed: str
    tries: int
    made: float


def take_due(session: Session, most: int) -> list[Due]:
    """The oldest whose time has come, which are marked as being sent from then on: what happens to one after
    that, nobody may know. Messages of a process that was killed meanwhile are among them.
    """
    ready = and_(MessageRow.state.in_(("waiting", "sending")), MessageRow.next_at <= func.now())
    return _take(session, ready, most)


def _take(session: Session, which: ColumnElement[bool], most: int) -> list[Due]:
    rows = select(MessageRow, RouteRow).join(RouteRow, RouteRow.id == MessageRow.route_id).where(which)
    found = session.execute(rows.order_by(MessageRow.id).limit(most).with_for_update(of=MessageRow)).all()
    due = []
    for message, to in found:
        message.state = "sending"
        one = Due(
            number=message.id,
            mark=message.mark,
            incident=message.incident_id,
            event=Event(message.event),
            subject=message.subject,
            text=message.body,
            kind=to.kind,
            target=to.target,
            sealed=to.sealed,
            tries=message.tries,
            made=message.made_at.timestamp(),
        )
        due.append(one)
    return due


def note_sent(session: Session, number: int) -> None:
    mine = update(MessageRow).where(MessageRow.id == number)
    session.execute(mine.values(state="sent", sent_at=func.now(), problem="", tries=MessageRow.tries + 1))


def note_unsent(session: Session, number: int, problem: str, seconds: float | None) -> None:
    """seconds: after which it is tried again; None for never."""
    mine = update(MessageRow).where(MessageRow.id == number)
    values: dict[str, Any] = {"problem": problem, "tries": MessageRow.tries + 1}
    if seconds is None:
        session.execute(mine.values(state="given up", **values))
    else:
        later = func.now() + timedelta(seconds=seconds)
        session.execute(mine.values(state="waiting", next_at=later, **values))


def give_up_oldest(session: Session) -> int:
    """Where more wait than are kept; how many."""
    waiting = select(MessageRow.id).where(MessageRow.state == "waiting").order_by(MessageRow.id.desc())
    too_many = list(session.scalars(waiting.offset(MOST_WAITING)))
    if too_many:
        why = f"More than {MOST_WAITING:,} messages waited to be sent."
        mine = update(MessageRow).where(MessageRow.id.in_(too_many))
        session.execute(mine.values(state="given up", problem=why))
    return len(too_many)


def messages(session: Session, most: int, incident_number: int | None = None) -> list[tuple[MessageRow, str]]:
    """With the name of whom each is for, newest first."""
    rows = select(MessageRow, RouteRow.name).join(RouteRow, RouteRow.id == MessageRow.route_id)
    which: list[ColumnElement[bool]] = []
    if incident_number is not None:
        which.append(MessageRow.incident_id == incident_number)
    found = session.execute(rows.where(*which).order_by(MessageRow.id.desc()).limit(most))
    return [(message, name) for message, name in found]


def forget_old(session: Session) -> None:
    """What is over for so long that no samples of it are left either."""
    old = func.now() - KEPT
    session.execute(delete(MessageRow).where(MessageRow.made_at < old, MessageRow.state != "waiting"))
    gone = select(IncidentRow.id).where(IncidentRow.ended < old)
    session.execute(delete(MessageRow).where(MessageRow.incident_id.in_(gone)))
    session.execute(delete(AlertRow).where(AlertRow.ended < old))
    left = select(AlertRow.id).where(AlertRow.incident_id == IncidentRow.id)
    session.execute(delete(IncidentRow).where(IncidentRow.ended < old, ~left.exists()))
