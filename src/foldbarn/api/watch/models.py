"""The barn as a whole: what is asked and answered."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import BaseModel, Field

from foldbarn.api.bodies import Body
from foldbarn.api.machines.models import RoomOut
from foldbarn.api.pools.models import PoolOut
from foldbarn.api.volumes.models import VolumeMark
from foldbarn.core.pools.printing import PrintedLedger
from foldbarn.core.watch.states import Lamp


class AttentionOut(BaseModel):
    lamp: Lamp
    kind: str
    name: str
    title: str
    sentence: str
    since: float


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
    whole: PrintedLedger  # all ledgers in one
    ledgers: list[PrintedLedger]
    pools: list[PoolOut]
    volumes: list[VolumeMark]  # all of them; what there is to know of each is asked for by page


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
