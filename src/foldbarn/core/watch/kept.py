"""How the snapshots of a volume are, and the room that they are kept in."""

from __future__ import annotations

from foldbarn.core.site import SiteView, Volume
from foldbarn.core.units import say_count, say_duration, say_size
from foldbarn.core.volumes.loss import fate
from foldbarn.core.volumes.origins import said_to_give_way
from foldbarn.core.volumes.schedules import is_due
from foldbarn.core.volumes.snapshots import FULL_SOON, Snapshot, held
from foldbarn.core.watch.states import Lamp, State

LATE_SECONDS = 600.0  # for which a snapshot that is due may be missing


def snapshot_state(view: SiteView, volume: Volume, snapshot: Snapshot) -> State:
    if snapshot.lost:
        return State(Lamp.FAILED, f"Lost. {snapshot.lost}")
    if snapshot.forming:
        return State(Lamp.MENDING, "Being taken.")
    return room_unread(view, volume) or State(Lamp.SOUND, "What the volume held then.")


def room_unread(view: SiteView, volume: Volume) -> State | None:
    """That some of what the snapshots of a volume hold cannot be read now; None where all of it can."""
    past = volume.past
    found = fate(view, past) if past is not None else None
    gone = found.unavailable + found.lost if found is not None else 0
    if past is None or not gone:
        return None
    words = f"{gone:,} of {say_count(past.extents, 'extent')} of what is kept for snapshots cannot be read."
    return State(Lamp.FAILED, words)


def overdue(view: SiteView, volume: Volume, now: float) -> State | None:
    """That a snapshot which its policy has taken by itself has not been for a while; None where it has."""
    policy = view.policy_of(volume)
    taken = [s.taken_at for s in volume.snapshots if s.scheduled and not s.forming]
    if policy is None or volume.binned is not None or not taken:
        return None
    schedule = policy.wishes.schedule
    if not is_due(schedule, taken, now - LATE_SECONDS):
        return None
    ago = say_duration(now - max(taken))
    return State(Lamp.WATCH, f"A snapshot is due by its policy, and the last one was taken {ago} ago.")


def room_taken(view: SiteView, volume: Volume) -> float:
    """Part of the room for the snapshots of a volume that is taken, 0 to 1; 0 where it has none."""
    past = volume.past
    return held(volume.spans) / (past.extents * view.data_bytes(past)) if past is not None else 0.0


def room_state(view: SiteView, volume: Volume) -> State | None:
    """How the room for the snapshots of a volume is; None where it has none."""
    past = volume.past
    if past is None:
        return None
    if past.forming:
        return State(Lamp.MENDING, "The room for its snapshots is being set aside.")
    if unread := room_unread(view, volume):
        return unread
    room, taken = past.extents * view.data_bytes(past), held(volume.spans)
    words = f"{say_size(taken)} of {say_size(room)} kept for snapshots are taken"
    goes = said_to_give_way(view, volume)
    if goes and room_taken(view, volume) >= FULL_SOON:
        return State(Lamp.WATCH, f"{words}: once that is full, {goes}.")
    return State(Lamp.SOUND, f"{words}.")
