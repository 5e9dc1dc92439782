"""Reading what ordinary tools print into facts: `lsblk --json --bytes --output-all`, `smartctl --json --all`,
`ip --json link` (or `ip --json addr`), and the agent protocol, which carries all three
(docs/agent-protocol.md).

Every reader raises NotPossible with the place where the text does not have the tool's shape.
"""

from __future__ import annotations

import hashlib
import ipaddress
import json
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from foldbarn.core.errors import NotPossible
from foldbarn.core.machines.hardware import Inventory, ReportedDisk, ReportedPort, join_paths
from foldbarn.core.machines.health import PENDING, REALLOCATED, UNCORRECTABLE, Health
from foldbarn.core.machines.identity import plain_wwn
from foldbarn.core.pools.media import media_of
from foldbarn.core.shares.share import Protocol
from foldbarn.core.units import LARGEST_BYTES, MB

PROTOCOL = "foldbarn-agent/1"
WITNESS_PROTOCOL = "foldbarn-witness/1"
BOOT_MOUNTS = ("/", "/boot", "/boot/efi", "/efi")
VIRTUAL_LINKS = (
    "ifb",
    "dummy",
    "veth",
    "bridge",
    "tun",
    "vxlan",
    "virbr",
)  # no cable of their own; bonds and VLANs have one below them
LARGEST_COUNT = 2**63 - 1  # bytes; a counter beyond it is no counter
MOST_DISKS = 2048  # of one node; more is no node but a mistake
# block devices of type "disk" that no one can pull
_NOT_DISKS = re.compile(r"(zram|ram|loop|fd|sr|dm-|md|nbd)\d")


def read_inventory(report: Any) -> Inventory:
    """An agent's report as facts."""
    try:
        node = report["node"]
        links = report.get("ip", [])
        return Inventory(
            node=_text(node, "name"),
            room=_text(node, "room"),
            rack=_text(node, "rack"),
            position=int(node.get("position", 0)),
            cores=int(node.get("cores", 0)),
            memory_bytes=int(node.get("memory_bytes", 0)),
            disks=read_disks(
                node["name"],
                report["lsblk"],
                report.get("smartctl", {}),
                report.get("bays", {}),
                report.get("enclosures", {}),
                report.get("endurance", {}),
            ),
            ports=read_ports(links, report.get("purposes", {}), report.get("neighbours", {})),
        )
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise NotPossible(
            f"The report is not in the agent protocol's shape: {type(error).__name__} at {error}."
        ) from error


def read_disks(
    node: str,
    lsblk: Any,
    smart: Mapping[str, Any] | None = None,
    bays: Mapping[str, str] | None = None,
    enclosures: Mapping[str, str] | None = None,
    endurance: Mapping[str, int] | None = None,
) -> tuple[ReportedDisk, ...]:
    """The disks that lsblk lists, joined where one is seen through several paths.

    smart: by device path or by serial number, what smartctl prints; the others by serial number: where it
    sits, bytes it is rated for.
    """
    smart, bays, enclosures = smart or {}, bays or {}, enclosures or {}
    try:
        devices = lsblk["blockdevices"]
        if not isinstance(devices, list):
            raise TypeError("blockdevices")
    except (KeyError, TypeError) as error:
        raise NotPossible("This is not what lsblk --json prints: it has no list of block devices.") from error
    if len(devices) > MOST_DISKS:
        raise NotPossible(
            f"{len(devices):,} block devices are listed; a node has {MOST_DISKS:,} at the most."
        )
    disks = []
    for device in devices:
        try:
            if device.get("type", "disk") == "disk" and not _NOT_DISKS.match(str(device["name"])):
                disks.append(_read_disk(device, smart, bays, enclosures))
        except (KeyError, TypeError, AttributeError) as error:
            name = device.get("name", "?") if isinstance(device, dict) else "?"
            raise NotPossible(
                f"Block device {name} is not as lsblk prints it: {type(error).__name__} at {error}."
            ) from error
    ratings = {
        serial: read_bytes(value, f"The rating of disk {serial}")
        for serial, value in (endurance or {}).items()
    }
    return tuple(
        join_paths(
            node, [replace(d, rated_bytes=ratings.get(d.serial, 0)) for d in disks] if ratings else disks
        )
    )


def _read_disk(
    device: Mapping[str, Any],
    smart: Mapping[str, Any],
    bays: Mapping[str, str],
    enclosures: Mapping[str, str],
) -> ReportedDisk:
    name = str(device["name"])
    inside = list(_children(device))
    mounts = [
        m for part in [device, *inside] for m in (part.get("mountpoints") or [part.get("mountpoint")]) if m
    ]
    serial = str(device.get("serial") or "").strip()
    found = smart.get(serial) or smart.get(str(device.get("path") or f"/dev/{name}")) or {}
    return ReportedDisk(
        bay=str(bays.get(serial, name)),
        kernel_name=name,
        serial=serial,
        wwn=plain_wwn(device.get("wwn")),
        model=str(device.get("model") or "").strip(),
        media=media_of(name, device.get("tran"), _flag(device.get("rota"))),
        bus=str(device.get("tran") or "").lower(),
        size_bytes=read_bytes(device["size"], f"Disk {name}"),
        boot=any(m in BOOT_MOUNTS for m in mounts),
        mounted=tuple(mounts),
        partition_table=str(device.get("pttype") or ""),
        partitions=sum(part.get("type") == "part" for part in device.get("children") or []),
        signature=str(device.get("fstype") or ""),
        label=str(device.get("label") or ""),
        owner=str(device.get("uuid") or ""),
        read_only=_flag(device.get("ro")),
        removable=_flag(device.get("rm")),
        health=read_health(found),
        enclosure=str(enclosures.get(serial, "")),
    )


def _children(device: Mapping[str, Any]) -> Iterable[Mapping[str, Any]]:
    """Partitions, and whatever is built on them, however deep."""
    for child in device.get("children") or []:
        yield child
        yield from _children(child)


def _flag(value: Any) -> bool:
    """True and false as the versions of lsblk write them: true, 1 or "1"."""
    return value in (True, 1, "1")


def read_bytes(value: Any, whose: str) -> int:
    """A number of bytes; older versions of lsblk write it as text. Raises NotPossible for anything else, such
    as "3.5T".
    """
    if (
        isinstance(value, bool)
        or not isinstance(value, int | str)
        or not re.fullmatch("[0-9]{1,19}", str(value)[:40].strip())
    ):
        raise NotPossible(
            f"{whose} has a size of '{str(value)[:40]}', which is not a number of bytes.",
            next_step="Run lsblk with --bytes.",
        )
    if int(value) > LARGEST_BYTES:
        raise NotPossible(f"{whose} has a size beyond 8 EiB.")
    return int(value)


def _count(value: Any, what: str) -> int:
    """A counter of bytes, as an agent tells it: a number that only grows, from nothing."""
    if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value <= LARGEST_COUNT:
        raise NotPossible(f"Its report counts {what} as '{str(value)[:40]}', which is no number of bytes.")
    return int(value)


def read_counters(report: Mapping[str, Any]) -> dict[str, tuple[int, int]]:
    """Bytes read and written so far by each disk (serial number) of an agent's report; nothing where it
    counts none.
    """
    disks = report.get("disks", {})
    if not isinstance(disks, dict) or not all(isinstance(d, dict) for d in disks.values()):
        raise NotPossible("Its report does not list counters by disk.")
    return {
        str(serial): (
            _count(found.get("read_bytes"), f"what {str(serial)[:40]} read"),
            _count(found.get("written_bytes"), f"what {str(serial)[:40]} wrote"),
        )
        for serial, found in disks.items()
    }


def read_compressed(report: Mapping[str, Any]) -> dict[int, tuple[int, int]]:
    """By the ply's number, bytes that were written on a node's disks that compress, and those that they take
    there.
    """
    plies = report.get("compressed", {})
    if not isinstance(plies, dict) or not all(re.fullmatch("[0-9]{1,18}", str(p)) for p in plies):
        raise NotPossible("Its report does not list compressed bytes by the number of a ply.")
    if not all(isinstance(found, list) and len(found) == 2 for found in plies.values()):
        raise NotPossible("Its report does not list bytes before and after compressing.")
    return {
        int(p): (_count(before, f"what is written of ply {p}"), _count(after, f"what ply {p} takes"))
        for p, (before, after) in plies.items()
    }


def read_written(report: Mapping[str, Any]) -> dict[int, int] | None:
    """Bytes that consumers have written on a node, by the ply's number; None where its report does not
    say.
    """
    plies = report.get("plies")
    if plies is None:
        return None
    if not isinstance(plies, dict) or not all(re.fullmatch("[0-9]{1,18}", str(p)) for p in plies):
        raise NotPossible("Its report does not list written bytes by the number of a ply.")
    return {int(p): _count(found, f"what is written of ply {p}") for p, found in plies.items()}


@dataclass(frozen=True, slots=True)
class Wants:
    """What a node wants room for. strips: ranges of a volume's strips of data, from and up to; refuses: it
    refuses writes for want of it.
    """

    strips: tuple[tuple[int, int], ...]
    refuses: bool


MOST_RANGES, MOST_STRIPS = 1000, 2**40


def read_wants(report: Mapping[str, Any]) -> dict[int, Wants]:
    """What a node wants room for, by the number of a ply that it holds some of."""
    wants = report.get("wants", {})
    if not isinstance(wants, dict) or not all(re.fullmatch("[0-9]{1,18}", str(ply)) for ply in wants):
        raise NotPossible("Its report does not list what it wants room for by the number of a ply.")
    return {int(ply): _wants(ply, told) for ply, told in wants.items()}


MOST_ID = 200  # characters of an order's id


def read_terms(report: Mapping[str, Any]) -> str | None:
    """By which order a node was last told, or otherwise learned, on which terms it serves what it holds;
    None where it does not tell.
    """
    terms = report.get("terms")
    if terms is not None and (not isinstance(terms, str) or len(terms) > MOST_ID):
        raise NotPossible("Its report names the order that it goes by in another shape.")
    return terms


MOST_SESSIONS = 20_000  # of hosts with one node


def read_serves(report: Mapping[str, Any]) -> tuple[str, list[list[str]]] | None:
    """By which order a node learned what it serves to hosts, and who is connected, in order: target,
    initiator, its own address, and the name of the secret by which that is, if any; None where it does not
    tell.
    """
    told = report.get("serves")
    if told is None:
        return None
    try:
        order, sessions = told["order"], [list(one) for one in told["sessions"]]
    except (KeyError, TypeError) as error:
        raise NotPossible("Its report tells in another shape what it serves to hosts.") from error
    words = [word for one in sessions for word in one] + [order]
    fits = all(isinstance(word, str) and len(word) <= MOST_ID for word in words)
    if not fits or any(len(one) not in (3, 4) for one in sessions) or len(sessions) > MOST_SESSIONS:
        raise NotPossible("Its report tells in another shape what it serves to hosts.")
    return order, sorted(sessions)


MOST_MOUNTS = 100_000  # that one node tells of
MOST_SHARES = 10_000


def read_files(report: Mapping[str, Any]) -> tuple[str, dict[str, Any]] | None:
    """By which order a node learned of the file service, and what it tells of it: numbers of the addresses
    that it has, bytes used by share, shares of which writes are refused, and who has mounted what: share,
    client, protocol, whether it only reads, user. None where it does not tell.
    """
    told = report.get("files")
    if told is None:
        return None
    try:
        order, mounts = str(told["order"]), [list(one) for one in told["mounts"]]
        carries = sorted(_number(one) for one in told["carries"])
        refuses = sorted(_number(one) for one in told["refuses"])
        used = sorted([_number(int(share)), _number(size)] for share, size in told["used"].items())
        if len(mounts) > MOST_MOUNTS or max(len(carries), len(used), len(refuses)) > MOST_SHARES:
            raise ValueError("too many")
        for one in mounts:
            share, client, protocol, read_only, user = one
            _number(share)
            ipaddress.ip_address(client)
            Protocol(protocol)
            if not isinstance(read_only, bool) or not isinstance(user, str) or len(user) > MOST_ID:
                raise TypeError("a mount")
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise NotPossible("Its report tells of the file service in another shape.") from error
    if len(order) > MOST_ID:
        raise NotPossible("Its report tells of the file service in another shape.")
    return order, {"carries": carries, "mounts": sorted(mounts), "used": used, "refuses": refuses}


def _number(found: Any) -> int:
    if not isinstance(found, int) or isinstance(found, bool) or not 0 <= found <= LARGEST_COUNT:
        raise ValueError(str(found)[:40])
    return found


def _wants(ply: str, told: Any) -> Wants:
    strips = told.get("strips") if isinstance(told, dict) else None
    if not isinstance(strips, list) or len(strips) > MOST_RANGES or not all(map(_is_range, strips)):
        raise NotPossible(f"Its report says in another shape what of ply {ply} it wants room for.")
    return Wants(tuple((first, last) for first, last in strips), told.get("refuses") is True)


def _is_range(found: Any) -> bool:
    if not isinstance(found, list) or len(found) != 2:
        return False
    first, last = found
    whole = all(isinstance(n, int) and not isinstance(n, bool) for n in found)
    return whole and 0 <= first < last <= MOST_STRIPS


def read_said(counters: Mapping[str, Any]) -> dict[str, Health]:
    """What disks say of themselves beside what they count (`v1/counters`), by serial; those that say nothing
    are left out. Raises NotPossible.
    """
    found = {}
    for serial, told in counters.get("disks", {}).items():
        if not (said := told.get("health")):
            continue
        numbers = {name: _whole(said.get(name, 0)) for name in SECTORS_AND_WEAR}
        temperature = said.get("temperature")
        known = None if temperature is None else _whole(temperature)
        found[str(serial)] = replace(Health(temperature=known), **numbers)  # type: ignore[arg-type]
    return found


SECTORS_AND_WEAR = ("percentage_used", "reallocated", "pending", "uncorrectable")


def _whole(value: Any) -> int:
    """Raises NotPossible."""
    if isinstance(value, bool) or not isinstance(value, int) or not -LARGEST_COUNT <= value <= LARGEST_COUNT:
        raise NotPossible("What a disk says of itself is in another shape: it is no whole number.")
    return value


def read_health(smart: Any) -> Health:
    """Health from what smartctl prints of one disk. Source of the fields: smartctl(8), --json."""
    if not isinstance(smart, dict):
        raise NotPossible("This is not what smartctl --json prints of a disk.")
    try:
        attributes = {
            a["id"]: int(a["raw"]["value"]) for a in smart.get("ata_smart_attributes", {}).get("table", [])
        }
        nvme = smart.get("nvme_smart_health_information_log", {})
        passed = smart.get("smart_status", {}).get("passed")
        return Health(
            passed=passed if isinstance(passed, bool) else None,
            reallocated=attributes.get(REALLOCATED, 0),
            pending=attributes.get(PENDING, 0),
            uncorrectable=attributes.get(UNCORRECTABLE, 0),
            percentage_used=int(nvme.get("percentage_used", 0)),
            critical_warning=int(nvme.get("critical_warning", 0)),
            spare=nvme.get("available_spare"),
            spare_threshold=nvme.get("available_spare_threshold"),
            hours=smart.get("power_on_time", {}).get("hours"),
            temperature=smart.get("temperature", {}).get("current"),
        )
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise NotPossible(
            f"This is not what smartctl --json prints of a disk: {type(error).__name__} at {error}."
        ) from error


def read_ports(
    links: Any, purposes: Mapping[str, str] | None = None, neighbours: Mapping[str, str] | None = None
) -> tuple[ReportedPort, ...]:
    """Network ports from `ip --json link` or `ip --json addr`; loopback and virtual links without a cable are
    left out.

    Speed is `link_speed_mbit` (as in /sys/class/net/*/speed), which ip itself does not print; 0 where
    unknown.
    """
    if not isinstance(links, list):
        raise NotPossible("This is not what ip --json link prints: it is no list of links.")
    found = []
    for link in links:
        try:
            name = str(link["ifname"])
            kind = link.get("link_type", "ether")
            virtual = link.get("linkinfo", {}).get("info_kind") in VIRTUAL_LINKS or name.startswith(
                VIRTUAL_LINKS
            )
            if kind != "ether" or virtual or "LOOPBACK" in link.get("flags", []):
                continue
            addresses = tuple(
                str(ipaddress.ip_interface(f"{a['local']}/{a['prefixlen']}"))
                for a in link.get("addr_info", [])
                if "local" in a and a.get("scope") != "link"
            )
            found.append(
                ReportedPort(
                    name=name,
                    purpose=str((purposes or {}).get(name, "client")),
                    up=link.get("operstate") == "UP",
                    bytes_per_second=max(0, int(link.get("link_speed_mbit", 0))) * MB // 8,
                    mtu=int(link.get("mtu", 1500)),
                    addresses=addresses,
                    neighbour=str((neighbours or {}).get(name, "")),
                )
            )
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            raise NotPossible(
                f"This is not what ip --json link prints: {type(error).__name__} at {error}."
            ) from error
    return tuple(found)


def tag_of(facts: Mapping[str, Any]) -> str:
    """An entity tag (RFC 9110) of a report: the same facts have the same. What grows with time alone is left
    out by the caller.
    """
    text = json.dumps(facts, sort_keys=True, separators=(",", ":"))
    return f'"{hashlib.blake2b(text.encode(), digest_size=12).hexdigest()}"'


def kind_of_file(content: Any) -> str:
    """Which tool printed it: agent, several, lsblk, smartctl or ip. Raises NotPossible for another."""
    if isinstance(content, dict):
        if "node" in content and "lsblk" in content:
            return "agent"
        if isinstance(content.get("nodes"), list):
            return "several"
        if "blockdevices" in content:
            return "lsblk"
        if "smartctl" in content:
            return "smartctl"
        raise NotPossible(
            "It is JSON, but of another tool: it has "
            f"{', '.join(sorted(map(str, content))[:4]) or 'nothing'} at its top.",
            next_step="Use the output of lsblk --json --bytes --output-all, smartctl --json --all, ip --json "
            "link, or an agent's inventory.",
        )
    if isinstance(content, list) and content and all(isinstance(c, dict) for c in content):
        if all("ifname" in c for c in content):
            return "ip"
        if all("node" in c and "lsblk" in c for c in content):
            return "several"
    raise NotPossible(
        "It is JSON, but not of a tool that Fold Barn reads.",
        next_step="Use the output of lsblk, smartctl or ip with --json.",
    )


def node_of_file(file_name: str) -> str:
    """The node that a file is about, from its name: "fulmar.lsblk.json", "fulmar-smartctl-sda.json" and
    "fulmar/ip.json" are about fulmar.
    """
    parts = [p for p in file_name.replace("\\", "/").split("/") if p]
    base = re.sub(r"\.json$", "", parts[-1] if parts else "", flags=re.IGNORECASE)
    name = re.split(
        r"[._-](?=(?:lsblk|smartctl|smart|ip|inventory|report)(?![a-zA-Z0-9]))",
        base,
        maxsplit=1,
        flags=re.IGNORECASE,
    )[0]
    if re.fullmatch(r"(lsblk|smartctl|smart|ip|inventory|report).*", name, flags=re.IGNORECASE):
        name = parts[-2] if len(parts) > 1 else ""
    return name.split(".")[0]


def serial_of_smart(content: Mapping[str, Any]) -> str:
    """The disk that a smartctl output is about. Raises NotPossible where it names none."""
    serial = str(content.get("serial_number") or "").strip()
    if not serial:
        raise NotPossible(
            "This smartctl output names no serial number, so its disk is unknown.",
            next_step="Run smartctl --json --all on the disk itself.",
        )
    return serial


def _text(node: Mapping[str, Any], key: str) -> str:
    value = node[key]
    if not isinstance(value, str) or not value.strip():
        raise ValueError(f"node.{key}")
    return value
