"""What the kinds of change that make volumes read from snapshots have alike."""

from __future__ import annotations

from foldbarn.changes.engine.effects import Note, warning
from foldbarn.core.errors import BarnError, NotFound, Overtaken
from foldbarn.core.names import folded
from foldbarn.core.policies.adopting import may_have_more_room
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.volumes.bin import check_volume_name
from foldbarn.core.volumes.origins import against_reading
from foldbarn.core.volumes.snapshots import FULL_SOON, Snapshot
from foldbarn.core.watch.kept import room_taken


def find_snapshot(volume: Volume, name: str) -> Snapshot:
    """Raises NotFound."""
    for snapshot in volume.snapshots:
        if folded(snapshot.name) == folded(name):
            return snapshot
    raise NotFound(f"There is no snapshot of {volume.name} named '{name}'.", about="snapshots")


def find_to_read(view: SiteView, volume: str, snapshot: str) -> tuple[Volume, Snapshot]:
    """A volume and a snapshot of it, by name, that another volume can read from. Raises NotFound,
    NotPossible.
    """
    found = view.volume(volume)
    which = find_snapshot(found, snapshot)
    if refusal := against_reading(found, which):
        raise refusal
    return found, which


def still_to_read(view: SiteView, volume: int, snapshot: int) -> tuple[Volume, Snapshot]:
    """The same by number, for a step. Raises Overtaken where it is gone, NotPossible."""
    found = next((v for v in view.volumes if v.number == volume), None)
    which = next((s for s in found.snapshots if s.number == snapshot), None) if found else None
    if found is None or which is None:
        raise Overtaken("The snapshot is gone.", about="snapshot")
    if refusal := against_reading(found, which):
        raise refusal
    return found, which


def against_name(view: SiteView, name: str) -> list[Note]:
    """Why a new volume cannot have this name."""
    try:
        check_volume_name(view, name)
    except BarnError as error:
        return [Note.of(error)]
    return []


def how_to_make_room(view: SiteView, volume: Volume, *, others: bool) -> str | None:
    """What would give the snapshots of a volume more room. others: whether some could be deleted."""
    more = may_have_more_room(view, volume)
    if others and more:
        return "Delete some, or give them more room."
    if others:
        return "Delete some."
    return "Give it more room." if more else None


def may_give_way(view: SiteView, volume: Volume, snapshot: Snapshot) -> list[Note]:
    """That a snapshot which is to be read from may give way before long."""
    share = room_taken(view, volume)
    if share < FULL_SOON:
        return []
    others = any(other.there and other is not snapshot for other in volume.snapshots)
    words = f"The room for snapshots of {volume.name} is {share:.0%} taken. Should it fill up, "
    words += f"{snapshot.name} gives way{' after the others' if others else ''}, "
    words += "and with it what is read from there."
    step = how_to_make_room(view, volume, others=others)
    return [warning("snapshots-give-way", words, about="snapshot", next_step=step)]
