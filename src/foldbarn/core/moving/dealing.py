"""Dealing strips to disks by shares of free room, keeping each away from the domains that its extent holds
already.
"""

from __future__ import annotations

import heapq

import numpy as np

from foldbarn.core.arrays import Flags, Ints
from foldbarn.core.pools.placement import deal_shares, quotas

_ROUNDS = 24
_LEAST_PROGRESS = 50  # a round that places less than one in so many of what waits is the last


def deal_in_turn(
    forbidden: Ints,
    room: Ints,
    first: list[Flags | Ints],
    domain_of: Ints,
    node_of: Ints,
    rng: np.random.Generator,
) -> Ints:
    """A disk row for each strip, [strips], -1 where none fits; takes what it gives from `room` in place.

    forbidden: [strips, others] domains held by the extent's other strips, -1 for none; room, domain_of,
    node_of:
    [disks]. first: parts of the room to be offered before the rest: on flagged disks, or no more than these
    numbers.
    """
    to = np.full(len(forbidden), -1, dtype=np.int64)
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
        to[waiting] = _deal(forbidden[waiting], offer, domain_of, node_of, rng)
        room -= before - offer
        if part is not None and part.dtype != np.bool_:
            part -= np.minimum(part, before - offer)
    return to


def _deal(forbidden: Ints, room: Ints, domain_of: Ints, node_of: Ints, rng: np.random.Generator) -> Ints:
    """First by shares of free room (dealt at random, redealt where a domain is forbidden), then one by one to
    the allowed domain with the most room."""
    to = np.full(len(forbidden), -1, dtype=np.int64)
    waiting = np.arange(len(forbidden))
    for _ in range(_ROUNDS):
        waiting = waiting[_has_open_domain(forbidden[waiting], room, domain_of)]
        total = min(len(waiting), int(room.sum()))
        if not total:
            return to
        hand = np.repeat(np.arange(len(room)), deal_by_domain(room, domain_of, node_of, total))
        rng.shuffle(hand)
        rng.shuffle(waiting)
        paired = waiting[: len(hand)]
        good = (forbidden[paired] != domain_of[hand][:, None]).all(axis=1)
        to[paired[good]] = hand[good]
        np.subtract.at(room, hand[good], 1)
        waiting = np.concatenate([paired[~good], waiting[len(hand) :]])
        if int(good.sum()) * _LEAST_PROGRESS < len(waiting):
            break
    return _deal_one_by_one(to, waiting, forbidden, room, domain_of)


def _has_open_domain(forbidden: Ints, room: Ints, domain_of: Ints) -> Flags:
    """Whether a strip may go to any domain with room, [strips]. What an extent holds is in different domains,
    but -1s.
    """
    with_room = np.zeros(int(domain_of.max(initial=0)) + 2, dtype=np.bool_)
    with_room[domain_of[room > 0]] = True
    with_room[-1] = False
    barred = with_room[forbidden]
    for later in range(1, forbidden.shape[1]):
        barred[:, later] &= (forbidden[:, :later] != forbidden[:, later : later + 1]).all(axis=1)
    found: Flags = barred.sum(axis=1) < int(with_room.sum())
    return found


def _deal_one_by_one(to: Ints, waiting: Ints, forbidden: Ints, room: Ints, domain_of: Ints) -> Ints:
    """The rest of a deal: each strip goes to the fullest-of-room disk of the allowed domain with the most
    room.
    """
    waiting = waiting[_has_open_domain(forbidden[waiting], room, domain_of)]
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
    for strip, barred in zip(waiting.tolist(), forbidden[waiting].tolist(), strict=True):
        skipped = []
        while domains and domains[0][1] in barred:
            skipped.append(heapq.heappop(domains))
        if domains:
            count, domain = heapq.heappop(domains)
            free, disk = heapq.heappop(disks[domain])
            to[strip] = disk
            room[disk] -= 1
            if free < -1:
                heapq.heappush(disks[domain], (free + 1, disk))
            if count < -1:
                heapq.heappush(domains, (count + 1, domain))
        for entry in skipped:
            heapq.heappush(domains, entry)
        if not domains:
            break
    return to


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
