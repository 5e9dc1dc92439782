"""Maximum flows by a reference library, for tests that ask how much any arrangement could have placed."""

from __future__ import annotations

from collections.abc import Hashable

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import maximum_flow


class Network:
    """Edges with whole capacities between anything that can be told apart."""

    def __init__(self) -> None:
        self.numbers: dict[Hashable, int] = {}
        self.edges: dict[tuple[int, int], int] = {}

    def _number(self, place: Hashable) -> int:
        return self.numbers.setdefault(place, len(self.numbers))

    def edge(self, start: Hashable, end: Hashable, capacity: int) -> None:
        self.edges[self._number(start), self._number(end)] = capacity

    def widen(self, start: Hashable, end: Hashable) -> None:
        """One more on an edge, which is there from then on."""
        edge = self._number(start), self._number(end)
        self.edges[edge] = self.edges.get(edge, 0) + 1

    def most(self, source: Hashable, sink: Hashable) -> int:
        """Reference: scipy.sparse.csgraph.maximum_flow."""
        a, b = self._number(source), self._number(sink)
        starts, ends = np.array(list(self.edges), dtype=np.int32).reshape(-1, 2).T
        capacities = np.array(list(self.edges.values()), dtype=np.int32)
        count = len(self.numbers)
        graph = coo_array((capacities, (starts, ends)), shape=(count, count)).tocsr()
        return int(maximum_flow(graph, a, b).flow_value)
