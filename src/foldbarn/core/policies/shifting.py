"""Extents of a volume that go from one tier to the other: what stands against it, where their strips would
lie, and what has to be written for it. Method: docs/methods.md, "Tiers by heat".
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.arrays import Disks, Ints
from foldbarn.core.errors import NotPossible
from foldbarn.core.moving.moves import Moves, arrived
from foldbarn.core.moving.rebuild import plan_anew
from foldbarn.core.policies.matching import astray, place_new, said_limit, too_few_domains
from foldbarn.core.pools.capacity import fits, most_that_fits
from foldbarn.core.site import UNWRITTEN, OnlyOn, Ply, Purpose, SiteView, Tier, Volume, to_come
from foldbarn.core.units import say_binary, say_count, say_list
from foldbarn.core.volumes.bin import against_altering
from foldbarn.core.volumes.loss import enough_to_read
from foldbarn.core.volumes.origins import against_reshaping
from foldbarn.core.volumes.tiers import in_hot, in_tiers


@dataclass(frozen=True, slots=True, eq=False)
class Shifted:
    """A volume of which some extents go to the other tier.

    into, extents: the ply they go into, and their extents there; rows: [extents, strips] where room is kept
    for their strips. during: the site while they are written; after: the site when they are held there.
    moves: what has to be written.
    """

    into: Ply
    extents: Ints
    rows: Disks
    during: SiteView
    after: SiteView
    moves: Moves


def shift(view: SiteView, volume: Volume, extents: Ints, up: bool, *, leaving: bool = False) -> Shifted:
    """The one rule of whether some extents of a volume can go to the fast tier (up) or to the bulk tier, for
    the preview and for the step. extents: of the ply of all of it. leaving: whether they go because it is to
    keep another policy, so that what its own says of them does not count.

    Raises NotPossible with what stands against it.
    """
    _check(view, volume, extents, up)
    if not leaving:
        _check_outright(view, volume, extents, up)
    whole, hot = volume.whole, volume.hot
    assert hot is not None
    pool = view.pools[volume.pool]
    into, source = (hot, whole) if up else (whole, hot)
    target = in_hot(extents, whole.scheme.k) if up else np.asarray(extents, dtype=np.int64)
    _check_room(view, into, len(target), up, volume.only_on)
    name = f"{volume.name} {into.number} {int(extents[0])} {len(extents)}"
    places = place_new(view, pool, into.tier, into.scheme, len(target), name, only=volume.only_on)
    placement = np.full_like(into.placement, UNWRITTEN)
    placement[target] = to_come(places)
    anew = replace(into, placement=placement, purpose=Purpose.ANEW, source=source.number, elsewhere=None)
    during = _with(view, replace(volume, anew=anew))
    moves = plan_anew(during, pool, anew, seed=1, busy={}, most=placement.size)
    there = arrived(during, moves)
    return Shifted(
        into, target, to_come(places), during, _with(there, _held(volume, into, target, places)), moves
    )


def _held(volume: Volume, into: Ply, target: Ints, places: Disks) -> Volume:
    """A volume of which these extents of one of its plies lie there, as they are placed."""
    holds = volume.upper.copy()
    whole = volume.whole
    units = np.unique(target // whole.scheme.k) if into.purpose == Purpose.HOT else target
    holds[units] = into.purpose == Purpose.HOT
    placement = into.placement.copy()
    placement[target] = places
    filled = tuple(replace(ply, placement=placement) if ply is into else ply for ply in volume.plies)
    plies, _ = in_tiers(filled, holds)
    # What it leaves behind is nobody's.
    return replace(volume, plies=plies, anew=None)


def _with(view: SiteView, volume: Volume) -> SiteView:
    return replace(view, volumes=tuple(volume if v.number == volume.number else v for v in view.volumes))


def _check(view: SiteView, volume: Volume, extents: Ints, up: bool) -> None:
    """Raises NotPossible."""
    pool, whole = view.pools[volume.pool], volume.whole
    if refusal := against_altering(volume) or against_reshaping(volume):
        raise refusal
    if volume.hot is None:
        raise NotPossible(
            f"{volume.name} keeps no policy by which some of it may lie on the fast tier of {pool.name}.",
            about="volume",
            next_step="Let it keep a policy with a share of the fast tier first.",
        )
    if volume.anew is not None:
        words = f"{volume.name} is being written anew already."
        raise NotPossible(words, about="volume", next_step="Wait until that change is done.")
    if not len(extents):
        there = "fast" if up else "bulk"
        raise NotPossible(f"All that is meant lies on the {there} tier already.", about="extents")
    if int(extents.min()) < 0 or int(extents.max()) >= whole.extents:
        words = f"{volume.name} has extents 0 to {whole.extents - 1}, and no others."
        raise NotPossible(words, about="extents")
    if len(np.unique(extents)) != len(extents):
        raise NotPossible("An extent is named twice.", about="extents", next_step="Name each once.")
    _check_readable(view, volume, extents, up)


def _check_outright(view: SiteView, volume: Volume, extents: Ints, up: bool) -> None:
    """Raises NotPossible for extents that are to lie where they do whatever is asked of them."""
    policy, pool = view.policy_of(volume), view.pools[volume.pool]
    if policy is None or not policy.wishes.first:
        return
    if np.isin(extents, astray(pool, volume, policy.wishes, up=up)).all():
        return
    first = say_binary(policy.wishes.first)
    raise NotPossible(
        f"The first {first} of {volume.name} lie on the fast tier, and nothing else of it, as {policy.name} "
        "has it.",
        about="extents",
        next_step="Let it keep a policy with another size there, or with a share.",
    )


def _check_readable(view: SiteView, volume: Volume, extents: Ints, up: bool) -> None:
    """Raises NotPossible for extents that lie there already, were never written, or cannot be read now."""
    whole, hot = volume.whole, volume.hot
    assert hot is not None
    there = volume.upper[extents] == up
    if there.any():
        few = say_list([str(e) for e in extents[there].tolist()], 3)
        tier = Tier.FAST if up else whole.tier
        lie = "lie" if there.sum() > 1 else "lies"
        words = f"Of {volume.name}, {few} {lie} on the {tier.value} tier already."
        raise NotPossible(words, about="extents", next_step="Choose others.")
    source, rows = (whole, extents) if up else (hot, in_hot(extents, whole.scheme.k))
    if source.unwritten[rows].any():
        raise NotPossible("Some of it was never written.", about="extents", next_step="Choose others.")
    unread = ~enough_to_read(view, source)[rows]
    if unread.any():
        words = f"{say_count(int(unread.sum()), 'extent')} of {volume.name} cannot be read now."
        raise NotPossible(words, about="extents", next_step="Bring what holds them back first.")


def _check_room(view: SiteView, into: Ply, extents: int, up: bool, only: OnlyOn) -> None:
    """Raises NotPossible."""
    pool, scheme = view.pools[into.pool], into.scheme
    if few := too_few_domains(view, pool, scheme, into.tier, only):
        raise NotPossible(few.sentence, about="extents", next_step="Bring its nodes back first.")
    if fits(view, pool, scheme, into.tier, extents, only=only):
        return
    fit = most_that_fits(view, pool, scheme, into.tier, only=only)
    first = "Move others down first" if up else "Choose fewer"
    raise NotPossible(
        f"The {into.tier.value} tier of {pool.name} can take {say_count(fit.extents, 'extent')} more with "
        f"{scheme.counted()}, {said_limit(pool, scheme, fit.limit)}, not {extents:,}.",
        about="extents",
        next_step=f"{first}, or add disks.",
    )
