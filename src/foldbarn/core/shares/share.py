"""What is known of the file service of a cluster, and of its shares."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from enum import StrEnum

from foldbarn.core.shares.quotas import USUAL_WARN, Fill
from foldbarn.core.shares.rules import Right, Rule


class Protocol(StrEnum):
    """By what a share is mounted."""

    NFS3 = "nfs3"  # RFC 1813
    NFS41 = "nfs4.1"  # RFC 8881
    SMB = "smb"

    @property
    def said(self) -> str:
        return {"nfs3": "NFS 3", "nfs4.1": "NFS 4.1", "smb": "SMB"}[self.value]


class Heard(StrEnum):
    """What a name server answers to a question."""

    FOUND = "found"
    NOTHING = "nothing"  # it knows of no such record
    REFUSED = "refused"  # or it failed
    SILENT = "silent"
    GARBLED = "garbled"


@dataclass(frozen=True, slots=True)
class Looked:
    """An answer to one question; values: addresses or names, in order; why: for all but what was found."""

    heard: Heard
    values: tuple[str, ...] = ()
    why: str = ""


@dataclass(frozen=True, slots=True)
class Resolved:
    """What was found of an address (each of version 4 and 6 by itself) when it was looked for last: what its
    name stands for, and which names the address has.
    """

    at: str
    forward: Looked
    backward: Looked


@dataclass(frozen=True, slots=True)
class FileAddress:
    """An address of the file service. at: as written by clients, of version 4, of 6, or both; name: by which
    they find it; home: number of the node that has it while that can. resolved: as it was looked for last.
    """

    number: int
    name: str
    at: tuple[str, ...]
    home: int
    resolved: tuple[Resolved, ...] = ()
    looked_at: float = 0.0  # seconds since 1970; 0 for never


@dataclass(frozen=True, slots=True)
class FileService:
    """name_server: address and port of that by which names are looked for; empty for none."""

    name_server: str
    addresses: tuple[FileAddress, ...] = ()  # in the order of their addresses

    def numbered(self, number: int) -> FileAddress | None:
        return next((one for one in self.addresses if one.number == number), None)


@dataclass(frozen=True, slots=True)
class ShareUser:
    """Who signs in to a share by SMB. proof: by which nodes know the password, and from which nobody learns
    it; shown: whether somebody has seen the password.
    """

    number: int
    name: str
    right: Right
    proof: str
    shown: bool = False


@dataclass(frozen=True, slots=True)
class Share:
    """A file system on a volume of its own (by number), served at an address of the file service (by number).

    quota: bytes; warn: per cent of it. used: bytes, as the node that serves it told last; fill: how full it
    is by that.
    """

    number: int
    name: str
    volume: int
    address: int
    quota: int
    warn: int = USUAL_WARN
    protocols: tuple[Protocol, ...] = (Protocol.NFS41,)
    rules: tuple[Rule, ...] = ()
    users: tuple[ShareUser, ...] = ()
    used: int = 0
    fill: Fill = Fill.WELL
    fill_since: float = 0.0  # seconds since 1970

    @property
    def own_rules(self) -> tuple[Rule, ...]:
        """Those that people set."""
        return tuple(rule for rule in self.rules if not rule.follows)

    def with_rules(self, own: tuple[Rule, ...], following: tuple[Rule, ...] | None = None) -> Share:
        """following: those that follow nodes; as they are where None. People's come first: of two that cover
        as many addresses theirs decides.
        """
        if following is None:
            following = tuple(rule for rule in self.rules if rule.follows)
        return replace(self, rules=(*own, *following))


@dataclass(frozen=True, slots=True, order=True)
class Mount:
    """That a client, by its address, has mounted a share (by number)."""

    share: int
    client: str
    protocol: Protocol
    read_only: bool = False
    user: str = ""  # by SMB


@dataclass(frozen=True, slots=True)
class Serves:
    """What a node tells of the file service. carries: numbers of the addresses that it has now; mounts: of
    the shares that it serves; refuses: those of which writes are refused for want of room.
    """

    carries: frozenset[int] = frozenset()
    mounts: tuple[Mount, ...] = ()
    refuses: frozenset[int] = field(default_factory=frozenset)


NO_FILES = Serves()
