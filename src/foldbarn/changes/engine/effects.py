"""What a change does to the site and to those who use it, as a person reads it before the change is carried
out: one class for each kind of effect, told apart by `effect`.
"""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from foldbarn.core.errors import BarnError
from foldbarn.core.figures import Figure
from foldbarn.core.machines.arranging import LevelEffect
from foldbarn.core.pools.printing import PrintedLedger


class Note(BaseModel):
    """A sentence, the field or thing it is about, and what would help.

    code: which note this is, whatever its figures. A warning has one: by its code a preview knows that it
    warns of the same as before; and so has what is no fault of the wish (UNCHANGED). check: its check says
    the same.
    """

    sentence: str
    about: str | None = None
    next_step: str | None = None
    code: str = ""
    check: bool = False

    @classmethod
    def of(cls, error: BarnError) -> Note:
        return cls(sentence=error.sentence, about=error.about, next_step=error.next_step)


UNCHANGED = "unchanged"  # the wish is what stands already: it is not begun, rather than wrong


def unchanged(about: str) -> Note:
    """What stands against a wish that would change nothing."""
    return Note(sentence="Nothing would be different.", about=about, code=UNCHANGED)


def warning(code: str, sentence: str, *, about: str | None = None, next_step: str | None = None) -> Note:
    """What a person should know before it is carried out; `about` tells several of one code apart."""
    return Note(sentence=sentence, about=about, next_step=next_step, code=code)


class Effect(BaseModel):
    """What a change does to one side of the site."""

    model_config = ConfigDict(json_schema_serialization_defaults_required=True)


class Row(BaseModel):
    """A figure before and after."""

    label: str
    before: Figure | None = None
    after: Figure | None = None


class Sums(Effect):
    """Figures before and after. pool: of which, where there may be several."""

    effect: Literal["sums"] = "sums"
    pool: str = ""
    rows: list[Row]


class Ledgers(Effect):
    """Where each byte of a pool goes, as it would be and as it is."""

    effect: Literal["ledgers"] = "ledgers"
    ledgers: list[PrintedLedger]


class DomainRow(BaseModel):
    """One fault domain: bytes it has, takes with this change, and cannot use because the domains are
    uneven.
    """

    name: str
    room: int
    takes: int
    stranded: int


class Domains(Effect):
    """What each fault domain gives. title: of the column `takes`."""

    effect: Literal["domains"] = "domains"
    level: str
    title: str = "Takes"
    rows: list[DomainRow]


class RoleRow(BaseModel):
    """The role one disk takes, and why. bound_to: the cache device that serves it; serves: how many disks it
    serves.
    """

    disk: str
    node: str
    media: str  # class, in words
    size_bytes: int
    role: str
    tier: str
    reason: str
    by_rule: str
    overridden: bool
    bound_to: str = ""
    serves: int = 0


class Roles(Effect):
    """What each disk becomes."""

    effect: Literal["roles"] = "roles"
    rows: list[RoleRow]


class Endurance(Effect):
    """How long flash lasts, in whole sentences."""

    effect: Literal["endurance"] = "endurance"
    sentences: list[str]


class OnDisks(Effect):
    """Bytes that come to disks and leave them, by disk name."""

    effect: Literal["on-disks"] = "on-disks"
    arriving: dict[str, int] = Field(default_factory=dict)
    leaving: dict[str, int] = Field(default_factory=dict)


class FlowRow(BaseModel):
    """Bytes that move from one fault domain to another; the source is empty for what lies nowhere."""

    source: str
    target: str
    bytes: int


class Moved(Effect):
    """Strips that move: bytes, seconds at the least, what holds them up, and between which domains."""

    effect: Literal["moved"] = "moved"
    bytes: int
    seconds: float
    bottleneck: str
    level: str
    flows: list[FlowRow]


class CapacityRow(BaseModel):
    """A pool's room, in bytes, once a step is done."""

    after: str
    pool: str
    raw: int
    usable: int
    free: int


class Capacity(Effect):
    """A pool's room as it is, and after each step that changes it."""

    effect: Literal["capacity"] = "capacity"
    rows: list[CapacityRow]


class TextRow(BaseModel):
    """One effect in words: before and after; label is the node, disk or place it concerns."""

    label: str
    before: str = ""
    after: str = ""


class Texts(Effect):
    """Effects in words. heads: of the three columns."""

    effect: Literal["texts"] = "texts"
    heads: list[str] = Field(default_factory=lambda: ["", "Before", "After"])
    rows: list[TextRow]


class CheckRow(BaseModel):
    """One precheck with what would cure it."""

    name: str
    result: Literal["pass", "doubt", "fail"]
    sentence: str
    cure: str = ""
    about: str = ""


class Checks(Effect):
    """What was looked at before."""

    effect: Literal["checks"] = "checks"
    rows: list[CheckRow]


class LossRow(BaseModel):
    """What losing one thing would do to the vote."""

    what: str
    votes_lost: int
    votes_left: int
    decides: bool


class Votes(Effect):
    """Which losses leave a majority."""

    effect: Literal["votes"] = "votes"
    rows: list[LossRow]


class LevelRow(BaseModel):
    """A level of fault domain before or after: domains, smallest and largest in bytes, bytes stranded for two
    and three copies (null: too few domains).
    """

    level: str
    domains: int
    smallest: int
    smallest_name: str
    largest: int
    largest_name: str
    stranded_two: int | None
    stranded_three: int | None

    @classmethod
    def of(cls, effect: LevelEffect) -> LevelRow:
        return cls(**{**asdict(effect), "level": effect.level.value})


class Levels(Effect):
    """The levels of fault domain before and after; `after` is empty where nothing can be said of it."""

    effect: Literal["levels"] = "levels"
    before: list[LevelRow]
    after: list[LevelRow]


class Promise(Effect):
    """What holds meanwhile and afterwards, in a sentence."""

    effect: Literal["promise"] = "promise"
    title: str = "Protection"
    sentence: str


class AgainstRow(BaseModel):
    """What stands against a pool, and what would change it."""

    wish: str
    sentence: str
    cure: str


class PoolAnswerRow(BaseModel):
    """What a pool says to a policy. room: bytes that a new volume may have there; null where that was not
    asked. cache: how its cache would take what is written, where that is to wait there.
    """

    pool: str
    keeps: bool
    room: int | None
    against: list[AgainstRow]
    cache: list[str] = Field(default_factory=list)


class PoolAnswers(Effect):
    """Which pools can keep a policy, and why others cannot."""

    effect: Literal["pool-answers"] = "pool-answers"
    rows: list[PoolAnswerRow]


AnyEffect = Annotated[
    Sums
    | Ledgers
    | Domains
    | Roles
    | Endurance
    | OnDisks
    | Moved
    | Capacity
    | Texts
    | Checks
    | Votes
    | Levels
    | PoolAnswers
    | Promise,
    Field(discriminator="effect"),
]
