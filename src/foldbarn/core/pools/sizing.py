"""The sizing bench: a site that is only on paper, and what a pool of all its disks would hold, heal and
survive.

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
import math
import re
from collections import Counter
from dataclasses import dataclass, replace
from itertools import groupby
from typing import cast

import numpy as np

from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.machines.network import Port
from foldbarn.core.names import expand
from foldbarn.core.pools.capacity import (
    Addition,
    Ledger,
    PoolSpace,
    UsableRow,
    best_additions,
    pool_space,
    usable_by_protection,
)
from foldbarn.core.pools.durability import LossChance, chance_of_loss, groups_of, unread_chance
from foldbarn.core.pools.healing import headroom_sentence
from foldbarn.core.pools.media import MEDIA_WORDS, PROFILES, class_of
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.pools.repair import Fill, Repair, held_when_filled, repair_of
from foldbarn.core.pools.roles import Serves, assign_roles, cache_concerns, expected_writes
from foldbarn.core.site import Contact, Disk, Node, Pool, Rack, Role, Room, SiteView
from foldbarn.core.units import GIB, LARGEST_BYTES, MB, parse_size, say_duration, say_size

MOST_NODES, MOST_DISKS, MOST_LINES = 2_000, 50_000, 5_000
MOST_DISKS_OF_A_NODE, MOST_PORTS_OF_A_NODE = 2_048, 64
FASTEST_PORT = 10_000  # Gb/s; several times what exists
MOST_ERRORS = 12
USUAL_PORTS = (25_000, 25_000)  # Mb/s, where a plan says nothing of ports

_DISKS = re.compile(
    r"(?:([0-9]{1,5})\s*[x×*]\s*)?([0-9][0-9.]*\s*[A-Za-z]+)\s+(?:(sas|sata)\s+)?"
    r"(pmem|persistent memory|nvme|ssd|hdd)",
    re.IGNORECASE | re.ASCII,
)
_PORTS = re.compile(r"(?:([0-9]{1,5})\s*[x×*]\s*)?([0-9]{1,6})\s*Gb(?:it)?/s", re.IGNORECASE | re.ASCII)
_PLACE = re.compile(r"(room|rack)\s+(\S.*)", re.IGNORECASE)


THREE_COPIES = Scheme(1, 2, Level.RACK)


@dataclass(frozen=True, slots=True)
class Settings:
    """How the pool on paper would be set.

    failure_rate: a year, of one disk; None for what is common practice for its medium. grace_seconds: how
    long something may be away before it is written again elsewhere; replace_seconds: until a failed disk or
    node is replaced.
    """

    scheme: Scheme = THREE_COPIES
    headroom: Level | None = Level.NODE
    headroom_losses: int = 1
    strip_bytes: int = GIB
    serves: Serves = "cache"
    fill: float = 0.85
    failure_rate: float | None = None
    rebuild_rate: int = 0
    daily_writes: int = 0
    grace_seconds: float = 30.0
    replace_seconds: float = 2 * 86_400.0


@dataclass(frozen=True, slots=True)
class Sizing:
    """What a plan comes to. repair_disk, repair_node: of the fullest, with the pool filled to its fill line,
    None where there is nothing to write again or to write it from; chance: a year's, of losing data to disks,
    None where it holds nothing.

    left_out: a sentence on what no figure here counts.
    """

    view: SiteView
    pool: Pool
    space: PoolSpace
    ledger: Ledger
    protections: list[UsableRow]
    healing: str
    repair_disk: Repair | None
    repair_node: Repair | None
    chance: LossChance | None
    additions: list[Addition]
    concerns: list[str]

    @property
    def usable_bytes(self) -> int:
        """With headroom, of every tier."""
        return (
            self.space.usable + (self.space.fast.usable if self.space.fast else 0)
        ) * self.pool.extent_bytes

    @property
    def without_headroom_bytes(self) -> int:
        return (
            self.space.without_headroom + (self.space.fast.without_headroom if self.space.fast else 0)
        ) * self.pool.extent_bytes


LEFT_OUT = (
    "Left out: losses of whole nodes, racks and rooms; cache devices, which take what their disks "
    "had not yet been given "
    "along; other work on the disks and ports, which makes every rebuild slower; people, software, "
    "and disks of one batch "
    "failing together."
)


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
    if (raw := sum(d.size_bytes for d in plan.disks)) > LARGEST_BYTES:
        words = f"The plan's disks come to {say_size(raw)} raw; 8 EiB less one byte are the most."
        raise NotPossible(words, about="text")
    if not plan.disks:
        raise NotPossible(
            "The plan has no disk.", about="text", next_step="Write a line such as 'fulmar: 8 x 3.84 TB SSD'."
        )
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
            raise NotPossible(
                f"'{line[:60]}' is no room, no rack, and no node with its disks.",
                next_step="Write 'node: 8 x 3.84 TB SSD'.",
            )
        self._add_nodes(expand(names.strip()), parts)

    def _take_cells(self, cells: list[str]) -> None:
        """A row of a table: rack, node, how many, size, medium."""
        rack, node, count, size, medium = cells[:5]
        if not re.fullmatch("[0-9]{1,5}", count):
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
                things = tuple(
                    Port(name, f"stor{i}", "storage", True, s * MB // 8) for i, s in enumerate(speeds)
                )
                self.nodes.append(
                    Node(
                        known + 1,
                        name,
                        self._rack,
                        Contact.HEARD,
                        port_bytes_per_second=sum(p.bytes_per_second for p in things),
                        ports=things,
                    )
                )
            if len(self.nodes) > MOST_NODES:
                raise NotPossible(f"More than {MOST_NODES:,} nodes are more than the bench takes.")
            for media, bus, size in kinds:
                self._add_disk(known, name, media, bus, size)

    def _add_disk(self, node: int, name: str, media: str, bus: str, size: int) -> None:
        number = len(self.disks) + 1
        if number > MOST_DISKS:
            raise NotPossible(f"More than {MOST_DISKS:,} disks are more than the bench takes.")
        bay = str(sum(d.node == node for d in self.disks[-200:]) + 1)
        self.disks.append(
            Disk(
                number, f"{name}-{bay}", bay, node, media, size, f"paper-{number}", Role.CAPACITY, 0, bus=bus
            )
        )


def _read_parts(parts: str) -> tuple[list[tuple[str, str, int]], tuple[int, ...]]:
    """Medium, bus and size of every disk, and ports in Mb/s. Counted before anything is built. Raises
    NotPossible.
    """
    kinds: list[tuple[str, str, int]] = []
    ports: list[int] = []
    for part in (p.strip() for p in re.split(r",(?!\d{3}\b)", parts)):
        if not part:
            continue
        if found := _DISKS.fullmatch(part):
            count, size, bus, medium = (
                int(found[1] or 1),
                parse_size(found[2]),
                (found[3] or "").lower(),
                found[4].lower(),
            )
            if not count or count + len(kinds) > MOST_DISKS_OF_A_NODE:
                raise NotPossible(
                    f"A node has 1 to {MOST_DISKS_OF_A_NODE:,} disks, not {count + len(kinds):,}."
                )
            kinds += [("pmem" if medium.startswith("p") else medium, bus, size)] * count
        elif found := _PORTS.fullmatch(part):
            count, speed = int(found[1] or 1), int(found[2])
            if not count or count + len(ports) > MOST_PORTS_OF_A_NODE:
                words = f"A node has 1 to {MOST_PORTS_OF_A_NODE} ports, not {count + len(ports):,}."
                raise NotPossible(words)
            if not 1 <= speed <= FASTEST_PORT:
                raise NotPossible(f"A port has 1 to {FASTEST_PORT:,} Gb/s, not {speed:,}.")
            ports += [speed * 1000] * count
        else:
            raise NotPossible(
                f"'{part[:60]}' is neither disks, such as '8 x 3.84 TB SSD', nor ports, such as '2 x "
                "25 Gb/s'."
            )
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
                kinds = Counter(
                    (class_of(d.media, d.bus), d.size_bytes)
                    for d in view.node_disks[n]
                    if d.role != Role.BOOT
                )
                parts = [
                    f"{count} x {_exact(size)} {_medium(kind.media, kind.bus)}"
                    for (kind, size), count in sorted(kinds.items())
                ]
                speeds = sorted(
                    (p.bytes_per_second * 8 // MB for p in node.ports if p.purpose == "storage"), reverse=True
                )
                parts += [
                    f"{len(list(same))} x {speed // 1000} Gb/s"
                    for speed, same in groupby(speeds)
                    if speed >= 1000
                ]
                lines.append(f"  {node.name}: {', '.join(parts)}")
    return "\n".join(lines) + "\n"


def _medium(media: str, bus: str) -> str:
    words = MEDIA_WORDS[media]
    return f"{bus.upper()} {words}" if bus in ("sas", "sata") else words


def _exact(size: int) -> str:
    """A size that reads back as the same number of bytes."""
    return f"{size / 10**12:g} TB" if parse_size(f"{size / 10**12:g} TB") == size else f"{size} B"


def on_paper(view: SiteView, wish: Settings) -> tuple[SiteView, Pool]:
    """This site with one pool of every disk, and nothing in it."""
    roles = {a.disk: a for a in assign_roles(view.disks, wish.serves)}
    pool = Pool(
        1,
        "the plan",
        wish.strip_bytes,
        wish.scheme,
        wish.headroom,
        wish.fill,
        headroom_losses=wish.headroom_losses,
        rebuild_rate=wish.rebuild_rate,
        daily_writes=wish.daily_writes,
    )
    disks = tuple(replace(d, role=roles[d.name].role, tier=roles[d.name].tier, pool=0) for d in view.disks)
    return replace(view, disks=disks, pools=(pool,), volumes=()), pool


def size_up(view: SiteView, wish: Settings) -> Sizing:
    """What a pool of every disk of this site would come to. Raises NotPossible where the site cannot hold the
    protection at all.
    """
    paper, pool = on_paper(view, wish)
    disks = paper.disks
    space = pool_space(paper, pool)
    capacity = [d for d in disks if d.role == Role.CAPACITY]
    writes = expected_writes(wish.daily_writes, space.usable * pool.extent_bytes, wish.scheme)
    fills = fills_of(paper, pool, space)
    disk, node = repairs_of(paper, pool, fills, wish)
    return Sizing(
        view=paper,
        pool=pool,
        space=space,
        ledger=space.ledger,
        protections=usable_by_protection(paper, pool),
        healing=headroom_sentence(paper, pool, space),
        repair_disk=disk,
        repair_node=node,
        chance=chance_of(paper, pool, fills, wish),
        additions=best_additions(paper, pool),
        concerns=cache_concerns([d for d in disks if d.role == Role.CACHE], capacity, writes.daily_bytes),
    )


def fills_of(view: SiteView, pool: Pool, space: PoolSpace) -> list[Fill]:
    """Every tier, filled to the fill line: the share of its room that may be taken."""
    return [
        Fill(tier, view.in_pool(pool, tier), int(space.of(tier).usable * pool.fill_line))
        for tier in view.tiers_of(pool)
    ]


def repairs_of(
    view: SiteView, pool: Pool, fills: list[Fill], wish: Settings
) -> tuple[Repair | None, Repair | None]:
    """Of the fullest disk and of the fullest node; None where nothing is held, or there is nothing to write
    it again from.
    """
    if not pool.usual.m or not any(f.extents for f in fills):
        return None, None
    held = sum((held_when_filled(view, f, pool.usual) for f in fills), start=np.zeros(len(view.disks)))
    by_node = np.bincount(view.disk_node, weights=held, minlength=len(view.nodes))
    disk = np.arange(len(view.disks)) == int(np.argmax(held))
    node = view.disk_node == int(np.argmax(by_node))
    one, all_ = (
        repair_of(view, pool, fills, gone, grace=wish.grace_seconds, replacing=wish.replace_seconds)
        for gone in (disk, node)
    )
    return one, all_


def chance_of(view: SiteView, pool: Pool, fills: list[Fill], wish: Settings) -> LossChance | None:
    """A year's, of losing data to disks, over all tiers; None where nothing is held."""
    by_tier = [c for f in fills for c in [_chance_of_tier(view, pool, f, fills, wish)] if c is not None]
    if not by_tier:
        return None
    worst = max(by_tier, key=lambda c: c.a_year)
    safe = math.fsum(math.log1p(-min(c.a_year, 1.0 - 1e-16)) for c in by_tier)
    return replace(worst, a_year=-math.expm1(safe), groups=sum(c.groups for c in by_tier))


def _media(view: SiteView, pool: Pool, fill: Fill) -> Counter[str]:
    """Disks of a tier by medium; counted once for each picture of the site."""
    key = ("media", pool.number, fill.tier)
    if key not in view.findings:
        view.findings[key] = Counter(view.disks[r].media for r in fill.rows.tolist())
    return cast("Counter[str]", view.findings[key])


def _chance_of_tier(
    view: SiteView, pool: Pool, fill: Fill, fills: list[Fill], wish: Settings
) -> LossChance | None:
    if not fill.extents:
        return None
    scheme = pool.usual
    counts = np.unique(view.domain_of(pool.usual.level)[fill.rows], return_counts=True)[1].tolist()
    media = _media(view, pool, fill)
    usual = sum(PROFILES[m].annual_failure_rate * n for m, n in media.items()) / max(1, sum(media.values()))
    rate = usual if wish.failure_rate is None else wish.failure_rate
    seconds = wish.replace_seconds
    if scheme.m:
        held = held_when_filled(view, fill, pool.usual)
        gone = np.arange(len(view.disks)) == int(np.argmax(held))
        repair = repair_of(view, pool, fills, gone, grace=wish.grace_seconds, replacing=wish.replace_seconds)
        seconds = repair.seconds
    groups = groups_of(counts, scheme.strips, fill.extents, scheme.per_domain)
    errors = max((PROFILES[m].unreadable_bits for m in media), default=0.0)
    read = int(fill.extents / groups * pool.extent_bytes) if groups else 0
    return chance_of_loss(
        counts,
        scheme,
        fill.extents,
        failure_rate=rate,
        repair_seconds=max(seconds, 1.0),
        unread=unread_chance(read, errors),
    )


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
        ("Until the fullest disk is made up for, at least", lambda s: say_repair(s.repair_disk)),
        ("Until the fullest node is made up for, at least", lambda s: say_repair(s.repair_node)),
        ("Chance of losing data to disks, a year", lambda s: say_chance(s.chance)),
        (
            "What would raise usable most",
            lambda s: (
                f"{s.additions[0].what}: {say_size(s.additions[0].gain_bytes)}"
                if s.additions
                else "nothing tried"
            ),
        ),
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


def say_repair(repair: Repair | None) -> str:
    """How long until all copies are there again, and what it waits for; what of it is a lower bound is said
    beside it.
    """
    if repair is None:
        return "nothing to write again"
    waits = f", of which {say_duration(repair.replacing)} for a replacement" if repair.replacing else ""
    return f"{say_duration(repair.seconds)}{waits}"


def say_chance(chance: LossChance | None) -> str:
    """Such as "1 in 4,700"; two figures are as many as an estimate has."""
    if chance is None:
        return "it holds nothing"
    if chance.a_year > 0.5:
        return "more likely than not"
    one_in = chance.one_in
    if one_in > 1e12:
        return "less than 1 in a million million"
    digits = max(0, int(np.floor(np.log10(one_in))) - 1)
    return f"1 in {round(one_in / 10**digits) * 10**digits:,}"
