"""Evening out: what each disk should hold, and moves from those above it to those below. Method:
docs/methods.md, "Moving little".
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.arrays import Disks, Flags, Ints
from foldbarn.core.moving.apart import may_join
from foldbarn.core.moving.dealing import Beside
from foldbarn.core.moving.exchange import Block, Exchange, block_of, settle_within_extents
from foldbarn.core.moving.moves import (
    NO_MOVES,
    Busy,
    Moves,
    join_moves,
    moves_to,
    open_room,
    startable,
    takes_strips,
)
from foldbarn.core.pools.only_on import only_on_of
from foldbarn.core.pools.placement import quotas, shares, usable_slots
from foldbarn.core.pools.protection import Level
from foldbarn.core.site import Ply, Pool, SiteView, Tier

_ROUNDS = 24
# a disk may be off by this share of what it should hold before levelling is worth its moves
LEVEL_TOLERANCE = 0.10
FEW_STRIPS = 16  # a disk that should hold fewer than this is measured as if it should hold this many


def level_targets(view: SiteView, pool: Pool) -> Ints:
    """Strips each disk of a pool should hold, [disks] over all disks: every ply in shares of the room it
    can reach, in its tier.
    """
    targets = np.zeros(len(view.disks), dtype=np.int64)
    wishes: dict[tuple[str, str, int, int], int] = {}
    for p in view.plies_of(pool):
        if only_on_of(view, p):  # it stays where it is
            targets += _held(view, p)
            continue
        key = (p.tier.value, p.scheme.level.value, p.scheme.strips, p.scheme.per_domain)
        wishes[key] = wishes.get(key, 0) + p.extents_set_aside
    stays = targets.copy()
    for (tier, level, strips, per_domain), extents in sorted(wishes.items()):
        rows = view.in_pool(pool, Tier(tier))
        slots = np.where(view.disk_open[rows], np.maximum(view.disk_slots[rows] - stays[rows], 0), 0)
        if per_domain > 1:
            slots = np.minimum(slots, extents)  # no disk holds two strips of an extent
        domain_of = view.domain_of(Level(level))[rows]
        labels, index = np.unique(domain_of, return_inverse=True)
        room = np.bincount(index, weights=slots, minlength=len(labels)).astype(np.int64)
        if usable_slots(slots, domain_of, strips, per_domain) == 0:
            return view.disk_used.copy()  # nothing can be levelled while too few domains are there
        # What is already there decides which way a share is rounded, so that no strip moves for a fraction's
        # sake.
        held = np.bincount(index, weights=view.disk_used[rows] - targets[rows], minlength=len(labels))
        by_domain = quotas(shares(room, strips, per_domain), extents * strips, held.astype(np.int64))
        for domain, amount in enumerate(by_domain.tolist()):
            inside = index == domain
            if amount:
                mine = rows[inside]
                more = view.disk_used[mine] - targets[mine]
                targets[mine] += _spread_target(slots[inside], view.disk_node[mine], amount, more)
    return targets


def _held(view: SiteView, ply: Ply) -> Ints:
    """Strips of a ply that each disk holds, [disks]."""
    held: Ints = np.bincount(view.rows(ply).reshape(-1), minlength=len(view.disks) + 1)[:-1]
    return held


def _spread_target(slots: Ints, node_of: Ints, amount: int, held: Ints) -> Ints:
    """`amount` strips over the disks of a domain: by nodes, then by disks in each. held: what each has
    already.
    """
    nodes, index = np.unique(node_of, return_inverse=True)
    node_room = np.bincount(index, weights=slots, minlength=len(nodes)).astype(np.int64)
    result = np.zeros(len(slots), dtype=np.int64)
    node_held = np.bincount(index, weights=held, minlength=len(nodes)).astype(np.int64)
    for node, share in enumerate(quotas(node_room, amount, node_held).tolist()):
        inside = index == node
        if share:
            result[inside] = quotas(slots[inside], share, held[inside])
    return result


def imbalance(view: SiteView, pool: Pool) -> float:
    """The furthest that a reachable disk of a pool is from its target, as a share of the target; 0 is
    level.
    """
    rows = view.in_pool(pool)
    rows = rows[view.disk_open[rows]]
    if not len(rows):
        return 0.0
    targets = level_targets(view, pool)[rows]
    return float((np.abs(view.disk_used[rows] - targets) / np.maximum(targets, FEW_STRIPS)).max())


def above_share(view: SiteView, pool: Pool) -> int:
    """Strips that disks hold beyond their shares. Levelling moves as many, and more only where spread asks
    for chains.
    """
    over = view.disk_used - level_targets(view, pool)
    rows = view.in_pool(pool)
    return int(np.maximum(over[rows], 0).sum())


def plan_levelling(
    view: SiteView, pool: Pool, seed: int, busy: Busy | None = None, tolerance: float = LEVEL_TOLERANCE
) -> Moves:
    """Moves from disks above their share to disks below it, each keeping its extent's spread; deterministic
    in the seed.

    As many as the surplus where a strip can go straight there; chains of exchanges, which move more, only
    where a disk would stay further from its share than the tolerance. Only moves that can begin now are
    listed: where a chain first has to empty a place on a full disk, the next levelling goes on with it. busy:
    strips on their way already, left where they go.
    """
    rng = np.random.default_rng(seed)
    targets = level_targets(view, pool)
    on_their_way = view.under_way if busy is None else busy
    parts = [
        _level_tier(view, pool, tier, targets, rng, on_their_way, tolerance) for tier in view.tiers_of(pool)
    ]
    return join_moves(parts)


@dataclass(slots=True, eq=False)
class _Levelled:
    """A ply as it would lie; before: rows where it lies now; under_way: flags of strips on their way
    already.
    """

    ply: Ply
    block: Block
    before: Disks
    under_way: Flags


def _level_tier(
    view: SiteView,
    pool: Pool,
    tier: Tier,
    targets: Ints,
    rng: np.random.Generator,
    busy: Busy,
    tolerance: float,
) -> Moves:
    rows = view.in_pool(pool, tier)
    surplus = np.zeros(len(view.disks) + 1, dtype=np.int64)
    surplus[rows] = np.where(view.disk_ready[rows], view.disk_used[rows] - targets[rows], 0)
    need = np.minimum(np.maximum(-surplus[:-1], 0), open_room(view, pool, tier))
    if not need.any() or not (surplus > 0).any():
        return replace(NO_MOVES, left_over=int(np.maximum(surplus, 0).sum()))
    plies = sorted(view.plies_of(pool, tier), key=lambda p: -p.extents)
    plies = [p for p in plies if not only_on_of(view, p)]
    levelled = [_Levelled(p, *block_of(view, p, busy)) for p in plies]
    for found in levelled:
        _level_directly(found, surplus, need, rng)
    left_over = 0
    # Chains move more than they gain, so they serve only what is further from its share than is tolerated.
    allowed = (tolerance * np.maximum(targets, FEW_STRIPS)).astype(np.int64)
    beyond = np.maximum(surplus[:-1] - allowed, 0)
    if need.any() and beyond.any():
        ready = np.append(view.disk_ready, False)
        for found in levelled:
            found.block.loose = ready[found.block.at] & ~found.under_way
        takes = np.zeros(len(view.disks), dtype=np.bool_)
        takes[rows] = takes_strips(view)[rows]
        Exchange([f.block for f in levelled], need, takes, rng).even_out(beyond)
        left_over = int(beyond.sum())
    moves = join_moves([_moves_of(view, found) for found in levelled])
    return replace(moves.only(startable(view, moves)), left_over=left_over)


def _level_directly(found: _Levelled, surplus: Ints, need: Ints, rng: np.random.Generator) -> None:
    """Moves straight from disks with too much to disks that need some; at most one strip of an extent."""
    if not need.any() or not (surplus > 0).any():
        return
    block = found.block
    held = block.at.copy()
    domains = block.domain_of[held]
    moving = np.zeros(len(held), dtype=np.bool_)
    for strip in rng.permutation(found.ply.scheme.strips).tolist():
        here = surplus[held[:, strip]] > 0
        candidates = np.flatnonzero(here & ~moving & ~found.under_way[:, strip])
        if not len(candidates) or not need.any():
            continue
        beside = Beside(
            np.delete(domains, strip, axis=1),
            np.delete(np.where(domains < 0, -1, held), strip, axis=1),
            block.most,
        )
        picked, to = _exchange(candidates, held[:, strip], beside, surplus, need, block.domain_of[:-1], rng)
        moving[picked] = True
        block.at[picked, strip] = to


def _moves_of(view: SiteView, found: _Levelled) -> Moves:
    before = found.before
    settle_within_extents(found.block, before, np.append(view.disk_ready, False))
    extents, strips = np.nonzero((found.block.at != before) & ~found.under_way)
    return moves_to(view, found.ply, extents, strips, found.block.at[extents, strips].astype(np.int64))


def _exchange(
    candidates: Ints,
    held: Disks,
    beside: Beside,
    surplus: Ints,
    need: Ints,
    domain_of: Ints,
    rng: np.random.Generator,
) -> tuple[Ints, Ints]:
    """Pairs strips on disks with too much with disks that need some; updates surplus and need. Extents and
    disk rows.
    """
    picked: list[Ints] = []
    to: list[Ints] = []
    for _ in range(_ROUNDS):
        order = candidates[rng.permutation(len(candidates))]
        by_disk = order[np.argsort(held[order], kind="stable")]
        disks = held[by_disk]
        rank = np.arange(len(disks)) - np.searchsorted(disks, disks, side="left")
        offer = by_disk[rank < surplus[disks]]
        offer = offer[rng.permutation(len(offer))]
        hand = np.repeat(np.arange(len(need)), need)
        rng.shuffle(hand)
        pairs = min(len(offer), len(hand))
        if not pairs:
            break
        offer, hand = offer[:pairs], hand[:pairs]
        others = beside.of(offer)
        good = may_join(others.domains, others.disks, beside.most, domain_of[hand], hand)
        picked.append(offer[good])
        to.append(hand[good])
        np.subtract.at(surplus, held[offer[good]], 1)
        np.subtract.at(need, hand[good], 1)
        candidates = np.setdiff1d(candidates, offer[good], assume_unique=True)
    empty = np.zeros(0, dtype=np.int64)
    return (np.concatenate(picked), np.concatenate(to)) if picked else (empty, empty)
