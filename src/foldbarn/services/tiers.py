"""The duty that moves extents between tiers: what belongs on the fast one outright and what is asked for most
up, what gives way to it down.
"""

from __future__ import annotations

import structlog

from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import BarnError
from foldbarn.core.policies.shares import shift_for
from foldbarn.core.site import SiteView, Tier
from foldbarn.core.units import say_count
from foldbarn.core.volumes.tiers import Shift
from foldbarn.services.changes import carry_out
from foldbarn.store import changes as kept
from foldbarn.store import heat as heat_kept
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view

log = structlog.get_logger()
# Strips on disks that one change moves: not so many that what has cooled meanwhile would matter.
AT_ONCE = 256
# An allowance: of a fast tier's strips, at most this share comes or goes in so long.
ALLOWANCE, ALLOWANCE_SECONDS = 0.10, 3600.0


def move_by_heat() -> None:
    """Starts the next move in each pool where extents lie on the wrong tier for their heat, and nothing else
    moves there.
    """
    view = current_view()
    pools = {volume.pool for volume in view.volumes if volume.hot is not None}
    if not pools:
        return
    with transaction() as session:
        heat = heat_kept.read_all(session)
        busy = kept.pools_of_open(session)
        spent = kept.moved_lately(session, "move-extents", ALLOWANCE_SECONDS)
    for row in sorted(pools):
        pool = view.pools[row]
        if pool.number in busy or pool.forming or pool.closing:
            continue
        allowed = int(ALLOWANCE * int(view.disk_slots[view.in_pool(pool, Tier.FAST)].sum()))
        left = allowed - spent.get(pool.number, 0) // pool.strip_bytes
        if left < min(AT_ONCE, allowed) // 4:
            continue  # so little is not worth a change of its own
        known = {number: found for number, (found, _) in heat.items()}
        shift = shift_for(view, pool, known, min(AT_ONCE, left))
        if shift is not None:
            _start(view, shift)


def _start(view: SiteView, shift: Shift) -> None:
    volume = view.volume_numbered(shift.volume)
    tier = Tier.FAST if shift.up else Tier.BULK
    counted = say_count(len(shift.extents), "extent")
    one = len(shift.extents) == 1
    if shift.rates is not None:
        what = f"{counted} of {volume.name} {'takes' if one else 'take'} {'' if shift.up else 'only '}"
        why = f"{what}{float(shift.rates.sum()):,.1f} operations a second."
    else:
        comes = ("comes" if one else "come") if shift.up else ("does not come" if one else "do not come")
        why = f"{counted} of {volume.name} {comes} first, and what does is to lie on the fast tier."
    params = {"volume": volume.name, "tier": tier.value, "extents": sorted(shift.extents.tolist())}
    try:
        carry_out(BY_ITSELF, "move-extents", params, reason=why)
    except BarnError as error:  # it must not keep the watch from its other duties
        log.info("extents not moved", volume=volume.name, why=error.sentence)
