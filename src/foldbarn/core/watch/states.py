"""The words for how a thing is."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum


class Lamp(StrEnum):
    """How a thing's state is shown, best first; a parent shows the worst of its own and its children's."""

    SOUND = "sound"  # as it should be
    AWAY = "away"  # taken out on purpose
    WATCH = "watch"  # works, will need someone
    MENDING = "mending"  # short, and being put right now
    NOT_HEARD = "not heard"  # no report in time; state unknown
    SHORT = "short"  # below its policy, nothing running yet
    FAILED = "failed"  # no longer used, or not readable


@dataclass(frozen=True, slots=True)
class State:
    """A lamp with its reason in a sentence."""

    lamp: Lamp
    reason: str


def worst(states: Iterable[State]) -> State:
    """The worst of several states; sound when there are none."""
    order = list(Lamp)
    return max(states, key=lambda s: order.index(s.lamp), default=State(Lamp.SOUND, "As it should be."))
