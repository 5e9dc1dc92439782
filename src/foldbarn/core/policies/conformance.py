"""Whether a volume keeps its policy now, and if not: which wish it breaks, and what mends that."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import cast

import numpy as np

from foldbarn.core.moving.rebuild import crowded_strips
from foldbarn.core.policies.matching import tier_of
from foldbarn.core.policies.policy import Policy
from foldbarn.core.site import Ply, SiteView, Volume
from foldbarn.core.units import say_count
from foldbarn.core.volumes.loss import present_strips


class Standing(StrEnum):
    KEPT = "kept"
    CATCHING_UP = "catching up"  # not kept, and all that is short is on its way
    BROKEN = "broken"


class Promise(StrEnum):
    """What of a policy a volume may fail to keep."""

    SURVIVES = "survives"
    SPREAD = "spread"
    TIER = "tier"
    ENCRYPTION = "encryption"


@dataclass(frozen=True, slots=True)
class Broken:
    promise: Promise
    sentence: str


@dataclass(frozen=True, slots=True)
class Conformance:
    """How a volume stands to its policy. broken: every wish that it does not keep; strips: how many are short
    or lie where they should not, and on_their_way: of these.
    """

    standing: Standing
    broken: tuple[Broken, ...] = ()
    strips: int = 0
    on_their_way: int = 0

    def sentence(self) -> str:
        if self.standing == Standing.KEPT:
            return "It keeps its policy."
        said = " ".join(b.sentence for b in self.broken)
        if self.standing == Standing.CATCHING_UP:
            going = "is on its" if self.strips == 1 else "are on their"
            return f"{said} {say_count(self.strips, 'strip')}, all that this takes, {going} way."
        return said


def conformance(view: SiteView, volume: Volume) -> Conformance | None:
    """How a volume stands to the version of the policy that it was made by; None where it has none. Found out
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
        present = present_strips(view, ply) | ply.unwritten[:, None]
        crowded = crowded_strips(view, ply)
        amiss = ~present | crowded
        short += int(amiss.sum())
        away += _on_their_way(view, ply, amiss)
        least = min(least, _survives(ply, present.sum(axis=1)))
        crowded_extents += int(crowded.any(axis=1).sum())
    level = wishes.scheme.level.value
    if least < wishes.survives:
        now = (
            f"would survive the loss of {say_count(least, level)}" if least >= 0 else "cannot be read in full"
        )
        words = f"It is to survive the loss of {say_count(wishes.survives, level)}, and {now} now."
        broken.append(Broken(Promise.SURVIVES, words))
    if crowded_extents:
        have = "has" if crowded_extents == 1 else "have"
        words = f"{say_count(crowded_extents, 'extent')} of it {have} strips that share a {level}."
        broken.append(Broken(Promise.SPREAD, words))
    if any(ply.tier != tier_of(wishes) for ply in volume.plies):
        broken.append(
            Broken(Promise.TIER, f"It is to lie on the {tier_of(wishes).value} tier, and does not.")
        )
    if wishes.encrypted and not pool.encrypted:
        words = f"It is to be encrypted, and disks of {pool.name} do not hold everything encrypted."
        broken.append(Broken(Promise.ENCRYPTION, words))
    if not broken:
        return Conformance(Standing.KEPT, strips=short, on_their_way=away)
    moves_mend = all(b.promise in (Promise.SURVIVES, Promise.SPREAD) for b in broken)
    standing = Standing.CATCHING_UP if moves_mend and away == short else Standing.BROKEN
    return Conformance(standing, tuple(broken), short, away)


def _survives(ply: Ply, present: np.ndarray) -> int:
    """Losses that the worst extent would survive now; -1 where it cannot be read."""
    if not len(present):
        return ply.scheme.survives
    left = int(present.min()) - ply.scheme.k
    return left // ply.scheme.per_domain if left >= 0 else -1


def _on_their_way(view: SiteView, ply: Ply, amiss: np.ndarray) -> int:
    mine = [(e, s) for p, e, s in view.under_way if p == ply.number]
    return sum(bool(amiss[extent, strip]) for extent, strip in mine)
