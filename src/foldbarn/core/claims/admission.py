"""Whether a claim may have a volume: its class, its modes, what its namespace was granted, and a pool that
keeps the policy. What stands against it is said with what would help.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from foldbarn.core.claims.claims import AccessMode, Claim, VolumeMode
from foldbarn.core.claims.classes import StorageClass, default_of, nearest
from foldbarn.core.claims.grants import Grant, Had, excesses, say_excess
from foldbarn.core.policies.matching import Answer, answer, answers, best
from foldbarn.core.policies.policy import Policy
from foldbarn.core.site import Pool, SiteView
from foldbarn.core.units import say_list


class Hindrance(StrEnum):
    """Why a claim waits."""

    NO_CLASS = "names no class"
    SEVERAL_DEFAULTS = "several defaults"
    UNKNOWN_CLASS = "class unknown"
    NO_POLICY = "policy gone"  # of its class
    ACCESS_MODE = "access mode"
    NOT_GRANTED = "not granted"
    OVER_LIMIT = "over a limit"
    NO_POOL = "no pool"


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

    def judge(self, claim: Claim) -> Verdict:
        found = self._class_of(claim)
        if isinstance(found, Verdict):
            return found
        policy = next((p for p in self.view.current_policies if p.number == found.policy), None)
        if policy is None:
            words = f"The policy that the class {found.name} stands for is gone."
            return Verdict(Hindrance.NO_POLICY, words, "Name another class.")
        return (
            self._against_modes(claim)
            or self._against_grant(claim, found, policy)
            or self._placed(claim, found, policy)
        )

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
        """A volume of blocks has one writer, unless those on it know of one another."""
        if AccessMode.MANY_WRITE not in claim.modes or claim.volume_mode is VolumeMode.BLOCK:
            return None
        words = (
            f"{AccessMode.MANY_WRITE} wants a file system that many nodes write to at once, and this would "
        )
        words += "be a volume of blocks with a file system of one."
        cure = f"Ask for {AccessMode.ONE_NODE}, or for volumeMode {VolumeMode.BLOCK} where its pods agree on "
        return Verdict(Hindrance.ACCESS_MODE, words, f"{cure}who writes what; a share is what it wants.")

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

    def _placed(self, claim: Claim, found: StorageClass, policy: Policy) -> Verdict:
        answered = self._answers(found, policy, claim.size)
        chosen = best(answered)
        if chosen is not None:
            pool = self.view.pools[chosen.pool]
            return Verdict(storage_class=found, policy=policy, pool=pool)
        words = f"No pool can keep {policy.name} for it now."
        if found.pool is not None:
            words = f"{policy.name} cannot be kept for it now, where {found.name} is to lie."
        reasons = list(dict.fromkeys(one.sentence for said in answered for one in said.against))
        return Verdict(Hindrance.NO_POOL, " ".join([words, *reasons]), "It is tried again by itself.")

    def _answers(self, found: StorageClass, policy: Policy, size: int) -> list[Answer]:
        if found.pool is None:
            return answers(self.view, policy.wishes, size, room=False)
        mine = [pool for pool in self.view.pools if pool.number == found.pool]
        return [answer(self.view, pool, policy.wishes, size, room=False) for pool in mine]
