"""Changes: what is asked and answered."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, Field

from foldbarn.api.bodies import Body
from foldbarn.changes.engine.preview import Preview
from foldbarn.changes.kinds.pools.form_pool import FormPoolParams
from foldbarn.core.hosts.attachments import FileSystem
from foldbarn.core.hosts.initiators import Transport
from foldbarn.core.pools.protection import Level
from foldbarn.core.site import Tier
from foldbarn.core.touching import Touched


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


class ChangeLine(BaseModel):
    """A change in a history of something."""

    number: int
    title: str
    state: Literal["waiting", "running", "paused", "done", "withdrawn"]
    actor: str
    made_at: datetime


class RecordOut(BaseModel):
    """Something that was altered, by whom and when."""

    at: datetime
    actor: str
    what: str


class ChangePage(ChangeOut):
    """records: what was asked of it, oldest first; touched: what it touches, or touched."""

    params: dict[str, Any]
    preview: Preview
    records: list[RecordOut]
    touched: list[Touched]


class Wish(Body):
    """A change as wished for."""

    kind: str
    params: dict[str, Any]


class Deed(Wish):
    """A change to carry out. digest: of the preview that was looked at, so that nothing else is done than
    what it showed, nor anything it did not warn of; left out, the change is carried out as it stands now.
    """

    digest: str | None = None
    reason: str = Field(default="", max_length=500)


class Ask(Body):
    what: Literal["pause", "resume", "withdraw"]


class RateIn(Body):
    """The most that a change may move, in bytes per second; null: as fast as its pool allows."""

    bytes_per_second: int | None = Field(default=None, ge=1, le=10**13)


class FileSystemOut(BaseModel):
    """What hosts can make on a volume; none for a block device. shared: several of them may write to it."""

    name: FileSystem
    shared: bool


class Defaults(BaseModel):
    """What a wish begins with before a person has said anything, and what there is to choose from."""

    pool: FormPoolParams
    volume_tier: Tier
    levels: list[Level]
    headrooms: list[Level]
    most_copies: int
    most_data: int  # strips of a stripe of parity
    most_parity: int
    compress_units: list[int]  # bytes; 0 for what is held as it is
    file_systems: list[FileSystemOut]
    transports: list[Transport]
    bin_days: int  # for which a deleted volume is kept in the bin
    most_bin_days: int
    snapshot_room: int  # per cent of a volume, for what is overwritten since its snapshots
    most_volumes: int  # that one change takes by name


class Accepted(BaseModel):
    number: int


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
