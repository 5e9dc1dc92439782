"""Thin volumes in the yard: how far consumers have written, what nodes want room for ahead of that, and when
they refuse writes. A volume is written from its front, a file system that fills.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from foldbarn.core.arrays import runs
from foldbarn.core.volumes.thin import ahead_of
from foldbarn.yard import shares
from foldbarn.yard.consumers import written_share

if TYPE_CHECKING:
    from foldbarn.yard.machines import Machines


@dataclass(frozen=True, slots=True)
class Filling:
    """How a thin volume stands. strips: ranges of its strips of data that it wants room for; refuses: whether
    consumers would write where there is none; part: of what has been set aside, 0 to 1, that is written.
    """

    strips: tuple[tuple[int, int], ...]
    refuses: bool
    part: float


def look(machines: Machines) -> None:
    """How all thin volumes stand now."""
    machines.filling = {first: _filling(machines, first) for first in machines.thin}


def _filling(machines: Machines, first: int) -> Filling:
    total = machines.thin[first]
    held, known = np.zeros(total, dtype=np.bool_), machines.facts_of(first)
    for ply, lie in machines.load.lie.items():
        facts = machines.facts_of(ply)
        if str(ply) in machines.landings or facts.first != first:
            continue
        known = facts
        extents = np.unique(lie.extents)
        strips = (extents[:, None] * facts.data + np.arange(facts.data)).reshape(-1)
        held[strips[strips < total]] = True
    written = math.ceil(_written_share(machines, first, machines.used_for(known.first)) * total)
    ahead = min(total, written + ahead_of(total))
    there = int(held[:written].sum())
    return Filling(tuple(runs(~held[:ahead])), there < written, there / max(int(held.sum()), 1))


def wants(machines: Machines, node: str) -> dict[str, Any]:
    """What a node wants room for, by the number of a ply of which it holds some."""
    found, resting = {}, machines.out_of_use()
    for disk in machines.nodes[node].disks:
        for ply, strips in machines.held[disk.serial].items():
            first = machines.facts_of(ply).first
            filling = machines.filling.get(first)
            if first in resting or not strips or str(ply) in machines.landings:
                continue
            if filling and filling.strips:
                found[str(ply)] = {"strips": [list(r) for r in filling.strips], "refuses": filling.refuses}
    return found


def written_part(machines: Machines, ply: int) -> float:
    """Part of what lies of a ply on disks that its consumers have written."""
    known = machines.facts_of(ply)
    filling = machines.filling.get(known.first)
    return filling.part if filling else _written_share(machines, known.first, machines.used_for(ply))


def _written_share(machines: Machines, first: int, age: float) -> float:
    """Part of a volume that is written: of one that holds a share, what its files take."""
    found = shares.written_part(machines, first)
    return written_share(first, age) if found is None else found
