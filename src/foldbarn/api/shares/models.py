"""The file service and its shares: what is asked and answered."""

from __future__ import annotations

from datetime import datetime

from pydantic import BaseModel, Field

from foldbarn.api.bodies import Body, StateOut
from foldbarn.api.changes.models import ChangeLine
from foldbarn.api.volumes.models import VolumeOut
from foldbarn.changes.kinds.shares.make_share import RuleAt
from foldbarn.core.shares.quotas import Fill
from foldbarn.core.shares.rules import LONGEST_WHO, Right
from foldbarn.core.shares.share import Protocol


class NameFaultOut(BaseModel):
    """record: the line of a zone that would put it right; empty where none would."""

    sentence: str
    record: str


class AddressOut(BaseModel):
    """An address of the file service. carrier: the node that has it now; empty where none that is heard tells
    so. takes_over: the node that would have it next; empty where nobody could. looked_at: when its name was
    looked for last.
    """

    name: str
    at: list[str]
    home: str
    carrier: str
    takes_over: str
    shares: list[str]
    mounts: int
    state: StateOut
    faults: list[NameFaultOut]
    looked_at: datetime | None


class MountedOut(BaseModel):
    """A client that has a share mounted. host: that which has its address, and at: where, as that tells."""

    share: str
    client: str
    host: str
    at: str
    protocol: Protocol
    read_only: bool
    user: str
    served: str  # name of the address by which it reaches it


class FilesOut(BaseModel):
    """The file service. on: whether it is switched on; could: nodes that could have an address; takeover:
    what becomes of an address when its node falls away. mounted: the first of all clients, in the order
    of their shares; clients: how many there are.
    """

    on: bool
    name_server: str
    addresses: list[AddressOut]
    could: list[str]
    takeover: str
    mounted: list[MountedOut]
    clients: int


class ShareOut(BaseModel):
    """A share. warn: per cent of its quota; fills: when it will be full, in a sentence; empty where nobody
    knows.
    """

    name: str
    state: StateOut
    address: str
    protocols: list[Protocol]
    quota_bytes: int
    warn: int
    used_bytes: int
    fill: Fill
    fills: str
    mounts: int
    rules: int
    policy: str | None
    pool: str
    labels: list[str]
    binned: bool


class RuleOut(BaseModel):
    """follows: it is there for a node of an orchestrator, and comes and goes with that."""

    who: str
    right: Right
    root: bool
    follows: bool


class IdleRuleOut(BaseModel):
    """A rule that can never apply, by its place from 1."""

    rule: int
    sentence: str


class MountOut(BaseModel):
    """Who has it mounted. host: that which has the client's address; at: where, as that tells; kept: whether
    it is mounted again as the host starts; None where nobody tells.
    """

    client: str
    host: str
    at: str
    kept: bool | None
    protocol: Protocol
    read_only: bool
    user: str
    may: str  # by the rules, in a sentence


class HowToMountOut(BaseModel):
    protocol: Protocol
    said: str
    by: str
    commands: list[str]
    table: str


class ShareUserOut(BaseModel):
    """shown: whether somebody has seen the password."""

    name: str
    right: Right
    shown: bool


class SharePage(ShareOut):
    """warn_bytes: from which on it is said that it fills; served: by whom, and fill_state: how full it is,
    each with why; shares: bytes of its volume by disk.
    """

    warn_bytes: int
    served: StateOut
    fill_state: StateOut
    fill_since: datetime
    volume: VolumeOut
    shares: dict[str, int]
    access: list[RuleOut]
    idle: list[IdleRuleOut]
    mounted: list[MountOut]
    how: list[HowToMountOut]
    users: list[ShareUserOut]
    untold: list[str]
    change: int | None  # that made it
    made_at: datetime
    history: list[ChangeLine]  # newest first


class TryIn(Body):
    """An address that comes to a share with these rules."""

    address: str = Field(max_length=LONGEST_WHO)
    rules: list[RuleAt] = Field(max_length=20_000)


class TryOut(BaseModel):
    """What it may do there, in a sentence; rule: the place of the one that decides, from 1."""

    sentence: str
    right: Right
    root: bool
    rule: int | None


class ShownPasswordOut(BaseModel):
    """A password in the clear."""

    user: str
    password: str
