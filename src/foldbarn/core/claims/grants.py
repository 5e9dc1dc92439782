"""Grants: what a namespace may have of a policy, exactly to the byte."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from foldbarn.core.units import say_count, say_exactly


@dataclass(frozen=True, slots=True)
class Limits:
    """Of all claims together; None for no limit."""

    bytes: int | None = None
    claims: int | None = None


NO_LIMITS = Limits()


@dataclass(frozen=True, slots=True)
class Grant:
    """A policy, by number, made available to a namespace. bytes_a_claim: the largest that one may ask for;
    by_class: limits beside those of the whole, by the name of a class. orchestrator: whose namespace it is,
    by number.
    """

    policy: int
    namespace: str
    limits: Limits = NO_LIMITS
    bytes_a_claim: int | None = None
    by_class: Mapping[str, Limits] = field(default_factory=dict)
    number: int = 0
    orchestrator: int = 0


@dataclass(frozen=True, slots=True)
class Had:
    """What a namespace has of a policy: a claim that is promised its volume counts like one that has it."""

    uid: str
    class_name: str
    bytes: int


class Measure(StrEnum):
    """What a limit is of."""

    BYTES = "bytes"
    CLAIMS = "claims"
    A_CLAIM = "bytes a claim"
    CLASS_BYTES = "bytes in a class"
    CLASS_CLAIMS = "claims in a class"


@dataclass(frozen=True, slots=True)
class Excess:
    """A limit that would be passed. used: before; asked: more."""

    measure: Measure
    limit: int
    used: int
    asked: int

    @property
    def over(self) -> int:
        return self.used + self.asked - self.limit


def excesses(grant: Grant, had: Sequence[Had], asked: Had) -> list[Excess]:
    """Limits that a claim would pass, with what there is already. What it has itself, where it is to grow, is
    not counted twice.
    """
    others = [one for one in had if one.uid != asked.uid]
    before = sum(one.bytes for one in had if one.uid == asked.uid)
    new = int(not before)
    of_class = [one for one in others if one.class_name == asked.class_name]
    limits = grant.by_class.get(asked.class_name, NO_LIMITS)
    sizes, class_sizes = (sum(one.bytes for one in ones) + before for ones in (others, of_class))
    counts, class_counts = (len(ones) + 1 - new for ones in (others, of_class))
    measured = (
        (Measure.BYTES, grant.limits.bytes, sizes, asked.bytes - before),
        (Measure.CLAIMS, grant.limits.claims, counts, new),
        (Measure.A_CLAIM, grant.bytes_a_claim, before, asked.bytes - before),
        (Measure.CLASS_BYTES, limits.bytes, class_sizes, asked.bytes - before),
        (Measure.CLASS_CLAIMS, limits.claims, class_counts, new),
    )
    found = [Excess(what, limit, used, more) for what, limit, used, more in measured if limit is not None]
    # What asks for no more of something passes no limit of it, though that was lowered meanwhile.
    return [one for one in found if one.asked > 0 and one.over > 0]


def most_for_one_more(grant: Grant, had: Sequence[Had], class_name: str) -> int | None:
    """Bytes that one more claim of a class could ask for and pass no limit; None where there is none."""
    limits = grant.by_class.get(class_name, NO_LIMITS)
    mine = [one for one in had if one.class_name == class_name]
    left = [grant.bytes_a_claim]
    for limit, ones in ((grant.limits, had), (limits, mine)):
        if limit.claims is not None and len(ones) >= limit.claims:
            return 0
        if limit.bytes is not None:
            left.append(max(0, limit.bytes - sum(one.bytes for one in ones)))
    return min((one for one in left if one is not None), default=None)


def say_excess(excess: Excess, namespace: str, class_name: str) -> str:
    """By how much which limit would be passed."""
    of_class = excess.measure in (Measure.CLASS_BYTES, Measure.CLASS_CLAIMS)
    where = f"{namespace} in {class_name}" if of_class else namespace
    if excess.measure is Measure.A_CLAIM:
        most, over = say_exactly(excess.limit), say_exactly(excess.over)
        return f"One claim of {namespace} may ask for {most} at the most: {over} more than that is asked for."
    if excess.measure in (Measure.CLAIMS, Measure.CLASS_CLAIMS):
        return f"{where} may have {say_count(excess.limit, 'claim')}, and has {excess.used}."
    used, most, over = say_exactly(excess.used), say_exactly(excess.limit), say_exactly(excess.over)
    return f"{where} may have {most} and has {used}: this would be {over} too much."
