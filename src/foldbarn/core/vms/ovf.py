"""What an OVF descriptor says of a virtual machine: DMTF DSP0243, the Open Virtualization Format.

Read are its processors, its memory and its disks: Items of the virtual hardware, by the resource types of
CIM_ResourceAllocationSettingData (3 processor, 4 memory, 17 disk drive, 31 logical disk), and the DiskSection
that they name. Capacities are in programmatic units (DMTF DSP0004, annex C.1), such as "byte * 2^30".
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import NoReturn
from xml.etree.ElementTree import Element, TreeBuilder
from xml.parsers import expat

from foldbarn.core.errors import NotPossible
from foldbarn.core.units import GIB, KIB, LARGEST_BYTES, MIB
from foldbarn.core.vms.parts import LARGEST_MEMORY, MOST_CPUS, MOST_DISKS

MOST_CHARACTERS = 1_000_000  # of a descriptor; those of large virtual machines have some ten thousand
MOST_ELEMENTS = 20_000
DEEPEST = 40  # elements within one another

OVF = "http://schemas.dmtf.org/ovf/envelope/"  # then its version, 1 or 2
PROCESSOR, MEMORY, DISK_DRIVE, LOGICAL_DISK = "3", "4", "17", "31"
# What memory and capacity are in where nothing is said: the schema's default, and common practice for memory.
CAPACITY_UNIT, MEMORY_UNIT = "byte", "byte * 2^20"
# From before programmatic units; common practice.
_OLD_UNITS: dict[str, int] = {"bytes": 1, "kilobytes": KIB, "megabytes": MIB, "gigabytes": GIB}
_UNIT = re.compile(r"byte(?:\s*\*\s*(\d{1,7})(?:\s*\^\s*(\d{1,3}))?)?", re.ASCII | re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class DescribedDisk:
    """A disk by what its descriptor calls it, and its bytes. image: the file that it begins as; empty where
    it begins with nothing.
    """

    name: str
    bytes: int
    image: str = ""


@dataclass(frozen=True, slots=True)
class Described:
    """A virtual machine as it is described. cpus, memory_bytes: 0 where nothing is said."""

    name: str
    cpus: int
    memory_bytes: int
    disks: tuple[DescribedDisk, ...]


def read_descriptor(text: str) -> Described:
    """Raises NotPossible with what is wrong: no XML, entities or a document type, too long, too deep, no
    envelope of OVF, none or several virtual machines, a disk that is nowhere described, a capacity that is
    none.
    """
    if len(text) > MOST_CHARACTERS:
        _refuse(f"The descriptor has {len(text):,} characters; {MOST_CHARACTERS:,} are the most.")
    envelope = _parsed(text)
    if not envelope.tag.startswith(f"{{{OVF}") or _local(envelope.tag) != "Envelope":
        words = "It is XML, and no envelope of the Open Virtualization Format."
        _refuse(words, "Give the file that ends in .ovf.")
    systems = [one for one in envelope.iter() if _local(one.tag) == "VirtualSystem"]
    if len(systems) != 1:
        words = "It describes no virtual machine." if not systems else f"It describes {len(systems)} of them."
        _refuse(words, "Give a descriptor of one virtual machine.")
    return _described(envelope, systems[0])


def _described(envelope: Element, system: Element) -> Described:
    items = [one for one in system.iter() if _local(one.tag) in ("Item", "StorageItem")]
    kinds = [_said(item, "ResourceType") for item in items]
    cpus = sum(_count(item) for item, kind in zip(items, kinds, strict=True) if kind == PROCESSOR)
    memory = sum(
        _count(item) * _unit(_said(item, "AllocationUnits") or MEMORY_UNIT)
        for item, kind in zip(items, kinds, strict=True)
        if kind == MEMORY
    )
    if cpus > MOST_CPUS or memory > LARGEST_MEMORY:
        _refuse(f"It describes {cpus:,} processors and {memory:,} bytes of memory, more than any has.")
    known, files = _disks_of(envelope), _files_of(envelope)
    wanted = [
        (item, host)
        for item, kind in zip(items, kinds, strict=True)
        if kind in (DISK_DRIVE, LOGICAL_DISK) and (host := _said(item, "HostResource"))
    ]
    if len(wanted) > MOST_DISKS:
        _refuse(f"It describes {len(wanted):,} disks; {MOST_DISKS} are the most of one virtual machine.")
    disks = tuple(_disk(item, host, known, files) for item, host in wanted)
    name = _said(system, "Name") or _attribute(system, "id")
    return Described(name=name.strip(), cpus=cpus, memory_bytes=memory, disks=disks)


def _disk(item: Element, host: str, known: dict[str, Element], files: dict[str, str]) -> DescribedDisk:
    """host: the part of the descriptor that a drive is backed by, such as ovf:/disk/vmdisk1."""
    found = host.removeprefix("ovf:")
    what, _, which = found.removeprefix("/").partition("/")
    called = _said(item, "ElementName") or which
    if what != "disk" or which not in known:
        _refuse(f"{called} is on {host}, which the descriptor does not have.")
    disk = known[which]
    capacity = _attribute(disk, "capacity").strip()
    if not capacity.isascii() or not capacity.isdecimal() or len(capacity) > len(str(LARGEST_BYTES)):
        words = f"The capacity of {called} is '{capacity[:40]}', which is no number."
        _refuse(words, "Fill in what is left open in the descriptor.")
    size = int(capacity) * _unit(_attribute(disk, "capacityAllocationUnits") or CAPACITY_UNIT)
    if not 0 < size <= LARGEST_BYTES:
        _refuse(f"{called} has {size:,} bytes, which no disk has.")
    return DescribedDisk(called, size, files.get(_attribute(disk, "fileRef"), ""))


def _disks_of(envelope: Element) -> dict[str, Element]:
    section = next((one for one in envelope if _local(one.tag) == "DiskSection"), None)
    return {} if section is None else {_attribute(one, "diskId"): one for one in section if _is_disk(one)}


def _is_disk(one: Element) -> bool:
    return _local(one.tag) == "Disk"


def _files_of(envelope: Element) -> dict[str, str]:
    """Where the files are that it goes with, by what they are known by."""
    references = next((one for one in envelope if _local(one.tag) == "References"), None)
    return {} if references is None else {_attribute(f, "id"): _attribute(f, "href") for f in references}


def _unit(said: str) -> int:
    """Bytes of a programmatic unit. Raises NotPossible for another unit, or one beyond any size."""
    words = said.strip()
    if old := _OLD_UNITS.get(words.lower()):
        return old
    match = _UNIT.fullmatch(words)
    if match is None:
        _refuse(f"'{words[:40]}' is no unit of bytes.", "Units are such as byte * 2^30.")
    base, power = int(match[1] or 1), int(match[2] or 1)
    # Nobody raises a number to a power of which it is plain that it is too much.
    unit = LARGEST_BYTES + 1
    if power * (base.bit_length() - 1) < LARGEST_BYTES.bit_length():
        unit = int(base**power)
    if not 0 < unit <= LARGEST_BYTES:
        _refuse(f"'{words[:40]}' is beyond any size.")
    return unit


def _count(item: Element) -> int:
    said = _said(item, "VirtualQuantity")
    if not said.isascii() or not said.isdecimal() or len(said) > len(str(LARGEST_BYTES)):
        called = _said(item, "ElementName") or "One of its parts"
        _refuse(f"{called} is there '{said[:40]}' times, which is no number.")
    return int(said)


def _said(of: Element, name: str) -> str:
    """The text of a part of it; empty where it has none."""
    return next(((one.text or "").strip() for one in of if _local(one.tag) == name), "")


def _attribute(of: Element, name: str) -> str:
    return next((value for key, value in of.attrib.items() if _local(key) == name), "")


def _local(tag: str) -> str:
    return tag.rpartition("}")[2]


def _parsed(text: str) -> Element:
    """As XML without a document type: nothing in it stands for anything else, and nothing is fetched."""
    builder = TreeBuilder()
    parser = expat.ParserCreate("utf-8", namespace_separator="}")
    parser.SetParamEntityParsing(expat.XML_PARAM_ENTITY_PARSING_NEVER)
    depth = count = 0

    def begin(tag: str, attributes: dict[str, str]) -> None:
        nonlocal depth, count
        depth, count = depth + 1, count + 1
        if depth > DEEPEST or count > MOST_ELEMENTS:
            _refuse("It has more parts within one another than any descriptor.")
        builder.start(_braced(tag), {_braced(key): value for key, value in attributes.items()})

    def end(tag: str) -> None:
        nonlocal depth
        depth -= 1
        builder.end(_braced(tag))

    def refuse(*_: object) -> None:
        _refuse("It has a document type of its own, and a descriptor has none.", "Take that out of it.")

    parser.StartElementHandler, parser.EndElementHandler = begin, end
    parser.CharacterDataHandler = builder.data
    parser.StartDoctypeDeclHandler = refuse
    try:
        parser.Parse(text.encode(errors="replace"), True)
    except expat.ExpatError as error:
        words = f"It is not XML: line {error.lineno} cannot be read."
        _refuse(words, "Give the file that ends in .ovf.")
    return builder.close()


def _braced(name: str) -> str:
    return f"{{{name}" if "}" in name else name


def _refuse(words: str, step: str = "") -> NoReturn:
    raise NotPossible(words, about="descriptor", next_step=step)
