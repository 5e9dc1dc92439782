"""Volumes made reachable by hosts: the target of a volume, and the attachments to it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from foldbarn.core.hosts.initiators import Transport


class FileSystem(StrEnum):
    """What hosts are to make on a volume."""

    NONE = "none"  # they use it as it is, as a block device
    EXT4 = "ext4"
    XFS = "xfs"
    GFS2 = "gfs2"  # of a cluster of hosts, which write to it together

    @property
    def shared(self) -> bool:
        """Whether several hosts may have it mounted to write to."""
        return self is FileSystem.GFS2


@dataclass(frozen=True, slots=True)
class Attachment:
    """A volume made reachable by a host (by number). at: where it is to be mounted there; empty for no
    place. secret_of: the orchestrator (by number) by one of whose secrets the host has to prove itself; none
    where its name is enough.
    """

    host: int
    transport: Transport
    read_only: bool = False
    at: str = ""
    secret_of: int | None = None


@dataclass(frozen=True, slots=True)
class Target:
    """By what a volume (by number) is reached: gateways are numbers of the nodes that serve it to hosts, the
    preferred one first.
    """

    volume: int
    file_system: FileSystem
    gateways: tuple[int, ...]
    attachments: tuple[Attachment, ...]

    def attachment(self, host: int) -> Attachment | None:
        return next((one for one in self.attachments if one.host == host), None)


@dataclass(frozen=True, slots=True)
class Serving:
    """What a node has to do with hosts. lets_in: target and initiator, as it was told and goes by; sessions:
    target, initiator, and its own address to which that is connected, as it says; proved: initiators, and
    the name of the secret by which each is.
    """

    lets_in: frozenset[tuple[str, str]] = frozenset()
    sessions: frozenset[tuple[str, str, str]] = frozenset()
    proved: frozenset[tuple[str, str]] = frozenset()


NO_SERVING = Serving()
