"""How claims are."""

from __future__ import annotations

from foldbarn.core.claims.kept import KeptClaim
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.orchestrators import waiting_state
from foldbarn.core.watch.states import Lamp, State

_OF_LIFE = {
    Life.MAKING: State(Lamp.MENDING, "Its volume is being made."),
    Life.MADE: State(Lamp.MENDING, "Its volume is there, and the orchestrator is about to be told."),
    Life.TOLD: State(Lamp.MENDING, "Its volume is there, and the orchestrator has yet to bind it."),
    Life.ASIDE: State(Lamp.AWAY, "The claim is gone or was parted from it, and its volume is kept."),
    Life.BINNED: State(Lamp.AWAY, "The claim is gone, and its volume is in the bin."),
    Life.HANDED_ON: State(Lamp.AWAY, "The claim is gone, and another one has its volume."),
    Life.OVER: State(Lamp.AWAY, "All is over."),
}


def claim_state(outlook: Outlook, kept: KeptClaim) -> State:
    """That of its volume, once it is bound to one."""
    if kept.life is Life.WAITING:
        return waiting_state(kept)
    if kept.life not in (Life.BOUND, Life.ASIDE):
        return _OF_LIFE[kept.life]
    row = None if kept.volume is None else outlook.row_of_volume(kept.volume)
    if row is None:
        words = "Its volume is gone." if kept.life is Life.ASIDE else "Its volume was erased here."
        return State(Lamp.FAILED, words)
    if outlook.view.volumes[row].binned is not None:
        return State(Lamp.FAILED, "Its volume was put into the bin here, and can be brought back.")
    of_volume = outlook.volume(row)
    if kept.life is Life.ASIDE:
        return _OF_LIFE[Life.ASIDE] if of_volume.lamp is Lamp.SOUND else of_volume
    if kept.hindrance is not None:  # it asks for more than it may have
        return State(max(of_volume.lamp, Lamp.WATCH, key=list(Lamp).index), f"{kept.sentence} {kept.cure}")
    return of_volume
