"""What disks hold, compared with what they should hold: one sort of both lists together."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from foldbarn.core.arrays import Flags, Ints
from foldbarn.core.site import Pool, SiteView

Strips = NDArray[np.int64]  # [strips, 3]: ply, extent, strip
DENSE_BEYOND = 1 << 22  # the most extents that a ply has; other numbers are smaller by far
NO_STRIPS: Strips = np.zeros((0, 3), dtype=np.int64)


class Places(NamedTuple):
    """Strips on disks: numbers of the disk and the ply, the extent, the strip; [strips] each."""

    disk: Ints
    ply: Ints
    extent: Ints
    strip: Ints

    def only(self, kept: Flags) -> Places:
        return Places(*(column[kept] for column in self))

    def rows(self) -> list[tuple[int, int, int, int]]:
        """(ply, extent, strip, disk), in that order."""
        return sorted(
            zip(
                self.ply.tolist(),
                self.extent.tolist(),
                self.strip.tolist(),
                self.disk.tolist(),
                strict=True,
            )
        )


@dataclass(frozen=True, slots=True, eq=False)
class Difference:
    """beyond: what disks hold and should not; missing: what they should hold and do not."""

    beyond: Places
    missing: Places


def held_by(disks: Mapping[int, Strips]) -> Places:
    """What disks (by number) hold by their agents' word."""
    counts = [len(strips) for strips in disks.values()]
    found = np.concatenate([*disks.values(), NO_STRIPS])
    return Places(
        np.repeat(np.array(list(disks), dtype=np.int64), counts), found[:, 0], found[:, 1], found[:, 2]
    )


def placed(view: SiteView, pool: Pool) -> Places:
    """What the disks of a pool should hold: each strip where its placement says, and where it is on its way
    to.
    """
    parts: list[Places] = []
    for ply in view.every_ply_of(pool):
        extent, strip = np.nonzero(ply.placement > 0)
        numbers = np.full(len(extent), ply.number, dtype=np.int64)
        parts.append(Places(ply.placement[extent, strip].astype(np.int64), numbers, extent, strip))
    own = {p.number for p in view.every_ply_of(pool)}
    coming = [(to, *key) for key, to in view.under_way.items() if key[0] in own]
    table = np.array(coming, dtype=np.int64).reshape(-1, 4)
    parts.append(Places(*(table[:, i] for i in range(4))))
    return Places(*(np.concatenate(columns) for columns in zip(*parts, strict=True)))


def differences(held: Places, should: Places, asked: Ints) -> Difference:
    """asked: numbers of the disks that answered; of others nothing is known, so nothing is missing there.

    Raises OverflowError where disks, plies, extents and strips together have more than 2**62 places.
    """
    should = should.only(np.isin(should.disk, asked))
    both = Places(*(np.concatenate(columns) for columns in zip(held, should, strict=True)))
    if not len(both.disk):
        return Difference(both, both)
    numbering = _Numbering.of(both)
    keys = numbering.number(both) * 2
    keys[len(held.disk) :] += 1  # those that should be
    keys.sort()
    twins = np.zeros(len(keys), dtype=np.bool_)
    pairs = keys[1:] >> 1 == keys[:-1] >> 1
    twins[1:] |= pairs
    twins[:-1] |= pairs
    alone = keys[~twins]
    wanted = alone & 1 == 1
    return Difference(numbering.places(alone[~wanted] >> 1), numbering.places(alone[wanted] >> 1))


@dataclass(frozen=True, slots=True, eq=False)
class _Numbering:
    """One number for each place, which tells the place again. values: by column, what its numbers stand for,
    where they
    are not the numbers themselves; spans: how many each column has."""

    values: list[Ints | None]
    spans: list[int]

    @classmethod
    def of(cls, places: Places) -> _Numbering:
        values: list[Ints | None] = []
        spans: list[int] = []
        for column in places:
            most = int(column.max()) + 1
            # Numbers that are few beside how large they are get smaller ones.
            dense = np.unique(column) if most > DENSE_BEYOND else None
            values.append(dense)
            spans.append(most if dense is None else len(dense))
        if math.prod(spans) >= 2**62 or any(int(column.min()) < 0 for column in places):
            raise OverflowError("too many places to tell apart")
        return cls(values, spans)

    def number(self, places: Places) -> Ints:
        numbers = np.zeros(len(places.disk), dtype=np.int64)
        for column, values, span in zip(places, self.values, self.spans, strict=True):
            numbers *= span
            numbers += column if values is None else np.searchsorted(values, column)
        return numbers

    def places(self, numbers: Ints) -> Places:
        columns: list[Ints] = []
        for values, span in zip(reversed(self.values), reversed(self.spans), strict=True):
            numbers, column = np.divmod(numbers, span)
            columns.append(column if values is None else values[column])
        return Places(*reversed(columns))


def lay_there(view: SiteView, places: Places) -> Flags:
    """Which strips lay on these disks as a site was then, of volumes that had been made, [strips]."""
    found = np.zeros(len(places.disk), dtype=np.bool_)
    for number in np.unique(places.ply).tolist():
        ply, mine = view.ply_numbered.get(number), np.flatnonzero(places.ply == number)
        if ply is None or ply.forming:
            continue
        mine = mine[places.extent[mine] < ply.extents]  # it may have grown since
        found[mine] = ply.placement[places.extent[mine], places.strip[mine]] == places.disk[mine]
    return found
