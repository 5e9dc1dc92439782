"""Media classes and what a disk of each can carry. Figures are common practice for current drives, in bytes per second."""

from __future__ import annotations

from dataclasses import dataclass

from foldbarn.core.units import MB


@dataclass(frozen=True, slots=True)
class Profile:
    """Sustained bandwidth of a disk for large transfers."""

    bytes_per_second: int


PROFILES = {
    "pmem": Profile(4000 * MB),
    "nvme": Profile(2000 * MB),
    "ssd": Profile(450 * MB),
    "hdd": Profile(180 * MB),
}

MEDIA_WORDS = {"pmem": "persistent memory", "nvme": "NVMe", "ssd": "SSD", "hdd": "HDD"}


def media_of(name: str, transport: str | None, rotational: bool) -> str:
    """Media class from what lsblk says: the kernel's name, TRAN and ROTA."""
    if name.startswith("pmem"):
        return "pmem"
    if transport == "nvme" or name.startswith("nvme"):
        return "nvme"
    return "hdd" if rotational else "ssd"
