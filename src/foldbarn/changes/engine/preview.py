"""What a change would do, said before it is done."""

from __future__ import annotations

import hashlib
from dataclasses import asdict
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from foldbarn.core.arranging import LevelEffect
from foldbarn.core.capacity import LEDGER_GROWS, LEDGER_LABELS, Ledger
from foldbarn.core.errors import BarnError
from foldbarn.core.figures import Figure


class Note(BaseModel):
    """A sentence, the field it is about, and what would help."""

    sentence: str
    about: str | None = None
    next_step: str | None = None

    @classmethod
    def of(cls, error: BarnError) -> Note:
        return cls(sentence=error.sentence, about=error.about, next_step=error.next_step)


class PlannedStep(BaseModel):
    """One step. seconds: an estimate, None when it takes no time worth naming; until here the change can be
    called off.
    """

    name: str
    title: str
    detail: str = ""
    seconds: float | None = None
    can_withdraw: bool = True


class Row(BaseModel):
    """One effect: before and after."""

    label: str
    before: Figure | None = None
    after: Figure | None = None


class LedgerPart(BaseModel):
    name: str
    label: str
    bytes: int
    grows: bool


class LedgerOut(BaseModel):
    """The account of raw bytes; the parts add up to raw, to the byte."""

    name: str
    raw: int
    parts: list[LedgerPart]

    @classmethod
    def of(cls, name: str, ledger: Ledger) -> LedgerOut:
        parts = [
            LedgerPart(name=part, label=LEDGER_LABELS[part], bytes=amount, grows=part in LEDGER_GROWS)
            for part, amount in ledger.rows()
        ]
        return cls(name=name, raw=ledger.raw, parts=parts)


class DomainRow(BaseModel):
    """One fault domain: bytes it has, takes with this change, and cannot use because the domains are
    uneven.
    """

    name: str
    room: int
    takes: int
    stranded: int


class TextRow(BaseModel):
    """One effect in words: before and after; about is the node, disk or place it concerns."""

    label: str
    before: str = ""
    after: str = ""


class CheckRow(BaseModel):
    """One precheck with what would cure it."""

    name: str
    result: Literal["pass", "doubt", "fail"]
    sentence: str
    cure: str = ""
    about: str = ""


class LossRow(BaseModel):
    """What losing one thing would do to the vote."""

    what: str
    votes_lost: int
    votes_left: int
    decides: bool


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


class FlowRow(BaseModel):
    """Bytes that move from one fault domain to another; the source is empty for what lies nowhere."""

    source: str
    target: str
    bytes: int


class CapacityRow(BaseModel):
    """A pool's room, in bytes, once a step is done."""

    after: str
    pool: str
    raw: int
    usable: int
    free: int


# What differs from look to look while strips are on their way.
MOVES_ALTER = (
    "summary",
    "rows",
    "ledgers",
    "domains",
    "arriving",
    "leaving",
    "flows",
    "moves_bytes",
    "bottleneck",
    "capacity",
    "steps",
)


class Preview(BaseModel):
    """Steps and effects of a change as the site stands at `revision`. `digest` is the same while nothing that
    matters has changed.
    """

    model_config = ConfigDict(json_schema_serialization_defaults_required=True)

    kind: str
    title: str
    summary: str
    revision: int
    digest: str = ""
    steps: list[PlannedStep]
    rows: list[Row] = Field(default_factory=list)
    ledgers: list[LedgerOut] = Field(default_factory=list)
    domains: list[DomainRow] = Field(default_factory=list)
    domain_level: str = ""
    roles: list[RoleRow] = Field(default_factory=list)
    endurance: list[str] = Field(default_factory=list)  # how long flash lasts, whole sentences
    flows: list[FlowRow] = Field(default_factory=list)
    capacity: list[CapacityRow] = Field(default_factory=list)  # as it is, and after each step that changes it
    disks: list[str] = Field(default_factory=list)  # that are to leave
    # bytes by name, of disks that are to be taken: they must still have them
    disk_sizes: dict[str, int] = Field(default_factory=dict)
    arriving: dict[str, int] = Field(default_factory=dict)  # bytes by disk name
    leaving: dict[str, int] = Field(default_factory=dict)
    moves_bytes: int = 0
    seconds: float | None = None
    bottleneck: str = ""
    protection: str = ""
    texts: list[TextRow] = Field(default_factory=list)
    checks: list[CheckRow] = Field(default_factory=list)
    losses: list[LossRow] = Field(default_factory=list)
    levels_before: list[LevelRow] = Field(default_factory=list)
    levels_after: list[LevelRow] = Field(default_factory=list)
    undo: dict[str, Any] | None = None  # kind and params of the change that takes this one back
    type_to_confirm: str = ""  # what a person must type before it is carried out, where it destroys something
    warnings: list[Note] = Field(default_factory=list)
    blockers: list[Note] = Field(default_factory=list)

    def sealed(self, moving: bool = False) -> Preview:
        """With its digest. moving: strips are on their way at this moment, so that bytes by disk and by
        domain differ from look to look without the change doing anything else; a preview that is being read
        must not be outdated by that."""
        said = _lasting(
            self.model_dump(exclude={"revision", "digest", "seconds", *(MOVES_ALTER if moving else ())})
        )
        if moving:
            said["capacity"] = [(c.after, c.pool, c.raw) for c in self.capacity]
            said["steps"] = [step.name for step in self.steps]
        return self.model_copy(update={"digest": hashlib.sha256(repr(said).encode()).hexdigest()[:24]})


def _lasting(said: Any) -> Any:
    """Without the lines of sums that grow by themselves."""
    if isinstance(said, dict):
        return {key: _lasting(value) for key, value in said.items()}
    if isinstance(said, list | tuple):
        return [_lasting(value) for value in said if not (isinstance(value, dict) and value.get("grows"))]
    return said
