"""The invented machine room: Skerry Ferries' two rooms, its racks and seabird-named nodes."""

from __future__ import annotations

from dataclasses import dataclass, field

from foldbarn.core.units import GB, MB, TB
from foldbarn.yard.orchestrator.places import NodePlace

GIGABIT = 125 * MB  # bytes per second


@dataclass(slots=True)
class StandInDisk:
    """A disk as built: where it sits and what it carries when new."""

    bay: str
    serial: str
    wwn: str
    model: str
    media: str
    size_bytes: int
    boot: bool = False
    signature: str = ""  # what it carried when it came
    double_path: bool = False  # seen under two kernel names
    wears: bool = False  # its reallocated sectors grow
    shared_with: tuple[str, ...] = ()  # other nodes that reach it
    enclosure: str = ""  # id of the box it stands in
    read_only: bool = False
    drive_writes_a_day: float = 0.0  # as its maker rates it over five years; 0 where the maker tells none


@dataclass(slots=True)
class StandInPort:
    name: str
    purpose: str
    megabits: int
    up: bool = True
    addresses: tuple[str, ...] = ()
    mtu: int = 9000
    neighbour: str = "quay-switch"


@dataclass(slots=True)
class StandInNode:
    name: str
    room: str
    rack: str
    position: int
    disks: list[StandInDisk] = field(default_factory=list)
    ports: list[StandInPort] = field(default_factory=list)
    cores: int = 32
    memory_bytes: int = 128 * 2**30
    clock_offset: float = 0.0  # seconds ahead of everyone else


WITNESS = "lamp-room"  # stands apart from both rooms: it has a vote and no disks
SSD, HDD, NVME, BOOT = 3_840 * GB, 12 * TB, 1_920 * GB, 960 * GB

_LAYOUT = (
    ("fulmar", "North Quay", "NQ-1", "ssd"),
    ("gannet", "North Quay", "NQ-1", "hdd"),
    ("petrel", "North Quay", "NQ-2", "ssd"),
    ("razorbill", "North Quay", "NQ-2", "ssd"),
    ("kittiwake", "South Quay", "SQ-1", "ssd"),
    ("dunlin", "South Quay", "SQ-1", "hdd"),
    ("turnstone", "South Quay", "SQ-2", "ssd"),
    ("whimbrel", "South Quay", "SQ-2", "hdd"),
    ("skua", "South Quay", "SQ-2", "ssd"),
)


def _disk(
    node: str, number: int, bay: str, media: str, size: int, model: str, *, boot: bool = False
) -> StandInDisk:
    code = sum(ord(c) * 31**i for i, c in enumerate(node)) % 10**6
    return StandInDisk(
        bay, f"SF{code:06d}{number:02d}", f"0x5000c500{code:06x}{number:02x}", model, media, size, boot
    )


def skerry_ferries() -> list[StandInNode]:
    """The nine nodes with their irregularities: a worn disk, a smaller one, a link down, an old file system,
    a double path, a clock that is ahead.
    """
    nodes = []
    for position, (name, room, rack, kind) in enumerate(_LAYOUT):
        disks = [_disk(name, 0, "boot", "ssd", BOOT, "Sound SB960", boot=True)]
        disks += [_disk(name, n, f"c{n}", "nvme", NVME, "Skerrystone M2-1920") for n in (1, 2)]
        for device in disks[1:]:
            device.drive_writes_a_day = 3.0
        if kind == "ssd":
            disks += [_disk(name, 10 + n, str(n), "ssd", SSD, "Holm S3840") for n in range(1, 9)]
        else:
            disks += [_disk(name, 10 + n, str(n), "hdd", HDD, "Geo D12") for n in range(1, 7)]
        ports = [
            StandInPort("stor0", "storage", 25_000, addresses=(f"10.20.0.{11 + position}/24",)),
            StandInPort("stor1", "storage", 25_000, addresses=(f"10.21.0.{11 + position}/24",)),
            StandInPort(
                "mgmt0",
                "management",
                1_000,
                addresses=(f"10.10.0.{11 + position}/24", f"fd00:10::{11 + position:x}/64"),
                mtu=1500,
            ),
        ]
        nodes.append(StandInNode(name, room, rack, position, disks, ports))
    by_name = {n.name: n for n in nodes}
    _bay(by_name["dunlin"], "4").wears = True
    _bay(by_name["whimbrel"], "6").size_bytes = 8 * TB
    by_name["kittiwake"].ports[1].up = False
    _bay(by_name["skua"], "3").signature = "ext4"
    _bay(by_name["skua"], "5").double_path = True
    by_name["skua"].clock_offset = 0.7
    return nodes


def _bay(node: StandInNode, bay: str) -> StandInDisk:
    return next(d for d in node.disks if d.bay == bay)


def tender_nodes() -> list[NodePlace]:
    """The three nodes of the orchestrator tender, and in which room each stands."""
    rooms = ("north-quay", "south-quay", "north-quay")
    return [
        NodePlace(f"tender-{number}", {"topology.kubernetes.io/zone": room})
        for number, room in enumerate(rooms, 1)
    ]


def crowd(count: int) -> list[StandInNode]:
    """So many nodes of twelve SSDs, all sound, twenty to a rack in two rooms: to try things out at size."""
    nodes = []
    for number in range(count):
        name, rack = f"auk-{number + 1:04d}", number // 20
        disks = [_disk(name, n, str(n), "ssd", SSD, "Holm S3840") for n in range(1, 13)]
        host = f"{number // 250}.{number % 250 + 1}"
        ports = [
            StandInPort("stor0", "storage", 25_000, addresses=(f"10.20.{host}/16",)),
            StandInPort("mgmt0", "management", 1_000, addresses=(f"10.10.{host}/16",), mtu=1500),
        ]
        room = ("North Quay", "South Quay")[rack % 2]
        nodes.append(StandInNode(name, room, f"Row-{rack + 1}", number % 20, disks, ports))
    return nodes
