"""Consumers in orchestrators: what is asked and answered."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from pydantic import BaseModel, Field

from foldbarn.api.bodies import Body, StateOut
from foldbarn.api.changes.models import ChangeLine
from foldbarn.core.claims.claims import AccessMode, VolumeMode
from foldbarn.core.claims.classes import BindingMode, Reclaim
from foldbarn.core.claims.kept import Answering, Hindrance
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.hosts.attachments import FileSystem


class LifeCount(BaseModel):
    """Claims that are so."""

    life: Life
    count: int


class LineOut(BaseModel):
    """A right that is missing: the line of a role that would give it, and why it takes it."""

    line: str
    why: str


class SecretOut(BaseModel):
    """shown_at, shown_to: when somebody saw it, and who; null and empty before anybody did. hosts: that are
    connected by it, as far as nodes that are heard tell.
    """

    name: str
    made_at: datetime
    shown_at: datetime | None
    shown_to: str
    hosts: list[str]


class ShownSecret(BaseModel):
    """secret: in the clear. manifest: what is applied in the orchestrator, as YAML."""

    name: str
    secret: str
    manifest: str


class KeeperAddress(BaseModel):
    name: str
    address: str


class OrchestratorOut(BaseModel):
    """missing: rights that it has not given. lives: how many claims it has, by what became of them. secrets:
    that are good; secrets_said: what follows from them; against_another: why it can have no more, empty where
    it can.
    """

    number: int
    name: str
    url: str
    authority: str
    identity: str
    version: str
    answering: Answering
    state: StateOut
    since: datetime
    missing: list[LineOut]
    namespaces: int
    lives: list[LifeCount]
    classes: list[str]  # that appear there
    secrets: list[SecretOut]
    secrets_said: str
    against_another: str


class ClassLimits(BaseModel):
    """What of a class a namespace may have beside the whole; null for no limit."""

    name: str
    bytes: int | None
    claims: int | None
    used_bytes: int
    used_claims: int


class GrantOut(BaseModel):
    """What a namespace may have of a policy, and has. Null for no limit."""

    orchestrator: str
    namespace: str
    policy: str
    promise: str
    bytes: int | None
    claims: int | None
    bytes_a_claim: int | None
    used_bytes: int
    used_claims: int
    left_bytes: int | None
    left_claims: int | None
    by_class: list[ClassLimits]
    classes: list[str]  # by which it is asked for


class NamespaceOut(BaseModel):
    """there: whether the orchestrator has it, as far as is known. waiting, bound, aside: claims."""

    orchestrator: str
    name: str
    there: bool
    grants: list[GrantOut]
    waiting: int
    bound: int
    aside: int
    state: StateOut  # the worst of its claims


class ClassOut(BaseModel):
    """pool: empty for whichever takes a claim best. appears: names of the orchestrators; others: of those in
    which a class of that name is somebody else's; granted: namespaces, each with its orchestrator; claims:
    that have their volumes by it.
    """

    name: str
    policy: str
    promise: str
    pool: str
    reclaim: Reclaim
    binding: BindingMode
    expands: bool
    file_system: FileSystem
    mount_options: list[str]
    default: bool
    appears: list[str]
    others: list[str]
    granted: list[str]
    claims: int
    waiting: int


class ClaimOut(BaseModel):
    """asked_class: as the claim names it; class_name: by which it got its volume. size: bytes that it asks
    for; promised: that it may have. written: of its volume, in bytes. full_in: seconds until the room that it
    was given is used up at the pace of lately; null where that cannot be told.
    """

    number: int
    orchestrator: str
    namespace: str
    name: str
    asked_class: str | None
    class_name: str
    size: int
    promised: int
    modes: list[AccessMode]
    volume_mode: VolumeMode
    life: Life
    hindrance: Hindrance | None
    state: StateOut
    since: datetime
    seen_at: datetime
    reclaim: Reclaim
    policy: str
    volume: str
    volume_bytes: int
    written: int
    full_in: float | None
    used_by: str


class ThreadOut(BaseModel):
    """What claims of a namespace were promised by a class from a pool. aside: what was kept of those that are
    gone; bytes of their volumes.
    """

    orchestrator: str
    namespace: str
    class_name: str
    pool: str
    bytes: int
    claims: int
    aside: bool


class ConsumersOut(BaseModel):
    """All that is offered, and to whom; claims by number, counted. default_class: the one that claims get
    which name none; empty where there is none. service_address, keepers: where the cluster answers; empty
    where there is none.
    """

    orchestrators: list[OrchestratorOut]
    namespaces: list[NamespaceOut]
    classes: list[ClassOut]
    default_class: str
    lives: list[LifeCount]
    threads: list[ThreadOut]
    service_address: str
    keepers: list[KeeperAddress]


class AskedClaims(Body):
    """Which claims are wanted: words are part of namespace or name."""

    words: str = Field(default="", max_length=200)
    orchestrator: str = Field(default="", max_length=200)
    namespace: str = Field(default="", max_length=300)
    life: list[Life] = Field(default_factory=list, max_length=len(Life))
    page: int = Field(default=1, ge=1, le=10**6)
    per: int = Field(default=100, ge=1, le=500)


class ClaimsOut(BaseModel):
    """A page of them; matching: on all pages; kept: all there are that are not over."""

    claims: list[ClaimOut]
    matching: int
    kept: int
    page: int
    pages: int


class ClaimSnapshot(BaseModel):
    """A snapshot of a claim's volume. there: namespace and name of what asked for it in the orchestrator;
    fills: of the claim that it was taken to fill; both empty where nobody did. handle: by which it can be
    named there.
    """

    name: str
    there: str
    fills: str
    handle: str
    taken_at: datetime | None
    bytes: int
    state: StateOut


class FilledFrom(BaseModel):
    """What a claim is filled from. kind, name: there; volume, snapshot: here, empty while there is none."""

    kind: str
    name: str
    volume: str
    snapshot: str


class ClaimPage(ClaimOut):
    """A claim with what hangs on it both ways: names there and here. object_name, handle: as the orchestrator
    knows its volume, empty before it has any; hosts: to which the volume is attached. may_have: for what is
    kept aside, the claims that wait and could have it.
    """

    uid: str
    object_name: str
    handle: str
    pool: str
    hosts: list[str]
    extents: int
    manifest: str  # of the object that stands for its volume
    may_have: list[ClaimOut]
    snapshots: list[ClaimSnapshot]
    filled_from: FilledFrom | None
    history: list[ChangeLine]


class OfferOut(BaseModel):
    """A class that a namespace may use, with manifests to start from; most: bytes that one more claim could
    ask for, null for no limit.
    """

    name: str
    promise: str
    default: bool
    reclaim: Reclaim
    binding: BindingMode
    expands: bool
    most: int | None
    claim: str
    set: str
    snapshot: str
    restore: str


class TeamPage(NamespaceOut):
    """What who works in a namespace sees: nothing below the volume."""

    offers: list[OfferOut]
    claims: list[ClaimOut]


class ManifestsIn(Body):
    """text: several documents of YAML. namespace: of those that name none."""

    orchestrator: str = Field(max_length=200)
    namespace: str = Field(default="default", max_length=300)
    text: str = Field(max_length=200_000)


class WouldOut(BaseModel):
    """What would become of a claim: gets: what it would get, in a sentence; against: what would keep it
    waiting.
    """

    claim: str
    size: int
    gets: str
    against: str
    cure: str


class WishOut(BaseModel):
    """A change that would bring about what a document says; words: for who previews it."""

    kind: str
    params: dict[str, Any]
    words: str


class DocumentOut(BaseModel):
    kind: str
    name: str
    namespace: str
    about: str
    claims: list[WouldOut]
    wishes: list[WishOut]


class ManifestsOut(BaseModel):
    documents: list[DocumentOut]


class TextOut(BaseModel):
    text: str
