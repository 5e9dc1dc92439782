"""Another policy, or a newer version of one, for volumes that are in use: what stands against it, where their
strips would lie, and what has to be written for it. Method: docs/methods.md, "Another policy for a volume".
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.arrays import Disks, Flags, Ints
from foldbarn.core.errors import NotPossible
from foldbarn.core.moving.moves import Moves, arrived, join_moves, say_hindrances
from foldbarn.core.moving.rebuild import plan_anew, plan_rebuild
from foldbarn.core.policies.matching import (
    Against,
    Wish,
    against,
    extents_for,
    hot_as_wished,
    landing_as_wished,
    landing_extents,
    place_new,
    said_limit,
    tier_of,
    too_small,
)
from foldbarn.core.policies.policy import Policy, Wishes, against_draft
from foldbarn.core.pools.capacity import Limit, fits, most_that_fits
from foldbarn.core.pools.protection import Scheme
from foldbarn.core.site import NOWHERE, UNWRITTEN, OnlyOn, Ply, Pool, Purpose, SiteView, Tier, Volume, to_come
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.volumes.bin import against_altering
from foldbarn.core.volumes.loss import fate, present_strips
from foldbarn.core.volumes.origins import against_reshaping
from foldbarn.core.volumes.snapshots import MOST_ROOM, room_extents
from foldbarn.core.volumes.tiers import new_hot


@dataclass(frozen=True, slots=True)
class Holding:
    """How a volume is held: its scheme, and number and version of its policy, if any."""

    scheme: Scheme
    policy: tuple[int, int] | None

    @classmethod
    def of(cls, volume: Volume) -> Holding:
        return cls(volume.whole.scheme, volume.policy)


@dataclass(frozen=True, slots=True)
class Opposed:
    """One thing that stands against a volume, or some together, keeping a policy as things are."""

    volume: str
    against: Against


@dataclass(frozen=True, slots=True, eq=False)
class Adoption:
    """Volumes as they would come to keep a policy.

    during: the site with new strips lying nowhere yet, and with room kept for what is written anew; after: as
    it is in the end, with every strip in its place. In both each has its landing as the policy has it; those
    that are new have a number below 0, and are still forming in the first. anew: numbers of the volumes that
    are written anew. moves: by the row of the pool, what has to be written for these volumes. opposed: what
    stands against it.
    """

    during: SiteView
    after: SiteView
    anew: frozenset[int]
    moves: dict[int, Moves]
    opposed: tuple[Opposed, ...]


def adopt(view: SiteView, volumes: Sequence[Volume], policy: Policy) -> Adoption:
    """The one rule of whether volumes can keep a policy in their pools, for the preview and for the step.

    A landing is made, or let go of, at once. Where a volume keeps its tier and its number of data strips it
    is held otherwise in place: it gets strips that are written from those it has, or gives up its last ones,
    and strips that are closer together than the policy has them are moved apart. Any other is written anew
    beside what holds it.
    """
    if draft := against_draft(policy):
        refusal = Opposed(policy.name, Against(Wish.OPEN, draft.sentence, draft.next_step or ""))
        return Adoption(view, view, frozenset(), {}, (refusal,))
    opposed: list[Opposed] = []
    willing = []
    for volume in volumes:
        found = _against_itself(view, volume, policy)
        opposed += [Opposed(volume.name, one) for one in found]
        if not found:
            willing.append(volume)
    during: dict[int, Volume] = {}
    after: dict[int, Volume] = {}
    in_place = {v.number for v in willing if _in_place(view, v, policy.wishes)}
    for row in sorted({v.pool for v in willing}):
        mine = [v for v in willing if v.pool == row]
        same = [v for v in mine if v.number in in_place]
        refused = _against_in_place(view, row, same, policy.wishes)
        opposed += refused
        if not refused:
            held = {v.number: _held_as(v, _holding(policy)) for v in same}
            during |= held
            after |= held
        new = [v for v in mine if v.number not in in_place]
        refused = _against_anew(with_volumes(view, during), row, new, policy.wishes)
        opposed += refused
        if not refused:
            beside, then = _written_anew(with_volumes(view, during), row, new, policy)
            during |= beside
            after |= then
    try:
        during, after = _with_landings(view, during, after, policy.wishes)
    except NotPossible as error:
        cure = "Choose fewer volumes or a smaller landing, or add fast disks."
        names = say_list([v.name for v in willing])
        opposed.append(Opposed(names, Against(Wish.LANDING, f"For the landing: {error.sentence}", cure)))
    site = with_volumes(view, during)
    moves: dict[int, Moves] = {}
    for row in sorted({v.pool for v in volumes}):
        mine = [v for v in during.values() if v.pool == row]
        moves[row], stuck = _to_write(site, site.pools[row], mine)
        opposed += stuck
    anew = frozenset(v.number for v in during.values() if v.anew is not None)
    there = with_volumes(view, after)
    for planned in moves.values():
        there = arrived(there, planned)
    return Adoption(site, there, anew, moves, tuple(opposed))


def _holding(policy: Policy) -> Holding:
    return Holding(policy.wishes.scheme, (policy.number, policy.version))


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
    ply = volume.whole
    if wishes.scheme.k != ply.scheme.k or tier_of(wishes) != ply.tier:
        return False
    if not _short_of_staying(view, ply, wishes.scheme).any():
        return True
    planned = plan_rebuild(view, view.pools[volume.pool], seed=1)
    return all(hindrance.ply != ply.number for hindrance in planned.hindrances)


def _written_anew(
    view: SiteView, row: int, volumes: Sequence[Volume], policy: Policy
) -> tuple[dict[int, Volume], dict[int, Volume]]:
    """Volumes of a pool (by row) with what they are written anew to beside what holds them, of which nothing
    is there yet; and as they are then. By number.
    """
    pool, wishes = view.pools[row], policy.wishes
    scheme, tier = wishes.scheme, tier_of(wishes)
    free = view.disk_free.copy() if volumes else view.disk_free
    beside, then = {}, {}
    for volume in volumes:
        old = volume.whole
        extents = extents_for(volume.size_bytes, pool, scheme)
        name = f"{volume.name} {policy.number} {policy.version}"
        places = place_new(view, pool, tier, scheme, extents, name, free, only=volume.only_on)
        free -= np.bincount(view.row_of_number[places].reshape(-1), minlength=len(free))
        never = _never_written(old, scheme, extents)[:, None]
        anew = replace(
            old,
            number=-2 * volume.number,
            scheme=scheme,
            tier=tier,
            placement=np.where(never, np.int32(UNWRITTEN), to_come(places)),
            purpose=Purpose.ANEW,
            source=old.number,
        )
        lies = np.where(never, np.int32(UNWRITTEN), places)
        holds = replace(anew, placement=lies, purpose=Purpose.WHOLE, source=0)
        beside[volume.number] = replace(volume, anew=anew)
        then[volume.number] = replace(
            volume,
            # A hot ply of the old shape is none of it.
            plies=(holds, *(ply for ply in volume.plies[1:] if ply.purpose != Purpose.HOT)),
            policy=(policy.number, policy.version),
        )
    return beside, then


def _with_landings(
    view: SiteView, during: Mapping[int, Volume], after: Mapping[int, Volume], wishes: Wishes
) -> tuple[dict[int, Volume], dict[int, Volume]]:
    """Volumes (by number) as they are meanwhile and in the end, each with the landing that it is to have."""
    held = {n: _with_plies(v, *_kept_landing(view, v, wishes)) for n, v in during.items()}
    site = with_volumes(view, held)
    free = site.disk_free.copy()
    then = dict(after)
    for number, volume in held.items():
        landing = volume.landing or new_landing(site, volume, wishes, free)
        # What is written anew has other extents: it gets its hot ply when it takes over.
        hot = None if volume.anew is not None else hot_for(during[number], wishes)
        held[number] = _with_plies(volume, landing, hot)
        there = replace(landing, forming=False) if landing else None
        hot = hot_for(then[number], wishes) if volume.anew is not None else hot
        then[number] = _with_plies(then[number], there, hot)
    return held, then


def _with_plies(volume: Volume, *beside: Ply | None) -> Volume:
    """A volume with these beside the ply of all of it, and what its snapshots hold."""
    there = (ply for ply in (*beside, volume.past) if ply is not None)
    return replace(volume, plies=(volume.whole, *there))


def _hot_stays(volume: Volume, wishes: Wishes) -> bool:
    """Whether what lies in a volume's hot ply can stay there while all of it is held as wished."""
    same = wishes.scheme.k == volume.whole.scheme.k and tier_of(wishes) == volume.whole.tier
    return same and hot_as_wished(volume, wishes)


def to_come_down(volume: Volume, wishes: Wishes) -> Ints:
    """Extents of a volume that have to leave the fast tier before it can be held as wished."""
    found: Ints = np.flatnonzero(volume.upper)
    return found[:0] if _hot_stays(volume, wishes) else found


def hot_for(volume: Volume, wishes: Wishes) -> Ply | None:
    """The hot ply that a volume is to have: its own where that is as wished, else an empty one."""
    if hot_as_wished(volume, wishes):
        return volume.hot
    scheme = wishes.hot_scheme
    return new_hot(volume, scheme) if scheme else None


def _kept_landing(view: SiteView, volume: Volume, wishes: Wishes) -> tuple[Ply, ...]:
    """The landing that a volume has, where it is what is wished for."""
    as_wished = landing_as_wished(volume, view.pools[volume.pool], wishes)
    return (volume.landing,) if volume.landing is not None and as_wished else ()


def landing_unread(view: SiteView, volume: Volume) -> int:
    """Extents of a volume's landing that cannot be read now: what waits in those could not settle."""
    if volume.landing is None:
        return 0
    found = fate(view, volume.landing)
    return found.unavailable + found.lost


def new_landing(view: SiteView, volume: Volume, wishes: Wishes, free: Ints) -> Ply | None:
    """A landing for a volume, whose strips have still to be made; None where none is wished for. free:
    [disks] strips that each can take, of which it takes its own.
    """
    scheme, pool = wishes.landing_scheme, view.pools[volume.pool]
    if scheme is None:
        return None
    extents = landing_extents(volume.size_bytes, pool, wishes)
    name, only = f"{volume.name} landing", volume.only_on
    places = place_new(view, pool, Tier.FAST, scheme, extents, name, free, only=only)
    free -= np.bincount(view.row_of_number[places].reshape(-1), minlength=len(free))
    return Ply(
        number=-2 * volume.number - 1,
        volume=volume.number,
        name=volume.name,
        pool=volume.pool,
        scheme=scheme,
        placement=places,
        tier=Tier.FAST,
        forming=True,
        purpose=Purpose.LANDING,
    )


def new_past(view: SiteView, volume: Volume, extents: int) -> Ply:
    """Room for what is overwritten of a volume, as it is held itself, whose strips have still to be made.
    Raises NotPossible where it does not fit.
    """
    whole = volume.whole
    return Ply(
        number=-2 * volume.number - 1 - (1 << 40),
        volume=volume.number,
        name=volume.name,
        pool=volume.pool,
        scheme=whole.scheme,
        placement=_for_snapshots(view, volume, whole, extents),
        tier=whole.tier,
        forming=True,
        purpose=Purpose.PAST,
    )


def room_extents_of(volume: Volume, past: Ply, per_cent: int) -> int:
    """Extents of the room for its snapshots, for a part of a volume that may be of another scheme by now."""
    strips = room_extents(volume.whole.extents * volume.whole.scheme.k, per_cent)
    return -(-strips // past.scheme.k)


def may_have_more_room(view: SiteView, volume: Volume, per_cent: int = 0) -> bool:
    """Whether the room for snapshots of a volume can grow, now and where it lies: to such a part of its size,
    or at all for 0.
    """
    past = volume.past
    if past is None or past.forming or volume.binned is not None:
        return False
    pool = view.pools[past.pool]
    more = room_extents_of(volume, past, per_cent or MOST_ROOM) - past.extents
    asked = more if per_cent else 1
    return more > 0 and fits(view, pool, past.scheme, past.tier, asked, only=volume.only_on)


def more_past(view: SiteView, volume: Volume, more: int) -> Disks:
    """Disks for so many extents more of the room for snapshots that a volume has, [extents, strips]. Raises
    NotPossible where they do not fit.
    """
    assert volume.past is not None
    return _for_snapshots(view, volume, volume.past, more)


def _for_snapshots(view: SiteView, volume: Volume, like: Ply, extents: int) -> Disks:
    """Disks for extents that hold what is overwritten of a volume, held as a ply of it. Raises
    NotPossible.
    """
    pool, scheme, tier, only = view.pools[like.pool], like.scheme, like.tier, volume.only_on
    if not fits(view, pool, scheme, tier, extents, extents, only=only):
        fit = most_that_fits(view, pool, scheme, tier, only=only)
        room = say_size(extents * view.data_bytes(like))
        raise NotPossible(
            f"{room} of room for snapshots of {volume.name} does not fit: {pool.name} can take "
            f"{say_size(fit.extents * view.data_bytes(like))}, {said_limit(pool, scheme, fit.limit)}.",
            about="room",
            next_step="Choose less room, or add disks.",
        )
    there = volume.past.extents if volume.past is not None else 0
    seed = f"{volume.name} past {there}" if there else f"{volume.name} past"
    return place_new(view, pool, tier, scheme, extents, seed, only=only)


def _never_written(old: Ply, scheme: Scheme, extents: int) -> Flags:
    """Which extents of another scheme hold nothing that was ever written, [extents]."""
    data = old.extents * old.scheme.k
    first = np.arange(extents) * scheme.k
    last = np.minimum(first + scheme.k, data) - 1
    written = np.append(0, np.cumsum(~old.unwritten))
    flags: Flags = written[last // old.scheme.k + 1] == written[first // old.scheme.k]
    return flags


def with_volumes(view: SiteView, volumes: Mapping[int, Volume]) -> SiteView:
    """The site with some of its volumes (by number) as they are here."""
    return replace(view, volumes=tuple(volumes.get(v.number, v) for v in view.volumes))


def held_as(view: SiteView, volume: Volume, holding: Holding) -> SiteView:
    """The site with the ply of all of a volume held by another scheme of as many data strips, and by a
    policy.
    """
    return with_volumes(view, {volume.number: _held_as(volume, holding)})


def _held_as(volume: Volume, holding: Holding) -> Volume:
    ply = volume.whole
    placement = reshaped(ply.placement, holding.scheme)
    held = replace(ply, scheme=holding.scheme, placement=placement)
    return replace(volume, plies=(held, *volume.plies[1:]), policy=holding.policy)


def reshaped(placement: Disks, scheme: Scheme) -> Disks:
    """[extents, strips] for another number of strips: the last ones are given up, or new ones lie nowhere."""
    had = placement.shape[1]
    if scheme.strips <= had:
        return placement[:, : scheme.strips]
    new = np.full((len(placement), scheme.strips), NOWHERE, dtype=placement.dtype)
    new[:, :had] = placement
    new[placement[:, 0] == UNWRITTEN] = UNWRITTEN
    return new


def _against_itself(view: SiteView, volume: Volume, policy: Policy) -> list[Against]:
    """What stands against it wherever the volume lies."""
    if refusal := against_altering(volume) or against_reshaping(volume):
        return [Against(Wish.OPEN, refusal.sentence, refusal.next_step or "")]
    if small := too_small(view.pools[volume.pool], policy.wishes, volume.size_bytes):
        return [small]
    if volume.upper.any() and not _hot_stays(volume, policy.wishes):
        lie = say_count(int(volume.upper.sum()), "extent")
        words = f"{lie} of {volume.name} lie on the fast tier."
        return [Against(Wish.SHARE, words, "Move them down first.")]
    same = volume.policy == (policy.number, policy.version) and hot_as_wished(volume, policy.wishes)
    if same and landing_as_wished(volume, view.pools[volume.pool], policy.wishes):
        words = f"{volume.name} keeps version {policy.version} of {policy.name} already."
        return [Against(Wish.UNCHANGED, words, "Choose another policy.")]
    return []


def _against_in_place(view: SiteView, row: int, volumes: Sequence[Volume], wishes: Wishes) -> list[Opposed]:
    """All that stands against volumes of a pool (by row) being held otherwise where they lie: they can be
    whatever the pool would take were they not there. Whether their strips find places is asked apart.
    """
    if not volumes:
        return []
    if len(alike := _by_where(volumes)) > 1:
        return [found for some in alike for found in _against_in_place(view, row, some, wishes)]
    pool, numbers, only = view.pools[row], {v.number for v in volumes}, volumes[0].only_on
    others = replace(view, volumes=tuple(v for v in view.volumes if v.number not in numbers))
    # What stays on the fast tier takes no room beside that.
    up = sum(int(v.upper.sum()) for v in volumes if _hot_stays(v, wishes))
    extents = sum(v.whole.extents for v in volumes) - up
    there = sum(v.whole.extents_set_aside for v in volumes) if wishes.thin else extents
    size, count = extents * wishes.scheme.k * pool.strip_bytes, len(volumes)
    found = against(others, pool, wishes, size, there, only, volumes=count, rises=True)
    if any(one.wish == Wish.ROOM for one in found):
        found = [one for one in found if one.wish != Wish.ROOM]
        if there * wishes.scheme.strips > sum(
            v.whole.extents_set_aside * v.whole.scheme.strips for v in volumes
        ):
            most, limit = _most(others, pool, wishes, there / max(extents, 1), only)
            words = f"{pool.name} can take {most} in {'its' if len(volumes) == 1 else 'their'} place"
            found.append(_too_large(volumes, pool, wishes, words, limit))
    if found:
        return [Opposed(say_list([v.name for v in volumes]), one) for one in found]
    return [
        Opposed(v.name, one) for v in volumes for one in _against_giving_up(view, v, v.whole, wishes.scheme)
    ]


def _by_where(volumes: Sequence[Volume]) -> list[list[Volume]]:
    """Together those that may lie on the same disks."""
    found: dict[OnlyOn, list[Volume]] = {}
    for volume in volumes:
        found.setdefault(volume.only_on, []).append(volume)
    return list(found.values())


def _against_anew(view: SiteView, row: int, volumes: Sequence[Volume], wishes: Wishes) -> list[Opposed]:
    """All that stands against volumes of a pool (by row) being written anew beside everything there."""
    if not volumes:
        return []
    if len(alike := _by_where(volumes)) > 1:
        return [found for some in alike for found in _against_anew(view, row, some, wishes)]
    pool, only = view.pools[row], volumes[0].only_on
    extents = sum(extents_for(v.size_bytes, pool, wishes.scheme) for v in volumes)
    # Their landings give way to those that they are to have.
    old = {v.number: replace(v, plies=(v.whole,)) for v in volumes}
    written = extents
    if wishes.thin:
        parts = [(v, extents_for(v.size_bytes, pool, wishes.scheme)) for v in volumes]
        written = sum(int((~_never_written(v.whole, wishes.scheme, n)).sum()) for v, n in parts)
    size = extents * wishes.scheme.k * pool.strip_bytes
    site, count = with_volumes(view, old), len(volumes)
    found = against(site, pool, wishes, size, written, only, volumes=count, rises=True)
    if any(one.wish == Wish.ROOM for one in found):
        found = [one for one in found if one.wish != Wish.ROOM]
        most, limit = _most(view, pool, wishes, written / max(extents, 1), only)
        it = "it has" if len(volumes) == 1 else "they have"
        beside = "it" if len(volumes) == 1 else "them"
        words = f"{it} to be written anew, and {pool.name} can take {most} beside {beside}"
        found.append(_too_large(volumes, pool, wishes, words, limit))
    return [Opposed(say_list([v.name for v in volumes]), one) for one in found]


def _most(view: SiteView, pool: Pool, wishes: Wishes, part: float, only: OnlyOn) -> tuple[str, Limit]:
    """The most data that a pool takes more of where it may lie, and what limits it; part: of it, 0 to 1, that
    is there already and has to be set aside at once.
    """
    rule = (lambda extents: math.ceil(extents * part)) if part < 1 else None
    fit = most_that_fits(view, pool, wishes.scheme, tier_of(wishes), rule, only=only)
    return say_size(fit.extents * wishes.scheme.k * pool.strip_bytes), fit.limit


def _too_large(volumes: Sequence[Volume], pool: Pool, wishes: Wishes, where: str, limit: Limit) -> Against:
    words = f"{say_list([v.name for v in volumes])} would not fit: with {wishes.scheme.counted()} {where}, "
    cure = "Choose a policy that takes less, or add disks."
    if limit == Limit.CAP:
        cure = "Choose a policy that takes less, or raise the cap in the pool's settings."
    return Against(Wish.ROOM, f"{words}{said_limit(pool, wishes.scheme, limit)}.", cure)


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
