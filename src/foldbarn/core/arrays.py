"""Names for the array types that the computations pass about."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

Ints = npt.NDArray[np.int64]
Disks = npt.NDArray[np.int32]  # disk numbers or rows; one per strip
Flags = npt.NDArray[np.bool_]
Reals = npt.NDArray[np.float64]
