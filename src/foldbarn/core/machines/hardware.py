"""What is known of a node's hardware, and the verdict on every disk."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field, replace
from typing import NamedTuple

from foldbarn.core.machines.health import Health
from foldbarn.core.machines.identity import Sight, same_disks
from foldbarn.core.units import GB, say_count, say_list, say_size

SMALLEST_BYTES = GB  # a disk under this is not worth pooling; common practice
# the FSTYPE that an agent writes to a disk it prepared; its LABEL is the pool, its UUID the site's mark
POOL_SIGNATURE = "foldbarn_strips"
RAID_SIGNATURES = (
    "linux_raid_member",
    "isw_raid_member",
    "ddf_raid_member",
    "nvidia_raid_member",
    "via_raid_member",
    "promise_fasttrack_raid_member",
)

# Reasons that clearing a disk does away with. Everything else is how the disk is, or what it is used for.
CLEARABLE = frozenset({"partition-table", "signature", "claimed", "marked"})


class Reason(NamedTuple):
    """Why a disk is unfit: a code for rules, and a sentence without capital and full stop for people.

    about: what the code is about; the pool's name, where the disk carries the mark of one of this site
    ("marked").
    """

    code: str
    sentence: str
    about: str = ""


@dataclass(frozen=True, slots=True)
class ReportedDisk:
    """One disk as its node sees it. `bay` is where it sits ("boot", "c1", "4"), the kernel's name where
    unknown.
    """

    bay: str
    kernel_name: str
    serial: str
    wwn: str  # plain form, see core.identity
    model: str
    media: str
    size_bytes: int
    boot: bool = False
    mounted: tuple[str, ...] = ()
    partition_table: str = ""
    partitions: int = 0
    signature: str = ""
    label: str = ""
    owner: str = ""  # the mark of the site whose pool prepared it
    read_only: bool = False
    removable: bool = False
    health: Health = field(default_factory=Health)
    paths: tuple[str, ...] = ()  # kernel names under which the node sees it
    enclosure: str = ""  # id of the box it says it stands in
    bus: str = ""  # as lsblk's TRAN; empty where not known
    rated_bytes: int = 0  # bytes that may be written in its life; 0 where not known
    # false where only the BMC or a text tells of it: nobody has looked at what it carries
    inspected: bool = True

    @property
    def identity(self) -> str:
        """See core.identity.Sight."""
        return Sight("", self.kernel_name, self.wwn, self.serial, self.model).identity


@dataclass(frozen=True, slots=True)
class ReportedPort:
    """One network port: up or not, its speed in bytes per second and what it is for."""

    name: str
    purpose: str
    up: bool
    bytes_per_second: int
    mtu: int = 1500
    addresses: tuple[str, ...] = ()
    neighbour: str = ""


@dataclass(frozen=True, slots=True)
class Inventory:
    """Everything one source says of a node. room and rack are empty where the source does not know."""

    node: str
    room: str = ""
    rack: str = ""
    position: int = 0
    cores: int = 0
    memory_bytes: int = 0
    disks: tuple[ReportedDisk, ...] = ()
    ports: tuple[ReportedPort, ...] = ()


@dataclass(frozen=True, slots=True)
class Verdict:
    """Fit or not, with every reason, not only the first; `watch` are reasons to look at a fit disk."""

    reasons: tuple[Reason, ...] = ()
    watch: tuple[str, ...] = ()

    @property
    def fit(self) -> bool:
        return not self.reasons


def clearable(codes: Collection[str]) -> bool:
    """Whether clearing would make the disk fit: it is unfit only for what it carries."""
    return bool(codes) and CLEARABLE.issuperset(codes)


def judge(disk: ReportedDisk, *, site_mark: str = "", pool: str | None = None) -> Verdict:
    """Whether a disk may be used, from what its node says of it.

    site_mark: the mark of this site; pool: name of the pool it belongs to, None outside pools.
    """
    reasons: list[Reason] = []
    if disk.boot:
        reasons.append(Reason("boot", "its node boots from it"))
    elif disk.mounted:
        reasons.append(Reason("mounted", f"it is in use at {say_list(list(disk.mounted))}"))
    if disk.partition_table and not disk.boot:
        inside = f" with {say_count(disk.partitions, 'partition')}" if disk.partitions else ""
        reasons.append(
            Reason("partition-table", f"it carries a {disk.partition_table} partition table{inside}")
        )
    if disk.signature and not disk.boot:
        reasons += _signature(disk, site_mark, pool)
    if disk.size_bytes < SMALLEST_BYTES:
        reasons.append(
            Reason(
                "too-small",
                f"it is too small: {disk.size_bytes:,} bytes, where {say_size(SMALLEST_BYTES)} is the least",
            )
        )
    if disk.read_only:
        reasons.append(Reason("read-only", "it is read-only"))
    if disk.removable:
        reasons.append(Reason("removable", "it is removable"))
    reasons += [Reason("failing", sentence) for sentence in disk.health.failing()]
    if not disk.identity:
        reasons.append(
            Reason(
                "nameless",
                "it shows neither a serial number nor a world-wide name, so it could not be told from others",
            )
        )
    return Verdict(tuple(reasons), tuple(disk.health.watch()))


def _signature(disk: ReportedDisk, site_mark: str, pool: str | None) -> list[Reason]:
    if disk.signature != POOL_SIGNATURE:
        kind = "RAID" if disk.signature in RAID_SIGNATURES else "file-system"
        return [Reason("signature", f"it carries a {kind} signature ({disk.signature})")]
    if disk.owner != site_mark:
        return [Reason("claimed", f"another site has claimed it for its pool '{disk.label}'")]
    if pool is None or disk.label != pool:
        return [Reason("marked", f"it still carries the mark of pool '{disk.label}'", disk.label)]
    return []


def join_paths(node: str, disks: list[ReportedDisk]) -> list[ReportedDisk]:
    """Entries of one node that are the same disk, joined: the first keeps its facts, and all its names are
    its paths.
    """
    groups = same_disks([Sight(node, d.kernel_name, d.wwn, d.serial, d.model) for d in disks])
    return [replace(disks[g[0]], paths=tuple(disks[i].kernel_name for i in g)) for g in groups]
