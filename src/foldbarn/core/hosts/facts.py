"""What a host tells of itself, read from what ordinary Linux tools print there (docs/host-protocol.md)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from foldbarn.core.errors import NotPossible
from foldbarn.core.machines.reading import read_ports

PROTOCOL = "foldbarn-host/1"
MOST_DISKS = 4096
LONGEST_WORD = 300  # characters of anything that a host says


@dataclass(frozen=True, slots=True, order=True)
class Seen:
    """A disk as a host sees it. wwid: what its kernel knows it by; devices: one for each path, of NVMe one
    for all; map: the device over all paths, where multipath made one; file_system, uuid: what it carries.
    room_bytes: of that file system; mounted: where; empty where it is not.
    """

    wwid: str
    devices: tuple[str, ...]
    size_bytes: int
    map: str = ""
    file_system: str = ""
    uuid: str = ""
    room_bytes: int = 0
    mounted: str = ""

    @property
    def device(self) -> str:
        """By which it is used: the one over all paths, where there is one."""
        return self.map or self.devices[0]


@dataclass(frozen=True, slots=True, order=True)
class Kept:
    """A line of a host's table of file systems: what is mounted, and where."""

    source: str
    at: str


@dataclass(frozen=True, slots=True)
class Facts:
    """names: of its initiators; services: those that run; enabled: those that start with it; known: targets
    that it has discovered, and at which portal, with an empty target where it asks a portal for all that
    there is; by_itself: those of them that it connects to when it starts, where what it takes starts;
    controllers: NVMe targets, and the devices by which their disks come; down: its network ports that are,
    and their addresses with prefix; addresses: of those that are up, without; shares: what it has mounted by
    NFS or SMB, and where.
    """

    names: tuple[str, ...] = ()
    services: tuple[str, ...] = ()
    enabled: tuple[str, ...] = ()
    known: tuple[tuple[str, str], ...] = ()
    by_itself: tuple[tuple[str, str], ...] = ()
    controllers: tuple[tuple[str, str], ...] = ()
    disks: tuple[Seen, ...] = ()
    kept: tuple[Kept, ...] = ()
    down: tuple[tuple[str, str], ...] = ()
    addresses: tuple[str, ...] = ()
    shares: tuple[Kept, ...] = ()

    def twins(self, disk: Seen) -> bool:
        """Whether the host sees another disk that carries the same file system, as a copy of one does."""
        return any(one.uuid == disk.uuid and one.wwid != disk.wwid for one in self.disks if disk.uuid)

    def disk(self, wwid: str) -> Seen | None:
        return next((disk for disk in self.disks if disk.wwid == wwid), None)


def read_report(report: Mapping[str, Any]) -> Facts:
    """What a host's agent reports. Raises NotPossible for another shape."""
    if report.get("protocol") != PROTOCOL:
        raise NotPossible(f"It does not speak {PROTOCOL}.")
    try:
        iscsi, nvme = report.get("iscsi") or {}, report.get("nvme") or {}
        nodes = [(_word(n["target"]), _word(n["portal"]), n.get("startup")) for n in iscsi.get("nodes", [])]
        asked = [("", _word(portal)) for portal in nvme.get("discovery", [])]
        services = {_word(name) for name, is_ in report.get("services", {}).items() if is_ == "active"}
        kept = [Kept(_word(f["source"]), _word(f["target"])) for f in report["fstab"].get("filesystems", [])]
        ports = read_ports(report.get("ip", []))
        down = {(p.name, at) for p in ports if not p.up for at in p.addresses}
        up = {at.split("/")[0] for p in ports if p.up for at in p.addresses}
        mounted = (report.get("findmnt") or {}).get("filesystems", [])
        starting = [(target, portal) for target, portal, how in nodes if how == "automatic"]
        return Facts(
            names=tuple(sorted(_word(name) for name in report["initiators"])),
            services=tuple(sorted(services)),
            enabled=tuple(sorted(_word(unit) for unit in report.get("enabled", []))),
            known=tuple(sorted({*((t, p) for t, p, _ in nodes), *asked})),
            by_itself=tuple(sorted({*starting, *asked})),
            controllers=tuple(sorted(_controllers(nvme.get("subsystems", [])))),
            disks=tuple(sorted(_disks(report["lsblk"]["blockdevices"]))),
            kept=tuple(sorted(kept)),
            down=tuple(sorted(down)),
            addresses=tuple(sorted(up)),
            shares=tuple(sorted(Kept(_word(one["source"]), _word(one["target"])) for one in mounted)),
        )
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise NotPossible(f"Its report has another shape: {type(error).__name__} at {error}.") from error


def _word(value: Any) -> str:
    if not isinstance(value, str) or len(value) > LONGEST_WORD:
        raise ValueError(str(value)[:LONGEST_WORD])
    return value


def _controllers(subsystems: Any) -> Iterator[tuple[str, str]]:
    """Name and device of each path over TCP, of what `nvme list-subsys --output-format=json` prints."""
    for one in subsystems:
        for path in one.get("Paths", []):
            if path.get("Transport") == "tcp":
                yield _word(one["NQN"]), _word(path["Name"])


def portal(address: str, port: int) -> str:
    """An address and port, as they are written (RFC 3986)."""
    return f"[{address}]:{port}" if ":" in address else f"{address}:{port}"


def _disks(devices: Any) -> list[Seen]:
    """Disks with a name of their own, of what `lsblk --json --bytes --output-all` prints; paths to one disk
    are one.
    """
    found: dict[str, list[Mapping[str, Any]]] = {}
    for device in devices:
        if device.get("type") == "disk" and device.get("wwn"):
            found.setdefault(_word(device["wwn"]), []).append(device)
    if len(found) > MOST_DISKS:
        raise ValueError(f"{len(found)} disks")
    return [_seen(wwid, paths) for wwid, paths in found.items()]


def _seen(wwid: str, paths: list[Mapping[str, Any]]) -> Seen:
    maps = [c for path in paths for c in path.get("children", []) if c.get("type") == "mpath"]
    top = maps[0] if maps else paths[0]
    mounts = [point for point in top.get("mountpoints") or [] if point]
    return Seen(
        wwid=wwid,
        devices=tuple(sorted(_word(path["path"]) for path in paths)),
        size_bytes=min(int(device["size"]) for device in (*paths, *maps)),
        map=_word(maps[0]["path"]) if maps else "",
        file_system=_word(top.get("fstype") or ""),
        uuid=_word(top.get("uuid") or ""),
        room_bytes=int(top.get("fssize") or 0),
        mounted=_word(mounts[0]) if mounts else "",
    )


def to_keep(facts: Facts) -> dict[str, Any]:
    """As JSON, from which `from_kept` makes the same again."""
    return {
        "names": list(facts.names),
        "services": list(facts.services),
        "enabled": list(facts.enabled),
        "known": [list(pair) for pair in facts.known],
        "by_itself": [list(pair) for pair in facts.by_itself],
        "controllers": [list(pair) for pair in facts.controllers],
        "disks": [
            {
                "wwid": disk.wwid,
                "devices": list(disk.devices),
                "size_bytes": disk.size_bytes,
                "map": disk.map,
                "file_system": disk.file_system,
                "uuid": disk.uuid,
                "room_bytes": disk.room_bytes,
                "mounted": disk.mounted,
            }
            for disk in facts.disks
        ],
        "kept": [{"source": line.source, "at": line.at} for line in facts.kept],
        "down": [list(pair) for pair in facts.down],
        "addresses": list(facts.addresses),
        "shares": [{"source": one.source, "at": one.at} for one in facts.shares],
    }


def from_kept(kept: Mapping[str, Any]) -> Facts:
    if not kept:
        return Facts()
    return Facts(
        names=tuple(kept["names"]),
        services=tuple(kept["services"]),
        enabled=tuple(kept["enabled"]),
        known=_pairs(kept["known"]),
        by_itself=_pairs(kept["by_itself"]),
        controllers=_pairs(kept["controllers"]),
        disks=tuple(Seen(**{**disk, "devices": tuple(disk["devices"])}) for disk in kept["disks"]),
        kept=tuple(Kept(**line) for line in kept["kept"]),
        down=_pairs(kept["down"]),
        # What was kept by a version before says nothing of these.
        addresses=tuple(kept.get("addresses", ())),
        shares=tuple(Kept(**one) for one in kept.get("shares", ())),
    )


def _pairs(listed: list[list[str]]) -> tuple[tuple[str, str], ...]:
    return tuple((one, other) for one, other in listed)
