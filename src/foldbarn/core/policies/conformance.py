"""Whether a volume keeps its policy now, and if not: which wish it breaks, and what mends that."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from typing import cast

import numpy as np

from foldbarn.core.arrays import Disks, Flags
from foldbarn.core.moving.apart import too_close
from foldbarn.core.moving.mending import prospect_of
from foldbarn.core.moving.rebuild import crowded_strips
from foldbarn.core.names import natural_key
from foldbarn.core.policies.adopting import may_have_more_room
from foldbarn.core.policies.matching import against_cache, astray, hot_as_wished, landing_as_wished, tier_of
from foldbarn.core.policies.policy import Policy
from foldbarn.core.pools.capacity import most_that_fits, most_to_give
from foldbarn.core.pools.protection import Scheme
from foldbarn.core.site import Contact, Ply, Purpose, SiteView, Tier, Volume
from foldbarn.core.units import say_binary, say_count, say_list, say_size
from foldbarn.core.volumes.loss import enough_to_read, losses_survived, present_strips
from foldbarn.core.volumes.snapshots import room_extents
from foldbarn.core.volumes.thin import to_set_aside
from foldbarn.core.watch.states import Lamp


class Standing(StrEnum):
    KEPT = "kept"
    CATCHING_UP = "catching up"  # not kept, and all that is short is on its way
    BROKEN = "broken"

    @property
    def lamp(self) -> Lamp:
        return {"kept": Lamp.SOUND, "catching up": Lamp.MENDING}.get(self.value, Lamp.SHORT)


class Promise(StrEnum):
    """What of a policy a volume may fail to keep."""

    SURVIVES = "survives"
    SPREAD = "spread"
    TIER = "tier"
    LANDING = "landing"
    SHARE = "share"
    ENCRYPTION = "encryption"
    COMPRESSION = "compression"
    LABELS = "labels"
    CACHE = "cache"
    ASIDE = "set aside"
    SNAPSHOTS = "snapshots"


_FOLLOW = (Promise.ASIDE, Promise.SHARE)  # what is caught up with after strips have been moved, if at all


@dataclass(frozen=True, slots=True)
class Broken:
    """A wish that is not kept, and what would mend that."""

    promise: Promise
    sentence: str
    cure: str


@dataclass(frozen=True, slots=True)
class Conformance:
    """How a volume stands to its policy. broken: every wish that it does not keep; strips: how many are short
    or lie where they should not, and on_their_way: of these.
    """

    standing: Standing
    broken: tuple[Broken, ...] = ()
    strips: int = 0
    on_their_way: int = 0

    def cure(self) -> str:
        """What would mend it, each once; empty where it is kept or on its way."""
        if self.standing != Standing.BROKEN:
            return ""
        return " ".join(dict.fromkeys(b.cure for b in self.broken if b.cure))

    def sentence(self) -> str:
        if self.standing == Standing.KEPT:
            return "It keeps its policy."
        said = " ".join(b.sentence for b in self.broken)
        if self.standing != Standing.CATCHING_UP:
            return said
        if not self.strips:
            return f"{said} Its pool has room for them, and they follow by themselves."
        strips = say_count(self.strips, "strip")
        going = "is on its way" if self.strips == 1 else "are on their way"
        if any(b.promise in _FOLLOW for b in self.broken):
            follow = "Its pool has room for those extents, and they follow by themselves."
            return f"{said} {strips} {going}. {follow}"
        return f"{said} {strips}, all that this takes, {going}."


def conformance(view: SiteView, volume: Volume) -> Conformance | None:
    """How a volume stands to the version of the policy that it keeps; None where it has none. Found out
    once for each picture of the site.
    """
    policy = view.policy_of(volume)
    if policy is None:
        return None
    key = ("conformance", volume.number)
    if key not in view.findings:
        view.findings[key] = _conformance(view, volume, policy)
    return cast(Conformance, view.findings[key])


def _conformance(view: SiteView, volume: Volume, policy: Policy) -> Conformance:
    wishes, pool = policy.wishes, view.pools[volume.pool]
    broken: list[Broken] = []
    short = away = 0
    least = wishes.scheme.survives
    crowded_extents = 0
    for ply in volume.plies:
        if ply.purpose == Purpose.PAST:
            continue
        present = present_strips(view, ply) | ply.unwritten[:, None]
        crowded = crowded_strips(view, ply)
        amiss = ~present | crowded
        short += int(amiss.sum())
        away += _on_their_way(view, ply, amiss)
        least = min(least, losses_survived(view, ply))
        crowded_extents += int(crowded.any(axis=1).sum())
    level = wishes.scheme.level.value
    if least < wishes.survives:
        now = (
            f"would survive the loss of {say_count(least, level)}" if least >= 0 else "cannot be read in full"
        )
        words = f"It is to survive the loss of {say_count(wishes.survives, level)}, and {now} now."
        broken.append(Broken(Promise.SURVIVES, words, _cure(view, volume)))
    if crowded_extents:
        have = "has" if crowded_extents == 1 else "have"
        words = f"{say_count(crowded_extents, 'extent')} of it {have} strips that share a {level}."
        if wishes.scheme.per_domain > 1:
            words = f"{say_count(crowded_extents, 'extent')} of it {have} strips closer together than "
            words += f"{wishes.scheme.apart()}."
        broken.append(Broken(Promise.SPREAD, words, _cure_by_moves(view, volume)))
    broken += _made_otherwise(view, volume, policy)
    mending = {Promise.SURVIVES, Promise.SPREAD}
    unset = 0 if wishes.thin else int(to_set_aside(volume).sum())
    if unset:
        room = most_to_give(view, pool, volume.whole.scheme, volume.whole.tier, only=volume.only_on)
        have = "has" if unset == 1 else "have"
        words = f"Room for all of it is to be set aside, and {say_count(unset, 'extent')} {have} none yet."
        cure = f"Add disks to {pool.name}, or let it keep a policy that takes room as it is written."
        broken.append(Broken(Promise.ASIDE, words, cure))
        if room >= unset:
            mending.add(Promise.ASIDE)
    if volume.hot is not None and len(low := astray(pool, volume, wishes, up=True)):
        fast = most_that_fits(view, pool, volume.hot.scheme, Tier.FAST, only=volume.only_on).extents
        lie = "lies" if len(low) == 1 else "lie"
        words = f"Its first {say_binary(wishes.first)} are to lie on the fast tier, and "
        words += f"{say_count(len(low), 'extent')} of that {lie} on the bulk tier still."
        cure = f"Add fast disks to {pool.name}, or let it keep a policy with less on the fast tier."
        broken.append(Broken(Promise.SHARE, words, cure))
        if fast // volume.whole.scheme.k >= len(low) and enough_to_read(view, volume.whole)[low].all():
            mending.add(Promise.SHARE)
    if not broken:
        return Conformance(Standing.KEPT, strips=short, on_their_way=away)
    moves_mend = all(b.promise in mending for b in broken)
    standing = Standing.CATCHING_UP if moves_mend and away == short else Standing.BROKEN
    return Conformance(standing, tuple(broken), short, away)


def _made_otherwise(view: SiteView, volume: Volume, policy: Policy) -> list[Broken]:
    """Wishes against which a volume was made, wherever its strips lie."""
    wishes, pool = policy.wishes, view.pools[volume.pool]
    level = wishes.scheme.level.value
    broken: list[Broken] = []
    if volume.whole.tier != tier_of(wishes):
        words = f"It is to lie on the {tier_of(wishes).value} tier, and does not."
        cure = f"Let it keep a policy for the {volume.whole.tier.value} tier."
        broken.append(Broken(Promise.TIER, words, cure))
    # Where another policy is on its way, its landing is there before all of it is.
    if volume.anew is None and not landing_as_wished(volume, pool, wishes):
        words = "It is to land on the fast tier first, and has no such landing."
        if volume.landing is not None and not wishes.landing:
            words = "It has a landing that its policy does not ask for."
        broken.append(Broken(Promise.LANDING, words, "Let it keep its policy once more."))
    # Where it is written anew its hot ply comes with that; what moves between its tiers is held meanwhile.
    if (volume.anew is None or volume.hot is not None) and not hot_as_wished(volume, wishes):
        what = (
            f"Its first {say_binary(wishes.first)} are" if wishes.first else "What is asked for most of it is"
        )
        have = "have" if wishes.first else "has"
        words = f"{what} to lie on the fast tier, and {have} no place there."
        if volume.hot is not None and not wishes.in_two_tiers:
            words = "Some of it may lie on the fast tier, and its policy does not ask for that."
        broken.append(Broken(Promise.SHARE, words, "Let it keep its policy once more."))
    if wishes.encrypted and not pool.encrypted:
        words = f"It is to be encrypted, and disks of {pool.name} do not hold everything encrypted."
        cure = "Let it keep a policy that does not ask for that."
        broken.append(Broken(Promise.ENCRYPTION, words, cure))
    if wishes.compressed and not pool.compress_unit:
        words = f"It is to be compressed, and disks of {pool.name} hold what is written as it is."
        broken.append(Broken(Promise.COMPRESSION, words, "Let it keep a policy that does not ask for that."))
    if lacks := [label for label in wishes.labels if label not in pool.labels]:
        words = f"Its pool is to be labelled {say_list(lacks)}, and {pool.name} is not by now."
        cure = f"Label {pool.name} so again, or let it keep a policy that does not ask for that."
        broken.append(Broken(Promise.LABELS, words, cure))
    if (past := volume.past) is not None and past.scheme.survives < wishes.survives:
        words = f"It is to survive the loss of {say_count(wishes.survives, level)}, and its snapshots are "
        words += f"held as {past.scheme.counted()}."
        broken.append(Broken(Promise.SNAPSHOTS, words, "Delete them, and take new ones."))
    wanted = room_extents(volume.whole.extents, wishes.schedule.per_cent) * view.data_bytes(volume.whole)
    if past is not None and (kept := past.extents * view.data_bytes(past)) < wanted:
        words = f"It is to keep {say_size(wanted)} for what its snapshots hold, and keeps {say_size(kept)}."
        cure = "Delete its snapshots: with the next one comes the room that its policy says."
        if may_have_more_room(view, volume, wishes.schedule.per_cent):
            cure = f"Give its snapshots more room: {wishes.schedule.per_cent} % of its size."
        broken.append(Broken(Promise.SNAPSHOTS, words, cure))
    lacking = against_cache(view, pool, wishes, volume.only_on)
    return broken + [Broken(Promise.CACHE, missing.sentence, missing.cure) for missing in lacking]


# Of many at once. ----------------------------------------------------------------------------------------


def plainly_kept(view: SiteView, there: Flags) -> Flags:
    """Volumes that keep their policy, as is seen without looking at each of them: every strip lies as far
    from the others as it should and can be read, and they are made as is wished for; those without a policy
    too, [volumes]. Of the others nothing is said.

    there: of which all strips can be read, [volumes], as `whole_at_once` has it.
    """
    by_hand = view.columns.of(_by_hand, np.bool_)
    # What is found of one is so for all that are made like it.
    as_wished = view.columns.alike(_made_as, lambda volume: _made_as_wished(view, volume))
    maybe: Flags = there & ~by_hand & as_wished
    return by_hand | (maybe & ~_close_together(view))


def _by_hand(volume: Volume) -> bool:
    return volume.policy is None


def _made_as(volume: Volume) -> tuple[object, ...]:
    """What a volume has in common with others of which the same is to be said, wherever they lie."""
    made_as = tuple(ply.made_as for ply in volume.plies)
    upper = None if volume.hot is None else np.packbits(volume.upper).tobytes()
    return volume.policy, volume.pool, volume.size_bytes, volume.anew is None, made_as, upper


def _made_as_wished(view: SiteView, volume: Volume) -> bool:
    policy = view.policy_of(volume)
    if policy is None or _made_otherwise(view, volume, policy):
        return False
    if len(astray(view.pools[volume.pool], volume, policy.wishes, up=True)):
        return False
    plies = [ply for ply in volume.plies if ply.purpose != Purpose.PAST]
    all_set_aside = policy.wishes.thin or all(ply.extents_here == ply.extents_set_aside for ply in plies)
    return all_set_aside and all(ply.scheme.survives >= policy.wishes.survives for ply in plies)


def _close_together(view: SiteView) -> Flags:
    """Volumes with strips that should be further apart, [volumes]."""
    found = np.zeros(len(view.volumes), dtype=np.bool_)
    for scheme in view.columns.every(_schemes):
        owners, placement = view.columns.together(_placed_by(scheme))
        rows = view.row_of_number[placement]
        domains = np.append(view.domain_of(scheme.level), -1)[rows]
        found[owners[too_close(domains, rows, scheme.per_domain).any(axis=1)]] = True
    return found


def _schemes(volume: Volume) -> frozenset[Scheme]:
    return frozenset(ply.scheme for ply in volume.plies)


@lru_cache(maxsize=1000)
def _placed_by(scheme: Scheme) -> Callable[[Volume], Disks]:
    """Finds where the extents of a volume lie that are held so, [extents, strips]."""
    none = np.zeros((0, scheme.strips), dtype=np.int32)

    def find(volume: Volume) -> Disks:
        found = [ply.placement for ply in volume.plies if ply.scheme == scheme]
        return found[0] if len(found) == 1 else np.concatenate([none, *found])

    return find


def _cure(view: SiteView, volume: Volume) -> str:
    """What brings strips back; where extents of its landing have none left to be made from, also how to go
    on without what waits there.
    """
    cure, landing = _cure_by_moves(view, volume), volume.landing
    if landing is None or enough_to_read(view, landing).all():
        return cure
    way_on = "let it keep a policy without a landing, and this one again: what waits there is then given up."
    return f"{cure} Where that is gone for good, {way_on}"


def _cure_by_moves(view: SiteView, volume: Volume) -> str:
    """What brings strips back, or apart, as a plan made on trial finds it."""
    ahead = prospect_of(view, volume)
    rows = np.unique(np.concatenate([view.rows(ply).reshape(-1) for ply in volume.plies]))
    away = [view.disks[r] for r in rows.tolist() if r < len(view.disks) and not view.disk_ready[r]]
    silent = {view.nodes[d.node].name for d in away if view.nodes[d.node].contact != Contact.HEARD}
    missing = {d.name for d in away if view.nodes[d.node].name not in silent}
    back = f"Bring {say_list(sorted(silent | missing, key=natural_key))} back" if away else ""
    if ahead.hindrances:
        level = volume.plies[0].scheme.level.value
        more = f"Add disks in another {level}, or let it keep a policy that takes fewer."
        return f"{back}. {more}" if back else more
    if not ahead.placeable:
        return f"{back}." if back else ""
    strips = say_count(ahead.placeable, "strip")
    have = "has a place" if ahead.placeable == 1 else "have places"
    waiting = f"ait: {strips} that it lacks or that stand too close {have} elsewhere."
    return f"{back}, or w{waiting}" if back else f"W{waiting}"


def _on_their_way(view: SiteView, ply: Ply, amiss: np.ndarray) -> int:
    mine = [(e, s) for p, e, s in view.under_way if p == ply.number]
    return sum(bool(amiss[extent, strip]) for extent, strip in mine)
