"""Names for the array types that the computations pass about."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Ints = npt.NDArray[np.int64]
Disks = npt.NDArray[np.int32]  # disk numbers or rows; one per strip
Flags = npt.NDArray[np.bool_]
Reals = npt.NDArray[np.float64]


def runs(flags: Flags) -> list[tuple[int, int]]:
    """From and up to, of every run of flags that are set; flags: [things]."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], flags, [False]]).astype(np.int8)))
    return [(int(first), int(last)) for first, last in edges.reshape(-1, 2).tolist()]
