"""Media classes and what a disk of each can carry. Bandwidths, ratings and failure rates are common practice
for current drives.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace

from foldbarn.core.units import MB

OWN_BUS = ("nvme", "pmem")


@dataclass(frozen=True, slots=True)
class Profile:
    """Sustained bandwidth of a disk for large transfers, drive writes a day where its maker tells none, and
    failures in a year.

    at_once: requests that it works on side by side; access_seconds: of one of these, before its bytes flow.
    """

    bytes_per_second: int
    drive_writes_a_day: float
    annual_failure_rate: float = 0.01
    unreadable_bits: float = 1e-17  # uncorrectable errors per bit read
    at_once: int = 1
    access_seconds: float = 0.008


# Of small requests that gives about 125 in a second for platters, 66,000 for SATA flash and 350,000 for NVMe:
# common practice for current drives.
# A disk with platters is rated in bytes moved per year; 550 TB for 12 TB is about an eighth of its size a
# day.
PROFILES = {
    "pmem": Profile(4000 * MB, 60.0, 0.005, at_once=16, access_seconds=5e-6),
    "nvme": Profile(2000 * MB, 1.0, 0.008, at_once=32, access_seconds=90e-6),
    "ssd": Profile(450 * MB, 1.0, 0.010, at_once=8, access_seconds=120e-6),
    "hdd": Profile(180 * MB, 0.125, 0.015, 1e-15, at_once=1, access_seconds=8e-3),
}

MEDIA_WORDS = {"pmem": "persistent memory", "nvme": "NVMe", "ssd": "SSD", "hdd": "HDD"}
_BUS_WORDS = {"sata": "SATA", "sas": "SAS", "ata": "SATA", "usb": "USB", "spi": "SCSI", "virtio": "virtio"}
_MEDIA_RANK = {"pmem": 0, "nvme": 1, "ssd": 2, "hdd": 3}


def media_of(name: str, transport: str | None, rotational: bool) -> str:
    """Medium from what lsblk says: the kernel's name, TRAN and ROTA."""
    if name.startswith("pmem"):
        return "pmem"
    if transport == "nvme" or name.startswith("nvme"):
        return "nvme"
    return "hdd" if rotational else "ssd"


@dataclass(frozen=True, slots=True, order=True)
class MediaClass:
    """Media that may stand in for one another, ordered fastest first. The bus is told, and compared only by
    its rank.
    """

    rank: tuple[int, int]
    media: str
    bus: str = field(compare=False)

    @property
    def words(self) -> str:
        """Such as "NVMe", "SAS SSD", "SATA HDD"; without the bus where it is not known."""
        medium = MEDIA_WORDS.get(self.media, self.media)
        return (
            medium
            if self.media in OWN_BUS or not self.bus
            else f"{_BUS_WORDS.get(self.bus, self.bus)} {medium}"
        )


def class_of(media: str, bus: str = "") -> MediaClass:
    """The class of a medium on a bus.

    NVMe and persistent memory are their own bus. A bus makes another class only where it limits the medium:
    flash is faster on SAS than on SATA, platters are as slow on either. An unknown bus is taken for the
    slower one; among other disks, see classes_of.
    """
    bus = "" if media in OWN_BUS else "sata" if bus == "ata" else bus
    quicker = media == "ssd" and bus == "sas"
    return MediaClass((_MEDIA_RANK.get(media, 9), 0 if quicker else 1), media, bus)


def classes_of(disks: Iterable[tuple[str, str]]) -> list[MediaClass]:
    """The classes of disks (medium and bus of each) that are judged together, [disks].

    An unknown bus makes no class of its own: such a disk counts with its like, the slower ones where these
    differ.
    """
    found = [class_of(media, bus) for media, bus in disks]
    known: dict[str, MediaClass] = {}
    for mine in sorted(c for c in found if c.bus):
        known[mine.media] = mine  # the slowest comes last
    return [replace(mine, rank=known.get(mine.media, mine).rank) if not mine.bus else mine for mine in found]


def alike(a: tuple[str, str], b: tuple[str, str]) -> bool:
    """Whether a disk (medium, bus) may take the place of another without a change of class."""
    return len(set(classes_of([a, b]))) == 1
