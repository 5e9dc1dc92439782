"""What consumers ask of volumes: how often, and of which parts of them most. All invented, from the number of
the ply that a volume was first written to.
"""

from __future__ import annotations

import numpy as np

from foldbarn.core.arrays import Ints, Reals
from foldbarn.yard.machines import Machines

CALM = 0.2  # of the height of a rush, at any hour
COOLEST = 0.05  # operations a second that the least wanted strip of data takes at the height of a rush
SIDE_BY_SIDE = 4  # strips of data that are wanted alike: what is read together was written together
BLOCK_BYTES = 16 * 1024  # of an operation
RAREST = 1 / 4096  # the most wanted of so many is the height of what one strip is asked for


def skew_of(first: int) -> float:
    """How uneven its users are: the exponent by which what is asked of a strip falls with its rank, as in
    Zipf's law.
    """
    return 0.55 + 0.5 * (first * 0.618 % 1.0)


def operations_a_second(first: int, extents: Ints, data: int) -> Reals:
    """What is asked of extents of so many strips of data each, at the height of a rush, [extents].

    first: the ply that the data was first written to. However it is cut into extents, the same data is asked
    for as often.
    """
    strips = np.asarray(extents, dtype=np.int64)[:, None] * data + np.arange(data)
    place = _between(first, strips // SIDE_BY_SIDE)
    rates: Reals = (COOLEST * np.maximum(place, RAREST) ** -skew_of(first)).sum(axis=1)
    return rates


def _between(first: int, blocks: Ints) -> Reals:
    """A number between 0 and 1 for each block, always the same (the finalizer of SplitMix64, from memory)."""
    with np.errstate(over="ignore"):
        mixed = blocks.astype(np.uint64) + np.uint64(first + 1) * np.uint64(0x9E3779B97F4A7C15)
        mixed = (mixed ^ (mixed >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        mixed = (mixed ^ (mixed >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        mixed ^= mixed >> np.uint64(31)
    found: Reals = mixed.astype(np.float64) / 2.0**64
    return found


def most_busy(machines: Machines) -> dict[str, float]:
    """How busy the consumers of volumes with limits may be, as a part of the height of a rush; by the ply
    that the volume was first written to. The nodes of a volume keep to the sum of their parts together.
    """
    parts: dict[str, list[float]] = {}
    for limits in machines.limits.values():
        for ply, (operations, size) in limits.items():
            first = str(machines.facts_of(ply).first)
            so_far = parts.setdefault(first, [0.0, 0.0])
            so_far[0] += operations
            so_far[1] += size / BLOCK_BYTES
    found = {}
    for first, (operations, blocks) in parts.items():
        most = min((limit for limit in (operations, blocks) if limit), default=0.0)
        if first not in machines.rates:
            machines.rates[first] = _rate(machines, int(first))
        if most and machines.rates[first]:
            found[first] = most / machines.rates[first]
    return found


def _rate(machines: Machines, first: int) -> float:
    """Operations a second that are asked of all of a volume at the height of a rush."""
    strips: set[int] = set()
    for held in machines.strips.values():
        for ply, extent, _ in held:
            known = machines.facts_of(ply)
            if known.first == first and str(ply) not in machines.landings:
                strips.update(range(extent * known.data, (extent + 1) * known.data))
    return (
        float(operations_a_second(first, np.array(sorted(strips), dtype=np.int64), 1).sum())
        if strips
        else 0.0
    )
