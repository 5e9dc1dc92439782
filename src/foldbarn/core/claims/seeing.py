"""What is seen of a claim, of its volume, and of the object by which the orchestrator knows that."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from foldbarn.core.claims.kept import KeptClaim
from foldbarn.core.claims.objects import are_bound, object_state
from foldbarn.core.claims.reclaiming import Life, Seen, VolumeState
from foldbarn.core.site import SiteView

Thing = Mapping[str, Any]


def seen_of(
    view: SiteView,
    kept: KeptClaim,
    claim: Thing | None,
    volume: Thing | None,
    *,
    admitted: bool,
    open_: bool,
) -> Seen:
    """claim, volume: as the orchestrator has them now; a claim of its name that is another one is none.
    open_: whether a change that is to make its volume has not ended.
    """
    if claim is not None and claim["metadata"]["uid"] != kept.claim.uid:
        claim = None
    leaves = claim is not None and bool(claim["metadata"].get("deletionTimestamp"))
    # One that is to go stays as long as a pod uses it, and its volume with it; before it had any, nothing is
    # made for it any more.
    there = claim is not None and (not leaves or kept.life in (Life.TOLD, Life.BOUND))
    state = volume_state(view, kept, open_=open_)
    return Seen(there, admitted, state, object_state(volume), are_bound(claim, volume))


def volume_state(view: SiteView, kept: KeptClaim, *, open_: bool) -> VolumeState:
    found = view.known_volume(kept.volume) if kept.volume is not None else None
    if found is None:
        return VolumeState.FORMING if open_ else VolumeState.NONE
    if found.binned is not None or found.erasing:
        return VolumeState.BINNED
    return VolumeState.FORMING if found.forming else VolumeState.THERE
