"""What becomes of a claim and the volume that is made for it, as what is seen of both, and of the object by
which the orchestrator knows the volume, says: the next deed at each moment, however often it is asked and
whatever was missed in between. Method: docs/methods.md, "Claims".
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from foldbarn.core.claims.classes import Reclaim


class Life(StrEnum):
    """How far a claim's volume has come, as it is written down here."""

    WAITING = "waiting"  # nothing is made for it yet
    MAKING = "being made"
    MADE = "made"  # and nobody has been told of it
    TOLD = "told"  # the orchestrator has been told of it, or is just being
    BOUND = "bound"
    ASIDE = "kept aside"  # its claim is gone, and it is kept
    BINNED = "in the bin"  # its claim is gone, and it was not to be kept
    HANDED_ON = "handed on"  # its claim is gone, and another one has its volume
    OVER = "over"  # nothing of it is left to be done


class VolumeState(StrEnum):
    """What there is of the volume."""

    NONE = "none"
    FORMING = "forming"  # its change has begun, and is not done
    THERE = "there"
    BINNED = "in the bin"


class ObjectState(StrEnum):
    """What there is of the orchestrator's object for it."""

    NONE = "none"
    THERE = "there"
    LEAVING = "leaving"  # it is to go, and waits for what holds it


class Deed(StrEnum):
    """What is to be done next."""

    NOTHING = "nothing"
    MAKE = "make the volume"
    GIVE_UP = "give up making it"
    TELL = "tell the orchestrator of the volume"
    BIN = "put the volume into the bin"
    FORGET = "drop the orchestrator's object"


@dataclass(frozen=True, slots=True)
class Seen:
    """claim: whether the very one is there, and not on its way out; admitted: whether it may have a volume;
    bound: whether the claim and the object name one another.
    """

    claim: bool
    admitted: bool
    volume: VolumeState
    thing: ObjectState
    bound: bool = False


@dataclass(frozen=True, slots=True)
class Turn:
    """The life as it is to be written down now, and the next deed."""

    life: Life
    deed: Deed = Deed.NOTHING


def next_turn(life: Life, reclaim: Reclaim, seen: Seen) -> Turn:
    """What follows. A volume is put into the bin only where its class says that it goes with its claim, its
    claim is gone, and the orchestrator's object, if it was told of one, was not taken from it by hand. Where
    that cannot be known it is kept aside.
    """
    if life in (Life.ASIDE, Life.BINNED, Life.HANDED_ON, Life.OVER):
        return _after(life, seen)
    if life is Life.WAITING and seen.volume is VolumeState.NONE:
        if not seen.claim:
            return Turn(Life.OVER)
        return Turn(Life.MAKING, Deed.MAKE) if seen.admitted else Turn(Life.WAITING)
    # One that waits and has a volume was being made when whoever did that was killed.
    if life in (Life.WAITING, Life.MAKING):
        return _while_made(seen)
    if not seen.claim:
        return _without_claim(life, reclaim, seen)
    if seen.volume is not VolumeState.THERE:
        # A person put it into the bin, which can be undone, or erased it.
        return Turn(Life.OVER if seen.volume is VolumeState.NONE else life)
    if life is Life.BOUND:
        # Its object was taken away by hand: the volume and its data stay, and nothing is told twice.
        return Turn(Life.ASIDE) if seen.thing is ObjectState.NONE else Turn(Life.BOUND)
    if life is Life.MADE:
        return Turn(Life.TOLD)  # which is written down before anybody is told
    if seen.bound:
        return Turn(Life.BOUND)
    return Turn(Life.TOLD, Deed.TELL if seen.thing is ObjectState.NONE else Deed.NOTHING)


def _while_made(seen: Seen) -> Turn:
    match seen.volume:
        case VolumeState.NONE if seen.claim:
            return Turn(Life.MAKING, Deed.MAKE)  # the same again: what makes it is found by its claim
        case VolumeState.NONE:
            return Turn(Life.OVER)
        case VolumeState.FORMING:
            return Turn(Life.MAKING, Deed.NOTHING if seen.claim else Deed.GIVE_UP)
        case VolumeState.BINNED:
            return Turn(Life.MAKING)
    return Turn(Life.MADE)


def _without_claim(life: Life, reclaim: Reclaim, seen: Seen) -> Turn:
    """Its claim is gone. What nobody was told of has nothing in it that could be wanted."""
    if seen.volume is not VolumeState.THERE:
        return _after(Life.BINNED, seen)
    if life is not Life.MADE and (reclaim is Reclaim.RETAIN or seen.thing is ObjectState.NONE):
        return Turn(Life.ASIDE)
    return Turn(life, Deed.BIN)


def _after(life: Life, seen: Seen) -> Turn:
    """Of what is kept aside the object stays, since it says whose it was, as long as there is a volume; of
    what is in the bin, or another's by now, it goes. What somebody has brought back from there is kept aside.
    """
    if seen.volume is VolumeState.THERE or (life is Life.ASIDE and seen.volume is not VolumeState.NONE):
        return Turn(Life.ASIDE)
    if seen.thing is ObjectState.THERE:
        return Turn(life, Deed.FORGET)
    return Turn(Life.OVER if seen.thing is ObjectState.NONE else life)
