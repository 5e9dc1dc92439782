"""Volumes: what is asked and answered."""

from __future__ import annotations

from datetime import datetime

from pydantic import BaseModel, Field

from foldbarn.api.bodies import Body, StateOut
from foldbarn.api.changes.models import ChangeLine
from foldbarn.api.policies.models import StandingOut
from foldbarn.core.errors import NotPossible
from foldbarn.core.figures import Figure
from foldbarn.core.pools.capacity import Limit
from foldbarn.core.units import say_list
from foldbarn.core.volumes.lineage import Link
from foldbarn.core.volumes.loss import DataState
from foldbarn.core.watch.asking import By, Listed, Question, Wanted, listed
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp


class FateOut(BaseModel):
    """Extents by state."""

    whole: int
    reduced: int
    bare: int
    unavailable: int
    lost: int


class AnewOut(BaseModel):
    """As what a volume is being written anew, or as what some of it goes to another tier (moves): its strips
    in words, how many of all are there, and the bytes that all take on disks.
    """

    counted: str
    level: str
    tier: str
    strips: int
    there: int
    bytes: int
    moves: bool


class LandingOut(BaseModel):
    """Where what is written to a volume lands first: its copies in words, the losses that these survive, the
    bytes that it has room for and takes on disks, those that wait there to settle, and how they are.
    """

    counted: str
    survives: int
    bytes: int
    on_disks: int
    waiting: int
    forming: bool
    data: DataState


class ReaderOut(BaseModel):
    """A volume that reads from a snapshot. shown: all of it, for good; else a copy, of which so many extents
    are still read from there.
    """

    name: str
    shown: bool
    extents: int
    left: int
    state: StateOut


class AskedOut(BaseModel):
    """What asked for a snapshot in an orchestrator, by namespace and name; fills: a claim that is to be
    filled from it.
    """

    orchestrator: str
    path: str
    fills: bool


class SnapshotOut(BaseModel):
    """A snapshot of a volume. alone, shared: bytes of what was overwritten since that it has by itself, and
    together with others; differs: bytes of the volume that changed since. taken_at: null while it
    is being taken.
    """

    name: str
    taken_at: datetime | None
    alone: int
    shared: int
    differs: int
    bytes: int
    lost: bool
    read_by: list[ReaderOut]
    asked: AskedOut | None
    state: StateOut


class OriginOut(BaseModel):
    """The snapshot of a volume that another volume reads from. shown: all of it, for good; else it is a copy.
    own: extents that it holds itself by now, of all that it reads or has read from there; binned: whether the
    original is in the bin; left: a person called off the writing of the rest.
    """

    volume: str
    snapshot: str
    shown: bool
    own: int
    extents: int
    binned: bool
    left: bool


class LimitsOut(BaseModel):
    """What consumers may ask of a volume in a second, 0 for no limit; whether that is its own, lower than its
    policy's. asked_operations, asked_throughput: its own, whether they hold or not.
    """

    operations: int
    throughput: int
    own_operations: bool
    own_throughput: bool
    asked_operations: int
    asked_throughput: int


class PastOut(BaseModel):
    """The room for what is overwritten of a volume with snapshots: how it is held, its bytes, those that it
    takes on disks, and those that are taken.
    """

    counted: str
    bytes: int
    on_disks: int
    held: int
    state: StateOut


class ComingOut(BaseModel):
    """A snapshot that is taken by itself, when, and the names of those that no rule keeps then."""

    at: datetime
    drops: list[str]


class HotOut(BaseModel):
    """What of a volume lies on the fast tier for its heat or outright: its copies in words, extents of the
    volume and bytes of data in them, bytes on disks there and those that it takes the less elsewhere, and the
    extents that may lie there. outright: they are its first ones, whatever is asked of them.
    """

    counted: str
    extents: int
    bytes: int
    on_disks: int
    spared: int
    most: int
    outright: bool


class BinnedOut(BaseModel):
    """Since when a volume is in the bin, and until when it is kept there."""

    since: datetime
    until: datetime


class VolumeOut(BaseModel):
    name: str
    pool: str
    size_bytes: int
    copies: int  # strips of an extent
    mirror: bool
    data_strips: int
    counted: str  # its strips in words
    keeps: StandingOut | None  # how it stands to its policy, where it has one
    level: str
    protection: str
    tier: str
    written_bytes: int
    survives: int
    extents: int
    extent_bytes: int
    thin: bool
    unset: int  # extents that no room is set aside for yet
    unset_bytes: int  # that these will take on disks
    forming: bool
    offline: bool  # a person took it from its consumers
    binned: BinnedOut | None  # where it was deleted, and can be brought back
    anew: AnewOut | None
    landing: LandingOut | None
    past: PastOut | None
    hot: HotOut | None
    origin: OriginOut | None  # what it reads from; none where it stands alone
    labels: list[str]
    only_on: list[str]  # nodes and disks of which alone some may hold it; any of its pool where none is named
    limits: LimitsOut
    serving_nodes: int  # that are to serve it to hosts
    part_of: str | None  # name of the virtual machine; none where it is of none
    share: str | None  # name of that which lies on it; none where none does
    hosts: int  # that it is attached to
    connected: int  # of those
    state: StateOut
    data: DataState
    fate: FateOut
    footprint: Figure


class VolumeMark(BaseModel):
    """A volume by its name alone, and where it is."""

    name: str
    pool: str
    binned: bool


class Asked(Body):
    """Which volumes are wanted, as asking.Wanted has it, and in which order. of: things by kind and name,
    such as "node:petrel".
    """

    words: str = Field(default="", max_length=200)
    questions: list[Question] = Field(default_factory=list, alias="is", max_length=len(Question))
    of: list[str] = Field(default_factory=list, max_length=20)
    binned: bool = False
    by: By = By.NAME
    falling: bool = False

    def listed(self, outlook: Outlook) -> Listed:
        """Raises NotPossible for a kind of thing that nothing depends on, NotFound."""
        wanted = Wanted(self.words, tuple(self.questions), tuple(map(_thing, self.of)), self.binned)
        return listed(outlook, wanted, self.by, falling=self.falling)


class AskedPage(Asked):
    """And which page of them, of how many. A page beyond the last is the last one."""

    page: int = Field(default=1, ge=1, le=10**6)
    per: int = Field(default=100, ge=1, le=500)


def _thing(said: str) -> tuple[Link, str]:
    kind, _, name = said.partition(":")
    if kind not in list(Link):
        kinds = say_list([link.value for link in Link])
        raise NotPossible(f"'{said}' names no thing.", about="of", next_step=f"Write one of {kinds}:name.")
    return Link(kind), name


class AnswerOut(BaseModel):
    """For how many of the volumes that are listed the answer to one more question is yes."""

    question: Question
    count: int


class VolumesOut(BaseModel):
    """A page of the volumes that were asked for, in the order that was wanted. matching: on all pages; kept:
    all there are, whatever was asked; page, pages: count from 1.
    """

    volumes: list[VolumeOut]
    matching: int
    kept: int
    page: int
    pages: int
    answers: list[AnswerOut]


class KinOut(BaseModel):
    """Those of one kind, by name, and the worst of them."""

    link: Link
    names: list[str]
    lamp: Lamp


class LineageOut(BaseModel):
    """All that depends on a thing, and all that it depends on, by kind: what uses comes before what bears."""

    link: Link
    name: str
    kin: list[KinOut]


class WhatIf(BaseModel):
    """What losing one domain now would do to a volume: extents that would lose a copy, and extents that could
    not be read.
    """

    domain: str
    extents_hit: int
    unreadable: int


class ClaimedOut(BaseModel):
    """The claim that a volume was made for."""

    number: int
    orchestrator: str
    path: str
    state: StateOut
    used_by: str


class PartOut(BaseModel):
    """The virtual machine that a volume is part of, and as what: disk 2, for people."""

    name: str
    called: str
    state: StateOut


class VolumePage(VolumeOut):
    """A volume with its placement: bytes by disk (where it shows a snapshot, of the original), and missing
    strips by copy, which are named by lines. unset_ranges: extents, from and up to, that no room is set aside
    for yet; through_ranges: that are read from its origin, through_bytes: what these would take on disks.
    mended_by: numbers of the changes that carry strips of it now.
    """

    claim: ClaimedOut | None
    vm: PartOut | None
    shares: dict[str, int]
    lines: list[str]
    holders: StateOut  # the worst of the nodes that hold it
    reached: StateOut  # the worst of its ways to hosts
    missing: list[list[int]]
    missing_count: int
    unset_ranges: list[list[int]]
    through_ranges: list[list[int]]
    through_bytes: int
    upper: list[int] | None  # its extents on the fast tier beside the others; None where none may lie there
    what_if: list[WhatIf]
    change: int | None
    made_at: datetime
    history: list[ChangeLine]  # newest first; not that which made it
    snapshots: list[SnapshotOut]  # newest first
    coming: list[ComingOut]  # the next ones by its policy's schedule
    mended_by: list[int]


class MoreOut(BaseModel):
    """How much more its pool would take as a volume is, and what limits it: its tier, or the room for
    landings.
    """

    bytes: int
    limit: Limit
    for_landing: bool


class HitOut(BaseModel):
    """The hottest extents of a volume, the bytes of data in them, and the share of what is asked that they
    take, 0 to 1.
    """

    extents: int
    bytes: int
    served: float


class PaceOut(BaseModel):
    """What a volume's consumers get, as its nodes have told: operations a second lately, the share of them
    that read, bytes of one, and seconds of one on average and for 99 of 100. Each null where it is not known.
    """

    operations_per_second: float
    reads: float | None
    block_bytes: float | None
    mean_seconds: float | None
    late_seconds: float | None


class HeatOut(BaseModel):
    """What a volume is asked for, as its nodes have told: operations a second lately, seconds for which it
    has been watched (of which those long ago count less), and what its hottest extents take, from none to
    all. No points where nothing is known. half_life_seconds: what was asked so long ago counts for half.
    upper: what lies on the fast tier for its heat or outright, where it keeps such a policy.
    """

    operations_per_second: float
    watched_seconds: float
    half_life_seconds: float
    points: list[HitOut]
    upper: HitOut | None
    pace: PaceOut


class ServedOut(BaseModel):
    """What the fast tier takes of what is asked of a volume, 0 to 1, and extents there: now, and by another
    share. short_of_room: whether more of it would rise, were there room.
    """

    volume: str
    now: float
    then: float
    extents_now: int
    extents_then: int
    short_of_room: bool


class StripOut(BaseModel):
    copy_name: str
    disk: str | None
    node: str | None
    readable: bool


class ExtentOut(BaseModel):
    """An extent, and where its strips lie; through: it is read from the volume's origin."""

    number: int
    strips: list[StripOut]
    through: bool = False
