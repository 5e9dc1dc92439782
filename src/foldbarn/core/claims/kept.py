"""What is kept of an orchestrator and of its claims."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from foldbarn.core.claims.claims import Claim
from foldbarn.core.claims.classes import Reclaim
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.hosts.attachments import FileSystem
from foldbarn.core.volumes.snapshots import Origin


class Answering(StrEnum):
    """How an orchestrator answers."""

    NOT_YET = "not asked yet"
    HEARD = "heard"
    SILENT = "silent"
    REFUSING = "refuses"  # it knows the token no more, or lacks a right without which nothing goes on
    ANOTHER = "another one"  # what answers there is not what was connected


@dataclass(frozen=True, slots=True)
class Secret:
    """By which an orchestrator's nodes are let in to what it was given. name: that goes with it; shown_at:
    when somebody saw it, in seconds since 1970 as made_at, and shown_to: who; none before anybody did.
    """

    number: int
    name: str
    sealed: str
    made_at: float
    shown_at: float | None = None
    shown_to: str = ""


@dataclass(frozen=True, slots=True)
class Orchestrator:
    """A container orchestrator that is connected. authority: the certificate by which it is trusted, as PEM;
    identity: by which it is told from any other; missing: rights that it has not given, each as the line of a
    role that would give it; reason: why it does not answer as it should. since: seconds since 1970.
    """

    number: int
    name: str
    url: str
    authority: str = ""
    identity: str = ""
    answering: Answering = Answering.NOT_YET
    reason: str = ""
    since: float = 0.0
    version: str = ""
    missing: tuple[str, ...] = ()
    namespaces: tuple[str, ...] = ()
    others: tuple[str, ...] = ()  # names of classes there that are somebody else's
    altered: int = 0  # how often its address or its token have been
    secrets: tuple[Secret, ...] = ()  # that are good, the oldest first


class Hindrance(StrEnum):
    """Why a claim waits."""

    NO_CLASS = "names no class"
    SEVERAL_DEFAULTS = "several defaults"
    UNKNOWN_CLASS = "class unknown"
    NO_POLICY = "policy gone"  # of its class
    ACCESS_MODE = "access mode"
    NOT_GRANTED = "not granted"
    OVER_LIMIT = "over a limit"
    NO_POOL = "no pool"
    NO_SOURCE = "nothing to be filled from"
    NO_CONSUMER = "no consumer yet"  # and its class makes no volume before there is one
    RESTING = "tried again soon"  # what was to make it came to nothing


# Those that follow from what is offered there alone, whatever else becomes of the site.
OF_OFFERS = frozenset(
    {
        Hindrance.NO_CLASS,
        Hindrance.SEVERAL_DEFAULTS,
        Hindrance.UNKNOWN_CLASS,
        Hindrance.NO_POLICY,
        Hindrance.ACCESS_MODE,
        Hindrance.NOT_GRANTED,
    }
)
TRIED_AGAIN = "It is tried again by itself."  # what helps where nobody has to do anything

# Of the lives in which something is promised to a claim.
HELD = frozenset({Life.MAKING, Life.MADE, Life.TOLD, Life.BOUND})


@dataclass(frozen=True, slots=True)
class KeptClaim:
    """A claim as it asks, and what became of it. orchestrator, policy, volume: by number; policy: 0 while it
    has none. promised: bytes that it may have; class_name: of the class by which it got its volume;
    file_system, mount_options: as that had them then; by_secret: whether nodes have to prove by a secret of
    the orchestrator that they may reach it. sentence, cure: what keeps it waiting, and what would
    help. seen_at, since: when it was first seen, and since when its life is what it is, in seconds since
    1970. used_by: the last pod that used it. origin: the snapshot that it is to be filled from, once that is
    there. near: names of the places where the pod that it is made for runs, as its node's labels say.
    """

    number: int
    orchestrator: int
    claim: Claim
    life: Life
    since: float
    seen_at: float
    promised: int = 0
    reclaim: Reclaim = Reclaim.DELETE
    policy: int = 0
    class_name: str = ""
    file_system: FileSystem = FileSystem.XFS
    mount_options: tuple[str, ...] = ()
    by_secret: bool = False
    volume: int | None = None
    hindrance: Hindrance | None = None
    sentence: str = ""
    cure: str = ""
    used_by: str = ""
    origin: Origin | None = None
    near: tuple[str, ...] = ()

    @property
    def held(self) -> bool:
        """Whether it counts for what its namespace has."""
        return self.life in HELD

    @property
    def path(self) -> str:
        return self.claim.path

    @property
    def name(self) -> str:
        """As things are named that hang together."""
        return self.claim.path
