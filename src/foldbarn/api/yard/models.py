"""The yard's levers: what is asked and answered."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

from foldbarn.api.bodies import Body


class LeverIn(Body):
    """One pull of a lever of the yard. lasts: seconds of its own time that a speed stays; 0 for good."""

    lever: Literal[
        "cut power",
        "give power",
        "pull disk",
        "return disk",
        "answer",
        "forget orders",
        "speed",
        "consumers",
        "shut port",
        "open port",
        "unplug",
        "plug",
        "run",
        "apply",
        "remove",
        "name server",
        "record",
        "unrecord",
        "mail server",
    ]
    what: str = Field(default="", max_length=200)
    how: Literal["well", "slowly", "garbled", "silent", "refuses", "lies"] = "well"
    # of a command, the name of a host's port, or manifests
    text: str = Field(default="", max_length=100_000)
    port: int = Field(default=0, ge=0, le=65_535)
    speed: float = Field(default=1.0, ge=0.0, le=10_000.0)
    lasts: float = Field(default=0.0, ge=0.0, le=1e8)
    times: float = Field(default=1.0, ge=0.0, le=1000.0)


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
    """A message that arrived. picture: a PNG in base 64, empty for none; account: that signed in."""

    to: str
    subject: str
    text: str
    mark: str = ""
    picture: str = ""
    encrypted: bool = False
    account: str = ""


class YardMailServer(BaseModel):
    """The stand-in mail server: its address and port, how it answers, the certificate by which it is known,
    and who may sign in.
    """

    at: str
    how: str
    certificate: str
    account: str
    password: str


class YardHostPort(BaseModel):
    name: str
    address: str
    up: bool


class YardHost(BaseModel):
    """A stand-in host. initiators: what it calls itself; service_url: where it serves its virtual machines;
    empty where it runs none. accounts: by which it is asked there, each with its password and its role.
    """

    name: str
    power: bool
    ports: list[YardHostPort]
    initiators: list[str]
    agent_url: str
    service_url: str = ""
    accounts: list[str] = []


class YardOrchestrator(BaseModel):
    """A stand-in orchestrator. token: of the account that was made there for Fold Barn, empty before there is
    one.
    """

    name: str
    url: str
    authority: str
    token: str


class YardNames(BaseModel):
    """The stand-in name server: how it answers, and its records."""

    how: str
    zone: list[str]


class YardOut(BaseModel):
    """consumers: what they want, against what they usually do; printed: by the command that was run."""

    speed: float
    consumers: float
    clock_seconds: float
    nodes: list[YardNode]
    hosts: list[YardHost]
    orchestrators: list[YardOrchestrator]
    printed: str
    shut: list[YardShut]
    mails: list[YardMail]
    mail_server: YardMailServer
    name_server: str = ""  # its address and port; empty where there is none
    names: YardNames
    witness_url: str
    bmc_urls: dict[str, str]
