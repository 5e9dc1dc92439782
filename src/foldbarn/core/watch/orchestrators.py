"""How orchestrators are, and what of their claims waits for somebody."""

from __future__ import annotations

from foldbarn.core.claims.kept import Answering, Hindrance, KeptClaim, Orchestrator
from foldbarn.core.units import say_count
from foldbarn.core.watch.states import Lamp, State


def waiting_state(kept: KeptClaim) -> State:
    """Of one that waits for its volume."""
    if kept.hindrance is None:
        return State(Lamp.MENDING, "It has just been seen.")
    lamp = Lamp.AWAY if kept.hindrance is Hindrance.NO_CONSUMER else Lamp.WATCH
    return State(lamp, f"{kept.sentence} {kept.cure}".strip())


def orchestrator_state(found: Orchestrator) -> State:
    match found.answering:
        case Answering.NOT_YET:
            return State(Lamp.MENDING, "It is being asked for the first time.")
        case Answering.SILENT:
            return State(
                Lamp.NOT_HEARD, f"{found.reason} What is known of its claims is as it was heard last."
            )
        case Answering.REFUSING | Answering.ANOTHER:
            return State(Lamp.FAILED, found.reason)
    if found.missing:
        words = f"It answers, and has not given {say_count(len(found.missing), 'right')} that it takes."
        return State(Lamp.WATCH, words)
    return State(Lamp.SOUND, "It answers, and gives every right that it takes.")
