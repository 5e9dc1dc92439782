"""Policies: what is asked and answered."""

from __future__ import annotations

from pydantic import BaseModel

from foldbarn.api.changes.models import ChangeLine
from foldbarn.changes.engine.effects import PoolAnswerRow
from foldbarn.changes.kinds.policies.save_policy import SavePolicyParams
from foldbarn.core.figures import Figure
from foldbarn.core.policies.conformance import Standing
from foldbarn.core.pools.protection import Level


class StandingOut(BaseModel):
    """How a volume stands to the version of the policy that it keeps."""

    policy: str
    version: int
    newest: int
    standing: Standing
    sentence: str
    cure: str  # what would mend it, where it is broken


class UserOut(StandingOut):
    volume: str
    pool: str


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


class BenchRowOut(BaseModel):
    """One scheme on a pool's disks. Where it cannot be held, against and cure say why and what would help."""

    counted: str
    level: str
    k: int
    m: int
    usual: bool
    against: str
    cure: str
    usable: Figure | None
    takes: Figure
    survives: dict[Level, int]
    needs: int
    to_heal: int
    small_write: WorkOut
    large_write: WorkOut
    read_short: WorkOut
    repair_disk: RemadeOut | None
    repair_node: RemadeOut | None
    chance: str


class BenchOut(BaseModel):
    """Schemes side by side on the disks of a pool."""

    pool: str
    level: Level
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
    volumes: dict[Standing, int]
    answers: list[PoolAnswerRow]


class PolicyPage(PolicyOut):
    """Everything told of one policy. params: what a new version of it begins with."""

    versions: list[VersionOut]
    users: list[UserOut]
    params: SavePolicyParams
    history: list[ChangeLine]
