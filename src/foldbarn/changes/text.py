"""The site as text: YAML with rooms, racks, nodes, their ports and disks, and the cluster. Read with the line
of every error, written without loss.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from types import MappingProxyType
from typing import Any, Literal, TypeVar

import yaml
from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from foldbarn.changes.marked import MOST_CHARACTERS, Marked, Unreadable, read_marked
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.machines.hardware import Inventory, ReportedDisk, ReportedPort
from foldbarn.core.machines.identity import plain_wwn
from foldbarn.core.machines.network import Port, read_interface
from foldbarn.core.names import folded, natural_key
from foldbarn.core.site import Disk, Node, SiteView
from foldbarn.core.units import GB, GIB, MB, MIB, parse_size

MOST_ERRORS = 20
MOST_LOOKED_AT = 200  # errors whose line is looked up


class BadText(NotPossible):
    """What is wrong with a text, each with its line (from 1)."""

    def __init__(self, errors: list[tuple[int, str]], more: int = 0) -> None:
        shown = errors[:MOST_ERRORS]
        left = len(errors) - len(shown) + more
        ending = f" And {left:,} more." if left else ""
        super().__init__(
            " ".join(f"Line {line}: {sentence}" for line, sentence in shown) + ending, about="text"
        )
        self.errors = errors


class Text(BaseModel):
    """What a text says: nothing that is not known."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True, str_max_length=300)


T = TypeVar("T", bound=Text)


class DiskText(Text):
    """A disk: sizes as "3840 GB", or a plain number of bytes."""

    bay: str
    size: int
    medium: Literal["pmem", "nvme", "ssd", "hdd"]
    serial: str = ""
    wwn: str = ""
    model: str = ""

    @field_validator("bay", "serial", mode="before")
    @classmethod
    def _text(cls, value: Any) -> Any:
        return str(value) if isinstance(value, int) and not isinstance(value, bool) else value

    @field_validator("size", mode="before")
    @classmethod
    def _size(cls, value: Any) -> Any:
        return sized(value)


class PortText(Text):
    """A network port: speed in Mb/s."""

    name: str
    purpose: Literal["management", "storage", "client"] = "client"
    megabits: int = Field(default=0, ge=0, le=10_000_000)
    mtu: int = Field(default=1500, ge=68, le=65_536)
    addresses: list[str] = Field(default_factory=list)

    @field_validator("addresses")
    @classmethod
    def _addresses(cls, value: list[str]) -> list[str]:
        for text in value:
            try:
                read_interface(text)
            except BarnError as error:
                raise ValueError(error.sentence.removesuffix(".")) from error
        return value


class NodeText(Text):
    name: str = Field(min_length=1, max_length=63)
    cores: int = Field(default=0, ge=0, le=100_000)
    memory: int = 0
    dedicated: bool = False
    bmc: str = ""
    ports: list[PortText] = Field(default_factory=list)
    disks: list[DiskText] = Field(default_factory=list, max_length=2048)

    @field_validator("memory", mode="before")
    @classmethod
    def _memory(cls, value: Any) -> Any:
        return value if value == 0 else sized(value)


class RackText(Text):
    name: str = Field(min_length=1, max_length=63)
    nodes: list[NodeText] = Field(default_factory=list)


class RoomText(Text):
    name: str = Field(min_length=1, max_length=63)
    racks: list[RackText] = Field(default_factory=list)


class WitnessText(Text):
    name: str
    address: str = ""
    room: str = ""
    rack: str = ""


class ClusterText(Text):
    """What a person has entered of the cluster, formed or not."""

    name: str
    keepers: list[str] = Field(default_factory=list)
    service_address: str = Field(default="", alias="service address")
    witness: WitnessText | None = None


class SiteText(Text):
    """A whole site."""

    site: str
    rooms: list[RoomText] = Field(default_factory=list)
    cluster: ClusterText | None = None

    def names(self) -> list[str]:
        """Of its nodes, in its order."""
        return [node.name for room in self.rooms for rack in room.racks for node in rack.nodes]


def sized(value: Any) -> int:
    if isinstance(value, bool) or not isinstance(value, int | str):
        raise ValueError("a size is a number and a unit, such as 3840 GB")
    try:
        return parse_size(value)
    except BarnError as error:
        raise ValueError(error.sentence.removesuffix(".")) from error


def read_as(shape: type[T], text: str, begins: str) -> T:
    """What a text of such a shape says. Raises BadText with the line of each error: bad YAML, anchors,
    unknown keys, wrong types; NotPossible for one that is too long. begins: what is said of a text that is
    no mapping.
    """
    return _read(shape, text, begins)[0]


def _read(shape: type[T], text: str, begins: str) -> tuple[T, Marked]:
    if len(text) > MOST_CHARACTERS:
        raise NotPossible(
            f"The text has {len(text):,} characters; {MOST_CHARACTERS:,} are the most.", about="text"
        )
    try:
        loaded = read_marked(text)
    except Unreadable as error:
        raise BadText([(error.line, error.sentence)]) from error
    if loaded.by_key is None:
        raise BadText([(1, begins)])
    try:
        return shape.model_validate(loaded.value), loaded
    except ValidationError as error:
        told = error.errors(include_url=False, include_input=False, include_context=False)
        first = sorted((loaded.line_of(e["loc"]), _sentence(e)) for e in told[:MOST_LOOKED_AT])
        raise BadText(first, more=len(told) - len(first)) from error


def read_text(text: str) -> SiteText:
    """What a site's text says. Raises as read_as, and BadText for names used twice."""
    found, loaded = _read(SiteText, text, "A site's text begins with 'site:' and its name.")
    if twice := _twice(found, loaded):
        raise BadText(twice)
    return found


def _sentence(error: Any) -> str:
    where = ".".join(str(p) for p in error["loc"] if not isinstance(p, int)) or "the text"
    if error["type"] == "extra_forbidden":
        return f"There is no key '{error['loc'][-1]}' here."
    if error["type"] == "missing":
        return f"'{error['loc'][-1]}' is missing."
    message = error["msg"].removeprefix("Value error, ")
    return f"'{where.split('.')[-1]}' is not usable: {message[0].lower()}{message[1:]}."


def _twice(found: SiteText, loaded: Marked) -> list[tuple[int, str]]:
    """Names and serial numbers that are used twice; case does not tell names apart."""
    errors: list[tuple[int, str]] = []
    seen: dict[tuple[str, str], bool] = {}

    def once(kind: str, name: str, place: tuple[int | str, ...]) -> None:
        key = (kind, name.casefold())
        if name and key in seen:
            errors.append(
                (
                    loaded.line_of(place),
                    f"There are two {kind}s named '{name}'."
                    if kind != "serial number"
                    else f"The serial number {name} stands here twice.",
                )
            )
        seen[key] = True

    for r, room in enumerate(found.rooms):
        once("room", room.name, ("rooms", r, "name"))
        for k, rack in enumerate(room.racks):
            once("rack", rack.name, ("rooms", r, "racks", k, "name"))
            for n, node in enumerate(rack.nodes):
                at = ("rooms", r, "racks", k, "nodes", n)
                once("node", node.name, (*at, "name"))
                for d, disk in enumerate(node.disks):
                    once("serial number", disk.serial, (*at, "disks", d, "serial"))
    return errors


class _OneLine(dict[str, Any]):
    """A mapping that is written on one line."""


class _Dumper(yaml.CSafeDumper):
    """As people write it: nothing anchored, disks and ports on one line each."""

    def ignore_aliases(self, data: Any) -> bool:
        return True


_Dumper.add_representer(
    _OneLine, lambda dumper, data: dumper.represent_mapping("tag:yaml.org,2002:map", data, flow_style=True)
)


def write_text(site: SiteText) -> str:
    """The text of a site; reading it gives the same site again."""
    return written(site)


def written(found: Text) -> str:
    """Reading it gives the same again."""
    text: str = yaml.dump(
        _short(found),
        Dumper=_Dumper,
        sort_keys=False,
        allow_unicode=True,
        width=10_000,
        default_flow_style=False,
    )
    return text


def _short(value: Any) -> Any:
    """No defaults, sizes in GB where they are whole."""
    if isinstance(value, list):
        return [_short(v) for v in value]
    if not isinstance(value, BaseModel):
        return value
    found: dict[str, Any] = _OneLine() if isinstance(value, DiskText | PortText) else {}
    for name, field in type(value).model_fields.items():
        held = getattr(value, name)
        if not field.is_required() and held == field.get_default(call_default_factory=True):
            continue
        found[field.alias or name] = (
            say_exactly(held) if name in ("size", "memory", "throughput") else _short(held)
        )
    return found


def say_exactly(size: int) -> str | int:
    """A size in whole GB, GiB, MiB or MB where it is one, else in bytes: nothing is rounded."""
    return next(
        (
            f"{size // scale} {unit}"
            for scale, unit in ((GB, "GB"), (GIB, "GiB"), (MIB, "MiB"), (MB, "MB"))
            if size % scale == 0
        ),
        size,
    )


def text_of(view: SiteView) -> SiteText:
    """The site as it stands."""
    cluster = None
    if view.cluster:
        c = view.cluster
        cluster = ClusterText(
            name=c.name,
            keepers=[n.name for n in view.nodes if n.keeper],
            service_address=c.service_address,
            witness=WitnessText(
                name=c.witness, address=c.witness_url, room=c.witness_room, rack=c.witness_rack
            )
            if c.witness
            else None,
        )
    by_node: dict[int, list[Disk]] = {}
    for disk in view.disks:
        by_node.setdefault(disk.node, []).append(disk)
    rooms = [
        RoomText(
            name=room.name,
            racks=[
                RackText(
                    name=rack.name,
                    nodes=[
                        _node_text(n, by_node.get(i, [])) for i, n in enumerate(view.nodes) if n.rack == k
                    ],
                )
                for k, rack in enumerate(view.racks)
                if rack.room == r
            ],
        )
        for r, room in enumerate(view.rooms)
    ]
    return SiteText(site=view.name, rooms=rooms, cluster=cluster)


def _node_text(node: Node, disks: list[Disk]) -> NodeText:
    ports = [
        PortText(
            name=p.name,
            purpose=p.purpose if p.purpose in ("management", "storage", "client") else "client",
            megabits=p.bytes_per_second * 8 // MB,
            mtu=p.mtu,
            addresses=list(p.addresses),
        )
        for p in node.ports
    ]
    return NodeText(
        name=node.name,
        cores=node.cores,
        memory=node.memory_bytes,
        dedicated=node.dedicated,
        ports=ports,
        disks=[
            DiskText(bay=d.bay, size=d.size_bytes, medium=d.media, serial=d.serial, wwn=d.wwn, model=d.model)
            for d in disks
        ],
    )


def inventory_of(node: NodeText, room: str, rack: str, position: int) -> Inventory:
    """What the text says of a node, as facts."""
    return Inventory(
        node=node.name,
        room=room,
        rack=rack,
        position=position,
        cores=node.cores,
        memory_bytes=node.memory,
        disks=tuple(
            ReportedDisk(
                d.bay, f"bay {d.bay}", d.serial, plain_wwn(d.wwn), d.model, d.medium, d.size, inspected=False
            )
            for d in node.disks
        ),
        ports=tuple(
            ReportedPort(p.name, p.purpose, False, p.megabits * MB // 8, p.mtu, tuple(p.addresses))
            for p in node.ports
        ),
    )


def known_nodes(
    site: SiteText, view: SiteView, meant: Mapping[str, int] = MappingProxyType({})
) -> dict[str, Node]:
    """Nodes that the text names and that are known, by folded name: as they were meant (by number), else by
    their names here, else by what their agents call them. Raises NotPossible where two names are one node.
    """
    by_number = {n.number: n for n in view.nodes}
    by_name = {folded(n.agent_name): n for n in view.nodes if n.agent_name}
    by_name |= {folded(n.name): n for n in view.nodes}
    found: dict[str, Node] = {}
    named: dict[int, str] = {}
    for name in site.names():
        node = by_number.get(meant.get(name, 0)) or by_name.get(folded(name))
        if node is None:
            continue
        if node.number in named:
            raise NotPossible(
                f"{named[node.number]} and {name} in the text are one node: {node.name}.",
                about="text",
                next_step="Name it once.",
            )
        found[folded(name)], named[node.number] = node, name
    return found


def new_nodes(site: SiteText, known: Mapping[str, Node]) -> list[str]:
    """Names of the nodes that only the text knows, in its order."""
    return [name for name in site.names() if folded(name) not in known]


def differences(site: SiteText, view: SiteView, known: Mapping[str, Node]) -> list[tuple[str, str, str]]:
    """What the text says and what the machines say now, where they differ: (what it is about, text,
    machines). known: as known_nodes finds them.
    """
    found: list[tuple[str, str, str]] = []
    disks: dict[int, list[Disk]] = defaultdict(list)  # by node number
    for disk in view.disks:
        disks[view.nodes[disk.node].number].append(disk)
    for room in site.rooms:
        for rack in room.racks:
            for text in rack.nodes:
                node = known.get(folded(text.name))
                if node is None:
                    found.append((text.name, f"{room.name}, {rack.name}", "not known yet"))
                else:
                    rack_now = view.racks[node.rack]
                    places = f"{room.name}, {rack.name}", f"{view.rooms[rack_now.room].name}, {rack_now.name}"
                    found += _node_differences(text, node, places, disks[node.number])
    told = {node.number for node in known.values()}
    found += [(n.name, "not in the text", "known") for n in view.nodes if n.number not in told]
    return sorted(found, key=lambda f: natural_key(f[0]))


def _node_differences(
    node: NodeText, known: Node, places: tuple[str, str], disks: list[Disk]
) -> list[tuple[str, str, str]]:
    """places: room and rack, as the text says and as they are; disks: of the node."""
    found: list[tuple[str, str, str]] = []
    if places[0] != places[1]:
        found.append((node.name, *places))
    for what, said, is_ in (("cores", node.cores, known.cores), ("memory", node.memory, known.memory_bytes)):
        if said and said != is_:
            found.append(
                (
                    f"{node.name}, {what}",
                    str(say_exactly(said) if what == "memory" else said),
                    str(say_exactly(is_) if what == "memory" else is_),
                )
            )
    ports = {p.name: p for p in known.ports}
    for port in node.ports:
        real: Port | None = ports.get(port.name)
        if real is None:
            found.append(
                (f"{node.name}, port {port.name}", ", ".join(port.addresses) or "there", "not there")
            )
        elif sorted(port.addresses) != sorted(real.addresses) and port.addresses:
            found.append(
                (
                    f"{node.name}, port {port.name}",
                    ", ".join(port.addresses),
                    ", ".join(real.addresses) or "no address",
                )
            )
    by_key = {key: d for d in disks for key in (d.serial, d.wwn) if key}
    seen: set[int] = set()
    for disk in node.disks:
        match = by_key.get(plain_wwn(disk.wwn)) or by_key.get(disk.serial)
        if match is None:
            found.append((f"{node.name}-{disk.bay}", f"{say_exactly(disk.size)} {disk.medium}", "not there"))
            continue
        seen.add(match.number)
        if disk.size != match.size_bytes:
            found.append(
                (f"{node.name}-{disk.bay}", str(say_exactly(disk.size)), str(say_exactly(match.size_bytes)))
            )
        if not match.present:
            found.append((match.name, "there", "missing"))
    if node.disks:
        found += [
            (d.name, "not in the text", f"{say_exactly(d.size_bytes)} {d.media}")
            for d in disks
            if d.number not in seen
        ]
    return found
