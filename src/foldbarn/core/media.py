"""Media classes and what a disk of each can carry. Bandwidths, ratings and failure rates are common practice for current drives."""

from __future__ import annotations

from dataclasses import dataclass

from foldbarn.core.units import MB

OWN_BUS = ("nvme", "pmem")


@dataclass(frozen=True, slots=True)
class Profile:
    """Sustained bandwidth of a disk for large transfers, drive writes a day where its maker tells none, and failures in a year."""

    bytes_per_second: int
    drive_writes_a_day: float
    annual_failure_rate: float = 0.01
    unreadable_bits: float = 1e-17  # uncorrectable errors per bit read


# A disk with platters is rated in bytes moved per year; 550 TB for 12 TB is about an eighth of its size a day.
PROFILES = {
    "pmem": Profile(4000 * MB, 60.0, 0.005),
    "nvme": Profile(2000 * MB, 1.0, 0.008),
    "ssd": Profile(450 * MB, 1.0, 0.010),
    "hdd": Profile(180 * MB, 0.125, 0.015, 1e-15),
}

MEDIA_WORDS = {"pmem": "persistent memory", "nvme": "NVMe", "ssd": "SSD", "hdd": "HDD"}
_BUS_WORDS = {"sata": "SATA", "sas": "SAS", "ata": "SATA", "usb": "USB", "spi": "SCSI", "virtio": "virtio"}
_BUS_RANK = {"sas": 0, "sata": 1, "ata": 1}
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
    """Medium and bus together: the same medium on another bus is another class. Ordered fastest first."""

    rank: tuple[int, int]
    media: str
    bus: str

    @property
    def words(self) -> str:
        """Such as "NVMe", "SAS SSD", "SATA HDD"; without the bus where it is not known."""
        medium = MEDIA_WORDS.get(self.media, self.media)
        return medium if self.media in OWN_BUS or not self.bus else f"{_BUS_WORDS.get(self.bus, self.bus)} {medium}"


def class_of(media: str, bus: str = "") -> MediaClass:
    """The class of a medium on a bus. NVMe and persistent memory are their own bus."""
    bus = "" if media in OWN_BUS else "sata" if bus == "ata" else bus
    return MediaClass((_MEDIA_RANK.get(media, 9), _BUS_RANK.get(bus, 2)), media, bus)
