"""Machines: what is asked and answered."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from foldbarn.api.bodies import Body, StateOut
from foldbarn.api.changes.models import ChangeLine
from foldbarn.core.machines.health import Grade
from foldbarn.core.watch.states import Lamp


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


class FactOut(BaseModel):
    what: str
    said: str


class HeldOut(BaseModel):
    """What a disk holds of a volume, and its extents without the disk. unreadable: those that cannot be read;
    bare: those that can, with no further strip to lose.
    """

    volume: str
    strips: int
    bytes: int
    unreadable: int
    bare: int


class DiskPage(BaseModel):
    """grade: how healthy it is by what it says itself, and why: the figures behind that. health: as its node
    last reported it. loss: what its loss would mean now. history: newest first.
    """

    name: str
    grade: Grade
    why: list[str]
    health: list[FactOut]
    held: list[HeldOut]
    loss: str
    history: list[ChangeLine]


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


class AgentIn(Body):
    """key: a secret of the agent's own, made at its first start; who has it is that node's agent from then
    on.
    """

    agent_url: str = Field(max_length=300)
    key: str = Field(min_length=32, max_length=128, pattern="^[!-~]+$")


class AgentOut(BaseModel):
    node: str
