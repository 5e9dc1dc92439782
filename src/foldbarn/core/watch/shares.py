"""How shares are: as they are reached, as they fill, and as their volume is."""

from __future__ import annotations

from foldbarn.core.shares.share import Share
from foldbarn.core.watch.files import fill_state, served_state
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp, State, worst


def share_state(outlook: Outlook, share: Share) -> State:
    """The worst of: whether it is served, how full it is, and how its volume is."""
    view = outlook.view
    volume = view.volume_numbered(share.volume)
    if volume.binned is not None:
        return State(Lamp.AWAY, "It is in the bin, and can be brought back.")
    row = outlook.row_of_volume(volume.number)
    assert row is not None
    if volume.forming:
        return outlook.volume(row)
    held = outlook.volume(row)
    parts = [served_state(view, share), fill_state(share)]
    if held.lamp is not Lamp.SOUND:
        parts.append(State(held.lamp, f"What it lies on: {held.reason}"))
    wrong = [part for part in parts if part.lamp is not Lamp.SOUND]
    if not wrong:
        return State(Lamp.SOUND, " ".join(part.reason for part in parts))
    return State(worst(wrong).lamp, " ".join(part.reason for part in wrong))
