"""The sizing bench: a site that is only on paper, and what a pool of all its disks would hold, heal and survive.

A plan is typed as lines, or pasted from a table:

    room North Quay
    rack NQ-1
      fulmar: 8 x 3.84 TB SSD, 2 x 1.92 TB NVMe
      heron-{01..04}: 6 x 12 TB SAS HDD, 2 x 25 Gb/s
    NQ-2;petrel;8;3.84 TB;SSD
"""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from dataclasses import dataclass, replace
from itertools import groupby

import numpy as np

from foldbarn.core.arrays import Ints
from foldbarn.core.capacity import (
    Addition,
    Ledger,
    PoolSpace,
    UsableRow,
    best_additions,
    pool_space,
    usable_by_protection,
)
from foldbarn.core.durability import LossChance, chance_of_loss, unread_chance
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.healing import healing_sentence
from foldbarn.core.media import MEDIA_WORDS, PROFILES, class_of
from foldbarn.core.names import expand
from foldbarn.core.network import Port
from foldbarn.core.placement import place
from foldbarn.core.protection import Level, Protection
from foldbarn.core.rebuild import Estimate, estimate, plan_rebuild
from foldbarn.core.roles import Serves, assign_roles, cache_concerns, expected_writes
from foldbarn.core.site import Contact, Disk, Node, Pool, Rack, Role, Room, SiteView, Volume
from foldbarn.core.units import GIB, MB, parse_size, say_duration, say_size

MOST_NODES, MOST_DISKS, MOST_LINES = 2_000, 50_000, 5_000
MOST_ERRORS = 12
TRIAL_EXTENTS = 8_000  # as many are placed on paper to find out how long a rebuild takes; the bytes are the real ones
USUAL_PORTS = (25_000, 25_000)  # Mb/s, where a plan says nothing of ports

_DISKS = re.compile(r"(?:(\d+)\s*[x×*]\s*)?(\d[\d.]*\s*[A-Za-z]+)\s+(?:(sas|sata)\s+)?(pmem|persistent memory|nvme|ssd|hdd)", re.IGNORECASE)
_PORTS = re.compile(r"(?:(\d+)\s*[x×*]\s*)?(\d+)\s*Gb(?:it)?/s", re.IGNORECASE)
_PLACE = re.compile(r"(room|rack)\s+(\S.*)", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Settings:
    """How the pool on paper would be set. failure_rate: a year, of one disk; None for what is common practice for its medium."""

    copies: int = 3
    level: Level = Level.RACK
    headroom: Level | None = Level.NODE
    headroom_losses: int = 1
    extent_bytes: int = GIB
    serves: Serves = "cache"
    fill: float = 0.85
    failure_rate: float | None = None
    rebuild_rate: int = 0
    daily_writes: int = 0


@dataclass(frozen=True, slots=True)
class Sizing:
    """What a plan comes to. rebuild_disk, rebuild_node: of the largest, with the pool filled to its fill line; chance: a year's, of losing data to disks.

    left_out: a sentence on what no figure here counts.
    """

    view: SiteView
    pool: Pool
    space: PoolSpace
    ledger: Ledger
    protections: list[UsableRow]
    healing: str
    rebuild_disk: Estimate
    rebuild_node: Estimate
    chance: LossChance
    additions: list[Addition]
    concerns: list[str]

    @property
    def usable_bytes(self) -> int:
        """With headroom, of every tier."""
        return (self.space.usable + (self.space.fast.usable if self.space.fast else 0)) * self.pool.extent_bytes

    @property
    def without_headroom_bytes(self) -> int:
        return (self.space.without_headroom + (self.space.fast.without_headroom if self.space.fast else 0)) * self.pool.extent_bytes


LEFT_OUT = "Left out: losses of whole nodes, racks and rooms, people, software, and disks of one batch failing together."


def read_plan(text: str) -> SiteView:
    """The site that a plan describes. Raises NotPossible with the line of every error."""
    lines = text.splitlines()
    if len(lines) > MOST_LINES:
        raise NotPossible(f"The plan has {len(lines):,} lines; {MOST_LINES:,} are the most.", about="text")
    plan = _Plan()
    errors = []
    for number, line in enumerate(lines, 1):
        try:
            plan.take(line.partition("#")[0].strip())
        except BarnError as error:
            errors.append(f"Line {number}: {error.sentence}")
    if errors:
        more = f" And {len(errors) - MOST_ERRORS} more." if len(errors) > MOST_ERRORS else ""
        raise NotPossible(" ".join(errors[:MOST_ERRORS]) + more, about="text")
    if not plan.disks:
        raise NotPossible("The plan has no disk.", about="text", next_step="Write a line such as 'fulmar: 8 x 3.84 TB SSD'.")
    return SiteView("on paper", 0, tuple(plan.rooms), tuple(plan.racks), tuple(plan.nodes), tuple(plan.disks))


class _Plan:
    """What the lines read so far add up to."""

    def __init__(self) -> None:
        self.rooms: list[Room] = []
        self.racks: list[Rack] = []
        self.nodes: list[Node] = []
        self.disks: list[Disk] = []
        self._nodes: dict[str, int] = {}
        self._racks: dict[str, int] = {}
        self._room = self._rack = -1

    def take(self, line: str) -> None:
        if not line:
            return
        if place := _PLACE.fullmatch(line):
            (self._enter_room if place[1].lower() == "room" else self._enter_rack)(place[2].strip())
            return
        cells = [c.strip() for c in re.split(r"[;\t]", line)]
        if len(cells) >= 5:
            self._take_cells(cells)
            return
        names, colon, parts = line.partition(":")
        if not colon:
            raise NotPossible(f"'{line[:60]}' is no room, no rack, and no node with its disks.", next_step="Write 'node: 8 x 3.84 TB SSD'.")
        self._add_nodes(expand(names.strip()), parts)

    def _take_cells(self, cells: list[str]) -> None:
        """A row of a table: rack, node, how many, size, medium."""
        rack, node, count, size, medium = cells[:5]
        if not count.isdecimal():
            if not self.nodes and not self.racks:
                return  # the table's own heading
            raise NotPossible(f"'{count[:20]}' is no number of disks.")
        self._enter_rack(rack)
        self._add_nodes([node], f"{count} x {size} {medium}", more=True)

    def _enter_room(self, name: str) -> None:
        self._room = next((i for i, r in enumerate(self.rooms) if r.name.casefold() == name.casefold()), -1)
        if self._room < 0:
            self._room = len(self.rooms)
            self.rooms.append(Room(len(self.rooms) + 1, name))
        self._rack = -1

    def _enter_rack(self, name: str) -> None:
        key = name.casefold()
        if key not in self._racks:
            if self._room < 0:
                self._enter_room("Room 1")
            self._racks[key] = len(self.racks)
            self.racks.append(Rack(len(self.racks) + 1, name, self._room))
        self._rack = self._racks[key]

    def _add_nodes(self, names: list[str], parts: str, more: bool = False) -> None:
        if self._rack < 0:
            self._enter_rack("Rack 1")
        kinds, ports = _read_parts(parts)
        for name in names:
            if not name or len(name) > 63:
                raise NotPossible(f"'{name[:70]}' cannot be a node's name.")
            known = self._nodes.get(name.casefold())
            if known is not None and not more:
                raise NotPossible(f"There are two nodes named '{name}'.")
            if known is None:
                known = self._nodes[name.casefold()] = len(self.nodes)
                speeds = ports or USUAL_PORTS
                things = tuple(Port(name, f"stor{i}", "storage", True, s * MB // 8) for i, s in enumerate(speeds))
                self.nodes.append(Node(known + 1, name, self._rack, Contact.HEARD, port_bytes_per_second=sum(p.bytes_per_second for p in things), ports=things))
            if len(self.nodes) > MOST_NODES:
                raise NotPossible(f"More than {MOST_NODES:,} nodes are more than the bench takes.")
            for media, bus, size in kinds:
                self._add_disk(known, name, media, bus, size)

    def _add_disk(self, node: int, name: str, media: str, bus: str, size: int) -> None:
        number = len(self.disks) + 1
        if number > MOST_DISKS:
            raise NotPossible(f"More than {MOST_DISKS:,} disks are more than the bench takes.")
        bay = str(sum(d.node == node for d in self.disks[-200:]) + 1)
        self.disks.append(Disk(number, f"{name}-{bay}", bay, node, media, size, f"paper-{number}", Role.CAPACITY, 0, bus=bus))


def _read_parts(parts: str) -> tuple[list[tuple[str, str, int]], tuple[int, ...]]:
    """Medium, bus and size of every disk, and ports in Mb/s."""
    kinds: list[tuple[str, str, int]] = []
    ports: list[int] = []
    for part in (p.strip() for p in re.split(r",(?!\d{3}\b)", parts)):
        if not part:
            continue
        if found := _DISKS.fullmatch(part):
            count, size, bus, medium = int(found[1] or 1), parse_size(found[2]), (found[3] or "").lower(), found[4].lower()
            if not 1 <= count <= 2048:
                raise NotPossible(f"A node has 1 to 2,048 disks of a kind, not {count:,}.")
            kinds += [("pmem" if medium.startswith("p") else medium, bus, size)] * count
        elif found := _PORTS.fullmatch(part):
            ports += [int(found[2]) * 1000] * int(found[1] or 1)
        else:
            raise NotPossible(f"'{part[:60]}' is neither disks, such as '8 x 3.84 TB SSD', nor ports, such as '2 x 25 Gb/s'.")
    return kinds, tuple(ports)


def write_plan(view: SiteView) -> str:
    """A site's plan, as read_plan takes it: what could hold data, without the disks it boots from."""
    lines = []
    for r, room in enumerate(view.rooms):
        lines.append(f"room {room.name}")
        for k, rack in enumerate(view.racks):
            if rack.room != r:
                continue
            lines.append(f"rack {rack.name}")
            for n, node in enumerate(view.nodes):
                if node.rack != k:
                    continue
                kinds = Counter((class_of(d.media, d.bus), d.size_bytes) for d in view.node_disks[n] if d.role != Role.BOOT)
                parts = [f"{count} x {_exact(size)} {_medium(kind.media, kind.bus)}" for (kind, size), count in sorted(kinds.items())]
                speeds = sorted((p.bytes_per_second * 8 // MB for p in node.ports if p.purpose == "storage"), reverse=True)
                parts += [f"{len(list(same))} x {speed // 1000} Gb/s" for speed, same in groupby(speeds) if speed >= 1000]
                lines.append(f"  {node.name}: {', '.join(parts)}")
    return "\n".join(lines) + "\n"


def _medium(media: str, bus: str) -> str:
    words = MEDIA_WORDS[media]
    return f"{bus.upper()} {words}" if bus in ("sas", "sata") else words


def _exact(size: int) -> str:
    """A size that reads back as the same number of bytes."""
    return f"{size / 10**12:g} TB" if parse_size(f"{size / 10**12:g} TB") == size else f"{size} B"


def size_up(view: SiteView, wish: Settings) -> Sizing:
    """What a pool of every disk of this site would come to. Raises NotPossible where the site cannot hold the protection at all."""
    protection = Protection(wish.copies, wish.level)
    roles = {a.disk: a for a in assign_roles(view.disks, wish.serves)}
    pool = Pool(
        1, "on paper", wish.extent_bytes, protection, wish.headroom, wish.fill, headroom_losses=wish.headroom_losses, rebuild_rate=wish.rebuild_rate,
        daily_writes=wish.daily_writes,
    )  # fmt: skip
    disks = tuple(replace(d, role=roles[d.name].role, tier=roles[d.name].tier, pool=0) for d in view.disks)
    paper = replace(view, disks=disks, pools=(pool,), volumes=())
    space = pool_space(paper, pool)
    capacity = [d for d in disks if d.role == Role.CAPACITY]
    writes = expected_writes(wish.daily_writes, space.usable * pool.extent_bytes, wish.copies)
    disk_time, node_time = _rebuild_times(paper, pool, space)
    return Sizing(
        paper, pool, space, space.ledger, usable_by_protection(paper, pool), healing_sentence(paper, pool, space),
        disk_time, node_time, _chance(paper, pool, space, disk_time, wish),
        best_additions(paper, pool), cache_concerns([d for d in disks if d.role == Role.CACHE], capacity, writes.daily_bytes),
    )  # fmt: skip


def _rebuild_times(view: SiteView, pool: Pool, space: PoolSpace) -> tuple[Estimate, Estimate]:
    """How long the fullest disk and the fullest node take to be written again, by planning it with coarser extents."""
    extents = int(space.usable * pool.fill_line)
    nothing = Estimate(0.0, 0, "")
    if not extents or pool.usual.copies < 2:
        return nothing, nothing
    coarse = -(-extents // min(extents, TRIAL_EXTENTS))  # extents in one of the trial's
    trial_pool = replace(pool, extent_bytes=pool.extent_bytes * coarse)
    rows = view.in_pool(pool)
    trial = replace(view, pools=(trial_pool,))
    protection = pool.usual
    placed = None
    count = extents // coarse
    while placed is None and count:
        try:
            free = trial.disk_free[rows]
            placed = place(free, trial.domain_of(protection.level)[rows], trial.disk_node[rows], count, protection.strips, seed=1)
        except NotPossible:
            count = count * 9 // 10  # coarse extents leave a little more unused
    if placed is None:
        return nothing, nothing
    volume = Volume(1, "all of it", 0, extents * pool.extent_bytes, protection, trial.disk_numbers[rows][placed])
    trial = replace(trial, volumes=(volume,))
    worst_disk = int(np.argmax(trial.disk_used))
    worst_node = int(np.argmax(np.bincount(trial.disk_node, weights=trial.disk_used, minlength=len(trial.nodes))))
    return _time_without(trial, trial_pool, np.array([worst_disk])), _time_without(trial, trial_pool, np.flatnonzero(trial.disk_node == worst_node))


def _time_without(view: SiteView, pool: Pool, gone: Ints) -> Estimate:
    lost = set(gone.tolist())
    disks = tuple(replace(d, present=False, given_up=True) if i in lost else d for i, d in enumerate(view.disks))
    after = replace(view, disks=disks)
    return estimate(after, plan_rebuild(after, pool, seed=1), pool.extent_bytes, pool.rebuild_rate)


def _chance(view: SiteView, pool: Pool, space: PoolSpace, rebuild: Estimate, wish: Settings) -> LossChance:
    rows = view.in_pool(pool)
    labels = view.domain_of(pool.usual.level)[rows]
    counts = np.unique(labels, return_counts=True)[1].tolist()
    media = Counter(view.disks[r].media for r in rows.tolist())
    usual = sum(PROFILES[m].annual_failure_rate * n for m, n in media.items()) / max(1, sum(media.values()))
    extents = int(space.usable * pool.fill_line)
    errors = max((PROFILES[m].unreadable_bits for m in media), default=0.0)
    found = chance_of_loss(counts, pool.usual.copies, extents, failure_rate=wish.failure_rate or usual, repair_seconds=max(rebuild.seconds, 1.0))
    read = int(extents / found.groups * pool.extent_bytes) if found.groups else 0
    return chance_of_loss(
        counts, pool.usual.copies, extents, failure_rate=wish.failure_rate or usual, repair_seconds=max(rebuild.seconds, 1.0),
        unread=unread_chance(read, errors),
    )  # fmt: skip


def comparison(sizings: list[tuple[str, Sizing]]) -> list[list[str]]:
    """Variants side by side as a table of text: a heading, then a row for each figure."""
    rows: list[list[str]] = [["", *(name for name, _ in sizings)]]
    facts = (
        ("Nodes", lambda s: str(len(s.view.nodes))),
        ("Disks", lambda s: str(len(s.view.disks))),
        ("Raw, bytes", lambda s: str(s.ledger.raw)),
        ("Raw", lambda s: say_size(s.ledger.raw)),
        ("Protection", lambda s: s.pool.usual.sentence()),
        ("Usable, bytes", lambda s: str(s.usable_bytes)),
        ("Usable", lambda s: say_size(s.usable_bytes)),
        ("Usable with nothing held back", lambda s: say_size(s.without_headroom_bytes)),
        ("Stranded", lambda s: say_size(s.ledger.stranded)),
        ("Cache", lambda s: say_size(s.ledger.cache)),
        ("Healing", lambda s: s.healing),
        ("Rebuild of the fullest disk, at least", lambda s: say_duration(s.rebuild_disk.seconds)),
        ("Rebuild of the fullest node, at least", lambda s: say_duration(s.rebuild_node.seconds)),
        ("Chance of losing data to disks, a year", lambda s: say_chance(s.chance)),
        ("What would raise usable most", lambda s: f"{s.additions[0].what}: {say_size(s.additions[0].gain_bytes)}" if s.additions else "nothing tried"),
        ("Concerns", lambda s: " ".join(s.concerns) or "none"),
    )
    rows += [[label, *(fact(s) for _, s in sizings)] for label, fact in facts]
    return rows


def comparison_csv(sizings: list[tuple[str, Sizing]]) -> str:
    """The comparison as CSV (RFC 4180), and what no figure counts."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerows(comparison(sizings))
    writer.writerow([LEFT_OUT])
    return out.getvalue()


def say_chance(chance: LossChance) -> str:
    """Such as "1 in 4,700"; two figures are as many as an estimate has."""
    if chance.a_year <= 0:
        return "none"
    if chance.a_year > 0.5:
        return "more likely than not"
    one_in = chance.one_in
    if one_in > 1e12:
        return "less than 1 in a million million"
    digits = max(0, int(np.floor(np.log10(one_in))) - 1)
    return f"1 in {round(one_in / 10**digits) * 10**digits:,}"
