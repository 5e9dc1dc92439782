"""Policies: what is asked and answered."""

from __future__ import annotations

from enum import StrEnum

from pydantic import BaseModel, Field

from foldbarn.api.bodies import Body
from foldbarn.api.changes.models import ChangeLine
from foldbarn.api.pools.models import Variant
from foldbarn.changes.engine.effects import PoolAnswerRow
from foldbarn.changes.kinds.policies.save_policy import SavePolicyParams
from foldbarn.core.figures import Figure
from foldbarn.core.policies.conformance import Standing
from foldbarn.core.policies.performance import Load
from foldbarn.core.pools.protection import Level
from foldbarn.core.watch.states import Lamp

DEFAULT_LOAD = Load()


class StandingOut(BaseModel):
    """How a volume stands to the version of the policy that it keeps."""

    policy: str
    version: int
    newest: int
    standing: Standing
    lamp: Lamp
    sentence: str
    cure: str  # what would mend it, where it is broken


class StandOut(BaseModel):
    """How many volumes stand to a policy in one way."""

    standing: Standing
    lamp: Lamp
    count: int


class UserOut(StandingOut):
    """binned: whether it is in the bin; mended_by: numbers of the changes that carry strips of it now."""

    volume: str
    pool: str
    binned: bool
    mended_by: list[int]


class Compared(StrEnum):
    """What is measured of a volume and was to be expected."""

    OPERATIONS = "operations"
    MEAN = "mean"
    LATE = "late"
    DISK_OPERATIONS = "disk operations"
    DISK_BYTES = "disk bytes"
    CACHED = "cached"
    SERVED = "served"
    RISEN = "risen"


class ComparedOut(BaseModel):
    """One figure as measured lately and as it was to be expected; null where that is not known. of:
    operations done in a second; seconds of an operation on average (mean) or for 99 of 100 (late); operations
    on disks for one of a consumer's; bytes written to disks for one written; the share of reads, 0 to 1, that
    cache devices or memory serve (cached); the share of what is asked, 0 to 1, that the fast tier takes for
    its heat (served); extents that lie there (risen). off: by how much it is more, as a part of what was to
    be expected, or for shares their difference; why: it is not known.
    """

    of: Compared
    measured: float | None
    expected: float | None
    off: float | None
    why: str = ""


class MeasuredOut(BaseModel):
    """What a volume that keeps a policy is asked for, as its nodes tell: operations a second lately, with
    what was held back, the most that it may be asked for, and how it fares beside what was to be expected
    under that.
    """

    volume: str
    asked_per_second: float | None
    most_operations: int | None
    compared: list[ComparedOut]


class VersionOut(BaseModel):
    """What a policy said in one version, and how many volumes keep it."""

    version: int
    promise: str
    volumes: int


class OpposedOut(BaseModel):
    """What stands against a volume keeping a policy."""

    volume: str
    sentence: str
    cure: str


class AdoptionOut(BaseModel):
    """A policy as some volumes might come to keep it. unchanged: they all do; writes: bytes that takes, and
    seconds at the least; anew: those that are written anew.
    """

    policy: str
    version: int
    promise: str
    unchanged: bool
    writes: int
    seconds: float
    anew: list[str]
    against: list[OpposedOut]


class WorkOut(BaseModel):
    """Operations on disks for one of a consumer's."""

    reads: float
    writes: float


class RemadeOut(BaseModel):
    """How long until all that was lost is there again. waits: of that for a replacement, seconds: the others
    have no place for it.
    """

    seconds: float
    waits: float


class SpeedOut(BaseModel):
    """Operations in a second at the most, what limits them (disks or ports), and seconds of one at the load
    asked for, on average and for 99 of 100; null where the load is more than that.
    """

    most: float
    limit: str
    mean: float | None
    late: float | None


class CloserOut(BaseModel):
    """The same strips, more of them in one domain. key: as it is pinned by; apart: how they lie, in words."""

    key: str
    apart: str


class LifeOut(BaseModel):
    """How long fast media last under the load: years, null for ever; lasts: as long as is usual, at least."""

    years: float | None
    lasts: bool
    sentence: str


class BenchRowOut(BaseModel):
    """One scheme on a pool's disks. Where it cannot be held, against and cure say why and what would help,
    and closer is a scheme that can be. key: names it among all, as it is pinned by.
    """

    key: str
    pool: str
    counted: str
    level: str
    k: int
    m: int
    per_domain: int
    closer: CloserOut | None
    usual: bool
    against: str
    cure: str
    usable: Figure | None
    takes: Figure
    survives: dict[Level, int]
    needs: int
    to_heal: int
    small_write: WorkOut
    landed: WorkOut | None  # the same where it lands first
    large_write: WorkOut
    read_short: WorkOut
    repair_disk: RemadeOut | None
    repair_node: RemadeOut | None
    chance: str
    speed: SpeedOut | None
    life: LifeOut | None


class LoadIn(BaseModel):
    """What consumers ask of a whole pool: operations in a second, the share of them that read, and bytes of
    each.
    """

    load: float = DEFAULT_LOAD.operations_per_second
    reads: float = DEFAULT_LOAD.reads
    block: int = DEFAULT_LOAD.block_bytes

    def meant(self) -> Load:
        """Raises NotPossible."""
        return Load(self.load, self.reads, self.block)


class BenchIn(LoadIn):
    """Which schemes are laid side by side: all of a pool at a level, beside those that are pinned."""

    pool: str
    level: Level
    pin: list[str] = Field(default_factory=list, max_length=20)


class PaperIn(LoadIn, Body):
    """Machines on paper whose schemes are laid side by side at a level."""

    plan: Variant
    level: Level


class BenchOut(BaseModel):
    """Schemes side by side on the disks of a pool, and those that were pinned, of any pool and level."""

    pool: str
    level: Level
    load: LoadIn
    pinned: list[BenchRowOut]
    rows: list[BenchRowOut]
    left_out: str


class PolicyOut(BaseModel):
    """A policy as it says now. counted: its strips in words; answers: what every pool says to it."""

    name: str
    version: int
    meant_for: str
    promise: str
    counted: str
    level: str
    survives: int
    fast: bool
    encrypted: bool
    draft: bool
    volumes: list[StandOut]  # none of which there are none
    answers: list[PoolAnswerRow]


class PolicyPage(PolicyOut):
    """Everything told of one policy. params: what a new version of it begins with."""

    versions: list[VersionOut]
    users: list[UserOut]
    params: SavePolicyParams
    history: list[ChangeLine]


class PolicyTextIn(Body):
    """A policy as text."""

    text: str = Field(max_length=100_000)


class PolicyTextOut(BaseModel):
    """A policy as text; reading it gives the same wishes again."""

    text: str
