"""What a person should know of a volume's protection before it is made, or comes to be another."""

from __future__ import annotations

import numpy as np

from foldbarn.changes.engine.effects import Note, warning
from foldbarn.core.policies.matching import open_disks
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.healing import healing_sentence, heals
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.site import ANYWHERE, Pool, SiteView, Tier, Volume
from foldbarn.core.units import say_count
from foldbarn.core.volumes.loss import fate_of, knows_which, survives_at


def unreadable(view: SiteView, volume: Volume, *, one: bool = True) -> list[Note]:
    """That not all of a volume can be read now. one: it is the only one that is spoken of."""
    found = fate_of(view, volume)
    gone = found.unavailable + found.lost
    if not gone:
        return []
    of = say_count(volume.extents, "extent") + ("" if one else f" of {volume.name}")
    up_to = "" if knows_which(view, volume) else "Up to "
    return [warning("cannot-be-read", f"{up_to}{gone:,} of {of} cannot be read now.", about=volume.name)]


def survives_nothing(scheme: Scheme) -> list[Note]:
    """Of a scheme that survives no loss at its level, what that means."""
    if scheme.survives:
        return []
    if not scheme.m:
        words = "With one copy, the loss of any disk it lies on loses data for good."
        return [warning("one-copy", words, about="copies")]
    level = scheme.level.value
    words = f"With {scheme.apart()}, the loss of one {level} may leave extents unreadable."
    return [warning("lost-with-one", words, about="per_domain")]


def warnings_of(view: SiteView, after: SiteView, pool: Pool, scheme: Scheme, tier: Tier) -> list[Note]:
    """after: the site with the volume held by this scheme on a tier of a pool."""
    found = []
    space, space_after = (pool_space(site, pool).of(tier) for site in (view, after))
    if heals(view, pool, space) and not heals(after, pool, space_after):
        found.append(warning("heals-no-more", healing_sentence(after, pool, space_after), about="copies"))
    if space_after.overcommit > 1:
        words = f"Volumes of {pool.name} are then promised {space_after.overcommit:.0%} of what it can hold: "
        words += "once it is full, those that take room as they are written refuse writes."
        found.append(warning("overcommitted", words, about="size"))
    found += survives_nothing(scheme)
    racks = len(np.unique(view.disk_rack[open_disks(view, pool, tier, ANYWHERE)]))
    narrow = scheme.survives > 0 and scheme.level in (Level.NODE, Level.DISK)
    if narrow and racks > 1 and not survives_at(view, pool, tier, scheme, Level.RACK):
        what = "Copies" if scheme.is_mirror else "Strips"
        words = f"{what} are kept apart by {scheme.level} only: without one rack extents could be unreadable."
        found.append(warning("one-rack", words, about="level"))
    return found
