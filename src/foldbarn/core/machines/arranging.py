"""Rooms, racks and nodes put in order, and what that does to every level of fault domain."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from foldbarn.core.arrays import Ints
from foldbarn.core.pools.capacity import by_domain, stranded_slots
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.site import Role, SiteView
from foldbarn.core.units import GIB, say_count, say_size

LOPSIDED = 1.5  # a domain this many times as large as the mean of the others is worth a warning


@dataclass(frozen=True, slots=True)
class LevelEffect:
    """One level of fault domain: how many, the smallest and largest in bytes, and bytes stranded for two and
    three copies (None: too few).
    """

    level: Level
    domains: int
    smallest: int
    smallest_name: str
    largest: int
    largest_name: str
    stranded_two: int | None
    stranded_three: int | None


def level_effects(
    view: SiteView, rack_of: Mapping[str, str], room_of: Mapping[str, str]
) -> list[LevelEffect]:
    """The effect of an arrangement on rooms, racks and nodes, over disks that are pooled or fit.

    rack_of: rack name by node name; room_of: room name by rack name. Slots of 1 GiB, as of a pool's usual
    extents.
    """
    rows = [i for i, d in enumerate(view.disks) if d.role in (Role.CAPACITY, Role.UNCLAIMED)]
    slots: Ints = np.array([view.disks[i].size_bytes // GIB for i in rows], dtype=np.int64)
    boxes = [
        d.node if d.enclosure < 0 else len(view.nodes) + d.enclosure for d in (view.disks[i] for i in rows)
    ]
    box_names = [n.name for n in view.nodes] + [e.name for e in view.enclosures]
    box_racks = [rack_of.get(n.name, "") for n in view.nodes] + [
        view.racks[e.rack].name for e in view.enclosures
    ]
    racks = sorted({r for r in box_racks if r})
    rooms = sorted({room_of.get(r, "") for r in racks})
    effects = []
    for level, names, labels in (
        (Level.ROOM, rooms, [rooms.index(room_of.get(box_racks[b], "")) for b in boxes]),
        (Level.RACK, racks, [racks.index(box_racks[b]) for b in boxes]),
        (Level.NODE, box_names, boxes),
    ):
        effects.append(_effect(level, names, slots, np.array(labels, dtype=np.int64)))
    return effects


def _effect(level: Level, names: Sequence[str], slots: Ints, labels: Ints) -> LevelEffect:
    if not len(slots):
        return LevelEffect(level, 0, 0, "", 0, "", None, None)
    found, room = by_domain(slots, labels)
    small, large = int(np.argmin(room)), int(np.argmax(room))
    stranded = [
        sum(stranded_slots(slots, labels, mirror(copies, level)).values()) * GIB
        if len(found) >= copies
        else None
        for copies in (2, 3)
    ]
    return LevelEffect(
        level,
        len(found),
        int(room[small]) * GIB,
        names[int(found[small])],
        int(room[large]) * GIB,
        names[int(found[large])],
        stranded[0],
        stranded[1],
    )


def warnings(effects: Sequence[LevelEffect]) -> list[str]:
    """What is unwise about an arrangement: single domains, and lopsided ones."""
    found = []
    for effect in effects:
        if effect.domains == 1:
            found.append(f"There is only one {effect.level}: no copies can be kept apart at that level.")
        elif effect.domains == 2 and effect.level != Level.ROOM:
            found.append(
                f"There are only two {effect.level}s: three copies cannot be kept apart at that level."
            )
        for copies, stranded in ((2, effect.stranded_two), (3, effect.stranded_three)):
            if stranded and stranded > effect.largest // 20:
                words = (
                    f"With {say_count(copies, 'copy', 'copies')} kept apart by {effect.level}, "
                    f"{say_size(stranded)} cannot be used"
                )
                found.append(f"{words}: {effect.largest_name} is much larger than the others.")
        if (
            effect.domains > 2
            and effect.largest > LOPSIDED * max(1, effect.smallest)
            and not (effect.stranded_two or effect.stranded_three)
        ):
            found.append(
                f"{effect.largest_name} ({say_size(effect.largest)}) is much larger than "
                f"{effect.smallest_name} ({say_size(effect.smallest)})."
            )
    return found
