"""The cluster: what is asked and answered."""

from __future__ import annotations

from pydantic import BaseModel, Field

from foldbarn.api.bodies import Body
from foldbarn.changes.engine.effects import CheckRow, LossRow


class WitnessIn(Body):
    """Where a witness may answer."""

    url: str = Field(max_length=300)


class PassphraseIn(Body):
    passphrase: str = Field(max_length=1000)


class WitnessOut(BaseModel):
    name: str


class ProposalOut(BaseModel):
    """What a cluster of some members could be made of, and why."""

    keepers: list[str]
    witness: str
    votes_because: str
    service_address: str
    address_because: str


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
