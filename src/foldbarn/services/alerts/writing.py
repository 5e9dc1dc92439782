"""Writing watch rules and routes, trying a rule on what happened, and what people do about alerts."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from urllib.parse import urlsplit

import numpy as np

from foldbarn.core.actors import Actor
from foldbarn.core.arrays import Reals
from foldbarn.core.errors import Conflict, NotFound, NotPossible
from foldbarn.core.site import SiteView
from foldbarn.core.watch.causes import Cause, Of
from foldbarn.core.watch.covering import covered, name_of
from foldbarn.core.watch.messages import Alert, Event, Message, told
from foldbarn.core.watch.metrics import figures_of
from foldbarn.core.watch.rules import Rule, Severity, Tried, Way, absences, check, other_limits, tried
from foldbarn.core.watch.samples import Over, Series, begins, in_points
from foldbarn.sealed import fresh_secret, seal
from foldbarn.services.alerts.telling import send_test
from foldbarn.settings import settings
from foldbarn.store import alerts as kept
from foldbarn.store import records, samples
from foldbarn.store.database import IntegrityError, Session, tell, transaction
from foldbarn.store.tables import IncidentRow, RouteRow

MOST_TRIED = 40  # things that a rule is tried on: those that are furthest out now
LONGEST_SILENCE = timedelta(days=7)
SECRET_BYTES = 24
ALTERED, DELETED = "The rule was altered.", "The rule was switched off."

# Rules. --------------------------------------------------------------------------------------------------


def save_rule(actor: Actor, wish: Rule) -> Rule:
    """Makes a rule, or alters the one of its number. Raises NotFound, NotPossible, and Conflict where another
    has its name. What was under way by a rule that judges otherwise now is over.
    """
    check(wish)
    try:
        with transaction() as session:
            before = kept.rule(session, wish.number) if wish.number else None
            if wish.number and before is None:
                raise NotFound("There is no such rule any more.", about="rule")
            if wish.route is not None and kept.route(session, wish.route) is None:
                raise NotFound("There is no such route any more.", about="route")
            made = kept.save_rule(session, wish)
            if before is not None and not before.judges_alike(made):
                kept.end_alerts(session, made.number, datetime.now(UTC), ALTERED if made.on else DELETED)
            doing = "was written" if before is None else "was altered"
            records.note(session, actor, f"The watch rule '{made.name}' {doing}. {made.sentence()}")
            tell(session, "alerts")
            return made
    except IntegrityError as error:
        raise Conflict(f"Another rule is called '{wish.name}' already.", about="name") from error


def delete_rule(actor: Actor, number: int) -> None:
    """With all that it found. Raises NotFound."""
    with transaction() as session:
        found = kept.rule(session, number)
        if found is None:
            raise NotFound("There is no such rule any more.", about="rule")
        kept.delete_rule(session, number)
        records.note(session, actor, f"The watch rule '{found.name}' was deleted.")
        tell(session, "alerts")


@dataclass(frozen=True, slots=True, eq=False)
class OnOne:
    """What a rule would have found of one thing. at: seconds since 1970 of each sample, [samples]; values:
    NaN where not known; absent: from when until when it would have told that nothing is heard. worst: NaN
    where nothing is known.
    """

    series: Series
    name: str
    at: Reals
    values: Reals
    tried: Tried
    absent: Sequence[tuple[float, float]]
    worst: float

    @property
    def told(self) -> int:
        return self.tried.fired + len(self.absent)


@dataclass(frozen=True, slots=True, eq=False)
class Trial:
    """A rule on what happened. covers: things that it looks at, of which it was tried on some; those that it
    would have told most of first. others: limits beside its own, and how often it would have told by them.
    seconds: that each sample stands for. message: what it would have sent last; None where nothing.
    """

    covers: int
    found: list[OnOne]
    others: list[tuple[float, int]]
    seconds: float
    since: float
    until: float
    message: Message | None

    @property
    def told(self) -> int:
        return sum(one.told for one in self.found)

    @property
    def held_back(self) -> int:
        return sum(one.tried.held_back for one in self.found)


def try_rule(view: SiteView, rule: Rule, over: Over) -> Trial:
    """Raises NotPossible where the rule is none."""
    check(rule)
    things = covered(view, rule.of, rule.chosen)
    interval = float(over.point or over.span or settings().sample_seconds)
    with transaction() as session:
        until = samples.now(session)
        since = until - timedelta(seconds=over.seconds)
        chosen = _furthest_out(session, rule, things)
        found = [_on_one(session, view, rule, one, over, interval, since, until) for one in chosen]
    found.sort(key=lambda one: (-one.told, -_how_far(rule, one.worst), one.name))
    others = []
    if rule.bounds is not None:
        known = [value for one in found for value in one.values.tolist()]
        for limit in other_limits(rule.bounds, known):
            bounds = rule.bounds.at_limit(limit)
            each = (tried(bounds, one.at.tolist(), one.values.tolist(), interval) for one in found)
            others.append((limit, sum(one.fired for one in each)))
    return Trial(
        covers=len(things),
        found=found,
        others=others,
        seconds=interval,
        since=begins(found[0].at if found else np.zeros(0), interval, over, until.timestamp()),
        until=until.timestamp(),
        message=_last_message(view, rule, found, until.timestamp()),
    )


def _how_far(rule: Rule, value: float) -> float:
    """How far a figure is beyond the limit of a rule; the further within, the less."""
    if math.isnan(value) or rule.bounds is None:
        return -math.inf
    beyond = value - rule.bounds.limit
    return beyond if rule.bounds.way is Way.ABOVE else -beyond


def _furthest_out(session: Session, rule: Rule, things: Sequence[Series]) -> Sequence[Series]:
    """Where a rule looks at more than it is tried on: those whose figures are furthest out now."""
    if len(things) <= MOST_TRIED:
        return things
    series, rows = samples.newest(session, rule.of)
    values = dict(zip(series, figures_of(rule.metric, rows).tolist(), strict=True))
    far = sorted(things, key=lambda one: -_how_far(rule, values.get(one, math.nan)))
    return far[:MOST_TRIED]


def _on_one(
    session: Session,
    view: SiteView,
    rule: Rule,
    series: Series,
    over: Over,
    interval: float,
    since: datetime,
    until: datetime,
) -> OnOne:
    at, rows = samples.of_series(session, series, over.span, since)
    if over.point and len(at):
        at, rows = in_points(at, rows, over.point)
    values = figures_of(rule.metric, rows)
    listed = at.tolist()
    result = Tried(())
    if rule.bounds is not None:
        result = tried(rule.bounds, listed, values.tolist(), interval)
    absent: list[tuple[float, float]] = []
    if rule.absent is not None and listed:
        longest = max(rule.absent, 2 * interval)  # a shorter silence does not show in what was condensed
        absent = absences(listed, longest, listed[0], until.timestamp() - interval)
    known = values[~np.isnan(values)]
    worst = math.nan
    if rule.bounds is not None:
        for value in known.tolist():
            worst = rule.bounds.worse(worst, value)
    return OnOne(series, name_of(view, series), at, values, result, absent, worst)


def _last_message(view: SiteView, rule: Rule, found: Sequence[OnOne], now: float) -> Message | None:
    """What would have been sent of the thing that is drawn."""
    if not found or not found[0].told:
        return None
    one = found[0]
    fired = [episode for episode in one.tried.episodes if episode.fired is not None]
    if fired:
        last = fired[-1]
        assert last.fired is not None
        alert = Alert(rule, one.series, one.name, False, last.since, last.worst, last.worst)
        moment = last.fired
    else:
        begun, _ = one.absent[-1]
        alert = Alert(rule, one.series, one.name, True, begun - (rule.absent or 0.0))
        moment = begun
    cause = Cause(Of.THING, one.series.number, one.series.of.value, one.series.part)
    return told(view, Event.FIRED, cause, [alert], now=min(moment, now))


# Routes. -------------------------------------------------------------------------------------------------


def save_route(
    actor: Actor, number: int, name: str, kind: str, target: str, least: Severity, usual: bool
) -> str:
    """Makes a route (number 0), or alters one; the secret of a webhook that is new, to be shown once, else
    nothing. Raises NotFound, NotPossible, Conflict.
    """
    _check_target(kind, target)
    try:
        with transaction() as session:
            row = kept.route(session, number) if number else None
            if number and row is None:
                raise NotFound("There is no such route any more.", about="route")
            secret = ""
            if kind == "webhook" and (row is None or row.kind != kind):
                secret = fresh_secret(SECRET_BYTES)
            columns = {"name": name, "kind": kind, "target": target, "least": least.value, "usual": usual}
            if secret:
                columns["sealed"] = seal(secret)
            if row is None:
                row = kept.add_route(session, **columns)
            else:
                for column, value in columns.items():
                    setattr(row, column, value)
                session.flush()
            if usual:
                kept.only_usual(session, row.id)
            doing = "is altered" if number else "is made"
            records.note(session, actor, f"The route '{name}' {doing}: {kind} to {target}.")
            tell(session, "alerts")
            return secret
    except IntegrityError as error:
        raise Conflict(f"Another route is called '{name}' already.", about="name") from error


def _check_target(kind: str, target: str) -> None:
    """Raises NotPossible."""
    if kind == "mail":
        local, at, domain = target.rpartition("@")
        if not at or not local or not domain or any(c.isspace() or c in ",;<>" for c in target):
            raise NotPossible(f"'{target[:80]}' is no address for mail.", about="target")
        return
    try:
        parts = urlsplit(target)
        _ = parts.port
    except ValueError as error:
        raise NotPossible(f"'{target[:80]}' is no web address.", about="target") from error
    if (
        parts.scheme not in ("http", "https")
        or not parts.hostname
        or not target.isprintable()
        or " " in target
    ):
        raise NotPossible(f"'{target[:80]}' is no web address (http or https).", about="target")


def delete_route(actor: Actor, number: int) -> None:
    """With the record of what was sent to it. Raises NotFound."""
    with transaction() as session:
        row = _route(session, number)
        kept.delete_route(session, number)
        records.note(session, actor, f"The route '{row.name}' is deleted.")
        tell(session, "alerts")


def try_route(actor: Actor, number: int) -> str:
    """Sends a test; why it was not taken, empty where it was. Raises NotFound."""
    with transaction() as session:
        row = _route(session, number)
        records.note(session, actor, f"A test was sent by the route '{row.name}'.")
        name = row.name
    when = datetime.now(UTC).strftime("%H:%M:%S UTC on %d %B")
    text = f"{actor} sent this at {when} to see whether it arrives by the route '{name}'. Nothing is wrong.\n"
    return send_test(number, "Test: word from Fold Barn arrives", text)


def _route(session: Session, number: int) -> RouteRow:
    row = kept.route(session, number)
    if row is None:
        raise NotFound("There is no such route any more.", about="route")
    return row


def set_mail_server(
    actor: Actor,
    *,
    host: str,
    port: int,
    sender: str,
    encrypted: bool,
    trusted: str,
    account: str,
    password: str | None,
) -> None:
    """password: None to keep the one there is. Raises NotPossible."""
    if account and not encrypted:
        words = "A password is sent over an encrypted connection only."
        raise NotPossible(words, about="encrypted", next_step="Ask for encryption, or leave the account out.")
    _check_target("mail", sender)
    with transaction() as session:
        before = kept.mail_server(session)
        sealed = "" if before is None else before.sealed
        if password is not None:
            sealed = seal(password) if password else ""
        if account and not sealed:
            raise NotPossible("Signing in takes a password.", about="password")
        kept.set_mail_server(
            session,
            host=host,
            port=port,
            sender=sender,
            encrypted=encrypted,
            trusted=trusted,
            account=account,
            sealed=sealed if account else "",
        )
        records.note(session, actor, f"Mail is sent by {host}, port {port}, as {sender}.")
        tell(session, "alerts")


# What people do about alerts. ----------------------------------------------------------------------------


def see(actor: Actor, number: int) -> None:
    """Somebody sees to an incident: nothing more is told of it but that it is over. Raises NotFound, and
    Conflict where somebody else does already, or it is over.
    """
    with transaction() as session:
        row = _open(session, number)
        if row.seen_by is not None:
            raise Conflict(f"{row.seen_by} sees to it already.", about="incident")
        row.seen_by, row.seen_at = str(actor), datetime.now(UTC)
        records.note(session, actor, f"{actor} sees to '{row.headline}'.")
        tell(session, "alerts")


def silence(actor: Actor, number: int, seconds: float) -> None:
    """Nothing is told of an incident for so long; 0: it is told of again. Raises NotFound, NotPossible,
    Conflict where it is over.
    """
    lasts = timedelta(seconds=seconds)
    if not timedelta(0) <= lasts <= LONGEST_SILENCE:
        raise NotPossible("Silence lasts for up to seven days.", about="seconds")
    with transaction() as session:
        row = _open(session, number)
        row.silent_until = datetime.now(UTC) + lasts if lasts else None
        until = row.silent_until.strftime("%H:%M UTC on %d %B") if row.silent_until else ""
        doing = (
            f"Nothing is told of '{row.headline}' until {until}."
            if until
            else f"'{row.headline}' is told of."
        )
        records.note(session, actor, doing)
        tell(session, "alerts")


def _open(session: Session, number: int) -> IncidentRow:
    row = kept.incident(session, number)
    if row is None:
        raise NotFound("There is no such incident.", about="incident")
    if row.ended is not None:
        raise Conflict(f"'{row.headline}' is over.", about="incident")
    return row
