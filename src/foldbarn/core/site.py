"""SiteView: the immutable picture of a site that computations take.

Small frozen dataclasses for things people name; numpy arrays, built once per view, for things there are many
of. Disks are known by number (the database's key) and by row (their place in this view's arrays).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from functools import cached_property
from typing import TypeVar

import numpy as np

from foldbarn.core.arrays import Disks, Flags, Ints
from foldbarn.core.claims.classes import StorageClass
from foldbarn.core.claims.grants import Grant
from foldbarn.core.claims.kept import KeptClaim, Orchestrator
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.columns import Columns
from foldbarn.core.errors import NotFound
from foldbarn.core.hosts.attachments import NO_SERVING, Serving, Target
from foldbarn.core.hosts.facts import Facts
from foldbarn.core.hosts.initiators import Initiator, Transport
from foldbarn.core.machines.hardware import Reason, clearable
from foldbarn.core.machines.network import Port
from foldbarn.core.names import folded
from foldbarn.core.policies.policy import Policy
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.shares.share import NO_FILES, FileService, Serves, Share
from foldbarn.core.volumes.growth import NO_GROWTH, Growth
from foldbarn.core.volumes.snapshots import Origin, Snapshot, Span


class Contact(StrEnum):
    """Whether a node's agent can be heard."""

    HEARD = "heard"  # its last report is recent and made sense
    SILENT = "silent"  # no answer in time
    GARBLED = "garbled"  # it answers, but not in the agent protocol
    AWAITED = "awaited"  # known from a file, its BMC or the site's text; no agent has reported yet


AWAY = frozenset({Contact.SILENT, Contact.GARBLED})  # was heard once, and is not heard now


class Role(StrEnum):
    """What a disk is for."""

    BOOT = "boot"
    CAPACITY = "capacity"
    CACHE = "cache"  # takes writes first for the capacity disks of its node that are bound to it
    SPARE = "spare"  # of a pool, and stands in for a disk that is given up
    UNCLAIMED = "unclaimed"
    UNFIT = "unfit"


POOLED = frozenset({Role.CAPACITY, Role.CACHE, Role.SPARE})  # roles that belong to a pool


class Tier(StrEnum):
    """Media of a pool by speed. A pool without a fast tier is all bulk."""

    FAST = "fast"
    BULK = "bulk"


class Priority(StrEnum):
    """Who waits when consumers' work and copying want the same disk."""

    CONSUMERS = "consumers"  # copying takes what is left over
    EVEN = "even"  # copying gets at least half of a disk
    COPYING = "copying"  # copying gets all it can use


@dataclass(frozen=True, slots=True)
class Room:
    number: int
    name: str


@dataclass(frozen=True, slots=True)
class Rack:
    number: int
    name: str
    room: int  # row in SiteView.rooms


@dataclass(frozen=True, slots=True)
class Enclosure:
    """A box of disks that several nodes reach: a fault domain beside the nodes, in the rack where it
    stands.
    """

    number: int
    name: str
    rack: int  # row in SiteView.racks
    nodes: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Node:
    """A server. `since` is when its contact last changed, `given_up` whether the grace time has passed since
    then.

    member, keeper: whether it belongs to the cluster, and has a vote in it; clock_offset: seconds its clock
    is ahead of ours.
    """

    number: int
    name: str
    rack: int  # row in SiteView.racks
    contact: Contact
    reason: str = ""
    since: float = 0.0  # seconds since 1970
    given_up: bool = False
    port_bytes_per_second: int = 0  # all storage ports that are up together
    cores: int = 0
    memory_bytes: int = 0
    clock_offset: float | None = None
    ports: tuple[Port, ...] = ()
    member: bool = False
    keeper: bool = False
    dedicated: bool = False  # to storage: nothing else is meant to run there
    agent_url: str = ""
    agent_name: str = ""  # what its agent calls it, where that is another name
    serving: Serving = NO_SERVING
    files: Serves = NO_FILES


@dataclass(frozen=True, slots=True)
class Host:
    """A machine that uses volumes. group: of hosts that stand together; empty for none. agent_url: where it
    tells how it is; empty where nothing on it does. since: when its contact last changed, as of a node.
    """

    number: int
    name: str
    group: str = ""
    initiators: tuple[Initiator, ...] = ()
    agent_url: str = ""
    contact: Contact = Contact.AWAITED
    reason: str = ""
    since: float = 0.0
    facts: Facts = field(default_factory=Facts)

    @property
    def tells(self) -> bool:
        """Whether its facts are how it is now."""
        return self.contact == Contact.HEARD

    def names_for(self, transport: Transport) -> tuple[str, ...]:
        return tuple(one.name for one in self.initiators if one.transport == transport)

    def why_untold(self) -> str:
        """Why nobody knows how it is; for a host that does not tell."""
        if not self.agent_url:
            return f"Nothing on {self.name} tells: it has no agent."
        return f"{self.name} is not heard." if self.contact != Contact.AWAITED else "Not asked yet."


@dataclass(frozen=True, slots=True)
class Disk:
    """A disk. `present` is false when its node reports without it; `reasons` are why it is unfit; `watch` why
    someone should look.
    """

    number: int
    name: str
    bay: str
    node: int  # row in SiteView.nodes
    media: str
    size_bytes: int
    serial: str
    role: Role
    pool: int = -1  # row in SiteView.pools
    present: bool = True
    missing_since: float = 0.0
    given_up: bool = False
    reasons: tuple[Reason, ...] = ()
    watch: tuple[str, ...] = ()
    enclosure: int = -1  # row in SiteView.enclosures
    model: str = ""
    wwn: str = ""
    paths: tuple[str, ...] = ()  # node:name under which it is seen, the first by the node that carries it
    missing_paths: tuple[str, ...] = ()
    lit: bool = False  # its location light
    bus: str = ""  # how it is attached, such as sata, sas, nvme; empty where not known
    tier: Tier = Tier.BULK  # of a capacity disk
    retiring: bool = False  # it is being emptied and takes nothing new
    rated_bytes: int = 0  # what may be written to it in its life (JESD218's TBW); 0 where not known
    role_reason: str = ""  # why a person chose another role than the rule

    @property
    def why(self) -> list[str]:
        """Its reasons as phrases."""
        return [reason.sentence for reason in self.reasons]

    @property
    def clearable(self) -> bool:
        """Whether clearing it would make it fit; never for a boot disk or one in use."""
        return self.role == Role.UNFIT and clearable([reason.code for reason in self.reasons])

    @property
    def writable(self) -> bool:
        """Whether it may be given anything new, as far as the disk itself goes."""
        return not self.retiring and NOT_WRITABLE.isdisjoint(reason.code for reason in self.reasons)


NOT_WRITABLE = frozenset({"read-only", "failing", "shrunk"})
METADATA_SHARE = 100  # one part in this many of a pooled disk holds metadata; common practice is about 1 %
# Of each unit that is compressed: where it lies, how long it is, and its check sum (a measure of our own).
MAP_BYTES = 32


@dataclass(frozen=True, slots=True)
class Pool:
    """Disks that volumes draw from.

    usual: the scheme offered first; strip_bytes: of every strip in it; headroom, headroom_losses: so many
    losses of things at that level must be healable.
    allocation_bytes: sizes of volumes are rounded up to a multiple of it; overcommit_cap: most that may be
    promised over usable.
    rebuild_rate, level_rate: bytes per second over all disks, 0 for no limit; daily_writes: bytes that
    consumers are expected to write in a day. compress_unit: bytes of the units in which its disks compress
    what they hold; 0 for disks that hold it as it is.
    """

    number: int
    name: str
    strip_bytes: int
    usual: Scheme
    headroom: Level | None
    fill_line: float = 0.85
    forming: bool = False  # its disks are still being prepared
    headroom_losses: int = 1
    allocation_bytes: int = 1 << 20
    overcommit_cap: float = 1.0
    encrypted: bool = False
    rebuild_rate: int = 0
    level_rate: int = 0
    priority: Priority = Priority.CONSUMERS
    daily_writes: int = 0
    closing: bool = False  # it is being deleted
    labels: tuple[str, ...] = ()  # what a policy may ask of it by name, in order
    compress_unit: int = 0

    def slots_of(self, size_bytes: int) -> int:
        """Strips that a disk of this size holds after metadata; what is left below one strip goes unused."""
        return slots_of(size_bytes, self.strip_bytes, self.compress_unit)

    @property
    def extent_bytes(self) -> int:
        """Bytes of data in an extent of its usual scheme."""
        return self.usual.k * self.strip_bytes


Bytes = TypeVar("Bytes", int, Ints)


def metadata_of(size_bytes: Bytes, compress_unit: int) -> Bytes:
    """Bytes of a disk, or of each of several, that hold no data: what is known of strips and, where it
    compresses, the map of all units that might be written.
    """
    found = size_bytes // METADATA_SHARE
    return found + size_bytes // compress_unit * MAP_BYTES if compress_unit else found


def slots_of(size_bytes: int, strip_bytes: int, compress_unit: int = 0) -> int:
    """Whole strips on a disk after its metadata."""
    return (size_bytes - metadata_of(size_bytes, compress_unit)) // strip_bytes


NOWHERE = 0  # in a placement: a strip that should lie on a disk, and lies on none
UNWRITTEN = -1  # in a placement: a strip of an extent that was never written


def to_come(disk: Disks) -> Disks:
    """In a placement of what is written anew: strips that are not written yet, for which room is kept on
    disks of these numbers. Applied again it gives the disks' numbers back.
    """
    return -disk - np.int32(1)


class Purpose(StrEnum):
    """What a ply is of its volume."""

    WHOLE = "whole"  # all of it
    LANDING = "landing"  # takes what is written first, until it settles as whole stripes
    PAST = "past"  # holds what was overwritten since snapshots were taken
    HOT = "hot"  # holds on the fast tier what is asked for most, instead of the ply of all of it
    ANEW = "anew"  # to be all of it, once it has been written from what is


@dataclass(frozen=True, eq=False)
class Ply:
    """A part of a volume with a scheme, a tier and a placement of its own; a plain volume has one.

    volume, name: the number and the name of its volume. placement: [extents, strips] of disk numbers, or
    NOWHERE, or UNWRITTEN for all strips of an extent. source: number of the ply that this one is written
    anew from, and 0 for all others; what is not written yet has the number of its disk in `to_come`.
    elsewhere: [extents] which another ply holds instead, of the volume or of its origin, and are UNWRITTEN
    here; None for none.
    """

    number: int
    volume: int
    name: str
    pool: int  # row in SiteView.pools
    scheme: Scheme
    placement: Disks
    tier: Tier = Tier.BULK
    forming: bool = False  # its strips are still being made
    purpose: Purpose = Purpose.WHOLE
    source: int = 0
    elsewhere: Flags | None = None

    @property
    def extents(self) -> int:
        return len(self.placement)

    @property
    def part(self) -> tuple[int, int]:
        """Tells it from what is on its way into a ply of the same number from another one."""
        return self.number, self.source

    @cached_property
    def extents_here(self) -> int:
        """Extents that no other ply holds instead."""
        return self.extents - (0 if self.elsewhere is None else int(self.elsewhere.sum()))

    @cached_property
    def extents_set_aside(self) -> int:
        """Of the extents here, those for which room is set aside on disks; of a thin volume not all are."""
        return self.extents - int(self.unwritten.sum())

    # What is found out of a placement is kept with it: a ply stays while the site around it changes.

    @cached_property
    def extents_somewhere(self) -> int:
        """Extents with at least one strip on a disk."""
        if self.placement.size and self.placement.min() > 0:
            return self.extents  # by far the most usual, and many times quicker to see
        return int((self.placement > 0).any(axis=1).sum())

    @cached_property
    def disk_numbers(self) -> Disks:
        """Of the disks where strips lie, or where room is kept for them, each once."""
        kept = self.placement if not self.source else np.maximum(self.placement, to_come(self.placement))
        numbers = np.unique(kept)
        found: Disks = numbers[numbers > 0]
        return found

    @cached_property
    def has_gaps(self) -> bool:
        """Whether a strip of what was written lies on no disk."""
        if self.placement.size and self.placement.min() > 0:
            return False
        return bool(((self.placement <= 0) & ~self.unwritten[:, None]).any())

    @cached_property
    def made_as(self) -> tuple[str, str, tuple[object, ...], int, int]:
        """What a ply has in common with others like it, wherever they lie: also whether all of it is set
        aside.
        """
        scheme, aside = self.scheme, self.extents_here - self.extents_set_aside
        how = (scheme.k, scheme.m, str(scheme.level), scheme.per_domain)
        return str(self.purpose), str(self.tier), how, self.extents, aside

    @cached_property
    def unwritten(self) -> Flags:
        """Whether each extent was never written, [extents]."""
        flags: Flags = self.placement[:, 0] == UNWRITTEN
        return flags


@dataclass(frozen=True, slots=True)
class Short:
    """What a volume wants and finds no room for: extents, and whether its nodes refuse writes for it."""

    extents: int
    refuses: bool


@dataclass(frozen=True, slots=True)
class Binned:
    """Since when a volume is in the bin, and until when it is kept there; seconds since 1970."""

    since: float
    until: float


class VmPart(StrEnum):
    """What a volume is of a virtual machine."""

    CONFIGURATION = "configuration"  # how it is set up, its firmware's variables, its log
    DISK = "disk"
    SWAP = "swap"  # where its host puts memory aside; there while it is switched on, and no longer
    MEMORY = "memory"  # what its memory held at a snapshot


@dataclass(frozen=True, slots=True)
class PartOf:
    """That a volume is part of a virtual machine (by number); place: of several disks, from 1; of what its
    memory held the number of the snapshot of its configuration that was taken at the same moment.
    """

    vm: int
    what: VmPart
    place: int = 0


@dataclass(frozen=True, slots=True)
class Vm:
    """A virtual machine: the volumes that are part of it. disks: what each is called there, as it was made;
    empty for no name. host: on which it is switched on (by number); None where it is on none. resumes: the
    place of what its memory held, with which it goes on when it is switched on next; None for none. template:
    it stays off, and others are made from it.
    """

    number: int
    name: str
    cpus: int
    memory_bytes: int
    disks: tuple[str, ...] = ()
    host: int | None = None
    resumes: int | None = None
    template: bool = False


@dataclass(frozen=True, slots=True)
class Guest:
    """A virtual machine as its host tells of it, ours or another. uuid: in small letters; paused: it is on,
    and stands still.
    """

    uuid: str
    name: str
    on: bool
    memory_bytes: int
    paused: bool = False


@dataclass(frozen=True, slots=True)
class VmHost:
    """That a host (by number) runs virtual machines, and is asked to by an account of its own. identity: the
    UUID of its service; missing: what the account may not do, and should; contact, reason, since: of that
    service, as of a node. guests: as it told last.
    """

    host: int
    url: str
    user: str
    identity: str
    cpus: int
    memory_bytes: int
    missing: tuple[str, ...] = ()
    contact: Contact = Contact.AWAITED
    reason: str = ""
    since: float = 0.0
    guests: tuple[Guest, ...] = ()

    def guest(self, uuid: str) -> Guest | None:
        return next((guest for guest in self.guests if guest.uuid == uuid), None)


@dataclass(frozen=True, slots=True)
class OnlyOn:
    """Nodes and disks, by number, of which alone some may hold the strips of a volume; none of either where
    any disk of its pool may.
    """

    nodes: frozenset[int] = frozenset()
    disks: frozenset[int] = frozenset()

    def __bool__(self) -> bool:
        return bool(self.nodes or self.disks)


ANYWHERE = OnlyOn()
USUAL_SERVING = 2  # nodes that serve a volume to hosts, so that losing one leaves it reachable


@dataclass(frozen=True, slots=True, eq=False)
class Volume:
    """A volume, and the plies that hold it: that of all of it comes first. anew: what is to hold it instead,
    or some extents of it, while that is being written.

    Where it has a hot ply, each extent of the ply of all of it lies there or, as so many extents of one strip
    of data, in the hot one; what moves between them is written anew from the one into the other.

    Where it has an origin, what is elsewhere is read from there. Of a copy that is written anew into the ply
    of all of it, extent by extent, and it has no hot ply until it stands alone.
    """

    number: int
    name: str
    pool: int  # row in SiteView.pools
    size_bytes: int
    plies: tuple[Ply, ...]
    forming: bool = False
    written_bytes: int = 0  # of its data, as far as its nodes have told
    policy: tuple[int, int] | None = None  # number and version of the policy that it keeps
    anew: Ply | None = None
    waiting_bytes: int = 0  # of what was written, in its landing, as far as its nodes have told
    thin: bool = False  # made without a policy, and to take room as it is written
    short: Short | None = None  # that it wants room which is not there
    growth: Growth = NO_GROWTH  # how fast room was set aside for it lately
    asked: float = 0.0  # operations a second that its consumers got lately, as it was when that was news
    offline: bool = False  # a person took it from its consumers, and may give it back
    binned: Binned | None = None  # it was deleted, and can still be brought back
    erasing: bool = False  # its strips are being dropped, for good
    snapshots: tuple[Snapshot, ...] = ()  # oldest first
    spans: tuple[Span, ...] = ()  # what these hold beside it, as far as its nodes have told
    origin: Origin | None = None  # what it reads from; none where it stands alone
    labels: tuple[str, ...] = ()  # by which people find it, in order
    operations: int = (
        0  # that consumers may ask of it in a second, beside what its policy says; 0 for no limit
    )
    throughput: int = 0  # the same in bytes
    serving_nodes: int = USUAL_SERVING  # that are to serve it to hosts, each by all of its ports for that
    only_on: OnlyOn = ANYWHERE  # where its strips may lie
    parked: bool = False  # its consumers wait, while it goes into another pool
    part: PartOf | None = None  # of a virtual machine

    @property
    def served(self) -> bool:
        """Whether consumers may use it, as far as that is for people to say."""
        return not self.offline and self.binned is None

    @property
    def whole(self) -> Ply:
        """The ply of all of it."""
        return self.plies[0]

    @property
    def landing(self) -> Ply | None:
        """The ply that takes what is written first; none where all of it goes where it belongs at once."""
        return next((ply for ply in self.plies if ply.purpose == Purpose.LANDING), None)

    @property
    def hot(self) -> Ply | None:
        """The ply that holds what is asked for most; none where all of it lies alike."""
        return next((ply for ply in self.plies if ply.purpose == Purpose.HOT), None)

    @property
    def past(self) -> Ply | None:
        """The ply that holds what was overwritten since snapshots were taken; none where there are none."""
        return next((ply for ply in self.plies if ply.purpose == Purpose.PAST), None)

    @property
    def marks(self) -> tuple[int, ...]:
        """Numbers of the snapshots that its nodes are to know of, oldest first."""
        return tuple(snapshot.number for snapshot in self.snapshots if not snapshot.lost)

    @property
    def upper(self) -> Flags:
        """Which extents of the ply of all of it lie in the hot one instead, [extents]."""
        away = self.whole.elsewhere if self.origin is None else None
        return np.zeros(self.whole.extents, dtype=np.bool_) if away is None else away

    @property
    def through(self) -> Flags:
        """Which extents of the ply of all of it are read from its origin, [extents]."""
        away = self.whole.elsewhere if self.origin is not None else None
        return np.zeros(self.whole.extents, dtype=np.bool_) if away is None else away

    @property
    def extents(self) -> int:
        return sum(ply.extents_here for ply in self.plies) + int(self.through.sum())

    @property
    def every_ply(self) -> tuple[Ply, ...]:
        """Those that hold it, and what is to hold it instead."""
        return self.plies if self.anew is None else (*self.plies, self.anew)


def plain_volume(
    number: int,
    name: str,
    pool: int,
    size_bytes: int,
    scheme: Scheme,
    placement: Disks,
    *,
    ply: int | None = None,
    tier: Tier = Tier.BULK,
    forming: bool = False,
    written_bytes: int = 0,
) -> Volume:
    """A volume of one ply. ply: its number; that of the volume when None."""
    whole = Ply(number if ply is None else ply, number, name, pool, scheme, placement, tier, forming)
    return Volume(number, name, pool, size_bytes, (whole,), forming, written_bytes)


@dataclass(frozen=True, slots=True)
class Cluster:
    """The nodes that decide together. leader and term as last heard from its members; forming until its
    leading role has been handed on and back.
    """

    name: str
    service_address: str
    witness: str = ""  # name; empty where there is none
    witness_url: str = ""
    witness_room: str = ""  # where it stands; empty: apart from all
    witness_rack: str = ""
    encrypted: bool = False
    forming: bool = False
    leader: str = ""
    term: int = 0
    mail_to: str = ""
    witness_silent: str = ""  # why the witness is not heard; empty while it is
    witness_reason: str = ""  # why it stands beside members, as the one who placed it there wrote


Found = TypeVar("Found")
Named = TypeVar(
    "Named", Room, Rack, Node, Disk, Pool, Volume, Policy, Host, Vm, Share, Orchestrator, StorageClass
)


@dataclass(frozen=True, eq=False)
class SiteView:
    """Everything the computations need to know of a site, at one revision."""

    name: str
    revision: int
    rooms: tuple[Room, ...] = ()
    racks: tuple[Rack, ...] = ()
    nodes: tuple[Node, ...] = ()
    disks: tuple[Disk, ...] = ()
    pools: tuple[Pool, ...] = ()
    volumes: tuple[Volume, ...] = ()
    incoming: dict[int, int] = field(default_factory=dict)  # disk number -> strips on their way to it
    # The same strip by strip: (ply, extent, strip) -> number of the disk it goes to.
    under_way: Mapping[tuple[int, int, int], int] = field(default_factory=dict)
    enclosures: tuple[Enclosure, ...] = ()
    cluster: Cluster | None = None
    mark: str = ""  # what distinguishes this site's disks from another site's
    closed_ports: tuple[
        tuple[str, str, int, str], ...
    ] = ()  # from node, to node, port, why: what the last test of the port plan found shut
    ports_tested_at: float = 0.0  # seconds since 1970; 0 for never
    policies: tuple[Policy, ...] = ()  # every version of each, by name and version
    hosts: tuple[Host, ...] = ()
    targets: tuple[Target, ...] = ()  # of the volumes that hosts reach, or are to
    orchestrators: tuple[Orchestrator, ...] = ()  # by name
    classes: tuple[StorageClass, ...] = ()  # by name
    grants: tuple[Grant, ...] = ()  # by orchestrator, namespace and policy
    vms: tuple[Vm, ...] = ()  # by name
    vm_hosts: tuple[VmHost, ...] = ()  # by number of the host
    files: FileService | None = None  # where it is switched on
    shares: tuple[Share, ...] = ()  # by name
    claims: tuple[KeptClaim, ...] = ()  # by orchestrator, namespace and name; also those of which all is over
    before: Columns = field(default_factory=Columns)  # of the picture before this one

    @cached_property
    def columns(self) -> Columns:
        """What was found of each volume alone, also in the picture before this one."""
        return self.before.carried_to(self.volumes)

    @cached_property
    def findings(self) -> dict[object, object]:
        """What computations have found out about this very picture and want to keep with it, by their own
        keys.
        """
        return {}

    @cached_property
    def node_disks(self) -> list[list[Disk]]:
        """The disks that each node carries, [nodes]."""
        found: list[list[Disk]] = [[] for _ in self.nodes]
        for disk in self.disks:
            found[disk.node].append(disk)
        return found

    # Arrays over disks, [disks]. -----------------------------------------------------------------

    @cached_property
    def disk_node(self) -> Ints:
        return np.array([d.node for d in self.disks], dtype=np.int64)

    @cached_property
    def disk_box(self) -> Ints:
        """What each disk fails with at the level of nodes: its node's row, or len(nodes) + its enclosure's
        row.
        """
        return np.array(
            [d.node if d.enclosure < 0 else len(self.nodes) + d.enclosure for d in self.disks], dtype=np.int64
        )

    @cached_property
    def disk_rack(self) -> Ints:
        racks: Ints = np.array(
            [n.rack for n in self.nodes] + [e.rack for e in self.enclosures], dtype=np.int64
        )
        return racks[self.disk_box] if self.disks else self.disk_node

    @cached_property
    def disk_room(self) -> Ints:
        rooms: Ints = np.array([r.room for r in self.racks], dtype=np.int64)
        return rooms[self.disk_rack] if self.disks else self.disk_node

    def domain_of(self, level: Level) -> Ints:
        """Row of each disk's domain at a level, [disks]."""
        match level:
            case Level.ROOM:
                return self.disk_room
            case Level.RACK:
                return self.disk_rack
            case Level.NODE:
                return self.disk_box
            case Level.DISK:
                return np.arange(len(self.disks), dtype=np.int64)

    def domain_names(self, level: Level) -> list[str]:
        """Names by domain row."""
        things: dict[Level, tuple[Room | Rack | Node | Enclosure | Disk, ...]] = {
            Level.ROOM: self.rooms,
            Level.RACK: self.racks,
            Level.NODE: (*self.nodes, *self.enclosures),
            Level.DISK: self.disks,
        }
        return [thing.name for thing in things[level]]

    @cached_property
    def disk_sizes(self) -> Ints:
        return np.array([d.size_bytes for d in self.disks], dtype=np.int64)

    @cached_property
    def disk_pool(self) -> Ints:
        """Row of the pool for which each disk holds strips; -1 for a disk that holds none: outside pools,
        cache or spare.
        """
        return np.array([d.pool if d.role == Role.CAPACITY else -1 for d in self.disks], dtype=np.int64)

    @cached_property
    def disk_fast(self) -> Flags:
        return np.array([d.tier == Tier.FAST for d in self.disks], dtype=np.bool_)

    @cached_property
    def disk_media(self) -> np.ndarray:
        """Words, [disks]."""
        return np.array([d.media for d in self.disks])

    @cached_property
    def disk_retiring(self) -> Flags:
        return np.array([d.retiring for d in self.disks], dtype=np.bool_)

    @cached_property
    def disk_most(self) -> Ints:
        """Strips each disk could hold for its pool by its size; 0 for a disk that holds none."""
        found = np.zeros(len(self.disks), dtype=np.int64)
        for row, pool in enumerate(self.pools):
            mine = self.disk_pool == row
            sizes = self.disk_sizes[mine]
            found[mine] = (sizes - metadata_of(sizes, pool.compress_unit)) // pool.strip_bytes
        return found

    @cached_property
    def disk_slots(self) -> Ints:
        """The same, but 0 for a disk that is being emptied."""
        return np.where(self.disk_retiring, 0, self.disk_most) if self.disks else self.disk_most

    @cached_property
    def disk_ready(self) -> Flags:
        """Disks that can be read and written now: present, and their node is heard."""
        heard = np.array([n.contact == Contact.HEARD for n in self.nodes], dtype=np.bool_)
        present = np.array([d.present for d in self.disks], dtype=np.bool_)
        return present & heard[self.disk_node] if self.disks else present

    def all_ready(self, numbers: Disks) -> bool:
        """Whether all of some disks, by number, can be read and written now."""
        return bool(self.ready_by_number[numbers].all())

    @cached_property
    def ready_by_number(self) -> Flags:
        """`disk_ready` by number of the disk, as row_of_number has it."""
        flags: Flags = np.append(self.disk_ready, False)[self.row_of_number]
        return flags

    def is_fit(self, disk: Disk) -> bool:
        """Whether a pool may take a disk now: nothing is against it, nobody has it, and it can be told."""
        heard = self.nodes[disk.node].contact == Contact.HEARD
        return disk.role == Role.UNCLAIMED and disk.pool < 0 and disk.present and heard

    @cached_property
    def disk_open(self) -> Flags:
        """Disks that can take new strips now."""
        writable = np.array([d.writable for d in self.disks], dtype=np.bool_)
        return writable & self.disk_ready

    @cached_property
    def disk_given_up(self) -> Flags:
        """Disks that have been away longer than the grace time, or are away and being retired: what they held
        is to be rebuilt elsewhere.
        """
        nodes = np.array([n.given_up for n in self.nodes], dtype=np.bool_)
        disks = np.array([d.given_up for d in self.disks], dtype=np.bool_)
        return (
            disks | nodes[self.disk_node] | (self.disk_retiring & ~self.disk_ready) if self.disks else disks
        )

    @cached_property
    def row_of_number(self) -> Disks:
        """Row of each disk number; numbers without a disk, NOWHERE, UNWRITTEN and what is to come have the
        last row + 1.
        """
        # As many more, at which numbers below 0 point.
        size = 2 * (max((d.number for d in self.disks), default=0) + 2)
        rows = np.full(size, len(self.disks), dtype=np.int32)
        rows[[d.number for d in self.disks]] = np.arange(len(self.disks), dtype=np.int32)
        return rows

    @cached_property
    def disk_numbers(self) -> Disks:
        return np.array([d.number for d in self.disks], dtype=np.int32)

    def rows(self, ply: Ply) -> Disks:
        """A ply's placement as disk rows; len(disks) stands for no disk."""
        return self.row_of_number[ply.placement]

    def rows_kept_for(self, ply: Ply) -> Disks:
        """Disk rows where strips lie, or where room is kept for them; len(disks) for neither."""
        if ply.source == 0:
            return self.rows(ply)
        waits = ply.placement < UNWRITTEN
        return self.row_of_number[np.where(waits, to_come(ply.placement), ply.placement)]

    @cached_property
    def plies(self) -> tuple[Ply, ...]:
        """All plies that hold data, volume by volume."""
        return tuple(ply for volume in self.volumes for ply in volume.plies)

    @cached_property
    def plies_anew(self) -> tuple[Ply, ...]:
        """What is being written anew, and holds no volume yet."""
        return tuple(volume.anew for volume in self.volumes if volume.anew is not None)

    @cached_property
    def ply_numbered(self) -> dict[int, Ply]:
        """Every ply, also what is written anew, by number. Where some of a ply is, that and the rest of it
        are one.
        """
        found = {ply.number: ply for ply in self.plies}
        for ply in self.plies_anew:
            rest = found.get(ply.number)
            if rest is None:
                found[ply.number] = ply
                continue
            comes = (ply.placement[:, 0] != UNWRITTEN)[:, None]
            found[ply.number] = replace(rest, placement=np.where(comes, ply.placement, rest.placement))
        return found

    @cached_property
    def disk_moving(self) -> Ints:
        """Strips on their way to each disk, and all those of what is written anew, [disks]: they take room
        and hold no volume yet.
        """
        moving = np.zeros(len(self.disks) + 1, dtype=np.int64)
        for number, strips in self.incoming.items():
            moving[self.row_of_number[number]] += strips
        for ply in self.plies_anew:
            moving += np.bincount(self.rows_kept_for(ply).reshape(-1), minlength=len(moving))
        if self.plies_anew:
            # The room that was kept for a strip is what it goes into.
            of = {ply.number: self.rows_kept_for(ply) for ply in self.plies_anew}
            for number, extent, strip in self.under_way:
                if number in of and int(self.ply_numbered[number].placement[extent, strip]) < UNWRITTEN:
                    moving[of[number][extent, strip]] -= 1
        return moving[:-1]

    @cached_property
    def disk_used(self) -> Ints:
        """Strips held by each disk, [disks]; on their way counts as held."""
        nothing = np.zeros(0, dtype=np.int32)
        # One count for all: there may be hundreds of small plies.
        placed = np.concatenate([nothing, *(ply.placement.reshape(-1) for ply in self.plies)])
        used = np.bincount(self.row_of_number[placed], minlength=len(self.disks) + 1)
        return used[:-1] + self.disk_moving

    @cached_property
    def disk_free(self) -> Ints:
        """Strips each disk can still take, whether or not it can be reached now."""
        free: Ints = np.maximum(self.disk_slots - self.disk_used, 0)
        return free

    # Finding by name, for which case does not matter, and by number. All raise NotFound. -----------

    def pool(self, name: str) -> Pool:
        return _find(self.pools, name, "pool")

    @cached_property
    def current_policies(self) -> tuple[Policy, ...]:
        """The newest version of each policy, by name."""
        return tuple(policy for policy in self.policies if policy.current)

    def policy(self, name: str) -> Policy:
        return _find(self.current_policies, name, "policy")

    def policy_of(self, volume: Volume) -> Policy | None:
        """The version of the policy that a volume keeps; none where it was made without one."""
        return None if volume.policy is None else self._policies_by_version.get(volume.policy)

    @cached_property
    def _policies_by_version(self) -> dict[tuple[int, int], Policy]:
        return {(policy.number, policy.version): policy for policy in self.policies}

    def volume(self, name: str) -> Volume:
        return _find(self.volumes, name, "volume")

    def node(self, name: str) -> Node:
        return _find(self.nodes, name, "node")

    def host(self, name: str) -> Host:
        return _find(self.hosts, name, "host")

    def host_numbered(self, number: int) -> Host:
        return _numbered(self._hosts_by_number, number, "host")

    @cached_property
    def _hosts_by_number(self) -> dict[int, Host]:
        return {host.number: host for host in self.hosts}

    def vm(self, name: str) -> Vm:
        return _find(self.vms, name, "VM")

    def vm_numbered(self, number: int) -> Vm:
        return _numbered(self._vms_by_number, number, "VM")

    @cached_property
    def _vms_by_number(self) -> dict[int, Vm]:
        return {vm.number: vm for vm in self.vms}

    def vm_host(self, host: int) -> VmHost | None:
        """That of a host (by number); None where it runs no virtual machines."""
        return next((one for one in self.vm_hosts if one.host == host), None)

    def volumes_of_vm(self, vm: Vm) -> list[Volume]:
        """Those that are part of it, in no order."""
        return self._volumes_by_vm.get(vm.number, [])

    @cached_property
    def _volumes_by_vm(self) -> dict[int, list[Volume]]:
        found: dict[int, list[Volume]] = {}
        for volume in self.volumes:
            if volume.part is not None:
                found.setdefault(volume.part.vm, []).append(volume)
        return found

    def share(self, name: str) -> Share:
        return _find(self.shares, name, "share")

    def share_numbered(self, number: int) -> Share:
        return _numbered({share.number: share for share in self.shares}, number, "share")

    def share_of(self, volume: int) -> Share | None:
        """That which lies on a volume (by number); none where none does."""
        return self._shares_by_volume.get(volume)

    @cached_property
    def _shares_by_volume(self) -> dict[int, Share]:
        return {share.volume: share for share in self.shares}

    def orchestrator(self, name: str) -> Orchestrator:
        return _find(self.orchestrators, name, "orchestrator")

    def orchestrator_numbered(self, number: int) -> Orchestrator:
        return _numbered({one.number: one for one in self.orchestrators}, number, "orchestrator")

    def storage_class(self, name: str) -> StorageClass:
        return _find(self.classes, name, "class")

    def policy_numbered(self, number: int) -> Policy:
        """Its newest version."""
        return _numbered(self._current_by_number, number, "policy")

    @cached_property
    def _current_by_number(self) -> dict[int, Policy]:
        return {policy.number: policy for policy in self.current_policies}

    def claim_numbered(self, number: int) -> KeptClaim:
        return _numbered(self._claims_by_number, number, "claim")

    @cached_property
    def _claims_by_number(self) -> dict[int, KeptClaim]:
        return {kept.number: kept for kept in self.claims}

    def claim_of(self, volume: int) -> KeptClaim | None:
        """The claim that a volume (by number) was made for, as long as that is not over."""
        found = self.last_claim_of(volume)
        return None if found is None or found.life is Life.OVER else found

    def last_claim_of(self, volume: int) -> KeptClaim | None:
        """The same, also where that is over: what lies on the volume was made for it."""
        return self._claims_by_volume.get(volume)

    @cached_property
    def _claims_by_volume(self) -> dict[int, KeptClaim]:
        return {kept.volume: kept for kept in self.claims if kept.volume}

    @cached_property
    def claims_waiting(self) -> tuple[KeptClaim, ...]:
        """Those for which nothing is made yet."""
        return tuple(kept for kept in self.claims if kept.life is Life.WAITING)

    def target_of(self, volume: int) -> Target | None:
        """Of a volume (by number); none where no host is to reach it."""
        return self._targets.get(volume)

    @cached_property
    def _targets(self) -> dict[int, Target]:
        return {target.volume: target for target in self.targets}

    def disk(self, name: str) -> Disk:
        found = self.known_disk(name)
        if found is None:
            raise _not_there(name, "disk")
        return found

    def known_disk(self, name: str) -> Disk | None:
        """The disk of that name; none where there is none."""
        return self._disks_by_name.get(folded(name))

    def pool_numbered(self, number: int) -> Pool:
        row = self._pool_rows.get(number)
        if row is None:
            raise NotFound("The pool is gone.", about="pool")
        return self.pools[row]

    def volume_numbered(self, number: int) -> Volume:
        return _numbered(self._volumes_by_number, number, "volume")

    def known_volume(self, number: int) -> Volume | None:
        """The volume of that number; none where there is none."""
        return self._volumes_by_number.get(number)

    @cached_property
    def _volumes_by_number(self) -> dict[int, Volume]:
        return {volume.number: volume for volume in self.volumes}

    def node_numbered(self, number: int) -> Node:
        return _numbered(self._nodes_by_number, number, "node")

    @cached_property
    def _nodes_by_number(self) -> dict[int, Node]:
        return {node.number: node for node in self.nodes}

    def disk_numbered(self, number: int) -> Disk:
        found = self.known_number(number)
        if found is None:
            raise NotFound("The disk is gone.", about="disk")
        return found

    def known_number(self, number: int) -> Disk | None:
        """The disk of that number; none where there is none."""
        rows = self.row_of_number
        row = int(rows[number]) if 0 <= number < len(rows) else len(self.disks)
        return self.disks[row] if row < len(self.disks) else None

    def called(self, names: Mapping[str, Mapping[str, int]]) -> SiteView:
        """The site with some of its things under other names: number by name, by kind of thing."""

        def renamed(things: tuple[Named, ...], kind: str) -> tuple[Named, ...]:
            name_of = {number: name for name, number in names.get(kind, {}).items()}
            return tuple(replace(t, name=name_of.get(t.number, t.name)) for t in things)

        return replace(
            self,
            pools=renamed(self.pools, "pool"),
            volumes=renamed(self.volumes, "volume"),
            nodes=renamed(self.nodes, "node"),
            disks=renamed(self.disks, "disk"),
            policies=renamed(self.policies, "policy"),
            hosts=renamed(self.hosts, "host"),
            vms=renamed(self.vms, "vm"),
            shares=renamed(self.shares, "share"),
            orchestrators=renamed(self.orchestrators, "orchestrator"),
            classes=renamed(self.classes, "class"),
        )

    @cached_property
    def _disks_by_name(self) -> dict[str, Disk]:
        return {folded(d.name): d for d in self.disks}

    @cached_property
    def _pool_rows(self) -> dict[int, int]:
        return {pool.number: row for row, pool in enumerate(self.pools)}

    def pool_row(self, pool: Pool) -> int:
        return self._pool_rows[pool.number]

    def in_pool(self, pool: Pool, tier: Tier | None = None) -> Ints:
        """Rows of the disks that hold strips for a pool, or for one tier of it. Found once."""
        key = (pool.number, tier)
        if key not in self._rows_in:
            mine = self.disk_pool == self.pool_row(pool)
            if tier is not None and len(mine):
                mine &= self.disk_fast == (tier == Tier.FAST)
            self._rows_in[key] = np.flatnonzero(mine)
            self._rows_in[key].flags.writeable = False
        return self._rows_in[key]

    @cached_property
    def _rows_in(self) -> dict[tuple[int, Tier | None], Ints]:
        return {}

    def all_of(self, pool: Pool) -> list[Disk]:
        """Every disk of a pool: capacity, cache and spare."""
        return self._disks_in.get(self.pool_row(pool), [])

    @cached_property
    def _disks_in(self) -> dict[int, list[Disk]]:
        """By row of the pool."""
        found: dict[int, list[Disk]] = {}
        for disk in self.disks:
            found.setdefault(disk.pool, []).append(disk)
        return found

    def tiers_of(self, pool: Pool) -> list[Tier]:
        """The tiers a pool has, bulk first."""
        return [Tier.BULK, *([Tier.FAST] if len(self.in_pool(pool, Tier.FAST)) else [])]

    def volumes_of(self, pool: Pool) -> list[Volume]:
        row = self.pool_row(pool)
        return [v for v in self.volumes if v.pool == row]

    @cached_property
    def volumes_kept(self) -> tuple[Volume, ...]:
        """Those that nobody has deleted: not those in the bin."""
        return tuple(v for v in self.volumes if v.binned is None)

    def plies_of(self, pool: Pool, tier: Tier | None = None) -> list[Ply]:
        """The plies that hold data in a pool, or in one tier of it."""
        row = self.pool_row(pool)
        return [p for p in self.plies if p.pool == row and (tier is None or p.tier == tier)]

    def every_ply_of(self, pool: Pool) -> list[Ply]:
        """Those, and what is written anew there."""
        row = self.pool_row(pool)
        return [p for p in (*self.plies, *self.plies_anew) if p.pool == row]

    def data_bytes(self, ply: Ply) -> int:
        """Bytes of data in an extent of a ply."""
        return ply.scheme.k * self.pools[ply.pool].strip_bytes

    def disks_where(self, test: Callable[[Disk], bool]) -> list[Disk]:
        return [d for d in self.disks if test(d)]


def _find(things: tuple[Named, ...], name: str, kind: str) -> Named:
    wanted = folded(name)
    for thing in things:
        if folded(thing.name) == wanted:
            return thing
    raise _not_there(name, kind)


def _numbered(things: Mapping[int, Found], number: int, kind: str) -> Found:
    found = things.get(number)
    if found is None:
        raise NotFound(f"The {kind} is gone.", about=kind)
    return found


def _not_there(name: str, kind: str) -> NotFound:
    return NotFound(f"There is no {kind} named '{name}'.", about=kind)
