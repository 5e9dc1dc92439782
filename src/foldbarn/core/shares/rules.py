"""Who may mount a share, by address: of all rules that cover it the one that covers fewest addresses decides,
so of networks that with the longest prefix. Method: docs/methods.md, "Access to shares".
"""

from __future__ import annotations

import heapq
import ipaddress
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache

from foldbarn.core.errors import NotPossible
from foldbarn.core.units import say_count, say_list

EVERYONE = "everyone"
MOST_RULES = 10_000  # of one share
LONGEST_WHO = 100  # characters; two addresses of version 6 and what stands between them take less
BITS = {4: 32, 6: 128}


class Right(StrEnum):
    """What who has mounted a share may do there."""

    NONE = "none"
    READ = "read"
    WRITE = "read-write"


SAID = {Right.NONE: "no access", Right.READ: "read only", Right.WRITE: "read and write"}


@dataclass(frozen=True, slots=True)
class Rule:
    """who: an address, two with a hyphen between them, a network with its prefix, or everyone. root: whether
    root of a client is root here; it is nobody otherwise (squashed). follows: it is there for a node of an
    orchestrator, and comes and goes with that; the others are people's.
    """

    who: str
    right: Right
    root: bool = False
    follows: bool = False


@dataclass(frozen=True, slots=True)
class Decision:
    """rule: the place of the rule that decides, from 1; None where none covers the address, which is then
    let in nowhere.
    """

    right: Right
    root: bool
    rule: int | None

    @property
    def sentence(self) -> str:
        if self.rule is None:
            return "no access: no rule covers it"
        root = ", root stays root" if self.root and self.right is not Right.NONE else ""
        return f"{SAID[self.right]}{root}, by rule {self.rule}"


NOBODY = Decision(Right.NONE, root=False, rule=None)


@dataclass(frozen=True, slots=True)
class Span:
    """Addresses of one version, as numbers, from the first to the last."""

    version: int
    first: int
    last: int

    @property
    def size(self) -> int:
        return self.last - self.first + 1


def read_address(text: str) -> tuple[int, int]:
    """Version and number of an address. One of version 4 that is written as one of version 6 is the former
    (RFC 4291, 2.5.5.2). Raises NotPossible.
    """
    try:
        found = ipaddress.ip_address(text.strip())
    except ValueError:
        raise NotPossible(f"'{text.strip()[:LONGEST_WHO]}' is no address.", about="address") from None
    if isinstance(found, ipaddress.IPv6Address):
        if found.scope_id is not None:
            words = f"{found} says on which port of a machine it is; here that says nothing."
            raise NotPossible(words, about="address")
        if found.ipv4_mapped is not None:
            found = found.ipv4_mapped
    return found.version, int(found)


@lru_cache(maxsize=4 * MOST_RULES)  # a list of them is read again with each look at its share
def read_who(text: str) -> tuple[Span, ...]:
    """The addresses that a rule covers. Raises NotPossible for what stands for none."""
    said = text.strip()
    if len(said) > LONGEST_WHO:
        raise NotPossible(f"'{said[:LONGEST_WHO]}...' is too long for an address.", about="rules")
    if said.casefold() == EVERYONE:
        return tuple(Span(version, 0, 2**bits - 1) for version, bits in BITS.items())
    if "/" in said:
        return (_network(said),)
    first, hyphen, last = (part.strip() for part in said.partition("-"))
    try:
        version, low = read_address(first)
        other, high = read_address(last) if hyphen else (version, low)
    except NotPossible as error:
        words = f"'{said}' is no address, no range and no network."
        step = f"Write 10.4.7.20, 10.4.7.1-10.4.7.20, 10.4.0.0/16 or {EVERYONE}."
        raise NotPossible(words, about="rules", next_step=step) from error
    if version != other:
        raise NotPossible(f"'{said}' begins in one version and ends in another.", about="rules")
    if high < low:
        step = f"Write {last}-{first}."
        raise NotPossible(f"The range {said} runs backwards.", about="rules", next_step=step)
    return (Span(version, low, high),)


def _network(said: str) -> Span:
    try:
        found = ipaddress.ip_network(said)
    except ValueError:
        try:
            of = ipaddress.ip_network(said, strict=False)
        except ValueError:
            raise NotPossible(f"'{said}' is no network.", about="rules") from None
        step = f"Write {of} for the network, or {said.partition('/')[0]} for the address."
        raise NotPossible(f"{said} is an address in {of}.", about="rules", next_step=step) from None
    version, first, last = found.version, int(found.network_address), int(found.broadcast_address)
    inside = ipaddress.IPv6Address(first).ipv4_mapped if version == 6 else None
    if inside is not None and found.prefixlen >= 96:
        return Span(4, int(inside), int(inside) + (last - first))
    return Span(version, first, last)


class Rules:
    """The rules of a share, made ready to be asked: addresses cut where another rule begins to decide, so
    that a question is one search in what is sorted.
    """

    __slots__ = ("_cuts", "rules")

    def __init__(self, rules: Sequence[Rule]) -> None:
        """Raises NotPossible where one of them covers nothing that there is."""
        self.rules = tuple(rules)
        spans: dict[int, list[tuple[Span, int]]] = {version: [] for version in BITS}
        for place, rule in enumerate(self.rules):
            for span in read_who(rule.who):
                spans[span.version].append((span, place))
        self._cuts = {version: _cut(found) for version, found in spans.items()}

    def decide(self, address: str) -> Decision:
        """What who comes from an address may do. Raises NotPossible for what is none."""
        version, number = read_address(address)
        starts, winners = self._cuts[version]
        place = winners[found - 1] if (found := bisect_right(starts, number)) else None
        if place is None:
            return NOBODY
        rule = self.rules[place]
        return Decision(rule.right, rule.root, place + 1)

    def idle(self) -> list[int]:
        """Places (from 1) of rules that never decide: others decide for each of their addresses."""
        used = {place for _, winners in self._cuts.values() for place in winners if place is not None}
        return [place + 1 for place in range(len(self.rules)) if place not in used]

    def instead_of(self, place: int) -> list[int]:
        """Places of the rules that decide for the addresses of one that never does."""
        found: set[int] = set()
        for span in read_who(self.rules[place - 1].who):
            starts, winners = self._cuts[span.version]
            low, high = bisect_right(starts, span.first) - 1, bisect_right(starts, span.last)
            found |= {w + 1 for w in winners[max(low, 0) : high] if w is not None}
        return sorted(found)


def _cut(spans: Sequence[tuple[Span, int]]) -> tuple[list[int], list[int | None]]:
    """Where another rule begins to decide, ascending, and which; None where none does.

    A sweep over the addresses at which spans begin and end; those that are open lie in a heap, that of the
    fewest addresses first and of two alike the earlier rule.
    """
    opens = sorted(spans, key=lambda one: one[0].first)
    at = sorted({one.first for one, _ in spans} | {one.last + 1 for one, _ in spans})
    starts: list[int] = []
    winners: list[int | None] = []
    there: list[tuple[int, int, int]] = []  # size, place, last
    coming = 0
    for cut in at:
        while coming < len(opens) and opens[coming][0].first <= cut:
            span, place = opens[coming]
            heapq.heappush(there, (span.size, place, span.last))
            coming += 1
        while there and there[0][2] < cut:
            heapq.heappop(there)
        winner = there[0][1] if there else None
        if not winners or winners[-1] != winner:
            starts.append(cut)
            winners.append(winner)
    return starts, winners


@lru_cache(maxsize=256)
def ready(rules: tuple[Rule, ...]) -> Rules:
    """The same list is made ready once. Raises NotPossible as Rules does."""
    return Rules(rules)


def check_rules(rules: Sequence[Rule]) -> tuple[Rule, ...]:
    """Rules with what they cover as it is written best. Raises NotPossible with the rule's place."""
    if len(rules) > MOST_RULES:
        words = f"That is {say_count(len(rules), 'rule')}; {MOST_RULES:,} are the most of one share."
        raise NotPossible(words, about="rules")
    found = []
    for place, rule in enumerate(rules, 1):
        try:
            read_who(rule.who)
        except NotPossible as error:
            words = f"Rule {place}: {error.sentence}"
            raise NotPossible(words, about="rules", next_step=error.next_step) from error
        who = "".join(rule.who.split())
        found.append(Rule(who.casefold(), rule.right, root=rule.root and rule.right is not Right.NONE))
    return tuple(found)


@dataclass(frozen=True, slots=True)
class Idle:
    """A rule that never decides (its place, from 1), and those that do instead."""

    rule: int
    instead: tuple[int, ...]

    @property
    def sentence(self) -> str:
        doing = "decides" if len(self.instead) == 1 else "decide"
        by = say_list([f"rule {place}" for place in self.instead], 3)
        return f"Rule {self.rule} can never apply: {by} {doing} for each of its addresses."


def idle_rules(rules: tuple[Rule, ...]) -> Iterator[Idle]:
    found = ready(rules)
    for place in found.idle():
        yield Idle(place, tuple(found.instead_of(place)))
