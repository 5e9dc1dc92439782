"""The duty that empties bins of what has been kept there long enough."""

from __future__ import annotations

import structlog

from foldbarn.changes.kinds.volumes.empty_bin import to_type
from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import BarnError
from foldbarn.core.touching import Thing
from foldbarn.core.units import say_list
from foldbarn.core.volumes.bin import bin_of, over
from foldbarn.core.volumes.origins import against_losing
from foldbarn.services.changes import carry_out
from foldbarn.store import changes as kept
from foldbarn.store import touching
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view

log = structlog.get_logger()
AT_ONCE = 20  # volumes of which one change empties the bin


def empty_bins() -> None:
    """Starts to empty the bin of each pool of what has been there for its time, and which nothing else
    touches, or reads from.
    """
    view = current_view()
    for pool in view.pools:
        if not bin_of(view, pool):
            continue
        with transaction() as session:
            now = kept.now(session).timestamp()
            due = [
                volume
                for volume in over(view, pool, now)
                if against_losing(view, volume, about="volumes") is None
                and not touching.open_touching(session, Thing.VOLUME, volume.number)
            ][:AT_ONCE]
        if not due:
            continue
        names = [volume.name for volume in due]
        params = {"pool": pool.name, "volumes": names, "typed": to_type(pool, due)}
        why = f"The time that {say_list(names)} {'was' if len(names) == 1 else 'were'} kept there is over."
        try:
            carry_out(BY_ITSELF, "empty-bin", params, reason=why)
        except BarnError as error:  # it must not keep the watch from its other duties
            log.info("bin not emptied", pool=pool.name, why=error.sentence)
