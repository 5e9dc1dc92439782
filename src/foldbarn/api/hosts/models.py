"""Hosts, and the volumes attached to them: what is asked and answered."""

from __future__ import annotations

from datetime import datetime

from pydantic import BaseModel

from foldbarn.api.bodies import StateOut
from foldbarn.api.changes.models import ChangeLine
from foldbarn.core.hosts.attachments import FileSystem
from foldbarn.core.hosts.initiators import Transport
from foldbarn.core.hosts.lanes import Gate, Passage
from foldbarn.core.site import Contact


class GateOut(BaseModel):
    """A gate on the way of a volume to a host: how it stands, why, and what is typed on the host to pass
    it. place: of it among all gates.
    """

    gate: Gate
    place: int
    passage: Passage
    reason: str
    commands: list[str]


class PathOut(BaseModel):
    """A portal at which a node serves a volume, and whether the host is connected there; why not, and what is
    typed there to mend it.
    """

    node: str
    portal: str
    live: bool
    reason: str
    commands: list[str]


class LaneOut(BaseModel):
    """The way of a volume to a host, with all of its paths and gates. target: the name it is offered under;
    disk: what the host's kernel knows it by; mounted: where, as the host tells.
    """

    volume: str
    host: str
    group: str
    transport: Transport
    read_only: bool
    file_system: FileSystem
    at: str
    target: str
    disk: str
    live: int
    mounted: str
    state: StateOut
    noticed: bool  # whether it is found out by itself when the next thing has been done
    missing: GateOut | None
    untold: GateOut | None
    paths: list[PathOut]
    gates: list[GateOut]
    leaving: list[str]


class GuestOut(BaseModel):
    """A virtual machine as its host tells of it. vm: what it is called here; empty for one of others."""

    name: str
    vm: str
    on: bool
    memory_bytes: int


class RunsOut(BaseModel):
    """That a host runs virtual machines. left_bytes: of memory that it can still give to some; given_bytes:
    all else, what it keeps for itself among it. missing: privileges that its account lacks.
    """

    url: str
    user: str
    cpus: int
    memory_bytes: int
    left_bytes: int
    given_bytes: int
    missing: list[str]
    state: StateOut
    guests: list[GuestOut]


class HostOut(BaseModel):
    """A host. agent_url: where it tells how it is; empty where nothing on it does. runs: none where it runs
    no virtual machines.
    """

    name: str
    group: str
    initiators: list[str]
    transports: list[Transport]
    agent_url: str
    contact: Contact
    state: StateOut
    volumes: list[str]
    live: int  # paths that are connected, of all that there are
    paths: int
    runs: RunsOut | None


class HostShareOut(BaseModel):
    """A share that a host has mounted, and where, as it tells; name: empty for one that is none of ours."""

    name: str
    source: str
    at: str


class HostPage(HostOut):
    """A host with all that is attached to it. told_names: what it calls itself, as it tells; services: those
    of them that run there, as it tells.
    """

    since: datetime | None
    told_names: list[str]
    as_registered: bool  # whether it calls itself by just the names it is let in under
    services: list[str]
    gateways: StateOut  # the worst of the nodes that serve it its volumes
    lanes: list[LaneOut]
    shares: list[HostShareOut]
    change: int | None  # that registered it
    made_at: datetime
    history: list[ChangeLine]  # newest first


class HostsOut(BaseModel):
    """All hosts, the names of their groups, and the ways on which something is missing, worst first; of many
    the first (doubtful_count: of all).
    """

    hosts: list[HostOut]
    groups: list[str]
    doubtful: list[LaneOut]
    doubtful_count: int
