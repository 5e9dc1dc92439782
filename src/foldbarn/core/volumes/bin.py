"""The bin: what is deleted stays whole for a set time, and comes back as it was until then."""

from __future__ import annotations

from collections.abc import Sequence

from foldbarn.core.errors import Conflict, NotPossible
from foldbarn.core.names import check_name, folded
from foldbarn.core.site import Pool, SiteView, Volume

USUAL_DAYS = 7  # for which a deleted volume is kept, where nobody says otherwise
MOST_DAYS = 365


def against_altering(volume: Volume, *, in_bin: bool = False) -> NotPossible | None:
    """Why nothing can be altered of a volume that is still being made, or is in the bin; None for any
    other. in_bin: it may be there.
    """
    if volume.forming:
        words, step = f"{volume.name} is still being made.", "Wait until that change is done."
    elif volume.binned is not None and not in_bin:
        words, step = f"{volume.name} is in the bin.", "Bring it back first."
    else:
        return None
    return NotPossible(words, about="volume", next_step=step)


def against_bringing_back(volume: Volume) -> NotPossible | None:
    """Why nothing can be had any more of what a volume in the bin holds; None where it can."""
    if not volume.erasing:
        return None
    return NotPossible(f"{volume.name} is being erased: some of it is gone already.", about="volumes")


def bin_of(view: SiteView, pool: Pool) -> list[Volume]:
    """The volumes in a pool's bin, by name."""
    return [volume for volume in view.volumes_of(pool) if volume.binned is not None]


def over(view: SiteView, pool: Pool, now: float) -> list[Volume]:
    """Those of them whose time there is over; now: seconds since 1970."""
    return [v for v in bin_of(view, pool) if v.binned is not None and v.binned.until <= now]


def bytes_held(view: SiteView, volumes: Sequence[Volume]) -> int:
    """What volumes take on disks, all that protects them too; what is being written anew of them as well."""
    return sum(
        int((ply.placement > 0).sum()) * view.pools[ply.pool].strip_bytes
        for volume in volumes
        for ply in volume.every_ply
    )


def check_volume_name(view: SiteView, name: str, volume: int | None = None) -> str:
    """The name, trimmed, if a volume (by number; None for one yet to be made) may have it. Raises
    NotPossible, and Conflict where another has it, if only in the bin.
    """
    others = [other for other in view.volumes if other.number != volume]
    twin = next((v for v in others if folded(v.name) == folded(name.strip())), None)
    if twin is not None and twin.binned is not None:
        raise Conflict(
            f"A volume in the bin is called {twin.name}, and comes back under that name.",
            about="name",
            next_step="Choose another name, rename that one, or empty the bin of it.",
        )
    return check_name(name, "volume", [other.name for other in others])
