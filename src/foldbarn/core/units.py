"""Bytes, rates and durations: reading what people type, and saying amounts in words.

Decimal and binary prefixes are IEC 80000-13: 1 TB = 10**12 B, 1 TiB = 2**40 B. Two grammars, each in one
place:

parse_size      what people type: bytes, with the unit's case respected, because Tb are bits and m is a
thousandth parse_quantity  the Kubernetes API's quantities, to the letter: 500m is a half, 1E is an exa and
1E3 a thousand
"""

from __future__ import annotations

import math
import re
from fractions import Fraction

from foldbarn.core.errors import NotPossible

KB, MB, GB, TB, PB = (10 ** (3 * i) for i in range(1, 6))
DAY_SECONDS = 86_400.0
KIB, MIB, GIB, TIB, PIB = (2 ** (10 * i) for i in range(1, 6))

LARGEST_BYTES = 2**63 - 1  # what the database's bigint holds
MOST_CHARACTERS = 40  # of a size; a longer number is no size that anyone means
LARGEST_EXPONENT = 30  # of ten; beyond it nothing is within 2**63 or worth a byte

_DECIMAL = {"k": KB, "M": MB, "G": GB, "T": TB, "P": PB, "E": 10**18}
_BINARY = {"Ki": KIB, "Mi": MIB, "Gi": GIB, "Ti": TIB, "Pi": PIB, "Ei": 2**60}
_PREFIXES = _DECIMAL | _BINARY
_UNITS = {"": 1, "B": 1} | _PREFIXES | {f"{prefix}B": scale for prefix, scale in _PREFIXES.items()}
_RIGHT_CASE = {unit.lower(): unit for unit in ("B", *(f"{prefix}B" for prefix in _PREFIXES))}
_BITS = re.compile(r"([kKMGTPE]i?)?(?:b|[bB]its?)", re.ASCII)
_NUMBER = r"[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)"
_SIZE = re.compile(rf"({_NUMBER})(?:[eE]([+-]?[0-9]{{1,4}}))?\s*([A-Za-z]*)", re.ASCII)


def parse_size(text: str | int, *, about: str = "size") -> int:
    """Bytes meant by what a person typed, such as "1 TiB", "500 GB", "10Gi", "129e6" or a plain number of
    bytes.

    Raises NotPossible: not a number, unknown unit, bits, zero, negative, not whole bytes, beyond 2**63 - 1.
    """
    said = str(text) if isinstance(text, str) or abs(text) <= LARGEST_BYTES else "a number that large"
    shown = said if len(said) <= MOST_CHARACTERS else f"{said[:MOST_CHARACTERS]}…"
    match = _SIZE.fullmatch(said.strip()) if len(said) <= MOST_CHARACTERS else None
    if not match or abs(int(match[2] or 0)) > LARGEST_EXPONENT:
        next_step = "Write a number and a unit, such as 1 TiB or 500 GB."
        raise NotPossible(f"'{shown}' is not a size.", about=about, next_step=next_step)
    scale = _UNITS.get(match[3])
    if scale is None:
        raise _wrong_unit(match[3], about)
    size = Fraction(match[1]) * Fraction(10) ** int(match[2] or 0) * scale
    if size <= 0:
        raise NotPossible(f"A size must be more than zero; '{shown}' is not.", about=about)
    if size.denominator != 1:
        raise NotPossible(f"'{shown}' is not a whole number of bytes.", about=about)
    if size > LARGEST_BYTES:
        words = f"'{shown}' is more than any site holds; the largest size is 8 EiB less one byte."
        raise NotPossible(words, about=about)
    return int(size)


def _wrong_unit(unit: str, about: str) -> NotPossible:
    """What is wrong with a unit of size, and the right one where it can be told."""
    if bits := _BITS.fullmatch(unit):
        right = f"{'k' if bits[1] == 'K' else bits[1] or ''}B"
        return NotPossible(
            f"'{unit}' counts bits; a size is in bytes.", about=about, next_step=f"Write {right} for bytes."
        )
    if unit == "m":
        words = "'m' is a thousandth, and no size."
        return NotPossible(words, about=about, next_step="Write MB for millions of bytes, or MiB.")
    if unit in ("K", "KB"):
        words = f"'{unit}' could be a thousand bytes or 1,024."
        return NotPossible(words, about=about, next_step="Write kB (1,000 bytes) or KiB (1,024 bytes).")
    if meant := _RIGHT_CASE.get(unit.lower()):
        words = f"'{unit}' is not a unit of size; upper and lower case matter."
        return NotPossible(words, about=about, next_step=f"Write {meant}.")
    return NotPossible(
        f"'{unit}' is not a unit of size.",
        about=about,
        next_step="Use GB or TB (powers of ten), or GiB or TiB (powers of two).",
    )


_FRACTIONS = {"n": Fraction(1, 10**9), "u": Fraction(1, 10**6), "m": Fraction(1, 1000)}
_SUFFIXES: dict[str, Fraction] = {
    "": Fraction(1),
    **_FRACTIONS,
    **{prefix: Fraction(scale) for prefix, scale in _PREFIXES.items()},
}
_QUANTITY = re.compile(rf"({_NUMBER})(?:[eE]([+-]?[0-9]{{1,4}})|([A-Za-z]*))", re.ASCII)


def parse_quantity(text: str, *, about: str = "size") -> Fraction:
    """The number meant by a quantity of the Kubernetes API, exactly.

    Grammar (k8s.io/apimachinery, api/resource, Quantity): a signed number, then one of Ki Mi Gi Ti Pi Ei, or
    e or E with a signed whole number, or n u m k M G T P E, or nothing; upper and lower case matter and no
    space is allowed. Raises NotPossible for anything else, and beyond 2**63 - 1 in magnitude.
    """
    shown = text if len(text) <= MOST_CHARACTERS else f"{text[:MOST_CHARACTERS]}…"
    match = _QUANTITY.fullmatch(text) if len(text) <= MOST_CHARACTERS else None
    scale = None if match is None else _SUFFIXES.get(match[3] or "")
    if match is None or scale is None:
        next_step = "Write a number and a suffix such as Gi (2^30) or G (10^9), without a space."
        raise NotPossible(f"'{shown}' is not a quantity.", about=about, next_step=next_step)
    exponent = int(match[2] or 0)
    if abs(exponent) > LARGEST_EXPONENT:
        raise NotPossible(f"'{shown}' is out of range.", about=about)
    value = Fraction(match[1]) * Fraction(10) ** exponent * scale
    if abs(value) > LARGEST_BYTES:
        raise NotPossible(f"'{shown}' is more than a quantity can be: 2^63 less one.", about=about)
    return value


def quantity_bytes(text: str, *, about: str = "size") -> int:
    """Bytes meant by a quantity: rounded up to a whole byte, as that API does. Raises NotPossible, also for
    none.
    """
    size = math.ceil(parse_quantity(text, about=about))
    if size <= 0:
        raise NotPossible(f"A size must be more than zero; '{text}' is not.", about=about)
    return size


_SCALES = (
    (1, "B", 0),
    (KB, "kB", 1),
    (MB, "MB", 1),
    (GB, "GB", 1),
    (TB, "TB", 2),
    (PB, "PB", 2),
    (10**18, "EB", 2),
)
_BINARY_SCALES = (
    (1, "B"),
    (KIB, "KiB"),
    (MIB, "MiB"),
    (GIB, "GiB"),
    (TIB, "TiB"),
    (PIB, "PiB"),
    (2**60, "EiB"),
)


def say_number(value: float) -> str:
    """A figure as far as it is worth reading: "1,240", "151", "24.6", "0.42"."""
    return f"{value:,.0f}" if abs(value) >= 100 else f"{float(f'{value:.3g}'):g}"


def say_size(size: float) -> str:
    """Decimal size in words: two places from TB up ("12.00 TB"), at most one below ("3.5 GB")."""
    # By what would be printed: 999.96 GB are 1.00 TB, not 1000 GB.
    fits = (row for row in _SCALES if round(abs(size) / row[0], row[2]) < 1000)
    scale, name, places = next(fits, _SCALES[-1])
    return f"{size / scale:.{places}f}".removesuffix(".0") + f" {name}"


def say_binary(size: int) -> str:
    """Binary size in words, for sizes that are powers of two by nature: "1 GiB", "256 MiB"."""
    scale, name = next((row for row in _BINARY_SCALES if round(size / row[0], 1) < 1024), _BINARY_SCALES[-1])
    return f"{size / scale:.1f}".removesuffix(".0") + f" {name}"


def say_exactly(size: int) -> str:
    """A size of which no byte is rounded away, in the largest binary unit that it is a whole number of:
    "10 GiB", "8,704 MiB", "1 byte".
    """
    for scale, name in reversed(_BINARY_SCALES[1:]):
        if size and size % scale == 0:
            return f"{size // scale:,} {name}"
    return say_count(size, "byte")


def say_duration(seconds: float) -> str:
    """An estimate in words, rounded up to what a person can use.

    Such as "no time", "under a second", "8 s", "44 min", "1 h 04 min", "2 days 5 h", "19 days"; "never" for
    infinity.
    """
    if seconds <= 0:
        return "no time"
    if math.isinf(seconds):
        return "never"
    if seconds <= 0.5:
        return "under a second"
    if seconds < 90:
        return f"{math.ceil(seconds)} s"
    minutes = math.ceil(seconds / 60)
    if minutes < 60:
        return f"{minutes} min"
    if minutes <= 48 * 60:
        return f"{minutes // 60} h {minutes % 60:02d} min"
    hours = math.ceil(minutes / 60)
    if hours < 14 * 24:
        return f"{hours // 24} days" + (f" {hours % 24} h" if hours % 24 else "")
    return f"{math.ceil(hours / 24):,} days"


def say_count(number: int, one: str, many: str | None = None) -> str:
    """A count with its noun: "1 disk", "1,024 extents"."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def say_list(names: list[str], most: int = 4) -> str:
    """Names in one phrase: "a", "a and b", "a, b, c, d and 3 more"."""
    shown = names if len(names) <= most else [*names[: most - 1], f"{len(names) - most + 1:,} more"]
    return shown[0] if len(shown) == 1 else f"{', '.join(shown[:-1])} and {shown[-1]}" if shown else "none"
