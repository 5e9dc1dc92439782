"""Dealing strips to disks by shares of free room, keeping each away from where its extent lies already."""

from __future__ import annotations

import heapq
from dataclasses import dataclass

import numpy as np

from foldbarn.core.arrays import Flags, Ints
from foldbarn.core.moving.apart import disks_open_to, domains_full, may_join
from foldbarn.core.pools.placement import deal_shares, quotas

_ROUNDS = 24
_LEAST_PROGRESS = 50  # a round that places less than one in so many of what waits is the last


@dataclass(frozen=True, slots=True, eq=False)
class Beside:
    """Where the others of each strip's extent lie: their domains and their disk rows, [strips, others], -1
    for those that lie nowhere. most: strips of an extent that a domain may hold.
    """

    domains: Ints
    disks: Ints
    most: int = 1

    def of(self, strips: Ints | Flags) -> Beside:
        """Of some of the strips."""
        return Beside(self.domains[strips], self.disks[strips], self.most)


def deal_in_turn(
    beside: Beside,
    room: Ints,
    first: list[Flags | Ints],
    domain_of: Ints,
    node_of: Ints,
    rng: np.random.Generator,
) -> Ints:
    """A disk row for each strip, [strips], -1 where none fits; takes what it gives from `room` in place.

    room, domain_of, node_of: [disks]. first: parts of the room to be offered before the rest: on flagged
    disks, or no more than these numbers.
    """
    to = np.full(len(beside.domains), -1, dtype=np.int64)
    for part in [*first, None]:
        waiting = np.flatnonzero(to < 0)
        if part is None:
            offer = room.copy()
        elif part.dtype == np.bool_:
            offer = np.where(part, room, 0)
        else:
            offer = np.minimum(part, room)
        if not len(waiting) or not offer.any():
            continue
        before = offer.copy()
        to[waiting] = _deal(beside.of(waiting), offer, domain_of, node_of, rng)
        room -= before - offer
        if part is not None and part.dtype != np.bool_:
            part -= np.minimum(part, before - offer)
    return to


def _deal(beside: Beside, room: Ints, domain_of: Ints, node_of: Ints, rng: np.random.Generator) -> Ints:
    """First by shares of free room (dealt at random, redealt where a domain is forbidden), then one by one to
    the allowed domain with the most room."""
    to = np.full(len(beside.domains), -1, dtype=np.int64)
    waiting = np.arange(len(beside.domains))
    for _ in range(_ROUNDS):
        waiting = waiting[_has_open_disk(beside.of(waiting), room, domain_of)]
        total = min(len(waiting), int(room.sum()))
        if not total:
            return to
        hand = np.repeat(np.arange(len(room)), deal_by_domain(room, domain_of, node_of, total))
        rng.shuffle(hand)
        rng.shuffle(waiting)
        paired = waiting[: len(hand)]
        others = beside.of(paired)
        good = may_join(others.domains, others.disks, beside.most, domain_of[hand], hand)
        to[paired[good]] = hand[good]
        np.subtract.at(room, hand[good], 1)
        waiting = np.concatenate([paired[~good], waiting[len(hand) :]])
        if int(good.sum()) * _LEAST_PROGRESS < len(waiting):
            break
    return _deal_one_by_one(to, waiting, beside, room, domain_of)


def _has_open_disk(beside: Beside, room: Ints, domain_of: Ints) -> Flags:
    """Whether a strip may go to any disk with room, [strips]."""
    open_to = disks_open_to(beside.domains, beside.disks, beside.most, room > 0, domain_of)
    found: Flags = open_to > 0
    return found


def _deal_one_by_one(to: Ints, waiting: Ints, beside: Beside, room: Ints, domain_of: Ints) -> Ints:
    """The rest of a deal: each strip goes to the fullest-of-room disk of the allowed domain with the most
    room.
    """
    waiting = waiting[_has_open_disk(beside.of(waiting), room, domain_of)]
    if not len(waiting):
        return to
    disks: dict[int, list[tuple[int, int]]] = {}
    left: dict[int, int] = {}
    for disk in np.flatnonzero(room > 0).tolist():
        domain = int(domain_of[disk])
        disks.setdefault(domain, []).append((-int(room[disk]), disk))
        left[domain] = left.get(domain, 0) + int(room[disk])
    for heap in disks.values():
        heapq.heapify(heap)
    # Entries are (-room, domain); one domain has one entry, so that those skipped are put back as they were.
    domains = [(-count, domain) for domain, count in left.items()]
    heapq.heapify(domains)
    full = domains_full(beside.domains[waiting], beside.most).tolist()
    own = beside.disks[waiting].tolist()
    for strip, barred, held in zip(waiting.tolist(), full, own, strict=True):
        skipped = []
        while domains:
            count, domain = heapq.heappop(domains)
            disk = -1 if domain in barred else _roomiest(disks[domain], held)
            if disk < 0:
                skipped.append((count, domain))
                continue
            to[strip] = disk
            room[disk] -= 1
            if count < -1:
                heapq.heappush(domains, (count + 1, domain))
            break
        for entry in skipped:
            heapq.heappush(domains, entry)
        if not domains:
            break
    return to


def _roomiest(heap: list[tuple[int, int]], held: list[int]) -> int:
    """Takes a place on the disk with the most room that is not one of those held, off a heap of (-room, disk
    row); -1 where there is none.
    """
    skipped = []
    found = -1
    while heap and found < 0:
        free, disk = heapq.heappop(heap)
        if disk in held:
            skipped.append((free, disk))
            continue
        found = disk
        if free < -1:
            skipped.append((free + 1, disk))
    for entry in skipped:
        heapq.heappush(heap, entry)
    return found


def deal_by_domain(room: Ints, domain_of: Ints, node_of: Ints, total: int) -> Ints:
    """`total` strips split over domains by room, then over nodes and disks inside each; [disks]."""
    labels, index = np.unique(domain_of, return_inverse=True)
    domain_room = np.bincount(index, weights=room, minlength=len(labels)).astype(np.int64)
    result = np.zeros(len(room), dtype=np.int64)
    for domain, amount in enumerate(np.minimum(quotas(domain_room, total), domain_room).tolist()):
        if amount:
            inside = index == domain
            result[inside] = deal_shares(room[inside], node_of[inside], amount)
    return result
