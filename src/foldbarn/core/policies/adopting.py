"""Another policy, or a newer version of one, for volumes that are in use: what stands against it, where their
strips would lie, and what has to be written for it. Method: docs/methods.md, "Another policy for a volume".
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.arrays import Disks
from foldbarn.core.moving.moves import Moves, say_hindrances
from foldbarn.core.moving.rebuild import plan_rebuild
from foldbarn.core.policies.matching import Against, Wish, against, said_limit, tier_of
from foldbarn.core.policies.policy import Policy, Wishes
from foldbarn.core.pools.capacity import Limit, most_that_fits
from foldbarn.core.pools.protection import Scheme
from foldbarn.core.site import NOWHERE, UNWRITTEN, Ply, SiteView, Tier, Volume
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
    """Volumes as they would keep a policy. after: the site then, its new strips lying nowhere yet; moves: by
    the row of the pool, what has to be written for these volumes; opposed: what stands against it.
    """

    after: SiteView
    moves: dict[int, Moves]
    opposed: tuple[Opposed, ...]


def adopt(view: SiteView, volumes: Sequence[Volume], policy: Policy) -> Adoption:
    """The one rule of whether volumes can keep a policy where they lie, for the preview and for the step.

    A volume stays in its pool, on its tier and with its number of data strips: it gets strips that are
    written from those it has, or gives up its last ones, and strips that are closer together than the policy
    has them are moved apart.
    """
    opposed: list[Opposed] = []
    after = view
    for volume in volumes:
        found = _against(after, volume, policy)
        opposed += [Opposed(volume.name, one) for one in found]
        if not found:
            after = held_as(after, volume, Holding(policy.wishes.scheme, (policy.number, policy.version)))
    done = {v.number for v in volumes} - {view.volume(o.volume).number for o in opposed}
    moves: dict[int, Moves] = {}
    for row in sorted({v.pool for v in volumes}):
        own = {p.number: p.name for v in after.volumes if v.number in done for p in v.plies if p.pool == row}
        planned = plan_rebuild(after, after.pools[row], seed=1)
        moves[row] = planned.only(np.isin(planned.ply, list(own)))
        for hindrance in planned.hindrances:
            if hindrance.ply in own:
                wish = Wish.DOMAINS if hindrance.too_few_domains else Wish.ROOM
                words = say_hindrances(after, (hindrance,))
                cure = "Add disks where its strips may lie, or choose a policy that takes fewer."
                opposed.append(Opposed(own[hindrance.ply], Against(wish, words, cure)))
    return Adoption(after, moves, tuple(opposed))


def held_as(view: SiteView, volume: Volume, holding: Holding) -> SiteView:
    """The site with a volume of one ply held by another scheme of as many data strips, and by a policy."""
    ply = volume.plies[0]
    placement = reshaped(ply.placement, holding.scheme)
    other = replace(
        volume,
        plies=(replace(ply, scheme=holding.scheme, placement=placement),),
        policy=holding.policy,
    )
    return replace(view, volumes=tuple(other if v.number == volume.number else v for v in view.volumes))


def reshaped(placement: Disks, scheme: Scheme) -> Disks:
    """[extents, strips] for another number of strips: the last ones are given up, or new ones lie nowhere."""
    had = placement.shape[1]
    if scheme.strips <= had:
        return placement[:, : scheme.strips]
    new = np.full((len(placement), scheme.strips), NOWHERE, dtype=placement.dtype)
    new[:, :had] = placement
    new[placement[:, 0] == UNWRITTEN] = UNWRITTEN
    return new


def _against(view: SiteView, volume: Volume, policy: Policy) -> list[Against]:
    """All that stands against one volume; whether its strips find their places is asked of all together."""
    ply, wishes, pool = volume.plies[0], policy.wishes, view.pools[volume.pool]
    if volume.forming:
        words = f"{volume.name} is still being made."
        return [Against(Wish.OPEN, words, "Wait until that change is done.")]
    if volume.policy == (policy.number, policy.version):
        words = f"{volume.name} keeps version {policy.version} of {policy.name} already."
        return [Against(Wish.UNCHANGED, words, "Choose another policy.")]
    # What the pool would take were the volume not there, it can hold in its place.
    others = replace(view, volumes=tuple(v for v in view.volumes if v.number != volume.number))
    found = against(others, pool, wishes, volume.size_bytes)
    if any(one.wish == Wish.ROOM for one in found):
        found = [one for one in found if one.wish != Wish.ROOM]
        if wishes.scheme.strips > ply.scheme.strips or wishes.scheme.k != ply.scheme.k:
            found.append(_too_large(others, volume, wishes))  # it takes more than it has
    return found or _against_in_place(view, volume, ply, wishes.scheme, tier_of(wishes))


def _too_large(others: SiteView, volume: Volume, wishes: Wishes) -> Against:
    """others: the site without the volume."""
    pool, scheme = others.pools[volume.pool], wishes.scheme
    fit = most_that_fits(others, pool, scheme, tier_of(wishes))
    most = say_size(fit.extents * scheme.k * pool.strip_bytes)
    words = (
        f"{volume.name} would not fit: with {scheme.counted()} {pool.name} can take {most} in its place, "
        f"{said_limit(pool, scheme, fit.limit)}."
    )
    cure = "Choose a policy that takes less, or add disks."
    if fit.limit == Limit.CAP:
        cure = "Choose a policy that takes less, or raise the cap in the pool's settings."
    return Against(Wish.ROOM, words, cure)


def _against_in_place(view: SiteView, volume: Volume, ply: Ply, scheme: Scheme, tier: Tier) -> list[Against]:
    """What keeps a volume from being held otherwise without being written anew."""
    found = []
    if scheme.k != ply.scheme.k:
        words = f"{volume.name} is held as {ply.scheme.counted()}, and would have to be written anew."
        cure = (
            "Choose a policy of copies."
            if ply.scheme.is_mirror
            else f"Choose one of {ply.scheme.k} and more."
        )
        found.append(Against(Wish.ANEW, words, cure))
    if tier != ply.tier:
        words = f"{volume.name} lies on the {ply.tier.value} tier, and would have to be written anew."
        found.append(Against(Wish.ANEW, words, f"Choose a policy for the {ply.tier.value} tier."))
    return found or _against_giving_up(view, volume, ply, scheme)


def _against_giving_up(view: SiteView, volume: Volume, ply: Ply, scheme: Scheme) -> list[Against]:
    """The strips that stay have to be there before others are given up: nothing is to hang on fewer than both
    policies promise.
    """
    if scheme.strips >= ply.scheme.strips:
        return []
    staying = present_strips(view, ply)[:, : scheme.strips] | ply.unwritten[:, None]
    short = int((~staying).sum())
    if not short:
        return []
    rows = view.rows(ply)[:, : scheme.strips][~staying]
    away = sorted({view.nodes[int(view.disk_node[r])].name for r in np.unique(rows) if r < len(view.disks)})
    have = "has" if short == 1 else "have"
    words = f"{say_count(short, 'strip')} of {volume.name} that would stay cannot be read now"
    words += f", on {say_list(away)}." if away else ": they lie nowhere yet."
    cure = f"Wait until {'it' if short == 1 else 'they'} {have} been written again"
    cure += f", or bring {say_list(away)} back." if away else "."
    return [Against(Wish.WHOLE, words, cure)]
