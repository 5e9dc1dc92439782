"""What a Linux machine says of itself, through its ordinary tools and /sys and /proc."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import shutil
import subprocess
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from foldbarn.core.errors import NotPossible
from foldbarn.core.machines.reading import PROTOCOL, SECTORS_AND_WEAR, read_health

SECTOR = 512  # bytes; /sys/block/*/stat counts in these whatever the disk's own sectors are
TOOL_SECONDS = 20.0
NETWORK = Path("/sys/class/net")


class ToolFailed(Exception):
    """A tool of this machine is missing, fails, or prints something else, in a sentence."""


@dataclass(frozen=True, slots=True)
class Machine:
    """name, room and rack as the one who starts the agent says; purposes by interface."""

    name: str
    room: str
    rack: str
    purposes: dict[str, str] = field(default_factory=dict)

    def inventory(self) -> dict[str, Any]:
        """All of the inventory, health included. Raises ToolFailed where lsblk does not run."""
        lsblk = run_json("lsblk", "--json", "--bytes", "--output-all")
        disks = [d for d in lsblk.get("blockdevices", []) if d.get("type") == "disk"]
        return {
            "protocol": PROTOCOL,
            "node": {
                "name": self.name,
                "room": self.room,
                "rack": self.rack,
                "position": 0,
                "cores": os.cpu_count() or 0,
                "memory_bytes": memory_bytes(Path("/proc/meminfo").read_text()),
            },
            "lsblk": lsblk,
            "smartctl": {d["path"]: found for d in disks if (found := smart(d["path"]))},
            "ip": links(),
            "purposes": self.purposes,
        }

    def version(self) -> str:
        """Changes when disks or links do. Without health: smartctl takes seconds, and a disk that is failing
        shows at the next change or restart.
        """
        said = [
            run_json(
                "lsblk",
                "--json",
                "--bytes",
                "--output",
                "NAME,TYPE,SIZE,SERIAL,WWN,FSTYPE,LABEL,PTTYPE,RO,MOUNTPOINTS",
            ),
            links(),
        ]
        return hashlib.sha256(json.dumps(said, sort_keys=True).encode()).hexdigest()[:16]

    def counters(self) -> dict[str, dict[str, int]]:
        """Bytes read and written since start, by serial number; disks without one are left out."""
        found = {}
        for disk in run_json("lsblk", "--json", "--nodeps", "--output", "NAME,TYPE,SERIAL").get(
            "blockdevices", []
        ):
            stat = Path("/sys/block") / disk["name"] / "stat"
            if disk.get("type") == "disk" and disk.get("serial") and stat.exists():
                found[disk["serial"]] = read_stat(stat.read_text())
        return found

    def said(self) -> dict[str, dict[str, int]]:
        """What disks say of themselves, by serial number; those that say nothing are left out."""
        found = {}
        listed = run_json("lsblk", "--json", "--nodeps", "--output", "PATH,TYPE,SERIAL")
        for disk in listed.get("blockdevices", []):
            if disk.get("type") != "disk" or not disk.get("serial") or not (told := smart(disk["path"])):
                continue
            with contextlib.suppress(NotPossible):
                health = read_health(told)
                numbers = {name: int(getattr(health, name)) for name in SECTORS_AND_WEAR}
                warm = {} if health.temperature is None else {"temperature": health.temperature}
                found[disk["serial"]] = numbers | warm
        return found


def traffic(network: Path = NETWORK) -> dict[str, dict[str, int]]:
    """Bytes sent and received by each network link since it came up (Linux, sysfs-class-net-statistics)."""
    found = {}
    for link in sorted(network.iterdir()) if network.exists() else ():
        counts = link / "statistics"
        with contextlib.suppress(OSError, ValueError):  # one that has just gone
            sent, received = (int((counts / name).read_text()) for name in ("tx_bytes", "rx_bytes"))
            found[link.name] = {"sent_bytes": sent, "received_bytes": received}
    return found


def read_stat(text: str) -> dict[str, int]:
    """Fields 3 and 7 of /sys/block/*/stat (Linux, Documentation/block/stat.rst): sectors read and written."""
    fields = text.split()
    return {"read_bytes": int(fields[2]) * SECTOR, "written_bytes": int(fields[6]) * SECTOR}


def memory_bytes(meminfo: str) -> int:
    """MemTotal of /proc/meminfo, which says kB and means KiB."""
    line = next(line for line in meminfo.splitlines() if line.startswith("MemTotal:"))
    return int(line.split()[1]) * 1024


def links() -> list[dict[str, Any]]:
    """Network links with their addresses and, from /sys, their speed. Empty where there is no ip command."""
    if not shutil.which("ip"):
        return []
    found: list[dict[str, Any]] = json.loads(run("ip", "--json", "addr") or "[]")
    for link in found:
        try:
            link["link_speed_mbit"] = max(
                0, int((Path("/sys/class/net") / link["ifname"] / "speed").read_text())
            )
        except (OSError, ValueError):
            link["link_speed_mbit"] = 0  # virtual links, and links that are down, know no speed
    return found


def smart(path: str) -> dict[str, Any]:
    """What smartctl says of a disk; empty where it is not installed or may not ask. Its exit code is a set of
    flags, not a failure.
    """
    tool = shutil.which("smartctl")
    if not tool:
        return {}
    try:
        said = subprocess.run(
            [tool, "--json", "--all", path], capture_output=True, text=True, timeout=TOOL_SECONDS, check=False
        )
        found = json.loads(said.stdout)
    except (subprocess.TimeoutExpired, ValueError):
        return {}
    return (
        found
        if isinstance(found, dict)
        and ("smart_status" in found or "nvme_smart_health_information_log" in found)
        else {}
    )


def run(*command: str) -> str:
    """A tool's output. Raises ToolFailed."""
    try:
        return subprocess.run(
            command, capture_output=True, text=True, timeout=TOOL_SECONDS, check=True
        ).stdout
    except FileNotFoundError as error:
        raise ToolFailed(f"{command[0]} is not installed on this machine.") from error
    except (subprocess.CalledProcessError, subprocess.TimeoutExpired) as error:
        raise ToolFailed(f"{command[0]} does not answer as it should: {type(error).__name__}.") from error


def run_json(*command: str) -> dict[str, Any]:
    """A tool's output, read as a JSON object. Raises ToolFailed."""
    try:
        found = json.loads(run(*command))
    except ValueError as error:
        raise ToolFailed(f"{command[0]} does not print JSON; it may be too old.") from error
    if not isinstance(found, dict):
        raise ToolFailed(f"{command[0]} prints JSON of another shape.")
    return found
