"""What the API says. Sizes are bytes, rates bytes per second, moments ISO 8601."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from foldbarn.changes.engine.effects import CheckRow, LedgerOut, LossRow, RoleRow
from foldbarn.changes.engine.preview import Preview
from foldbarn.core.figures import Figure
from foldbarn.core.pools.protection import Level
from foldbarn.core.pools.repair import Repair
from foldbarn.core.volumes.loss import DataState
from foldbarn.core.watch.lamps import Lamp, State


class Body(BaseModel):
    """What is sent to the API: a field that is not known is refused, not passed over, and so is text that
    cannot be kept.
    """

    model_config = ConfigDict(extra="forbid")

    @model_validator(mode="before")
    @classmethod
    def _can_be_kept(cls, sent: Any) -> Any:
        if (text := _unwritable(sent)) is not None:
            shown = text[:40].encode("utf-8", "replace").decode("utf-8")
            raise ValueError(f"'{shown}' holds a character that cannot be stored")
        return sent


def _unwritable(sent: Any) -> str | None:
    """A text anywhere in what was sent that holds half a surrogate pair or a zero character, which no
    database takes.
    """
    waiting = [sent]
    while waiting:
        value = waiting.pop()
        if isinstance(value, str):
            if "\0" in value or any("\ud800" <= c <= "\udfff" for c in value if c > "\ud7ff"):
                return value
        elif isinstance(value, dict):
            waiting += [*value.keys(), *value.values()]
        elif isinstance(value, list):
            waiting += value
    return None


class WitnessIn(Body):
    """Where a witness may answer."""

    url: str = Field(max_length=300)


class StateOut(BaseModel):
    """A lamp with its reason."""

    lamp: Lamp
    reason: str

    @classmethod
    def of(cls, state: State) -> StateOut:
        return cls(lamp=state.lamp, reason=state.reason)


class DiskOut(BaseModel):
    name: str
    bay: str
    media: str
    size_bytes: int
    used_bytes: int  # taken by strips, held or on their way
    role: str
    pool: str | None
    serial: str
    state: StateOut
    fit: bool
    reasons: list[str]
    tier: str
    retiring: bool


class NodeOut(BaseModel):
    name: str
    rack: str
    room: str
    state: StateOut
    worst: Lamp
    note: str
    pools: list[str]
    disks: list[DiskOut]


class RackOut(BaseModel):
    name: str
    nodes: list[NodeOut]


class RoomOut(BaseModel):
    name: str
    racks: list[RackOut]


class AttentionOut(BaseModel):
    lamp: Lamp
    kind: str
    name: str
    title: str
    sentence: str
    since: float


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
    encrypted: bool
    ledger: LedgerOut
    healing: str
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
    ledger: LedgerOut | None = None
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


class DomainUse(BaseModel):
    """One domain of a pool: raw bytes for strips, taken, and stranded."""

    name: str
    room: int
    used: int
    stranded: int


class FateOut(BaseModel):
    """Extents by state."""

    whole: int
    reduced: int
    bare: int
    unavailable: int
    lost: int


class VolumeOut(BaseModel):
    name: str
    pool: str
    size_bytes: int
    copies: int
    level: str
    protection: str
    tier: str
    written_bytes: int
    survives: int
    extents: int
    extent_bytes: int
    forming: bool
    state: StateOut
    data: DataState
    fate: FateOut
    footprint: Figure


class WhatIf(BaseModel):
    """What losing one domain now would do to a volume: extents that would lose a copy, and extents that could
    not be read.
    """

    domain: str
    extents_hit: int
    unreadable: int


class VolumePage(VolumeOut):
    """A volume with its placement: bytes by disk, and missing strips by copy."""

    shares: dict[str, int]
    holders: StateOut  # the worst of the nodes that hold it
    missing: list[list[int]]
    missing_count: int
    what_if: list[WhatIf]
    change: int | None
    made_at: datetime


class StripOut(BaseModel):
    copy_name: str
    disk: str | None
    node: str | None
    readable: bool


class ExtentOut(BaseModel):
    number: int
    strips: list[StripOut]


class Counts(BaseModel):
    nodes: int
    disks: int
    pools: int
    volumes: int


class StageOut(BaseModel):
    """One stage of the work: done, next or later, and where it is done."""

    name: str
    state: Literal["done", "next", "later"]
    sentence: str
    path: str
    offer: str


class PortFacts(BaseModel):
    name: str
    purpose: str
    up: bool
    bytes_per_second: int
    mtu: int
    addresses: list[str]
    neighbour: str


class NodeFacts(BaseModel):
    """Everything known of a node. clock_offset: seconds its clock is ahead. awaited_back: it is away and not
    given up yet.
    """

    name: str
    room: str
    rack: str
    state: StateOut
    contact: str
    awaited_back: bool
    cores: int
    memory_bytes: int
    clock_offset: float | None
    member: bool
    keeper: bool
    dedicated: bool
    agent_name: str
    agent_url: str
    disks: int
    fit: int
    ports: list[PortFacts]


class DiskFacts(BaseModel):
    """Everything known of a disk. paths: node:name under which it is seen."""

    name: str
    node: str
    room: str
    rack: str
    bay: str
    media: str
    model: str
    size_bytes: int
    used_bytes: int
    role: str
    pool: str | None
    serial: str
    wwn: str
    paths: list[str]
    missing_paths: list[str]
    enclosure: str | None
    lamp: Lamp
    state: str
    reasons: list[str]
    clearable: bool
    lit: bool
    bus: str
    retiring: bool
    role_reason: str
    rated_bytes: int


class EnclosureFacts(BaseModel):
    name: str
    rack: str
    nodes: list[str]


class MachinesOut(BaseModel):
    nodes: list[NodeFacts]
    disks: list[DiskFacts]
    enclosures: list[EnclosureFacts]


class FileIn(Body):
    """An inventory file: its name tells the node where its content does not."""

    name: str = Field(max_length=500)
    text: str


class FilesIn(Body):
    files: list[FileIn] = Field(max_length=1000)


class OutcomeOut(BaseModel):
    """What became of one file."""

    file: str
    result: Literal["taken", "skipped", "refused"]
    sentence: str
    next_step: str
    node: str


class BmcIn(Body):
    """A BMC to read once; the password is kept nowhere."""

    bmc_url: str = Field(max_length=300)
    user: str = Field(max_length=200)
    password: str = Field(max_length=1000)


class BmcOut(BaseModel):
    node: str
    disks: int
    new: bool


class EnteredCluster(BaseModel):
    """What the text last taken says of the cluster."""

    name: str
    keepers: list[str]
    service_address: str
    witness_url: str
    dedicated: list[str]


class TextOut(BaseModel):
    """The site as text: as it stands now, and as it was last taken, word for word; and what that says of the
    cluster.
    """

    text: str
    taken: str
    cluster: EnteredCluster | None


class LightIn(Body):
    on: bool


class PassphraseIn(Body):
    passphrase: str = Field(max_length=1000)


class WitnessOut(BaseModel):
    name: str


class ClusterOut(BaseModel):
    name: str
    service_address: str
    witness: str
    witness_room: str
    witness_rack: str
    encrypted: bool
    forming: bool
    leader: str
    term: int
    mail_to: str
    witness_silent: str
    witness_reason: str
    keepers: list[str]
    members: list[str]


class ReachOut(BaseModel):
    """How many of the target's disks the source reaches."""

    source: str
    target: str
    reached: int
    of: int
    why: str


class OpeningOut(BaseModel):
    """A line of the port plan."""

    name: str
    source: str
    target: str
    protocol: str
    ports: str
    why: str
    purpose: str
    tested: bool


class ShutOut(BaseModel):
    source: str
    target: str
    port: int
    why: str


class PortsTested(BaseModel):
    tries: int


class ClusterPage(BaseModel):
    """The cluster, its votes, and who reaches what; cluster is null before one is formed."""

    cluster: ClusterOut | None
    votes: str
    doubts: list[str]
    losses: list[LossRow]
    findings: list[CheckRow]
    members: list[str]
    reach: list[ReachOut]
    port_plan: list[OpeningOut]
    shut: list[ShutOut]
    ports_tested_at: float | None


class BarnOut(BaseModel):
    """The site in one picture."""

    name: str
    revision: int
    operator: str
    grace_seconds: float
    yard: bool
    headline: str
    subline: str
    counts: Counts
    rooms: list[RoomOut]
    attention: list[AttentionOut]
    stages: list[StageOut]
    ledgers: list[LedgerOut]
    free: list[Figure]
    pools: list[PoolOut]
    volumes: list[VolumeOut]


class StepOut(BaseModel):
    """about: the one of several things that it is for."""

    number: int
    name: str
    title: str
    detail: str
    about: str
    state: Literal["waiting", "running", "done", "failed"]
    outcome: str
    attempt: int
    started_at: datetime | None
    ended_at: datetime | None


class OtherChange(BaseModel):
    number: int
    title: str


class ChangeOut(BaseModel):
    number: int
    kind: str
    about: str
    title: str
    state: Literal["waiting", "running", "paused", "done", "withdrawn"]
    asked: Literal["pause", "withdraw"] | None
    actor: str
    reason: str
    problem: str
    waits_for: OtherChange | None  # the change whose end it awaits, which touches the same things
    again_at: datetime | None  # when it is tried again by itself; none where it waits for a person
    done_bytes: int
    total_bytes: int
    rate: float | None
    rate_cap: int | None
    moved_bytes: int
    work_seconds: float
    can_slow: bool
    seconds_left: float | None
    made_at: datetime
    started_at: datetime | None
    ended_at: datetime | None
    steps: list[StepOut]


class RecordOut(BaseModel):
    """Something that was altered, by whom and when."""

    at: datetime
    actor: str
    what: str


class ChangePage(ChangeOut):
    """records: what was asked of it, oldest first."""

    params: dict[str, Any]
    preview: Preview
    records: list[RecordOut]


class Wish(Body):
    """A change as wished for."""

    kind: str
    params: dict[str, Any]


class Deed(Wish):
    """A change to carry out. digest: of the preview that was looked at; left out, the change is carried out
    as it stands now.
    """

    digest: str | None = None
    reason: str = Field(default="", max_length=500)


class Ask(Body):
    what: Literal["pause", "resume", "withdraw"]


class RateIn(Body):
    """The most that a change may move, in bytes per second; null: as fast as its pool allows."""

    bytes_per_second: int | None = Field(default=None, ge=1, le=10**13)


class Accepted(BaseModel):
    number: int


class AgentIn(Body):
    """key: a secret of the agent's own, made at its first start; who has it is that node's agent from then
    on.
    """

    agent_url: str = Field(max_length=300)
    key: str = Field(min_length=32, max_length=128, pattern="^[!-~]+$")


class AgentOut(BaseModel):
    node: str


class GraceIn(Body):
    grace_seconds: float = Field(ge=1, le=7 * 86_400)


class ReadyOut(BaseModel):
    instance: str


class DutyOut(BaseModel):
    """every: seconds between its turns; seconds, processor_seconds: of all turns together; problem: of the
    last one.
    """

    name: str
    every: float
    turns: int
    seconds: float
    processor_seconds: float
    failures: int
    problem: str
    at: datetime


class RestartOut(BaseModel):
    """One of Fold Barn's own processes that was started again. at: seconds since 1970; why: part of a
    sentence.
    """

    process: str
    at: float
    why: str


class WorkOut(BaseModel):
    """Bytes per second by disk name; null where not known."""

    read: dict[str, float | None]
    write: dict[str, float | None]


class LeverIn(Body):
    """One pull of a lever of the yard."""

    lever: Literal[
        "cut power",
        "give power",
        "pull disk",
        "return disk",
        "answer",
        "forget orders",
        "speed",
        "shut port",
        "open port",
    ]
    what: str = Field(default="", max_length=200)
    how: Literal["well", "slowly", "garbled"] = "well"
    port: int = Field(default=0, ge=0, le=65_535)
    speed: float = Field(default=1.0, ge=0.0, le=10_000.0)


class YardDisk(BaseModel):
    name: str
    inside: bool


class YardNode(BaseModel):
    name: str
    power: bool
    answers: str
    disks: list[YardDisk]


class YardShut(BaseModel):
    node: str
    port: int


class YardMail(BaseModel):
    to: str
    subject: str
    text: str


class YardOut(BaseModel):
    speed: float
    clock_seconds: float
    nodes: list[YardNode]
    shut: list[YardShut]
    mails: list[YardMail]
    witness_url: str
    bmc_urls: dict[str, str]


class Problem(BaseModel):
    """RFC 9457 problem details. about: the field or thing; next_step: what would help; preview: a fresh one,
    where the old is outdated.
    """

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    about: str | None = None
    next_step: str | None = None
    preview: Preview | None = None


PoolOut.model_rebuild()
SizingOut.model_rebuild()
