"""What can be lost and still be made whole: a statement about the volumes that are there, on the disks that
are there now.

It holds where, after losing any one thing of a level, every strip that can still be read from somewhere would
find a place. A bound that needs no search settles most losses; where it does not, the loss is tried out: the
rebuild is planned, and what it finds no place for is named. Method: docs/methods.md, "Healing".
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np

from foldbarn.core.arrays import Ints
from foldbarn.core.moving.moves import takes_strips
from foldbarn.core.moving.rebuild import plan_rebuild
from foldbarn.core.pools.capacity import Headroom, PoolSpace, room_outside, survives_losses
from foldbarn.core.pools.only_on import only_on_of
from foldbarn.core.pools.protection import Level
from foldbarn.core.site import UNWRITTEN, Ply, Pool, SiteView, Tier
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.volumes.loss import ended_by

_WORDS = {1: "one", 2: "two", 3: "three", 4: "four", 5: "five"}
# Losses that the bound does not settle are tried out, the worst first: as many as cost about a second.
FEWEST_TRIALS, MOST_TRIALS, TRIAL_STRIPS = 4, 200, 4_000_000
ENOUGH_TRIALS = 3  # where one has shown already that it does not hold
_UNSETTLED = -1  # slack of a loss that the bound says nothing of


def losses_in_words(losses: int, level: Level) -> str:
    """Such as "any one rack" or "any two nodes"."""
    return f"any {_WORDS.get(losses, str(losses))} {level.value}{'' if losses == 1 else 's'}"


class Want(StrEnum):
    """What a ply lacks to be made whole again."""

    SOURCE = "source"  # every copy of some extents would be lost together
    DOMAINS = "domains"  # fewer domains would be left than it has strips
    ROOM = "room"  # no arrangement of all that is there has a place for it
    UNREADABLE = "unreadable"  # some extents cannot be read even now


@dataclass(frozen=True, slots=True)
class Unhealed:
    """A ply that a loss would leave short. loss: name of what is lost, empty where nothing need be;
    amount: extents without a source, or strips without a place; left: domains of its level that would take
    strips."""

    ply: Ply
    want: Want
    loss: str
    amount: int
    left: int = 0
    confined: bool = False  # it may lie on chosen disks alone, and `left` is of those
    around: bool = False  # what is confined was not moved out of its way


@dataclass(frozen=True, slots=True)
class Healing:
    """Whether everything can be made whole after any one loss at a level, or any `losses` one after the
    other.

    holds: None where it could not be settled. unhealed: the plies for which it does not hold, and after
    which loss;
    tightest: name of the thing whose loss leaves the least room.
    """

    level: Level
    losses: int
    holds: bool | None
    unhealed: tuple[Unhealed, ...] = ()
    tightest: str = ""


def healing_of(view: SiteView, pool: Pool, level: Level) -> Healing:
    """Whether after losing any one thing of a level all volumes of a pool can be made whole. Kept with the
    view.
    """
    key = ("healing", pool.number, level)
    kept = view.findings.get(key)
    if not isinstance(kept, Healing):
        kept = view.findings[key] = _find(view, pool, level)
    return kept


def healing_for(view: SiteView, pool: Pool, level: Level, losses: int) -> Healing:
    """As healing_of, for the most losses in turn, up to so many, for which it holds; for one where it holds
    for none.

    More than one are claimed only by the bound, and only where no ply's strips may ever share a lost
    domain.
    """
    one = healing_of(view, pool, level)
    if one.holds is not True:
        return one
    plies = view.plies_of(pool)
    if not all(survives_losses(p.scheme, level) for p in plies):
        return one
    for count in range(losses, 1, -1):
        if all(_fits_after(view, pool, tier, level, count) for tier in view.tiers_of(pool)):
            return replace(one, losses=count)
    return one


def heals(view: SiteView, pool: Pool, space: PoolSpace) -> bool:
    """Whether a pool can be made whole after the one loss that it holds room back for. True where nothing was
    asked for.
    """
    if pool.headroom is None:
        return True
    if not view.plies_of(pool):
        return space.headroom is None or space.headroom.possible
    return healing_of(view, pool, pool.headroom).holds is not False


def lose(view: SiteView, level: Level, domain: int) -> SiteView:
    """The site after losing a domain for good; whatever cannot be reached now counts as lost with it."""
    gone = (view.domain_of(level) == domain) | ~view.disk_ready
    disks = tuple(
        replace(d, present=False, given_up=True) if lost else d
        for d, lost in zip(view.disks, gone.tolist(), strict=True)
    )
    return replace(view, disks=disks)


def _find(view: SiteView, pool: Pool, level: Level) -> Healing:
    names = view.domain_names(level)
    unhealed = _without_source(view, [p for p in view.plies_of(pool) if p.extents_set_aside], level)
    slack = _slack(view, pool, level)
    tightest = names[min(slack, key=lambda d: (slack[d], d))] if slack else ""
    doubtful = sorted((d for d in slack if slack[d] < 0), key=lambda d: (slack[d], d))
    strips = sum(p.placement.size for p in view.plies_of(pool))
    trials = min(MOST_TRIALS, max(FEWEST_TRIALS, TRIAL_STRIPS // max(strips, 1)))
    for tried, domain in enumerate(doubtful[:trials], 1):
        unhealed += _tried(view, pool, level, domain)
        if unhealed and tried >= ENOUGH_TRIALS:
            break  # it does not hold; which loss is the worst was among the first
    holds: bool | None = not unhealed
    if not unhealed and len(doubtful) > trials:
        holds = None
    return Healing(level, 1, holds, _worst_by_volume(unhealed), tightest)


def _without_source(view: SiteView, plies: Sequence[Ply], level: Level) -> list[Unhealed]:
    """The loss that takes the source of the most extents of each ply, and what cannot be read even now.

    Plies that are alike are looked at together: there may be hundreds of small ones.
    """
    alike: dict[tuple[int, int], list[Ply]] = {}
    for ply in plies:
        alike.setdefault((ply.scheme.k, ply.scheme.strips), []).append(ply)
    return [found for (k, _), same in alike.items() for found in _ends_of(view, same, k, level)]


def _ends_of(view: SiteView, plies: Sequence[Ply], k: int, level: Level) -> Iterator[Unhealed]:
    """plies: of one k, and of as many strips an extent."""
    placed = np.concatenate([ply.placement for ply in plies])
    rows = view.row_of_number[placed]
    owner = np.repeat(np.arange(len(plies)), [ply.extents for ply in plies])
    readable = np.append(view.disk_ready, False)[rows]
    domains = np.append(view.domain_of(level), -1)[rows]
    names = view.domain_names(level)

    unreadable = (readable.sum(axis=1) < k) & (placed[:, 0] != UNWRITTEN)
    for ply, extents in zip(plies, np.bincount(owner[unreadable], minlength=len(plies)), strict=True):
        if extents:
            yield Unhealed(ply, Want.UNREADABLE, "", int(extents))

    extent, strip = np.nonzero(ended_by(domains, readable, k))
    taken = owner[extent] * len(names) + domains[extent, strip]
    by_loss = np.bincount(taken, minlength=len(plies) * len(names)).reshape(len(plies), len(names))
    for ply, extents, worst in zip(plies, by_loss.max(axis=1), by_loss.argmax(axis=1), strict=True):
        if extents:
            yield Unhealed(ply, Want.SOURCE, names[worst], int(extents))


def _demands(view: SiteView, pool: Pool, tier: Tier) -> tuple[Level | None, Counter[int] | None]:
    """The widest level that a tier's plies are kept apart at, and extents by strips. None for these where a
    domain may hold several strips of an extent, or a ply may lie on some disks only: the bound knows nothing
    of single disks.
    """
    plies = [p for p in view.plies_of(pool, tier) if p.extents_set_aside]
    order = list(Level)
    widest = min((p.scheme.level for p in plies), key=order.index, default=None)
    if any(ply.scheme.per_domain > 1 or only_on_of(view, ply) for ply in plies):
        return widest, None
    demands: Counter[int] = Counter()
    for ply in plies:
        demands[ply.scheme.strips] += ply.extents_set_aside
    return widest, demands


def _slack(view: SiteView, pool: Pool, level: Level) -> dict[int, int]:
    """By domain of a level, the strips by which what its loss leaves exceeds what all plies ask for at the
    tightest cut.

    The least over all tiers. Below zero the bound does not show that all find a place: it holds everything
    apart at the widest level that any ply has, and puts nothing on disks that take nothing new.
    """
    mine = view.in_pool(pool)
    labels = np.unique(view.domain_of(level)[mine[view.disk_ready[mine]]])
    slack = dict.fromkeys(labels.tolist(), int(np.iinfo(np.int64).max))
    for tier in view.tiers_of(pool):
        spread, demands = _demands(view, pool, tier)
        if spread is None:
            continue
        if demands is None:
            slack = {label: min(least, _UNSETTLED) for label, least in slack.items()}
            continue
        rows = view.in_pool(pool, tier)
        rows = rows[takes_strips(view)[rows]]
        slots, spread_of, loss_of = (
            view.disk_slots[rows],
            view.domain_of(spread)[rows],
            view.domain_of(level)[rows],
        )
        room = np.bincount(spread_of, weights=slots).astype(np.int64)
        order = np.argsort(loss_of, kind="stable")
        starts = np.searchsorted(loss_of[order], labels, side="left").tolist()
        ends = np.searchsorted(loss_of[order], labels, side="right").tolist()
        for label, start, end in zip(labels.tolist(), starts, ends, strict=True):
            left = room.copy()
            lost = order[start:end]
            np.subtract.at(left, spread_of[lost], slots[lost])
            slack[label] = min(slack[label], _least_slack(left, demands))
    return slack


def _least_slack(room: Ints, demands: Counter[int]) -> int:
    """Least, over j domains called full, of the others' room less what extents need outside j domains (Gale
    and Ryser).

    room: [domains].
    """
    largest = np.sort(room)[::-1][: max(demands)].tolist()
    left, least = int(room.sum()), int(np.iinfo(np.int64).max)
    for j in range(max(demands)):
        least = min(least, left - sum(extents * max(0, w - j) for w, extents in demands.items()))
        left -= largest[j] if j < len(largest) else 0
    return least


def _fits_after(view: SiteView, pool: Pool, tier: Tier, level: Level, losses: int) -> bool:
    """Whether the bound shows that all of a tier finds a place after any so many losses."""
    spread, demands = _demands(view, pool, tier)
    if spread is None:
        return True
    if demands is None:
        return False
    rows = view.in_pool(pool, tier)
    slots = np.where(takes_strips(view)[rows], view.disk_slots[rows], 0)
    most = max(demands)
    left = room_outside(slots, view.domain_of(spread)[rows], view.domain_of(level)[rows], most - 1, losses)
    return all(left[j] >= sum(e * max(0, w - j) for w, e in demands.items()) for j in range(most))


def _tried(view: SiteView, pool: Pool, level: Level, domain: int) -> list[Unhealed]:
    """What finds no place when the rebuild after a loss is planned."""
    after = lose(view, level, domain)
    by_number = {p.number: p for p in view.plies}
    name = view.domain_names(level)[domain]
    return [
        Unhealed(
            ply=by_number[h.ply],
            want=Want.DOMAINS if h.too_few_domains else Want.ROOM,
            loss=name,
            amount=h.strips,
            left=h.domains,
            confined=h.confined,
            around=h.around,
        )
        for h in plan_rebuild(after, pool, seed=1).hindrances
    ]


def _worst_by_volume(unhealed: Sequence[Unhealed]) -> tuple[Unhealed, ...]:
    """Of each ply the gravest: first what has no source, then by how much is left without a place."""
    order = [Want.UNREADABLE, Want.SOURCE, Want.DOMAINS, Want.ROOM]
    kept: dict[int, Unhealed] = {}
    for found in sorted(unhealed, key=lambda u: (order.index(u.want), -u.amount)):
        kept.setdefault(found.ply.number, found)
    return tuple(kept.values())


# In words. -------------------------------------------------------------------------------------------


def healing_sentence(view: SiteView, pool: Pool, space: PoolSpace) -> str:
    """What of a pool can be lost and still be made whole; for which volumes not, and why."""
    if not view.plies_of(pool):
        return headroom_sentence(view, pool, space)
    found = healing_for(view, pool, pool.headroom or Level.NODE, pool.headroom_losses if pool.headroom else 1)
    words = healing_in_words(found)
    if pool.headroom is None:
        return f"Nothing is held back for rebuilding. {words}"
    held = f" {say_size(space.held_back)} raw is held back for it." if space.held_back and found.holds else ""
    asked = ""
    if found.holds and found.losses < pool.headroom_losses:
        asked = (
            f" That is not shown for {losses_in_words(pool.headroom_losses, found.level)}, which was "
            "asked for."
        )
    return f"{words}{held}{asked}"


def healing_in_words(found: Healing) -> str:
    """A statement and, where it does not hold, for which volumes, the gravest first."""
    lost = losses_in_words(found.losses, found.level)
    if found.holds:
        in_turn = ", one after the other," if found.losses > 1 else ""
        tightest = f" The least room is left after losing {found.tightest}." if found.tightest else ""
        return f"After losing {lost}{in_turn} everything here can be rebuilt.{tightest}"
    if found.holds is None:
        return (
            f"Whether everything can be rebuilt after losing {lost} is not settled: it is too full to "
            "tell quickly."
        )
    names = say_list([u.ply.name for u in found.unhealed])
    reasons = " ".join(_because(u) for u in found.unhealed[:3])
    return f"After losing {lost} not everything could be rebuilt: {names}. {reasons}"


def _because(found: Unhealed) -> str:
    ply = found.ply
    level = ply.scheme.level.value
    match found.want:
        case Want.UNREADABLE:
            return f"{say_count(found.amount, 'extent')} of {ply.name} cannot be read even now."
        case Want.SOURCE:
            what = "the only copy" if ply.scheme.strips == 1 else "every copy"
            if not ply.scheme.is_mirror:
                what = "too many strips"
            return f"{found.loss} holds {what} of {say_count(found.amount, 'extent')} of {ply.name}."
        case Want.DOMAINS:
            needs = say_count(ply.scheme.least_domains, level)
            of = "of those chosen for it, " if found.confined else ""
            return f"{ply.name} needs {needs}; {of}without {found.loss}, {found.left} would take strips."
        case Want.ROOM:
            strips = say_count(found.amount, "strip")
            where = ", whatever else is moved"
            if found.around:
                where += " of what may lie anywhere"
            if found.confined:
                where = " on the disks chosen for it"
            return f"Without {found.loss}, {strips} of {ply.name} would find no room{where}."


def headroom_sentence(view: SiteView, pool: Pool, space: PoolSpace) -> str:
    """The same of a pool that holds nothing yet, or is only on paper: filled, with its usual scheme, to
    what is usable.
    """
    scheme, headroom = pool.usual, space.headroom
    if headroom is None:
        return "Nothing is held back for rebuilding; what can be rebuilt depends on what is free at the time."
    lost = losses_in_words(headroom.losses, headroom.level)
    if not headroom.possible:
        domains = len(np.unique(view.domain_of(scheme.level)[view.in_pool(pool)]))
        return (
            f"After losing {lost} nothing could be rebuilt until it returns: "
            f"{say_count(domains, scheme.level.value)} "
            f"for {scheme.counted()} of everything. Nothing is held "
            "back for it."
        )
    if not survives_losses(scheme, headroom.level):
        apart = (
            f"copies are kept apart by {scheme.level.value} only"
            if scheme.strips > 1
            else "there is one copy"
        )
        held = f"{say_size(space.held_back)} raw is held back."
        return (
            f"There is room to rebuild after losing {lost}, but perhaps nothing to rebuild from: "
            f"{apart}. {held}"
        )
    in_turn = ", one after the other," if headroom.losses > 1 else ""
    asked = _asked_for_more(pool, headroom)
    worst = say_list([view.domain_names(headroom.level)[w] for w in headroom.worst])
    return (
        f"After losing {lost}{in_turn} everything can be rebuilt; {say_size(space.held_back)} raw is "
        "held back for it. "
        f"The worst case is {worst}.{asked}"
    )


def _asked_for_more(pool: Pool, headroom: Headroom) -> str:
    if headroom.losses >= pool.headroom_losses:
        return ""
    asked = losses_in_words(pool.headroom_losses, headroom.level)
    return f" Healing from {asked} was asked for; that would leave too few {pool.usual.level.value}s."
