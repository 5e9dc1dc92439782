"""The duty that writes what copies of snapshots still read from there, until they stand alone."""

from __future__ import annotations

import structlog

from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import BarnError
from foldbarn.core.site import Volume
from foldbarn.core.touching import Thing
from foldbarn.core.volumes.origins import is_to_be_written
from foldbarn.services.changes import carry_out
from foldbarn.store import changes as kept
from foldbarn.store import touching, volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import current_view

log = structlog.get_logger()
AGO = 10  # changes, that may have touched the same


KIND = "stand-alone"


def let_copies_stand_alone() -> None:
    """Starts to write each that is to be written, unless that is under way, or a person called it off."""
    view = current_view()
    waiting = [v for v in view.volumes if is_to_be_written(v)]
    if not waiting:
        return
    with transaction() as session:
        free = [v for v in waiting if not touching.open_touching(session, Thing.COPYING, v.number)]
        left = [v for v in free if _called_off(session, v)]
        for volume in left:
            volumes.leave_copying(session, volume.number, left=True)
        if left:
            announce(session, "site")
    for volume in free:
        if volume not in left:
            _start(volume)


def _called_off(session: Session, volume: Volume) -> bool:
    touched = kept.that_touched(session, [Thing.COPYING], volume.number, AGO)
    last = next((change for change in touched if change.kind == KIND), None)
    return last is not None and last.state == "withdrawn"


def _start(volume: Volume) -> None:
    why = f"{volume.name} is open, and does not stand alone yet."
    try:
        carry_out(BY_ITSELF, KIND, {"volume": volume.name}, reason=why)
    except BarnError as error:  # it must not keep the watch from its other duties
        log.info("not written by itself", volume=volume.name, why=error.sentence)
