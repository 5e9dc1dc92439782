"""Pools whose disks compress what they hold, in units of their own. Method: docs/methods.md,
"Compression".
"""

from __future__ import annotations

from dataclasses import dataclass

from foldbarn.core.site import MAP_BYTES, Pool
from foldbarn.core.units import KIB, say_binary, say_size

UNITS = (0, 4 * KIB, 8 * KIB, 16 * KIB, 32 * KIB, 64 * KIB)  # 0: what is written is held as it is


@dataclass(frozen=True, slots=True)
class Measured:
    """Bytes that were written on disks that compress, and those that they take there, as nodes tell."""

    before: int = 0
    after: int = 0


def compression_sentence(pool: Pool, measured: Measured) -> str:
    """What a pool's compression takes, and what it has saved so far: that is measured, and nothing that is
    promised counts on it.
    """
    if not pool.compress_unit:
        return "no"
    unit = pool.compress_unit
    words = f"in units of {say_binary(unit)}, whose map takes {MAP_BYTES / unit:.2%} of each disk; "
    if not measured.before:
        return words + "nothing is written yet"
    took = f"{say_size(measured.before)} on disks take {say_size(measured.after)} there now"
    return words + f"{took}, as its nodes measure"
