"""Virtual machines: what is asked and answered."""

from __future__ import annotations

from datetime import datetime

from pydantic import BaseModel, Field

from foldbarn.api.bodies import Body, StateOut
from foldbarn.api.changes.models import ChangeLine
from foldbarn.api.volumes.models import VolumeOut
from foldbarn.core.site import VmPart
from foldbarn.core.vms.ovf import MOST_CHARACTERS
from foldbarn.core.vms.power import Power


class VmOut(BaseModel):
    """A virtual machine as one thing. keeps: how its volumes stand to their policies, the worst; none where
    none has one. size_bytes: of all its volumes. power: as far as is known, at which host, and the same in a
    sentence.
    """

    name: str
    cpus: int
    memory_bytes: int
    state: StateOut
    keeps: StateOut | None
    volumes: int
    size_bytes: int
    written_bytes: int
    policies: list[str]
    pools: list[str]
    binned: bool  # it was deleted, and can be brought back
    power: Power
    host: str  # where it is switched on; empty where it is off
    template: bool  # it stays off, and others are made from it
    powered: StateOut


class VmPartOut(BaseModel):
    """A volume of it. called: disk 2, for people; label: what it is called there; volume: none where it is
    gone for good.
    """

    what: VmPart
    place: int
    called: str
    label: str
    volume: VolumeOut | None


class VmSnapshotOut(BaseModel):
    """A snapshot that all its volumes have under one name; taken_at: of the first of them, as they are taken
    while writes to all of them wait. memory: the volume that holds what its memory did then; empty for none.
    """

    name: str
    taken_at: datetime
    memory: str


class VmPage(VmOut):
    """shares: bytes of all its volumes by disk; lasting: names of those that stay when it is switched off,
    of which snapshots are; snapshots: newest first, those that all of these have under one name. resumes:
    that of them with the memory of which it goes on when it is switched on next; empty where it starts anew.
    """

    parts: list[VmPartOut]
    shares: dict[str, int]
    lasting: list[str]
    snapshots: list[VmSnapshotOut]
    resumes: str
    change: int | None  # that made it
    made_at: datetime
    history: list[ChangeLine]  # newest first


class DescriptorIn(Body):
    """A descriptor of the Open Virtualization Format, as text."""

    text: str = Field(max_length=MOST_CHARACTERS)


class DescribedDiskOut(BaseModel):
    """size: as one would type it; image: the file that it is to begin as, which is not brought in."""

    name: str
    bytes: int
    size: str
    image: str


class DescribedOut(BaseModel):
    """What a descriptor says of a virtual machine; cpus, memory_bytes: 0 where it says nothing."""

    name: str
    cpus: int
    memory_bytes: int
    memory: str
    disks: list[DescribedDiskOut]
