"""Watch rules, alerts and routes: what is asked and answered. Moments are seconds since 1970, figures in the
units of core.watch.metrics.Unit.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from foldbarn.api.bodies import Body, StateOut
from foldbarn.api.samples.models import Time
from foldbarn.core.watch.messages import Event
from foldbarn.core.watch.metrics import Metric, Unit
from foldbarn.core.watch.rules import Severity, Way
from foldbarn.core.watch.samples import Sampled
from foldbarn.core.watch.states import Lamp

Name = Annotated[str, Field(min_length=1, max_length=80, pattern=r"^\S(.*\S)?$")]
Finite = Annotated[float, Field(allow_inf_nan=False)]
Minute = Annotated[int, Field(ge=0, lt=24 * 60)]


class BoundsBody(Body):
    """hold: seconds for which a breach must last before it counts."""

    way: Way = Way.ABOVE
    limit: Finite = Field(ge=0, le=1e18)
    clear: Finite = Field(ge=0, le=1e18)
    hold: Finite = Field(default=0.0, ge=0, le=86_400)


class QuietBody(Body):
    """Minutes since midnight UTC."""

    begins: Minute
    ends: Minute


class WatchRuleIn(Body):
    """A watch rule. names: of the things that it looks at, of a port the node's; none for all of them, or all
    of a pool or a namespace. absent: seconds without word of a thing after which that is told. route: by
    number; none for the usual one.
    """

    name: Name
    of: Sampled
    metric: Metric
    bounds: BoundsBody | None = None
    names: list[str] = Field(default=[], max_length=200)
    pool: str = Field(default="", max_length=200)
    namespace: str = Field(default="", max_length=200)
    absent: Finite | None = Field(default=None, ge=0, le=86_400)
    severity: Severity = Severity.NOTICE
    quiet: QuietBody | None = None
    route: int | None = Field(default=None, ge=1, le=2**63 - 1)
    on: bool = True


class WatchRuleOut(BaseModel):
    """A rule as it stands. sentence: what it looks for; firing, pending: things of which it is so now;
    covers: things that it looks at.
    """

    number: int
    wish: WatchRuleIn
    sentence: str
    covers: int
    firing: int
    pending: int


class MetricOut(BaseModel):
    """What may be watched: of which things, in which unit, a limit to begin with."""

    metric: Metric
    words: str
    unit: Unit
    of: list[Sampled]
    usual: float


class RulesOut(BaseModel):
    rules: list[WatchRuleOut]
    metrics: list[MetricOut]


class TrialIn(Body):
    """A rule to be tried on what happened over a time."""

    rule: WatchRuleIn
    over: Time = "day"


class SpanOut(BaseModel):
    """From when until when; none while it goes on. fired: from when on it would have been told of."""

    since: float
    fired: float | None
    ended: float | None


class TriedOut(BaseModel):
    """What a rule would have found of one thing. worst: none where nothing is known."""

    name: str
    told: int
    held_back: int
    worst: float | None
    consumers: list[str]
    carriers: list[str]


class OtherOut(BaseModel):
    """How often it would have told by another limit."""

    limit: float
    words: str
    told: int


class TrialOut(BaseModel):
    """A rule on what happened. covers: things that it looks at; things: those that it was tried on, those
    that it would have told most of first; drawn: the first of them, with its samples: at, values, and pieces
    (from and up to) between which none is missing. message: the last that would have been sent.
    """

    sentence: str
    unit: Unit
    covers: int
    tried: int
    told: int
    held_back: int
    others: list[OtherOut]
    things: list[TriedOut]
    drawn: str
    since: float
    until: float
    seconds: float
    at: list[float]
    values: list[float | None]
    pieces: list[list[int]]
    spans: list[SpanOut]
    gaps: list[list[float]]
    subject: str
    text: str


class AlertOut(BaseModel):
    """An alert. link: the kind of page that the thing has, thing: its name there; said: how it is with it."""

    rule: str
    rule_number: int
    metric: Metric
    kind: Sampled
    name: str
    thing: str
    absent: bool
    since: float
    fired: float | None
    ended: float | None
    said: str
    why: str
    consumers: list[str]
    carriers: list[str]


class IncidentOut(BaseModel):
    """Alerts with a cause in common. alerts, left: how many there are, and of how many it is still so. told:
    somebody was, and the message taken.
    seen_by: who sees to it; silent_until: nothing is told of it before.
    """

    number: int
    headline: str
    severity: Severity
    cause: str
    begun: float
    ended: float | None
    alerts: int
    left: int
    told: bool
    seen_by: str
    seen_at: float | None
    silent_until: float | None


class MessageOut(BaseModel):
    """What was or is to be sent. state: of it, in a word; problem: why it was not taken yet."""

    number: int
    to: str
    event: Event
    subject: str
    text: str
    state: Literal["waiting", "sending", "sent", "given up"]
    tries: int
    problem: str
    made: float
    sent: float | None
    incident: int | None


class NamedOut(BaseModel):
    name: str
    state: StateOut


class KindHealthOut(BaseModel):
    """Things of a kind by their lamps, those of which there are any; and the worst that are not sound."""

    kind: str
    counts: dict[Lamp, int]
    worst: list[NamedOut]


class WatchOut(BaseModel):
    """health: of everything, by kind; losses: of each pool, what of it could be lost now and still be made
    whole. nobody: why nobody is told anything; empty where somebody is. stuck: messages that are tried
    again or were given up lately. recent_days: for which what is over is shown; tried_days: for which a
    message is tried.
    """

    open: list[IncidentOut]
    over: list[IncidentOut]
    rules: int
    pending: int
    recent_days: int
    tried_days: float
    health: list[KindHealthOut]
    losses: list[NamedOut]
    nobody: str
    stuck: list[MessageOut]


class IncidentPage(BaseModel):
    incident: IncidentOut
    alerts: list[AlertOut]
    messages: list[MessageOut]


class SilenceIn(Body):
    """0: it is told of again."""

    seconds: float = Field(ge=0, le=7 * 86_400, allow_inf_nan=False)


class RouteIn(Body):
    """To whom alerts are told. target: an address for mail, or the URL of a webhook; least: the severity from
    which on; usual: for all rules that name no route.
    """

    name: Name
    kind: Literal["mail", "webhook"] = "mail"
    target: str = Field(min_length=3, max_length=400)
    least: Severity = Severity.NOTICE
    usual: bool = True


class RouteOut(BaseModel):
    number: int
    wish: RouteIn
    rules: list[str]  # that name it


class MailServerIn(Body):
    """Which server takes mail. encrypted: nothing is said to it otherwise; trusted: certificates (PEM) by
    which it is known, beside those of this machine. password: none to keep the one there is.
    """

    host: str = Field(min_length=1, max_length=253, pattern=r"^[A-Za-z0-9.:_-]+$")
    port: int = Field(default=25, ge=1, le=65_535)
    sender: str = Field(min_length=3, max_length=254)
    encrypted: bool = False
    trusted: str = Field(default="", max_length=100_000)
    account: str = Field(default="", max_length=200)
    password: str | None = Field(default=None, max_length=400)


class MailServerOut(BaseModel):
    """chosen: a person has said so; else it is that of the settings, or none (empty)."""

    chosen: bool
    host: str
    port: int
    sender: str
    encrypted: bool
    trusted: str
    account: str


class RoutesOut(BaseModel):
    routes: list[RouteOut]
    mail: MailServerOut
    messages: list[MessageOut]


class MadeOut(BaseModel):
    """secret: of a new webhook, by which what is sent to it is signed; shown this once."""

    secret: str


class SentOut(BaseModel):
    """problem: why a test was not taken; empty where it was."""

    problem: str
