"""What the stand-in nodes keep of what consumers overwrite, so that snapshots of a volume go on holding it:
block by block, by the newest snapshot before which each was written last.
"""

from __future__ import annotations

import time
from collections import Counter
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from foldbarn.core.arrays import Disks, Flags
from foldbarn.core.units import MIB
from foldbarn.yard.consumers import operations_a_second, workload_of

if TYPE_CHECKING:
    from foldbarn.yard.machines import Machines

BLOCK: int = 4 * MIB
FEW = 0.01  # of the blocks of an extent that are hit between two looks
LOOK_SECONDS = 1.0  # of the yard's time, between two looks at what has been overwritten


@dataclass(slots=True)
class Past:
    """first: the ply that the volume's data was first written to; room: bytes. marks: numbers of the
    snapshots that are there, oldest first; wrote: [blocks] the newest of all there have been when each was
    written last, 0 before the first; kept: blocks that were overwritten, by that number and by the newest
    when it happened: what was the volume's at the snapshots after the one and up to the other. read: numbers
    of the snapshots that other volumes read from.
    """

    first: int
    room: int
    marks: list[int] = field(default_factory=list)
    wrote: Disks = field(default_factory=lambda: np.zeros(0, dtype=np.int32))
    kept: Counter[tuple[int, int]] = field(default_factory=Counter)
    read: set[int] = field(default_factory=set)

    @property
    def used(self) -> int:
        """Bytes."""
        return int(sum(self.kept.values())) * BLOCK

    def grow(self, blocks: int) -> None:
        """The volume has so many blocks, or more."""
        if blocks > len(self.wrote):
            self.wrote = np.concatenate([self.wrote, np.zeros(blocks - len(self.wrote), dtype=np.int32)])

    def mark(self, number: int) -> None:
        """A snapshot of this moment; taken once more, the newest is of this moment."""
        if number in self.marks:
            self._as_if_not_marked(number)
        self.marks.append(number)

    def _as_if_not_marked(self, number: int) -> None:
        """Only the newest: what was written since belongs to the time before it."""
        self.marks.remove(number)
        before = max(self.marks, default=0)
        self.wrote[self.wrote == number] = before
        for wrote, until in [span for span in self.kept if span[1] == number]:
            count = self.kept.pop((wrote, until))
            if wrote < before:
                self.kept[wrote, before] += count

    def unmark(self, number: int) -> None:
        """It is no more, and what it alone had goes with it."""
        self.marks.remove(number)
        for span in [span for span in self.kept if not self._there(span)]:
            del self.kept[span]

    def _there(self, span: tuple[int, int]) -> list[int]:
        return [number for number in self.marks if span[0] < number <= span[1]]

    def overwrite(self, blocks: Flags) -> None:
        """Consumers write these blocks. Where what they held finds no room any more, the oldest snapshots
        give way, and those that other volumes read from after all others.
        """
        newest = max(self.marks, default=0)
        stale = np.flatnonzero(blocks[: len(self.wrote)] & (self.wrote[: len(blocks)] < newest))
        for wrote, count in zip(*np.unique(self.wrote[stale], return_counts=True), strict=True):
            self.kept[int(wrote), newest] += int(count)
        for span in [span for span in self.kept if not self._there(span)]:
            del self.kept[span]
        self.wrote[stale] = newest
        while self.used > self.room and self.marks:
            self.unmark(min(self.marks, key=lambda number: (number in self.read, number)))

    def others_than(self, number: int) -> Flags:
        """Which blocks changed since a snapshot, [blocks]."""
        found: Flags = self.wrote >= number
        return found

    def would_keep(self, blocks: Flags) -> int:
        """Bytes more that overwriting these blocks would keep."""
        stale = blocks & (self.wrote < max(self.marks, default=0))
        count: int = int(np.count_nonzero(stale))
        return count * BLOCK

    def spans(self) -> list[tuple[int, int, int]]:
        """From and up to which snapshot, and bytes that were the volume's at all of them and are no more."""
        found: Counter[tuple[int, int]] = Counter()
        for span, count in self.kept.items():
            if there := self._there(span):
                found[there[0], there[-1]] += count
        return [(first, last, count * BLOCK) for (first, last), count in sorted(found.items())]


def past_of(machines: Machines, first: int) -> tuple[int, Past] | None:
    """The number of the ply that holds the past of a volume, by the ply its data was first written to."""
    return next(((ply, past) for ply, past in machines.pasts.items() if past.first == first), None)


def is_marked(machines: Machines, ply: int, number: int) -> bool:
    """Whether there is a snapshot of this number of what a ply holds some of."""
    found = past_of(machines, machines.facts_of(ply).first)
    return found is not None and number in found[1].marks


def work_on(machines: Machines, seconds: float) -> None:
    """Consumers have worked for so long: what they have overwritten of volumes with snapshots is kept."""
    machines.past_due += seconds
    if not machines.pasts or machines.past_due < LOOK_SECONDS:
        return
    seconds, machines.past_due = machines.past_due, 0.0
    load = machines.load
    for ply, past in machines.pasts.items():
        volume = load.volumes.get(past.first)
        if volume is None or not past.marks or not volume.height:
            continue
        writes = volume.height * (1 - workload_of(past.first).reads) * seconds
        for part in volume.parts:
            past.overwrite(_hit(machines, past, part.ply, writes))
        machines.keep_past_soon(ply)


def _hit(machines: Machines, past: Past, ply: int, writes: float) -> Flags:
    """Which blocks of a ply's extents are written, where each is as often as its extent is asked for. writes:
    for each operation a second at the height of a rush.
    """
    known = machines.facts_of(ply)
    extents = np.unique(machines.load.lie[ply].extents)
    blocks = known.data * known.bytes // BLOCK
    rates = operations_a_second(past.first, extents, known.data) * writes
    chance = -np.expm1(-rates / max(blocks, 1))
    past.grow((int(extents.max(initial=-1)) + 1) * blocks)
    found = np.zeros(len(past.wrote), dtype=np.bool_)
    # Where few are hit it is drawn how many, and which: nearly never one twice.
    few, luck = chance < FEW, machines.load.luck
    times = luck.binomial(blocks, chance[few])
    found[np.repeat(extents[few] * blocks, times) + luck.integers(0, blocks, int(times.sum()))] = True
    many = extents[~few]
    hit = luck.random((len(many), blocks)) < chance[~few, None]
    found[(many[:, None] * blocks + np.arange(blocks)).reshape(-1)] = hit.reshape(-1)
    return found


def is_held(machines: Machines, first: int) -> bool:
    """Whether consumers' writes to a volume wait, for a snapshot that is being taken."""
    return machines.on_hold.get(first, 0.0) > time.monotonic()


def let_go(machines: Machines) -> None:
    """Volumes that were held for too long are written again, though nobody has said that they may."""
    over = [first for first, until in machines.on_hold.items() if until <= time.monotonic()]
    for first in over:
        del machines.on_hold[first]
        machines.load.summed_at = None


def shares(machines: Machines, node: str) -> dict[str, dict[str, object]]:
    """By number of the ply that holds it, what this node keeps of the past of a volume: the snapshots that
    are there, and spans as above, of which the bytes are its part, as it has of the strips there.
    """
    found: dict[str, dict[str, object]] = {}
    for ply, past in machines.pasts.items():
        strips = sum(machines.held[disk.serial][ply] for disk in machines.nodes[node].disks)
        if strips:
            part = strips / max(machines.strips_of(ply), 1)
            spans = [[first, last, round(size * part)] for first, last, size in past.spans()]
            found[str(ply)] = {"marks": list(past.marks), "spans": spans}
    return found
