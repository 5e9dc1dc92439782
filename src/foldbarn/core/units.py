"""Bytes, rates and durations: reading what people type, and saying amounts in words.

Decimal and binary prefixes are IEC 80000-13: 1 TB = 10**12 B, 1 TiB = 2**40 B. The short forms without a
final B (10Gi, 500M) are quantities of the Kubernetes API and mean the same multiples.
"""

from __future__ import annotations

import math
import re
from fractions import Fraction

from foldbarn.core.errors import NotPossible

KB, MB, GB, TB, PB = (10 ** (3 * i) for i in range(1, 6))
KIB, MIB, GIB, TIB, PIB = (2 ** (10 * i) for i in range(1, 6))

_DECIMAL = {"": 1, "k": KB, "m": MB, "g": GB, "t": TB, "p": PB, "e": 10**18}
_BINARY = {"ki": KIB, "mi": MIB, "gi": GIB, "ti": TIB, "pi": PIB, "ei": 2**60}
_SIZE = re.compile(r"^\s*([+-]?\d+(?:\.\d+)?)\s*([A-Za-z]*)\s*$")
LARGEST_BYTES = 2**63 - 1  # what the database's bigint holds


def parse_size(text: str | int, *, about: str = "size") -> int:
    """Bytes meant by what a person typed, such as "1 TiB", "500 GB", "10Gi" or a plain number of bytes.

    Raises NotPossible: not a number, unknown unit, zero, negative, not whole bytes, beyond 2**63 - 1.
    """
    match = _SIZE.match(str(text))
    if not match:
        raise NotPossible(f"'{text}' is not a size.", about=about, next_step="Write a number and a unit, such as 1 TiB or 500 GB.")
    number, unit = Fraction(match[1]), match[2].lower()
    unit = unit[:-1] if unit.endswith("b") else unit
    scale = _BINARY.get(unit) or _DECIMAL.get(unit)
    if scale is None:
        raise NotPossible(f"'{match[2]}' is not a unit of size.", about=about, next_step="Use GB or TB (powers of ten), or GiB or TiB (powers of two).")
    size = number * scale
    if size <= 0:
        raise NotPossible(f"A size must be more than zero; '{text}' is not.", about=about)
    if size.denominator != 1:
        raise NotPossible(f"'{text}' is not a whole number of bytes.", about=about)
    if size > LARGEST_BYTES:
        raise NotPossible(f"'{text}' is more than any site holds; the largest size is 8 EiB less one byte.", about=about)
    return int(size)


def say_size(size: float) -> str:
    """Decimal size in words: two places from TB up ("12.00 TB"), at most one below ("3.5 GB")."""
    for scale, name, places in ((PB, "PB", 2), (TB, "TB", 2), (GB, "GB", 1), (MB, "MB", 1), (KB, "kB", 1)):
        if abs(size) >= scale:
            number = f"{size / scale:.{places}f}"
            return f"{number.removesuffix('.0')} {name}"
    return f"{size:.0f} B"


def say_binary(size: int) -> str:
    """Binary size in words, for sizes that are powers of two by nature: "1 GiB", "256 MiB"."""
    for scale, name in ((TIB, "TiB"), (GIB, "GiB"), (MIB, "MiB"), (KIB, "KiB")):
        if size >= scale:
            return f"{size / scale:.1f}".removesuffix(".0") + f" {name}"
    return f"{size} B"


def say_duration(seconds: float) -> str:
    """An estimate in words, rounded up to what a person can use: "under a second", "8 s", "44 min", "1 h 04 min", "3 days"."""
    if seconds <= 0.5:
        return "under a second"
    if seconds < 90:
        return f"{math.ceil(seconds)} s"
    minutes = math.ceil(seconds / 60)
    if minutes < 60:
        return f"{minutes} min"
    if minutes < 48 * 60:
        return f"{minutes // 60} h {minutes % 60:02d} min"
    return f"{math.ceil(minutes / 1440)} days"


def say_count(number: int, one: str, many: str | None = None) -> str:
    """A count with its noun: "1 disk", "1,024 extents"."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def say_list(names: list[str], most: int = 4) -> str:
    """Names in one phrase: "a", "a and b", "a, b, c, d and 3 more"."""
    shown = names if len(names) <= most else [*names[: most - 1], f"{len(names) - most + 1} more"]
    return shown[0] if len(shown) == 1 else f"{', '.join(shown[:-1])} and {shown[-1]}" if shown else "none"
