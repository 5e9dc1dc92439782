"""What agents report, read into facts, and the first verdict on every disk.

The shapes are those of the ordinary Linux tools: `lsblk --json --bytes --output-all`, `smartctl --json --all`,
`ip --json link` (docs/agent-protocol.md).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from foldbarn.core.errors import NotPossible
from foldbarn.core.media import media_of
from foldbarn.core.units import GB, MB, say_size

SMALLEST_BYTES = GB  # a disk under this is not worth pooling; common practice
POOL_SIGNATURE = "foldbarn_strips"  # the FSTYPE that an agent writes to a disk it prepared; its LABEL is the pool

REALLOCATED, PENDING, UNCORRECTABLE = 5, 197, 198  # ATA attribute numbers


@dataclass(frozen=True, slots=True)
class ReportedDisk:
    """One disk as its node sees it. `bay` is where it sits ("boot", "c1", "4"), the kernel's name where unknown."""

    bay: str
    kernel_name: str
    serial: str
    wwn: str
    model: str
    media: str
    size_bytes: int
    boot: bool
    mounted: tuple[str, ...]
    partition_table: str
    signature: str
    label: str
    read_only: bool
    reallocated: int = 0
    pending: int = 0
    uncorrectable: int = 0
    percentage_used: int = 0
    critical_warning: int = 0
    paths: tuple[str, ...] = ()  # kernel names under which the node sees it


@dataclass(frozen=True, slots=True)
class ReportedPort:
    """One network port: up or not, its speed in bytes per second and what it is for."""

    name: str
    purpose: str
    up: bool
    bytes_per_second: int


@dataclass(frozen=True, slots=True)
class Inventory:
    """Everything one agent reports of its node."""

    node: str
    room: str
    rack: str
    position: int
    cores: int
    memory_bytes: int
    disks: tuple[ReportedDisk, ...]
    ports: tuple[ReportedPort, ...]


@dataclass(frozen=True, slots=True)
class Verdict:
    """Fit or not, with every reason, not only the first; `watch` are reasons to look at a fit disk."""

    reasons: tuple[str, ...] = ()
    watch: tuple[str, ...] = ()

    @property
    def fit(self) -> bool:
        return not self.reasons


def judge(disk: ReportedDisk) -> Verdict:
    """Whether a disk may be used, from what its node says of it."""
    reasons = []
    if disk.boot:
        reasons.append("its node boots from it")
    elif disk.mounted:
        reasons.append(f"it is mounted at {disk.mounted[0]}")
    if disk.partition_table and not disk.boot:
        reasons.append(f"it carries a {disk.partition_table} partition table")
    if disk.signature and disk.signature != POOL_SIGNATURE and not disk.boot:
        reasons.append(f"it carries a signature of {disk.signature}")
    if disk.size_bytes < SMALLEST_BYTES:
        reasons.append(f"it is too small: {say_size(disk.size_bytes)}, where {say_size(SMALLEST_BYTES)} is the least")
    if disk.read_only:
        reasons.append("it is read-only")
    return Verdict(tuple(reasons), tuple(_watch(disk)))


def _watch(disk: ReportedDisk) -> list[str]:
    """Health figures that want a person: ATA attributes 5, 197, 198; NVMe critical warning and percentage used."""
    found = []
    for count, words in (
        (disk.reallocated, "sectors reallocated"),
        (disk.pending, "sectors pending"),
        (disk.uncorrectable, "sectors uncorrectable"),
    ):
        if count > 0:
            found.append(f"{count:,} {words}")
    if disk.critical_warning:
        found.append(f"NVMe critical warning {disk.critical_warning:#04x}")
    if disk.percentage_used >= 90:
        found.append(f"{disk.percentage_used} % of its rated life used")
    return found


def read_inventory(report: Any) -> Inventory:
    """An agent's report as facts.

    Raises NotPossible, with the place, where the report does not have the shape of the agent protocol.
    """
    try:
        node = report["node"]
        bays = report.get("bays", {})
        smart = report.get("smartctl", {})
        disks = [
            _read_disk(device, bays, smart.get(f"/dev/{device['name']}", {})) for device in report["lsblk"]["blockdevices"] if device.get("type") == "disk"
        ]
        purposes = report.get("purposes", {})
        ports = [_read_port(link, purposes) for link in report.get("ip", []) if link.get("ifname") != "lo"]
        return Inventory(
            node=_text(node, "name"),
            room=_text(node, "room"),
            rack=_text(node, "rack"),
            position=int(node.get("position", 0)),
            cores=int(node.get("cores", 0)),
            memory_bytes=int(node.get("memory_bytes", 0)),
            disks=tuple(_join_paths(disks)),
            ports=tuple(ports),
        )
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise NotPossible(f"The report is not in the agent protocol's shape: {type(error).__name__} at {error}.") from error


def _join_paths(disks: list[ReportedDisk]) -> list[ReportedDisk]:
    """Entries with the same serial and WWN are one disk seen through several paths."""
    by_identity: dict[tuple[str, str], ReportedDisk] = {}
    for disk in disks:
        known = by_identity.get((disk.serial, disk.wwn))
        paths = (*(known.paths if known else ()), disk.kernel_name)
        by_identity[(disk.serial, disk.wwn)] = replace(known or disk, paths=paths)
    return list(by_identity.values())


def _text(node: Mapping[str, Any], key: str) -> str:
    value = node[key]
    if not isinstance(value, str) or not value.strip():
        raise ValueError(f"node.{key}")
    return value


def _read_disk(device: Mapping[str, Any], bays: Mapping[str, str], smart: Mapping[str, Any]) -> ReportedDisk:
    children = device.get("children") or []
    mounts = [m for part in [device, *children] for m in part.get("mountpoints") or [] if m]
    attributes = {a["id"]: int(a["raw"]["value"]) for a in smart.get("ata_smart_attributes", {}).get("table", [])}
    nvme = smart.get("nvme_smart_health_information_log", {})
    serial = str(device.get("serial") or "").strip()
    name = str(device["name"])
    return ReportedDisk(
        bay=str(bays.get(serial, name)),
        kernel_name=name,
        serial=serial or f"unnumbered {name}",
        wwn=str(device.get("wwn") or ""),
        model=str(device.get("model") or ""),
        media=media_of(name, device.get("tran"), bool(device.get("rota"))),
        size_bytes=int(device["size"]),
        boot=any(m in ("/", "/boot", "/boot/efi") for m in mounts),
        mounted=tuple(mounts),
        partition_table=str(device.get("pttype") or ""),
        signature=str(device.get("fstype") or ""),
        label=str(device.get("label") or ""),
        read_only=bool(device.get("ro")),
        reallocated=attributes.get(REALLOCATED, 0),
        pending=attributes.get(PENDING, 0),
        uncorrectable=attributes.get(UNCORRECTABLE, 0),
        percentage_used=int(nvme.get("percentage_used", 0)),
        critical_warning=int(nvme.get("critical_warning", 0)),
    )


def _read_port(link: Mapping[str, Any], purposes: Mapping[str, str]) -> ReportedPort:
    name = str(link["ifname"])
    return ReportedPort(
        name=name,
        purpose=str(purposes.get(name, "client")),
        up=link.get("operstate") == "UP",
        bytes_per_second=int(link.get("link_speed_mbit", 0)) * MB // 8,
    )
