"""Whether a claim may have a volume: its class, its modes, what its namespace was granted, and a pool that
keeps the policy. What stands against it is said with what would help.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import cast

from foldbarn.core.claims.claims import AccessMode, Claim, VolumeMode
from foldbarn.core.claims.classes import StorageClass, default_of, nearest
from foldbarn.core.claims.grants import Grant, Had, excesses, say_excess
from foldbarn.core.claims.kept import TRIED_AGAIN, Hindrance, KeptClaim
from foldbarn.core.claims.places import best_near
from foldbarn.core.claims.sources import Resolved, against_filling, source_of_kept
from foldbarn.core.policies.matching import Answer, answer, answers
from foldbarn.core.policies.policy import Policy
from foldbarn.core.site import Pool, SiteView
from foldbarn.core.units import say_list
from foldbarn.core.volumes.origins import against_strips
from foldbarn.core.volumes.snapshots import Origin


@dataclass(frozen=True, slots=True)
class Verdict:
    """What a claim gets: a class, a policy and a pool; or what stands against it, in a sentence, and what
    would help. meant: the name of a class that was likely meant.
    """

    hindrance: Hindrance | None = None
    sentence: str = ""
    cure: str = ""
    meant: str = ""
    storage_class: StorageClass | None = None
    policy: Policy | None = None
    pool: Pool | None = None

    @property
    def fits(self) -> bool:
        return self.hindrance is None


@dataclass(frozen=True, slots=True)
class _Alike:
    """What claims have alike that the same pool takes."""

    storage_class: StorageClass
    policy: Policy
    size: int
    origin: Origin | None
    near: tuple[str, ...]

    @property
    def key(self) -> tuple[object, ...]:
        return self.storage_class.name, self.policy.version, self.size, self.origin, self.near


@dataclass(frozen=True, eq=False)
class Admission:
    """classes: of the orchestrator, those of ours; others: names of classes that are not. had: what each
    namespace has of a policy (by number), volumes that are promised included.
    """

    view: SiteView
    classes: Sequence[StorageClass]
    grants: Sequence[Grant]
    had: Mapping[tuple[str, int], Sequence[Had]]
    others: frozenset[str] = frozenset()
    # which pool takes what, by class and size: of a thousand claims most ask for the same
    placed: dict[tuple[object, ...], Verdict] = field(default_factory=dict)

    def judge_kept(self, kept: KeptClaim, *, has_volume: bool = False) -> Verdict:
        """With what is known of what it is to be filled from."""
        return self.judge(kept.claim, has_volume=has_volume, filled=source_of_kept(kept), near=kept.near)

    def judge(
        self,
        claim: Claim,
        *,
        has_volume: bool = False,
        filled: Resolved | None = None,
        near: tuple[str, ...] = (),
    ) -> Verdict:
        """has_volume: one is there that it is to have, so that no pool has to take it. filled: what it is to
        be filled from; none where it begins empty, or that is not to be looked at. near: as a kept claim has
        it.
        """
        found = self._class_of(claim)
        if isinstance(found, Verdict):
            return found
        policy = next((p for p in self.view.current_policies if p.number == found.policy), None)
        if policy is None:
            words = f"The policy that the class {found.name} stands for is gone."
            return Verdict(Hindrance.NO_POLICY, words, "Name another class.")
        against = self._against_modes(claim) or self._against_grant(claim, found, policy)
        if against is not None:
            return against
        if filled is not None and (lacks := self._against_source(claim, filled)) is not None:
            return replace(lacks, storage_class=found)
        if has_volume:
            return Verdict(storage_class=found, policy=policy)
        alike = _Alike(found, policy, claim.size, filled.origin if filled is not None else None, near)
        if alike.key not in self.placed:
            self.placed[alike.key] = self._place(alike)
        return self.placed[alike.key]

    def _class_of(self, claim: Claim) -> StorageClass | Verdict:
        if not claim.class_name:
            default = default_of(self.classes) if claim.class_name is None else None
            if default is not None:
                return default
            several = [one.name for one in self.classes if one.default]
            if claim.class_name is None and several:
                words = f"It names no class, and {say_list(sorted(several))} all say they are the default."
                return Verdict(Hindrance.SEVERAL_DEFAULTS, words, "Name one of them.")
            words = "It names no class, and there is no default one."
            return Verdict(Hindrance.NO_CLASS, words, self._say_offered(claim.namespace))
        for one in self.classes:
            if one.name == claim.class_name:
                return one
        meant = nearest(claim.class_name, {one.name for one in self.classes} | self.others)
        words = f"There is no class {claim.class_name}."
        cure = f"Did you mean {meant}?" if meant else self._say_offered(claim.namespace)
        return Verdict(Hindrance.UNKNOWN_CLASS, words, cure, meant)

    def _say_offered(self, namespace: str) -> str:
        granted = {grant.policy for grant in self.grants if grant.namespace == namespace}
        names = sorted(one.name for one in self.classes if one.policy in granted)
        if not names:
            return f"Nothing was granted to {namespace} yet."
        return f"{namespace} may use {say_list(names)}."

    def _against_modes(self, claim: Claim) -> Verdict | None:
        """A volume of blocks has one writer, unless those on it know of one another; what many write to is a
        share.
        """
        if not claim.wants_share:
            return None
        if self.view.files is None:
            words = f"{AccessMode.MANY_WRITE} wants a file system that many nodes write to at once, a share, "
            words += "and the file service is switched off."
            cure = f"Ask who runs the storage to switch it on, or ask for {AccessMode.ONE_NODE}, or for "
            cure += f"volumeMode {VolumeMode.BLOCK} where its pods agree on who writes what."
            return Verdict(Hindrance.ACCESS_MODE, words, cure)
        if claim.source is not None:
            words = f"{AccessMode.MANY_WRITE} gets a share, and a share begins empty: nothing fills it from "
            words += f"{claim.source.name}."
            cure = f"Ask for {AccessMode.ONE_NODE}, or for no source."
            return Verdict(Hindrance.ACCESS_MODE, words, cure)
        return None

    def _against_grant(self, claim: Claim, found: StorageClass, policy: Policy) -> Verdict | None:
        place = claim.namespace, found.policy
        grant = next((g for g in self.grants if (g.namespace, g.policy) == place), None)
        if grant is None:
            words = f"{policy.name}, for which {found.name} stands, was not granted to {claim.namespace}."
            return Verdict(Hindrance.NOT_GRANTED, words, self._say_offered(claim.namespace))
        asked = Had(claim.uid, found.name, claim.size)
        over = excesses(grant, self.had.get(place, ()), asked)
        if not over:
            return None
        words = " ".join(say_excess(one, claim.namespace, found.name) for one in over)
        cure = "Ask for less, delete another claim, or ask who runs the storage for more."
        return Verdict(Hindrance.OVER_LIMIT, words, cure)

    def _against_source(self, claim: Claim, filled: Resolved) -> Verdict | None:
        if filled.origin is None:
            return Verdict(Hindrance.NO_SOURCE, filled.sentence, filled.cure)
        refusal = against_filling(self.view, claim, filled.origin)
        if refusal is None:
            return None
        return Verdict(Hindrance.NO_SOURCE, refusal.sentence, refusal.next_step or "")

    def _place(self, alike: _Alike) -> Verdict:
        found, policy = alike.storage_class, alike.policy
        unlike = self._unlike(alike.origin)
        answered = self._answers(found, policy, alike, unlike)
        if unlike and not answered:
            return Verdict(Hindrance.NO_POOL, next(iter(unlike.values())), "Name another class.")
        chosen = best_near(self.view, answered, alike.near)
        if chosen is not None:
            pool = self.view.pools[chosen.pool]
            return Verdict(storage_class=found, policy=policy, pool=pool)
        words = f"No pool can keep {policy.name} for it now."
        if found.pool is not None:
            words = f"{policy.name} cannot be kept for it now, where {found.name} is to lie."
        reasons = list(dict.fromkeys(one.sentence for said in answered for one in said.against))
        return Verdict(Hindrance.NO_POOL, " ".join([words, *reasons]), TRIED_AGAIN)

    def _unlike(self, origin: Origin | None) -> dict[int, str]:
        """Pools (by row) that cannot take a copy of a snapshot, each with why: strips go over as they are."""
        if origin is None:
            return {}
        source = self.view.volume_numbered(origin.volume)
        found = {row: against_strips(self.view, source, row) for row in range(len(self.view.pools))}
        return {row: refusal.sentence for row, refusal in found.items() if refusal is not None}

    def _answers(
        self, found: StorageClass, policy: Policy, alike: _Alike, without: Collection[int]
    ) -> list[Answer]:
        """without: pools, by row, that are none for it."""
        size, copied = alike.size, alike.origin is not None
        if found.pool is None and not without:
            return answers(self.view, policy.wishes, size, room=False, copied=copied)
        mine = [
            pool
            for row, pool in enumerate(self.view.pools)
            if found.pool in (None, pool.number) and row not in without
        ]
        return [answer(self.view, pool, policy.wishes, size, room=False, copied=copied) for pool in mine]


def admission_of(view: SiteView, orchestrator: int) -> Admission:
    """As the site stands. orchestrator: by number."""
    grants = [grant for grant in view.grants if grant.orchestrator == orchestrator]
    others = frozenset(view.orchestrator_numbered(orchestrator).others)
    return Admission(view, view.classes, grants, had_in(view).get(orchestrator, {}), others)


Whose = tuple[str, int]  # namespace, and policy by number


def had_in(view: SiteView) -> dict[int, dict[Whose, list[Had]]]:
    """What namespaces have of policies, by orchestrator. Found once for each picture of the site."""
    if "had" not in view.findings:
        found: dict[int, dict[Whose, list[Had]]] = {}
        for kept in view.claims:
            if kept.held:
                mine = found.setdefault(kept.orchestrator, {})
                whose = kept.claim.namespace, kept.policy
                mine.setdefault(whose, []).append(Had(kept.claim.uid, kept.class_name, kept.promised))
        view.findings["had"] = found
    return cast("dict[int, dict[Whose, list[Had]]]", view.findings["had"])
