"""How full a share may get: a level from which on it is said, and a quota at which writes are refused."""

from __future__ import annotations

from enum import StrEnum

from foldbarn.core.errors import NotPossible
from foldbarn.core.units import say_binary

USUAL_WARN = 80  # per cent of the quota
BACK_POINTS = 2  # of the quota, in per cent, below a level before it counts as left: no to and fro at it


class Fill(StrEnum):
    """How full a share is, against its quota."""

    WELL = "well"
    WARNED = "warned"  # past its warn level
    FULL = "full"  # writes that need more room are refused


def check_quota(quota: int, warn: int) -> None:
    """Raises NotPossible. quota: bytes; warn: per cent of it."""
    if quota <= 0:
        raise NotPossible("A share needs a quota.", about="quota", next_step='Such as "500 GiB".')
    if not 1 <= warn <= 100:
        words = f"The warn level is between 1 % and 100 % of the quota, not {warn} %."
        raise NotPossible(words, about="warn")


def warn_bytes(quota: int, warn: int) -> int:
    """From how many bytes on it is said that a share fills."""
    return -(-quota * warn // 100)


def fill_of(used: int, quota: int, warn: int, before: Fill | None = None) -> Fill:
    """How full a share is with so many bytes used. before: how it was under the same quota and warn level,
    which it leaves only some way below them; None where one of them is new, and it is judged anew.
    """
    back = quota * BACK_POINTS // 100
    full = quota - (back if before is Fill.FULL else 0)
    warned = warn_bytes(quota, warn)
    warned = min(warned, full) - (back if before in (Fill.FULL, Fill.WARNED) else 0)
    if used >= full:
        return Fill.FULL
    return Fill.WARNED if used >= max(warned, 1) else Fill.WELL


def said_fill(used: int, quota: int, warn: int, fill: Fill) -> str:
    """For people."""
    of = f"{say_binary(used)} of {say_binary(quota)}"
    match fill:
        case Fill.WELL:
            return f"{of} used."
        case Fill.WARNED:
            return f"{of} used: past its warn level of {warn} %."
        case Fill.FULL if used >= quota:
            return f"{of} used: writes that need more room are refused."
        case Fill.FULL:
            return f"{of} used: it was full, and takes {say_binary(quota - used)} more."
