"""Columns over the volumes of a site: what is found of each alone is carried on from picture to picture, as
long as it is the very same object in both.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass, field
from operator import is_
from typing import TYPE_CHECKING, Any, cast

import numpy as np

from foldbarn.core.arrays import Flags, Ints

if TYPE_CHECKING:
    from foldbarn.core.site import Volume

Values = np.ndarray[Any, Any]
Find = Callable[["Volume"], Any]  # looks at nothing but the volume


@dataclass(frozen=True, slots=True, eq=False)
class _Column:
    """values: [volumes]; numbers: of what was found, where that stands there by number."""

    values: Values
    numbers: dict[Hashable, int] | None = None


@dataclass(frozen=True, slots=True, eq=False)
class Columns:
    """Asked by several threads at once: the worst that comes of it is that something is found twice."""

    volumes: Sequence[Volume] = ()
    found: dict[Find, _Column] = field(default_factory=dict)
    joined: dict[Find, tuple[Ints, Values]] = field(default_factory=dict)
    # what else was found of the site, with all that it was found of
    kept: dict[str, object] = field(default_factory=dict)

    def of(self, find: Find, kind: type) -> Values:
        """What is found of each, [volumes], as values of a kind."""
        column = self.found.get(find)
        if column is None:
            empty: Values = np.empty(len(self.volumes), dtype=kind)
            column = self.found[find] = self._filled(_Column(empty), range(len(self.volumes)), find)
        return column.values

    def alike(self, find: Find, judge: Callable[[Volume], bool]) -> Flags:
        """What is judged of each, [volumes]: once for all of which the same is found."""
        numbers, _ = self._numbered(find)
        _, rows, places = np.unique(numbers, return_index=True, return_inverse=True)
        flags: Flags = np.array([judge(self.volumes[row]) for row in rows.tolist()], dtype=np.bool_)[places]
        return flags

    def every(self, find: Find) -> set[Any]:
        """All that is found in what is found of them; of these, each once."""
        numbers, said = self._numbered(find)
        there = set(np.unique(numbers).tolist())
        return {one for ones, number in said.items() if number in there for one in cast("set[Any]", ones)}

    def _numbered(self, find: Find) -> tuple[Ints, dict[Hashable, int]]:
        """What is found of each by number, [volumes], and these numbers."""
        column = self.found.get(find)
        if column is None:
            empty = np.empty(len(self.volumes), dtype=np.int64)
            column = self.found[find] = self._filled(_Column(empty, {}), range(len(self.volumes)), find)
        return column.values, cast("dict[Hashable, int]", column.numbers)

    def together(self, find: Find) -> tuple[Ints, Values]:
        """Where arrays are found, all of them as one, [entries]; and the row of the volume of each entry."""
        if find not in self.joined:
            arrays = self.of(find, object)
            owners = np.repeat(np.arange(len(arrays)), [len(one) for one in arrays])
            self.joined[find] = owners, np.concatenate(arrays) if len(arrays) else owners
        return self.joined[find]

    def carried_to(self, volumes: Sequence[Volume]) -> Columns:
        """The columns of other volumes, of which most are the same."""
        if volumes is self.volumes or (
            len(volumes) == len(self.volumes) and all(map(is_, volumes, self.volumes))
        ):
            return self
        rows = {id(volume): row for row, volume in enumerate(self.volumes)}
        before = np.array([rows.get(id(volume), -1) for volume in volumes], dtype=np.int64)
        new = np.flatnonzero(before < 0).tolist()
        carried = Columns(volumes, kept=dict(self.kept))
        if len(new) * 2 < len(volumes):  # else all is found anew where it is asked for
            for find, column in list(self.found.items()):
                numbers = None if column.numbers is None else dict(column.numbers)
                same = _Column(column.values[before], numbers)
                carried.found[find] = carried._filled(same, new, find)
        return carried

    def _filled(self, column: _Column, rows: Sequence[int], find: Find) -> _Column:
        for row in rows:
            said = find(self.volumes[row])
            numbers = column.numbers
            column.values[row] = said if numbers is None else numbers.setdefault(said, len(numbers))
        column.values.flags.writeable = False
        return column
