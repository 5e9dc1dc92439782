"""Explained numbers: a value is made from its parts, so the two cannot disagree."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

Operation = Literal["+", "−", "×", "÷"]
Unit = Literal["bytes", "count", "seconds", "bytes per second", "share"]
Number = int | float


@dataclass(frozen=True, slots=True)
class Part:
    """One line of a sum: what is done with which number, and why. Applied top to bottom, starting from zero.

    grows: it grows by itself all the time, at the cost of another line, without anybody changing anything.
    """

    operation: Operation
    label: str
    value: Number
    unit: Unit
    detail: str = ""
    grows: bool = False


@dataclass(frozen=True, slots=True)
class Figure:
    """A number with its unit, the parts it is made of, and one sentence on what is not counted."""

    label: str
    value: Number
    unit: Unit
    parts: tuple[Part, ...] = ()
    note: str = ""


def apply_parts(parts: Iterable[Part]) -> Number:
    """The parts carried out in order from zero. Whole numbers stay whole: ÷ then drops the remainder."""
    total: Number = 0
    for part in parts:
        match part.operation:
            case "+":
                total += part.value
            case "−":
                total -= part.value
            case "×":
                total *= part.value
            case "÷":
                whole = isinstance(total, int) and isinstance(part.value, int)
                total = total // part.value if whole else total / part.value
    return total


def make_figure(label: str, unit: Unit, parts: Iterable[Part], note: str = "") -> Figure:
    """The figure whose value is its parts carried out in order."""
    kept = tuple(parts)
    return Figure(label, apply_parts(kept), unit, kept, note)
