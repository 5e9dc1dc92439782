"""Another policy, or a newer version of one, for volumes that are in use: what stands against it, where their
strips would lie, and what has to be written for it. Method: docs/methods.md, "Another policy for a volume".
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.arrays import Disks, Flags
from foldbarn.core.moving.moves import Moves, join_moves, say_hindrances
from foldbarn.core.moving.rebuild import plan_anew, plan_rebuild
from foldbarn.core.policies.matching import (
    Against,
    Wish,
    against,
    extents_for,
    place_new,
    said_limit,
    tier_of,
)
from foldbarn.core.policies.policy import Policy, Wishes, against_draft
from foldbarn.core.pools.capacity import Limit, most_that_fits
from foldbarn.core.pools.protection import Scheme
from foldbarn.core.site import NOWHERE, UNWRITTEN, Ply, Pool, Purpose, SiteView, Volume, to_come
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.volumes.loss import present_strips


@dataclass(frozen=True, slots=True)
class Holding:
    """How a volume is held: its scheme, and number and version of its policy, if any."""

    scheme: Scheme
    policy: tuple[int, int] | None

    @classmethod
    def of(cls, volume: Volume) -> Holding:
        return cls(volume.plies[0].scheme, volume.policy)


@dataclass(frozen=True, slots=True)
class Opposed:
    """That a volume cannot keep a policy as things are: one thing that stands against it."""

    volume: str
    against: Against


@dataclass(frozen=True, slots=True, eq=False)
class Adoption:
    """Volumes as they would come to keep a policy.

    during: the site with new strips lying nowhere yet, and with room kept for what is written anew; after: as
    it is in the end. anew: numbers of the volumes that are written anew. moves: by the row of the pool, what
    has to be written for these volumes. opposed: what stands against it.
    """

    during: SiteView
    after: SiteView
    anew: frozenset[int]
    moves: dict[int, Moves]
    opposed: tuple[Opposed, ...]


def adopt(view: SiteView, volumes: Sequence[Volume], policy: Policy) -> Adoption:
    """The one rule of whether volumes can keep a policy in their pools, for the preview and for the step.

    Where a volume keeps its tier and its number of data strips it is held otherwise in place: it gets strips
    that are written from those it has, or gives up its last ones, and strips that are closer together than
    the policy has them are moved apart. Any other is written anew beside what holds it.
    """
    opposed: list[Opposed] = []
    during = after = view
    anew: set[int] = set()
    done: list[Volume] = []
    for volume in volumes:
        in_place = _in_place(view, volume, policy.wishes)
        found = _against(during, volume, policy, in_place=in_place)
        opposed += [Opposed(volume.name, one) for one in found]
        if found:
            continue
        done.append(volume)
        if in_place:
            holding = Holding(policy.wishes.scheme, (policy.number, policy.version))
            during, after = (held_as(site, volume, holding) for site in (during, after))
        else:
            anew.add(volume.number)
            during, after = _written_anew(during, after, volume, policy)
    moves: dict[int, Moves] = {}
    for row in sorted({v.pool for v in volumes}):
        mine = [during.volume_numbered(v.number) for v in done if v.pool == row]
        moves[row], stuck = _to_write(during, during.pools[row], mine)
        opposed += stuck
    return Adoption(during, after, frozenset(anew), moves, tuple(opposed))


def _to_write(view: SiteView, pool: Pool, volumes: Sequence[Volume]) -> tuple[Moves, list[Opposed]]:
    """What has to be written in a pool for these volumes, and for which of that there is no place."""
    # What is written anew need not be mended before.
    own = {p.number: p.name for v in volumes if v.anew is None for p in v.plies}
    planned = plan_rebuild(view, pool, seed=1)
    opposed = []
    for hindrance in planned.hindrances:
        if hindrance.ply in own:
            wish = Wish.DOMAINS if hindrance.too_few_domains else Wish.ROOM
            cure = "Add disks where its strips may lie, or choose a policy that takes fewer."
            words = say_hindrances(view, (hindrance,))
            opposed.append(Opposed(own[hindrance.ply], Against(wish, words, cure)))
    parts = [planned.only(np.isin(planned.ply, list(own)))]
    for volume in volumes:
        if volume.anew is not None:
            most = volume.anew.placement.size
            parts.append(plan_anew(view, pool, volume.anew, seed=1, busy={}, most=most))
    return join_moves(parts), opposed


def _in_place(view: SiteView, volume: Volume, wishes: Wishes) -> bool:
    """Whether a volume can be held as wished without being written anew. Giving strips up takes that those
    are there which stay: where they have no place, as things are, only writing anew helps.
    """
    ply = volume.plies[0]
    if wishes.scheme.k != ply.scheme.k or tier_of(wishes) != ply.tier:
        return False
    if not _short_of_staying(view, ply, wishes.scheme).any():
        return True
    planned = plan_rebuild(view, view.pools[volume.pool], seed=1)
    return all(hindrance.ply != ply.number for hindrance in planned.hindrances)


def _written_anew(
    during: SiteView, after: SiteView, volume: Volume, policy: Policy
) -> tuple[SiteView, SiteView]:
    """The site with a volume written anew beside what holds it, of which nothing is there yet; and with what
    it is then.
    """
    pool, old, wishes = during.pools[volume.pool], volume.plies[0], policy.wishes
    extents = extents_for(volume.size_bytes, pool, wishes.scheme)
    name = f"{volume.name} {policy.number} {policy.version}"
    places = place_new(during, pool, tier_of(wishes), wishes.scheme, extents, name)
    first = np.arange(extents) * wishes.scheme.k // old.scheme.k
    last = np.minimum((np.arange(extents) + 1) * wishes.scheme.k - 1, old.extents * old.scheme.k - 1)
    written = np.append(0, np.cumsum(~old.unwritten))
    never = written[last // old.scheme.k + 1] == written[first]
    anew = replace(
        old,
        number=-volume.number,
        scheme=wishes.scheme,
        tier=tier_of(wishes),
        placement=np.where(never[:, None], np.int32(UNWRITTEN), to_come(places)),
        purpose=Purpose.ANEW,
        source=old.number,
    )
    holds = replace(
        anew,
        placement=np.where(never[:, None], np.int32(UNWRITTEN), places),
        purpose=Purpose.WHOLE,
        source=0,
    )
    beside = replace(volume, anew=anew)
    then = replace(volume, plies=(holds,), policy=(policy.number, policy.version))
    return with_volume(during, beside), with_volume(after, then)


def with_volume(view: SiteView, volume: Volume) -> SiteView:
    """The site with one of its volumes as it is here."""
    return replace(view, volumes=tuple(volume if v.number == volume.number else v for v in view.volumes))


def held_as(view: SiteView, volume: Volume, holding: Holding) -> SiteView:
    """The site with a volume of one ply held by another scheme of as many data strips, and by a policy."""
    ply = volume.plies[0]
    placement = reshaped(ply.placement, holding.scheme)
    other = replace(
        volume,
        plies=(replace(ply, scheme=holding.scheme, placement=placement),),
        policy=holding.policy,
    )
    return with_volume(view, other)


def reshaped(placement: Disks, scheme: Scheme) -> Disks:
    """[extents, strips] for another number of strips: the last ones are given up, or new ones lie nowhere."""
    had = placement.shape[1]
    if scheme.strips <= had:
        return placement[:, : scheme.strips]
    new = np.full((len(placement), scheme.strips), NOWHERE, dtype=placement.dtype)
    new[:, :had] = placement
    new[placement[:, 0] == UNWRITTEN] = UNWRITTEN
    return new


def _against(view: SiteView, volume: Volume, policy: Policy, *, in_place: bool) -> list[Against]:
    """All that stands against one volume; whether its strips find their places is asked of all together."""
    ply, wishes, pool = volume.plies[0], policy.wishes, view.pools[volume.pool]
    if volume.forming:
        words = f"{volume.name} is still being made."
        return [Against(Wish.OPEN, words, "Wait until that change is done.")]
    if draft := against_draft(policy):
        return [Against(Wish.OPEN, draft.sentence, draft.next_step or "")]
    if volume.policy == (policy.number, policy.version):
        words = f"{volume.name} keeps version {policy.version} of {policy.name} already."
        return [Against(Wish.UNCHANGED, words, "Choose another policy.")]
    # In place it can be whatever the pool would take were the volume not there; anew it stands beside it.
    rest = [v for v in view.volumes if v.number != volume.number or not in_place]
    others = replace(view, volumes=tuple(rest))
    found = against(others, pool, wishes, volume.size_bytes)
    if any(one.wish == Wish.ROOM for one in found):
        found = [one for one in found if one.wish != Wish.ROOM]
        if not in_place or wishes.scheme.strips > ply.scheme.strips:
            found.append(_too_large(others, volume, wishes, in_place=in_place))  # it takes more than it has
    if found or not in_place:
        return found
    return _against_giving_up(view, volume, ply, wishes.scheme)


def _too_large(others: SiteView, volume: Volume, wishes: Wishes, *, in_place: bool) -> Against:
    """others: the site with what has to stand beside it."""
    pool, scheme = others.pools[volume.pool], wishes.scheme
    fit = most_that_fits(others, pool, scheme, tier_of(wishes))
    most = say_size(fit.extents * scheme.k * pool.strip_bytes)
    where = f"{pool.name} can take {most} in its place"
    if not in_place:
        where = f"it has to be written anew, and {pool.name} can take {most} beside it"
    words = f"{volume.name} would not fit: with {scheme.counted()} {where}, "
    cure = "Choose a policy that takes less, or add disks."
    if fit.limit == Limit.CAP:
        cure = "Choose a policy that takes less, or raise the cap in the pool's settings."
    return Against(Wish.ROOM, f"{words}{said_limit(pool, scheme, fit.limit)}.", cure)


def _short_of_staying(view: SiteView, ply: Ply, scheme: Scheme) -> Flags:
    """Strips that cannot be read now of those that stay where others are given up for a scheme, [extents,
    strips that stay]; none where no strip is given up.
    """
    staying = min(scheme.strips, ply.scheme.strips)
    if scheme.strips >= ply.scheme.strips:
        return np.zeros((ply.extents, staying), dtype=np.bool_)
    flags: Flags = ~(present_strips(view, ply)[:, :staying] | ply.unwritten[:, None])
    return flags


def _against_giving_up(view: SiteView, volume: Volume, ply: Ply, scheme: Scheme) -> list[Against]:
    """The strips that stay have to be there before others are given up: nothing is to hang on fewer than both
    policies promise.
    """
    missing = _short_of_staying(view, ply, scheme)
    short = int(missing.sum())
    if not short:
        return []
    rows = view.rows(ply)[:, : scheme.strips][missing]
    away = sorted({view.nodes[int(view.disk_node[r])].name for r in np.unique(rows) if r < len(view.disks)})
    have = "has" if short == 1 else "have"
    words = f"{say_count(short, 'strip')} of {volume.name} that would stay cannot be read now"
    words += f", on {say_list(away)}." if away else ": they lie nowhere yet."
    cure = f"Wait until {'it' if short == 1 else 'they'} {have} been written again"
    cure += f", or bring {say_list(away)} back." if away else "."
    return [Against(Wish.WHOLE, words, cure)]
