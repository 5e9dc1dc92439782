"""Placing extents on disks, evenly and apart.

Method (docs/methods.md, "Placement"): the domains of an extent are drawn by systematic sampling with
inclusion probabilities in proportion to room (Madow 1949, "On the theory of systematic sampling II",
Annals of Mathematical Statistics 20), then levelled to within one extent of their shares. Probabilities
are whole numbers in units of 2**-40, so that "no domain twice" holds exactly and not up to rounding.
Everything is deterministic in the seed.
"""

from __future__ import annotations

import itertools
import math
from fractions import Fraction
from itertools import accumulate

import numpy as np

from foldbarn.core.arrays import Disks, Flags, Ints
from foldbarn.core.errors import NotPossible
from foldbarn.core.moving.apart import too_close
from foldbarn.core.moving.exchange import Block, Exchange

ONE = 1 << 40  # probability 1 in the whole-number units used here
LARGE = float(1 << 62)  # beyond it whole numbers of the machine do not add up
ONE_IN = 1 << 20  # a part of a strip smaller than one in this many is no part
LARGEST_BLOCK = 256  # extents drawn from one shuffled order, at most
_LEVELLING_ROUNDS = 40
_SWAPPING_ROUNDS = 16


def usable_fraction(capacities: Ints, strips: int, per_domain: int = 1) -> Fraction:
    """The largest U with sum(min(c_i, t*U)) >= w*U, exactly.

    capacities: [n] whole units >= 0 per domain; strips: w >= 1; per_domain: t >= 1. Returns U in the same
    units; 0 where there are too few domains. No search: the sum is the least, over j domains taken as full
    at t*U, of the others' room plus j*t*U, and the worst j are the j largest; so U is the least of
    S(n-j) / (w - j*t) over j*t < w.
    """
    rooms = _rooms(capacities, -(-strips // per_domain))
    return min(Fraction(room, strips - j * per_domain) for j, room in enumerate(rooms))


def _rooms(capacities: Ints, most: int) -> list[int]:
    """Room that is left when the j largest domains are taken as full, for j from 0, below `most`."""
    amounts = np.asarray(capacities, dtype=np.int64)
    largest = np.sort(amounts)[::-1][:most].tolist()
    # Whole numbers of any size: a lying disk must not turn the sum around.
    total = int(amounts.sum()) if amounts.sum(dtype=np.float64) < LARGE else sum(amounts.tolist())
    return [total - taken for taken in accumulate(largest, initial=0)][:most]


def usable_slots(slots: Ints, domain_of: Ints, strips: int, per_domain: int) -> int:
    """Extents of so many strips that disks with these slots can hold; whole, rounded down.

    slots, domain_of: [disks]. Where a domain may hold one strip of an extent, its disks act as one. Where it
    may hold more, two strips still never share a disk, which limits lopsided domains.
    """
    if not len(slots):
        return 0
    if per_domain > 1:
        return usable_nested(slots, domain_of, strips, per_domain)
    room = np.bincount(domain_of, weights=slots).astype(np.int64)  # a label that none has changes nothing
    return min(left // (strips - j) for j, left in enumerate(_rooms(room, strips)))


def usable_nested(slots: Ints, domain_of: Ints, strips: int, per_domain: int) -> int:
    """The nested case without search.

    The left side is the least, over ways to call J disks or shares of a domain "full at U", of the room of
    the rest plus J*U. So U = min over J < w of (total - removed(J)) / (w - J), where removed(J) is the most
    room that calling J of them full can take out: by domain, the a < t largest disks, or everything for a =
    t.
    """
    removed = np.zeros(strips, dtype=np.int64)
    for label in np.unique(domain_of):
        largest = np.sort(slots[domain_of == label])[::-1]
        gains = [int(largest[:a].sum()) for a in range(per_domain)] + [int(largest.sum())]
        best = removed.copy()
        for a, gain in enumerate(gains[:strips]):
            best[a:] = np.maximum(best[a:], removed[: strips - a] + gain)
        removed = best
    total = int(slots.sum())
    return min((total - int(removed[j])) // (strips - j) for j in range(strips))


def shares(capacities: Ints, strips: int, per_domain: int = 1) -> Ints:
    """Inclusion probabilities pi_i = min(c_i, t*U) / U in units of 2**-40, [n]; they sum to w * 2**40
    exactly.

    Raises NotPossible where the domains cannot hold a single extent.
    """
    usable = usable_fraction(capacities, strips, per_domain)
    if usable == 0:
        raise NotPossible(f"{strips} strips cannot be kept apart: too few domains have room.")
    most = per_domain * ONE
    top, bottom = usable.numerator, usable.denominator
    drawn = np.array([min(int(c) * bottom * ONE // top, most) for c in capacities.tolist()], dtype=np.int64)
    missing = strips * ONE - int(drawn.sum())
    # Flooring lost less than one unit per domain; give them back where there is room, largest first.
    for i in np.argsort(-drawn, kind="stable").tolist():
        if missing <= 0:
            break
        extra = min(missing, most - int(drawn[i])) if drawn[i] > 0 else 0
        drawn[i] += extra
        missing -= extra
    return drawn


def quotas(weights: Ints, total: int, held: Ints | None = None) -> Ints:
    """`total` split in proportion to `weights`, each within one of its exact share, [n], summing to total.

    weights: [n] whole numbers >= 0 with a positive sum unless total is 0. Shares are rounded up where the
    remainders are largest (ties by index); but first, where `held` is given, for those that hold more than
    the share rounded down.
    """
    weight_sum = int(weights.sum(dtype=object)) if len(weights) else 0
    if total == 0:
        return np.zeros(len(weights), dtype=np.int64)
    if weight_sum == 0:
        raise NotPossible("Nothing has room for what must be placed.")
    exact = [int(w) * total for w in weights.tolist()]
    floors = np.array([x // weight_sum for x in exact], dtype=np.int64)
    remainders = np.array([x % weight_sum for x in exact], dtype=object)
    left = total - int(floors.sum())
    order = np.argsort(-remainders, kind="stable")
    if held is not None:
        # Shares are made of units of 2**-40, so what is whole but for a few of those counts as whole.
        whole = remainders * ONE_IN > weight_sum * (ONE_IN - 1)
        keeps = ~whole & (held > floors) & (remainders * ONE_IN > weight_sum)
        rank = np.where(whole, 0, np.where(keeps, 1, 2))
        order = order[np.argsort(rank[order], kind="stable")]
    floors[order[:left]] += 1
    return floors


def block_of(extents: int) -> int:
    """Extents drawn from one shuffled order, a power of two.

    Longer blocks keep the shares closer before levelling; shorter ones pair each domain with more others, so
    that what one loses is rebuilt from many. A quarter of the square root of the extents does both.
    """
    wanted = math.isqrt(extents) // 4
    return min(LARGEST_BLOCK, max(4, 1 << wanted.bit_length()))


def _starts(extents: int, block: int, rng: np.random.Generator) -> Ints:
    """One start in [0, 1) per extent: within a block, the bit-reversed (van der Corput) sequence, shifted at
    random.
    """
    index = np.arange(block, dtype=np.int64)
    bits = block.bit_length() - 1
    reversed_bits = np.zeros(block, dtype=np.int64)
    for bit in range(bits):
        reversed_bits |= ((index >> bit) & 1) << (bits - 1 - bit)
    blocks = -(-extents // block)
    shift = rng.integers(0, ONE, size=(blocks, 1), dtype=np.int64)
    return ((reversed_bits * (ONE // block) + shift) % ONE).reshape(-1)[:extents]


def draw_domains(probabilities: Ints, extents: int, strips: int, seed: int) -> Disks:
    """Domain of every strip, [extents, strips], by systematic sampling in freshly shuffled orders.

    probabilities: [n] in units of 2**-40, summing to strips * 2**40. A domain with probability at most t
    is drawn at most t times for one extent.
    """
    rng = np.random.default_rng(seed)
    block = block_of(extents)
    blocks = -(-extents // block)
    count = len(probabilities)
    orders = np.argsort(rng.random((blocks, count), dtype=np.float32), axis=1).astype(np.int32)
    edges = np.cumsum(probabilities[orders], axis=1)
    points = _starts(extents, block, rng)[:, None] + np.arange(strips, dtype=np.int64) * ONE
    drawn = np.empty((extents, strips), dtype=np.int32)
    for number in range(blocks):
        rows = slice(number * block, min((number + 1) * block, extents))
        drawn[rows] = orders[number][np.searchsorted(edges[number], points[rows], side="right")]
    # The sampling walks each order from left to right; without a turn the first copy would lean to the left.
    turn = rng.integers(0, strips, size=extents, dtype=np.int64)[:, None]
    return np.take_along_axis(drawn, (np.arange(strips)[None, :] + turn) % strips, axis=1)


def level_domains(drawn: Disks, targets: Ints, rng: np.random.Generator, per_domain: int = 1) -> int:
    """Exchanges strips in place until each domain holds its target, keeping strips of an extent apart.

    drawn: [extents, strips] domains; targets: [n] whole numbers summing to drawn.size, each at most
    t * extents. Returns the strips that could not be exchanged (0 unless no arrangement exists).
    """
    strips = drawn.shape[1]
    flat = drawn.reshape(-1)
    counts = np.bincount(flat, minlength=len(targets)).astype(np.int64)
    surplus = counts - targets
    if not surplus.any():
        return 0
    pool = _candidates(flat, surplus, rng)
    for _ in range(_LEVELLING_ROUNDS):
        givers = np.flatnonzero(surplus > 0)
        if not len(givers):
            return 0
        wanted = np.repeat(np.flatnonzero(surplus < 0), -surplus[surplus < 0])
        rng.shuffle(wanted)
        picked = _pick(pool, flat, surplus, rng)[: len(wanted)]
        wanted = wanted[: len(picked)]
        _, first = np.unique(picked // strips, return_index=True)  # one exchange per extent and round
        picked, wanted = picked[first], wanted[first]
        taken = (drawn[picked // strips] == wanted[:, None]).sum(axis=1)
        good = taken < per_domain
        givers_of = flat[picked[good]]
        np.subtract.at(surplus, givers_of, 1)
        np.add.at(surplus, wanted[good], 1)
        flat[picked[good]] = wanted[good]
    return _level_by_chains(drawn, surplus, per_domain)


def _candidates(flat: Disks, surplus: Ints, rng: np.random.Generator) -> Ints:
    """Positions of strips in domains that hold too many: several times more than must go, in random order."""
    over = surplus > 0
    positions = np.flatnonzero(over[flat])
    most = int(surplus[over].sum()) * 12 + 4096
    if len(positions) > most * 2:
        positions = np.unique(positions[rng.integers(0, len(positions), size=most)])
    return positions[rng.permutation(len(positions))]


def _pick(pool: Ints, flat: Disks, surplus: Ints, rng: np.random.Generator) -> Ints:
    """From the pool, as many positions of each domain as it has too many, in random order."""
    domains = flat[pool]
    order = np.argsort(domains, kind="stable")
    ordered = domains[order]
    rank = np.arange(len(ordered)) - np.searchsorted(ordered, ordered, side="left")
    chosen = pool[order[rank < surplus[ordered]]]
    pool[:] = np.roll(pool, max(1, len(pool) // 7))
    return chosen[rng.permutation(len(chosen))]


def _level_by_chains(drawn: Disks, surplus: Ints, per_domain: int) -> int:
    """The last few exchanges, by shortest chains of domains (a gives to b in one extent, b to c in
    another).
    """
    count = len(surplus)
    extents = len(drawn)
    held = np.zeros((extents, count), dtype=np.int16)
    np.add.at(held, (np.arange(extents)[:, None], drawn), 1)
    while (surplus > 0).any():
        chain = _chain(held, surplus, per_domain)
        if chain is None:
            return int(surplus[surplus > 0].sum())
        for giver, taker in itertools.pairwise(chain):
            extent = int(np.argmax((held[:, giver] > 0) & (held[:, taker] < per_domain)))
            strip = int(np.argmax(drawn[extent] == giver))
            drawn[extent, strip] = taker
            held[extent, giver] -= 1
            held[extent, taker] += 1
        surplus[chain[0]] -= 1
        surplus[chain[-1]] += 1
    return 0


def _chain(held: np.ndarray, surplus: Ints, per_domain: int) -> list[int] | None:
    """A shortest chain from a domain with too many to one with too few, or None."""
    before: dict[int, int] = {int(i): -1 for i in np.flatnonzero(surplus > 0)}
    queue = list(before)
    open_to = held < per_domain
    for giver in queue:
        reachable = (open_to[held[:, giver] > 0]).any(axis=0)
        for taker in np.flatnonzero(reachable).tolist():
            if taker in before:
                continue
            before[taker] = giver
            if surplus[taker] < 0:
                chain = [taker]
                while before[chain[-1]] >= 0:
                    chain.append(before[chain[-1]])
                return chain[::-1]
            queue.append(taker)
    return None


def place(
    free: Ints, domain_of: Ints, node_of: Ints, extents: int, strips: int, seed: int, per_domain: int = 1
) -> Disks:
    """Disk row of every strip of a new volume, [extents, strips].

    free: [disks] free slots (whole strips) per disk; domain_of, node_of: [disks] labels of each disk's
    domain at the spread level and of its node. Each domain, node and disk ends within one strip of its share
    of the free room. Strips of an extent lie in different domains (at most per_domain in one, and then on
    different disks).

    Raises NotPossible where the free room cannot hold the extents.
    """
    if usable_slots(free, domain_of, strips, per_domain) < extents:
        raise NotPossible("The free room cannot hold these extents apart.")
    index = np.unique(domain_of, return_inverse=True)[1]
    usable = _usable_room(free, extents, per_domain)
    probabilities, targets = _domain_shares(usable, index, extents, strips, per_domain)
    drawn = draw_domains(probabilities, extents, strips, seed)
    rng = np.random.default_rng([seed, 1])
    level_domains(drawn, targets, rng, per_domain)
    placed = _place_inside(drawn, usable, index, node_of, rng)
    if per_domain > 1:
        _part_twins(placed, index, free, per_domain, rng)
    return placed


def _usable_room(free: Ints, extents: int, per_domain: int) -> Ints:
    """Strips of so many extents that each disk can take, [disks]: one of each at the most. Where a domain
    holds one strip of an extent, its share says that already.
    """
    return free if per_domain == 1 else np.minimum(free, extents)


def _domain_shares(
    usable: Ints, index: Ints, extents: int, strips: int, per_domain: int
) -> tuple[Ints, Ints]:
    """Of each domain its inclusion probability, and the strips that it gets; [domains] each. usable, index:
    [disks].
    """
    room = np.bincount(index, weights=usable).astype(np.int64)
    if per_domain > 1:
        room = np.minimum(room, per_domain * extents)
    probabilities = shares(room, strips, per_domain)
    return probabilities, np.minimum(quotas(probabilities, extents * strips), room)


def strips_by_disk(placement: Disks) -> dict[int, list[list[int]]]:
    """Strips, [extent, strip] in order, by disk number, of a placement [extents, strips] of disk numbers.
    What lies nowhere is left out. One sort, however many disks there are.
    """
    flat = placement.reshape(-1)
    order = np.argsort(flat, kind="stable")
    numbers, starts = np.unique(flat[order], return_index=True)
    places = np.stack(np.divmod(order, placement.shape[1]), axis=1)
    parts = np.split(places, starts[1:])
    return {n: part.tolist() for n, part in zip(numbers.tolist(), parts, strict=True) if n > 0}


def expected_take(
    free: Ints, domain_of: Ints, node_of: Ints, extents: int, strips: int, per_domain: int = 1
) -> Ints:
    """Strips that placing so many extents puts on each disk, [disks], without placing them: their shares, as
    in `place`.

    Raises NotPossible where the free room cannot hold them.
    """
    taken = np.zeros(len(free), dtype=np.int64)
    if not extents:
        return taken
    index = np.unique(domain_of, return_inverse=True)[1]
    usable = _usable_room(free, extents, per_domain)
    targets = _domain_shares(usable, index, extents, strips, per_domain)[1]
    for domain, total in enumerate(targets.tolist()):
        inside = index == domain
        if total:
            taken[inside] = deal_shares(usable[inside], node_of[inside], total)
    return taken


def _place_inside(
    drawn: Disks, free: Ints, domain_index: Ints, node_of: Ints, rng: np.random.Generator
) -> Disks:
    """Turns domains into disks: per domain, shares of nodes, then of their disks, dealt in random order."""
    flat = drawn.reshape(-1)
    domains = int(domain_index.max()) + 1
    # numpy sorts 16-bit numbers by radix, several times faster than wider ones.
    order = np.argsort(flat.astype(np.int16) if domains < 2**15 else flat, kind="stable")
    counts = np.bincount(flat, minlength=domains)
    dealt: list[Disks] = []
    for domain, total in enumerate(counts.tolist()):
        if not total:
            continue
        disks = np.flatnonzero(domain_index == domain)
        share = deal_shares(free[disks], node_of[disks], total)
        hand = np.repeat(disks, share).astype(np.int32)
        rng.shuffle(hand)
        dealt.append(hand)
    placed = np.empty_like(flat)
    placed[order] = np.concatenate(dealt)
    return placed.reshape(drawn.shape)


def _part_twins(placed: Disks, index: Ints, free: Ints, per_domain: int, rng: np.random.Generator) -> None:
    """Leads strips that share a disk with another of their extent to other disks. Most trade places with a
    strip of another extent in their domain, which leaves every disk its share; where that ends, chains of
    exchanges find the rest a place, as there is one.

    placed: [extents, strips], altered in place.
    """
    flat = placed.reshape(-1)
    strips = placed.shape[1]
    by_domain = np.argsort(index[flat], kind="stable")
    starts = np.searchsorted(index[flat][by_domain], np.arange(int(index.max()) + 2))
    for _ in range(_SWAPPING_ROUNDS):
        twins = np.flatnonzero(_twins(placed, index, per_domain).reshape(-1))
        if not len(twins):
            return
        domain = index[flat[twins]]
        other = by_domain[rng.integers(starts[domain], starts[domain + 1])]
        # One trade for each extent and round, so that each is judged by how its extent lies.
        both = np.concatenate([twins // strips, other // strips])
        firsts = np.zeros(len(both), dtype=np.bool_)
        firsts[np.unique(both, return_index=True)[1]] = True
        alone = firsts[: len(twins)] & firsts[len(twins) :]
        twins, other = twins[alone], other[alone]
        fits = np.ones(len(twins), dtype=np.bool_)
        for here, there in ((twins, other), (other, twins)):
            lies = placed[here // strips]
            lies[np.arange(len(here)), here % strips] = -1
            fits &= (lies != flat[there][:, None]).all(axis=1)
        twins, other = twins[fits], other[fits]
        flat[twins], flat[other] = flat[other], flat[twins]
    _settle_twins(placed, index, free, per_domain, rng)


def _twins(placed: Disks, index: Ints, per_domain: int) -> Flags:
    return too_close(index[placed], placed, per_domain)


def _settle_twins(placed: Disks, index: Ints, free: Ints, per_domain: int, rng: np.random.Generator) -> None:
    """The last of _part_twins, by chains of exchanges among all strips."""
    nowhere = len(free)
    homeless = _twins(placed, index, per_domain)
    extents, strips = np.nonzero(homeless)
    placed[homeless] = nowhere
    held = np.bincount(placed[~homeless], minlength=nowhere)[:nowhere]
    block = Block(placed, ~homeless, np.append(index, -1), per_domain)
    if Exchange([block], free - held, np.ones(nowhere, dtype=np.bool_), rng).settle([(0, extents, strips)]):
        raise NotPossible("The free room is too uneven to hold these extents apart.")


def deal_shares(room: Ints, node_of: Ints, total: int) -> Ints:
    """`total` strips split over disks: first over their nodes by room, then inside each node; never over a
    disk's room.

    room, node_of: [disks]. Returns [disks], summing to total.
    """
    nodes, index = np.unique(node_of, return_inverse=True)
    node_room = np.bincount(index, weights=room, minlength=len(nodes)).astype(np.int64)
    result = np.zeros(len(room), dtype=np.int64)
    for node, amount in enumerate(np.minimum(quotas(node_room, total), node_room).tolist()):
        inside = index == node
        result[inside] = np.minimum(quotas(room[inside], amount), room[inside]) if amount else 0
    return result
