"""Pools: what is asked and answered."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from foldbarn.api.bodies import Body, StateOut
from foldbarn.changes.engine.effects import RoleRow
from foldbarn.core.figures import Figure
from foldbarn.core.pools.printing import PrintedLedger
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.pools.repair import Repair
from foldbarn.core.pools.sizing import Settings
from foldbarn.core.site import Tier


class DomainUse(BaseModel):
    """One domain of a pool: raw bytes for strips, taken, and stranded."""

    name: str
    room: int
    used: int
    stranded: int


class PoolOut(BaseModel):
    name: str
    state: StateOut
    worst: StateOut
    forming: bool
    copies: int
    level: str
    protection: str
    extent_bytes: int
    disks: int
    nodes: list[str]
    volumes: list[str]
    full: float
    fill_line: float
    free: Figure
    usable_bytes: int
    roles: dict[str, int]  # disks by role
    tiers: list[Tier]  # that it has disks for, bulk first
    encrypted: bool
    ledger: PrintedLedger
    healing: str
    filling: str  # when thin volumes will have filled it, where that is known
    domains: list[DomainUse]
    imbalance: float


class UsableOut(BaseModel):
    """What a pool would hold under one protection, in bytes; why_not where its domains do not allow it."""

    copies: int
    level: str
    words: str
    usable: int
    with_headroom: int
    heals: bool
    why_not: str
    usual: bool


class AdditionOut(BaseModel):
    """Something to buy and what it would raise usable by, in bytes."""

    what: str
    raw_bytes: int
    gain_bytes: int


class CacheLossOut(BaseModel):
    """What the failure of a cache device takes with it."""

    device: str
    disks: list[str]
    used_bytes: int
    extents: int
    unreadable: int


class HealingOut(BaseModel):
    """Whether all volumes of a pool can be made whole after any one loss at a level; null where that is not
    settled.
    """

    level: str
    holds: bool | None
    sentence: str


class SettingOut(BaseModel):
    name: str
    label: str
    value: str


class PolicyKept(BaseModel):
    """What a pool says to a policy: it keeps it, or what stands against it first."""

    policy: str
    keeps: bool
    against: str


class PoolPage(BaseModel):
    """What is told of one pool on its own page only."""

    pool: PoolOut
    fast_usable: int
    fast_free: int
    without_headroom: int
    roles: list[RoleRow]
    cache_share: float
    cache_losses: list[CacheLossOut]
    endurance: list[str]
    concerns: list[str]
    protections: list[UsableOut]
    additions: list[AdditionOut]
    heals: list[HealingOut]
    policies: list[PolicyKept]
    settings: list[SettingOut]
    params: dict[str, Any]  # what can be set, as set-pool takes it
    running: list[int]  # numbers of open changes that concern it


class SizingSettings(Body):
    """How a pool on paper would be set. Sizes in bytes, rates in bytes per second; failure_rate a year, of
    one disk.
    """

    copies: int = Field(default=3, ge=1, le=5)
    level: Level = Level.RACK
    headroom: Level | None = Level.NODE
    headroom_losses: int = Field(default=1, ge=1, le=5)
    extent_bytes: int = Field(default=2**30, ge=2**26, le=2**36)
    serves: Literal["cache", "fast tier", "capacity"] = "cache"
    fill: float = Field(default=0.85, gt=0.1, le=1.0)
    failure_rate: float | None = Field(default=None, ge=1e-6, lt=1)
    rebuild_rate: int = Field(default=0, ge=0, le=10**13)
    daily_writes: int = Field(default=0, ge=0, le=10**18)
    grace_seconds: float = Field(default=30.0, ge=1, le=7 * 86_400)
    replace_seconds: float = Field(default=2 * 86_400.0, ge=0, le=365 * 86_400)


class Variant(SizingSettings):
    """One plan of machines."""

    name: str = Field(max_length=80)
    text: str = Field(max_length=400_000)

    def meant(self) -> Settings:
        """How its pool would be set: a mirror, whose extents are one strip of data. Raises NotPossible."""
        same = self.model_dump(exclude={"name", "text", "copies", "level", "extent_bytes"})
        return Settings(scheme=mirror(self.copies, self.level), strip_bytes=self.extent_bytes, **same)


class SizingIn(Body):
    variants: list[Variant] = Field(min_length=1, max_length=3)


class RepairOut(BaseModel):
    """Until all copies are there again: seconds in all, and its parts. copying: the least that the bottleneck
    allows.
    """

    seconds: float
    noticing: float
    grace: float
    replacing: float
    copying: float
    bytes_moved: int
    bottleneck: str

    @classmethod
    def of(cls, repair: Repair | None) -> RepairOut | None:
        if repair is None:
            return None
        return cls(
            seconds=repair.seconds,
            noticing=repair.noticing,
            grace=repair.grace,
            replacing=repair.replacing,
            copying=repair.copying.seconds,
            bytes_moved=repair.copying.bytes_moved,
            bottleneck=repair.copying.bottleneck,
        )


class SizingOut(BaseModel):
    """What a plan comes to, or why it comes to nothing."""

    model_config = ConfigDict(json_schema_serialization_defaults_required=True)
    name: str
    problem: str
    next_step: str
    nodes: int = 0
    disks: int = 0
    raw: int = 0
    usable: int = 0
    without_headroom: int = 0
    ledger: PrintedLedger | None = None
    domains: list[DomainUse] = Field(default_factory=list)
    protection: str = ""
    protections: list[UsableOut] = Field(default_factory=list)
    healing: str = ""
    repair_disk: RepairOut | None = None
    repair_node: RepairOut | None = None
    chance: str = ""
    chance_inputs: str = ""
    additions: list[AdditionOut] = Field(default_factory=list)
    concerns: list[str] = Field(default_factory=list)


class SizingPage(BaseModel):
    """Variants side by side. left_out: what the chance of loss does not count."""

    variants: list[SizingOut]
    left_out: str


class PlanText(Body):
    """Machines as lines that the sizing bench reads."""

    text: str
