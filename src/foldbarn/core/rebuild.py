"""Moves: remaking lost strips elsewhere, and levelling. Method: docs/methods.md, "Rebuild" and "Moving little"."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from foldbarn.core.arrays import Disks, Flags, Ints
from foldbarn.core.media import PROFILES
from foldbarn.core.placement import deal_shares, quotas, shares
from foldbarn.core.protection import Level
from foldbarn.core.site import Pool, SiteView, Tier, Volume
from foldbarn.core.units import say_size

_ROUNDS = 24
LEVEL_TOLERANCE = 0.10  # a disk may be off by this share of what it should hold before levelling is worth its moves
FEW_STRIPS = 16  # a disk that should hold fewer than this is measured as if it should hold this many


@dataclass(frozen=True, slots=True, eq=False)
class Moves:
    """Strips to write, [moves] each: the volume's number, extent, strip, disk numbers it leaves (0: nowhere) and goes to.

    stuck: strips for which no place keeps the spread; why: the reason in a sentence, empty when none are stuck.
    """

    volume: Ints
    extent: Ints
    strip: Ints
    leaves: Disks
    to: Disks
    stuck: int = 0
    why: str = ""

    def __len__(self) -> int:
        return len(self.volume)


_NONE = np.zeros(0, dtype=np.int64)
NO_MOVES = Moves(_NONE, _NONE, _NONE, _NONE.astype(np.int32), _NONE.astype(np.int32))


def lost_strips(view: SiteView, volume: Volume) -> Flags:
    """Strips to be remade, [extents, strips]: nowhere, or on a disk away beyond its grace time, with a source left to read."""
    rows = view.rows(volume)
    gone = np.append(view.disk_given_up & ~view.disk_ready, True)[rows]
    readable = np.any(np.append(view.disk_ready, False)[rows], axis=1, keepdims=True)
    lost: Flags = gone & readable
    return lost


def open_room(view: SiteView, pool: Pool, tier: Tier) -> Ints:
    """Strips that each disk can take now for a tier of a pool, [disks] over all disks."""
    room = np.zeros(len(view.disks), dtype=np.int64)
    rows = view.in_pool(pool, tier)
    room[rows] = np.where(view.disk_open[rows] & ~view.disk_given_up[rows], view.disk_free[rows], 0)
    return room


def plan_rebuild(view: SiteView, pool: Pool, seed: int, busy: dict[tuple[int, int, int], int] | None = None, prefer: Disks | None = None) -> Moves:
    """A place for every lost strip of a pool, keeping the spread and filling disks in proportion to their free room.

    prefer: numbers of disks that get what they can hold first.
    busy: (volume, extent, strip) already on their way, with the number of the disk they go to; they are left out.
    Deterministic in the seed.
    """
    preferred = [np.isin(view.disk_numbers, prefer)] if prefer is not None else []
    jobs = []
    for volume in view.volumes_of(pool):
        lost = lost_strips(view, volume)
        if not lost.any():
            continue
        domain_of = view.domain_of(volume.protection.level)
        domains = np.append(domain_of, -1)[view.rows(volume)]
        domains[lost] = -1  # a lost strip forbids nothing; one on its way forbids where it goes
        for (number, extent, strip), to_number in (busy or {}).items():
            if number == volume.number:
                lost[extent, strip] = False
                domains[extent, strip] = domain_of[view.row_of_number[to_number]]
        jobs.append(_Job(volume, lost, domains))
    firsts: dict[Tier, list[Flags | Ints]] = {tier: list(preferred) for tier in Tier}
    moves, stuck = _rehouse(view, pool, jobs, firsts, np.random.default_rng(seed))
    why = f"{stuck:,} strips have no place: no other domain with room is free of their extent's other strips." if stuck else ""
    return Moves(moves.volume, moves.extent, moves.strip, moves.leaves, moves.to, stuck, why)


@dataclass(slots=True, eq=False)
class _Job:
    """Strips of a volume that want a new place, [extents, strips], and the domain that each of its strips forbids to the others (-1: none)."""

    volume: Volume
    leave: Flags
    domains: Ints


def _rehouse(view: SiteView, pool: Pool, jobs: list[_Job], firsts: dict[Tier, list[Flags | Ints]], rng: np.random.Generator) -> tuple[Moves, int]:
    """A new place for all these strips, and how many have none. Volumes that are kept apart at the same level are dealt with together.

    firsts: by tier, what of the room is offered first (see _deal_in_turn).
    """
    rooms = {tier: open_room(view, pool, tier) for tier in Tier}
    done: list[Moves] = []
    stuck = 0
    groups: dict[tuple[Tier, Level], list[_Job]] = {}
    for job in jobs:
        groups.setdefault((job.volume.tier, job.volume.protection.level), []).append(job)
    for (tier, level), group in groups.items():
        domain_of = view.domain_of(level)
        widest = max(job.volume.protection.strips for job in group)
        for strip in range(widest):
            mine = [(job, np.flatnonzero(job.leave[:, strip])) for job in group if job.volume.protection.strips > strip]
            mine = [(job, extents) for job, extents in mine if len(extents)]
            if not mine:
                continue
            forbidden = np.full((sum(len(extents) for _, extents in mine), widest), -1, dtype=np.int64)
            at = 0
            for job, extents in mine:
                others = np.delete(job.domains[extents], strip, axis=1)
                forbidden[at : at + len(extents), : others.shape[1]] = others
                at += len(extents)
            to = _deal_in_turn(forbidden, rooms[tier], firsts[tier], domain_of, view.disk_node, rng)
            at = 0
            for job, extents in mine:
                found = to[at : at + len(extents)]
                at += len(extents)
                good = found >= 0
                stuck += int((~good).sum())
                job.domains[extents[good], strip] = domain_of[found[good]]
                done.append(_moves(view, job.volume, extents[good], strip, found[good]))
    return join_moves(done), stuck


def _deal_in_turn(forbidden: Ints, room: Ints, first: list[Flags | Ints], domain_of: Ints, node_of: Ints, rng: np.random.Generator) -> Ints:
    """As _deal, but offering only part of the room first: on flagged disks, or no more than these numbers; then all of it."""
    to = np.full(len(forbidden), -1, dtype=np.int64)
    for part in [*first, None]:
        waiting = np.flatnonzero(to < 0)
        offer = room.copy() if part is None else np.where(part, room, 0) if part.dtype == np.bool_ else np.minimum(part, room)
        if not len(waiting) or not offer.any():
            continue
        before = offer.copy()
        to[waiting] = _deal(forbidden[waiting], offer, domain_of, node_of, rng)
        room -= before - offer
        if part is not None and part.dtype != np.bool_:
            part -= np.minimum(part, before - offer)
    return to


def _deal(forbidden: Ints, room: Ints, domain_of: Ints, node_of: Ints, rng: np.random.Generator) -> Ints:
    """A disk row for each strip, [strips], -1 where none fits. Takes what it gives from `room` in place.

    First by shares of free room (dealt at random, redealt where a domain is forbidden), then one by one to the
    allowed domain with the most room.
    """
    count = len(forbidden)
    to = np.full(count, -1, dtype=np.int64)
    waiting = np.arange(count)
    for _ in range(_ROUNDS):
        total = min(len(waiting), int(room.sum()))
        if not total:
            break
        hand = np.repeat(np.arange(len(room)), deal_by_domain(room, domain_of, node_of, total))
        rng.shuffle(hand)
        rng.shuffle(waiting)
        paired = waiting[: len(hand)]
        good = (forbidden[paired] != domain_of[hand][:, None]).all(axis=1)
        to[paired[good]] = hand[good]
        np.subtract.at(room, hand[good], 1)
        waiting = np.concatenate([paired[~good], waiting[len(hand) :]])
    return _deal_one_by_one(to, waiting, forbidden, room, domain_of)


def _deal_one_by_one(to: Ints, waiting: Ints, forbidden: Ints, room: Ints, domain_of: Ints) -> Ints:
    """The rest of a deal: each strip goes to the disk with the most room among the domains it may use."""
    for strip in waiting.tolist():
        open_room = np.where(np.isin(domain_of, forbidden[strip]), 0, room)
        disk = int(np.argmax(open_room))
        if open_room[disk] > 0:
            to[strip] = disk
            room[disk] -= 1
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


def level_targets(view: SiteView, pool: Pool) -> Ints:
    """Strips each disk of a pool should hold, [disks] over all disks: every volume in shares of the room it can reach, in its tier."""
    targets = np.zeros(len(view.disks), dtype=np.int64)
    wishes: dict[tuple[str, str, int, int], int] = {}
    for v in view.volumes_of(pool):
        key = (v.tier.value, v.protection.level.value, v.protection.strips, v.protection.per_domain)
        wishes[key] = wishes.get(key, 0) + v.extents
    for (tier, level, strips, per_domain), extents in sorted(wishes.items()):
        rows = view.in_pool(pool, Tier(tier))
        slots = np.where(view.disk_open[rows], view.disk_slots[rows], 0)
        domain_of = view.domain_of(Level(level))[rows]
        labels, index = np.unique(domain_of, return_inverse=True)
        room = np.bincount(index, weights=slots, minlength=len(labels)).astype(np.int64)
        if np.count_nonzero(room) * per_domain < strips:
            return view.disk_used.copy()  # nothing can be levelled while too few domains are there
        by_domain = quotas(shares(room, strips, per_domain), extents * strips)
        for domain, amount in enumerate(by_domain.tolist()):
            inside = index == domain
            if amount:
                targets[rows[inside]] += _spread_target(slots[inside], view.disk_node[rows[inside]], amount)
    return targets


def _spread_target(slots: Ints, node_of: Ints, amount: int) -> Ints:
    nodes, index = np.unique(node_of, return_inverse=True)
    node_room = np.bincount(index, weights=slots, minlength=len(nodes)).astype(np.int64)
    result = np.zeros(len(slots), dtype=np.int64)
    for node, share in enumerate(quotas(node_room, amount).tolist()):
        inside = index == node
        if share:
            result[inside] = quotas(slots[inside], share)
    return result


def imbalance(view: SiteView, pool: Pool) -> float:
    """The furthest that a reachable disk of a pool is from its target, as a share of the target; 0 is level."""
    rows = view.in_pool(pool)
    rows = rows[view.disk_open[rows]]
    if not len(rows):
        return 0.0
    targets = level_targets(view, pool)[rows]
    return float((np.abs(view.disk_used[rows] - targets) / np.maximum(targets, FEW_STRIPS)).max())


def least_moves(view: SiteView, pool: Pool) -> int:
    """Strips that any levelling must move: what disks hold beyond their targets."""
    over = view.disk_used - level_targets(view, pool)
    rows = view.in_pool(pool)
    return int(np.maximum(over[rows], 0).sum())


def plan_levelling(view: SiteView, pool: Pool, seed: int) -> Moves:
    """Moves from disks above their target to disks below it; as many as the surplus, each keeping its extent's spread.

    At most one strip of an extent moves. Surplus that spread keeps in place is counted in `stuck`.
    """
    rng = np.random.default_rng(seed)
    targets = level_targets(view, pool)
    surpluses, needs = {}, {}
    for tier in Tier:
        rows = view.in_pool(pool, tier)
        surpluses[tier] = np.zeros(len(view.disks) + 1, dtype=np.int64)
        surpluses[tier][rows] = np.where(view.disk_ready[rows], view.disk_used[rows] - targets[rows], 0)
        needs[tier] = np.minimum(np.maximum(-surpluses[tier][:-1], 0), open_room(view, pool, tier))
    total = sum(int(np.maximum(surplus, 0).sum()) for surplus in surpluses.values())
    done: list[Moves] = []
    moved = 0
    volumes = view.volumes_of(pool)
    for volume in sorted(volumes, key=lambda v: -v.extents):
        surplus, need = surpluses[volume.tier], needs[volume.tier]
        if not need.any() or not (surplus > 0).any():
            continue
        domain_of = view.domain_of(volume.protection.level)
        held = view.rows(volume)
        domains = np.append(domain_of, -1)[held]
        moving = np.zeros(volume.extents, dtype=np.bool_)
        for strip in rng.permutation(volume.protection.strips).tolist():
            candidates = np.flatnonzero((surplus[held[:, strip]] > 0) & ~moving)
            if not len(candidates) or not need.any():
                continue
            picked, to = _exchange(candidates, held[:, strip], np.delete(domains, strip, axis=1), surplus, need, domain_of, rng)
            moving[picked] = True
            moved += len(picked)
            done.append(_moves(view, volume, picked, strip, to))
    joined = join_moves(done)
    stuck = total - moved
    why = f"{stuck:,} strips stay where they are: moving them would break their volume's spread." if stuck else ""
    return Moves(joined.volume, joined.extent, joined.strip, joined.leaves, joined.to, stuck, why)


def plan_drain(view: SiteView, pool: Pool, seed: int, prefer: Disks | None = None) -> Moves:
    """A new place for every strip that can be read on disks being retired: first on the disks with these numbers, then where levelling
    wants more, then wherever there is room. The extent's other strips, on such disks too, keep their domains until they move.

    Strips that no place keeps apart are counted in `stuck`. Strips on such disks that cannot be read are for plan_rebuild.
    """
    targets = level_targets(view, pool)
    preferred = np.isin(view.disk_numbers, prefer) if prefer is not None else np.zeros(len(view.disks), dtype=np.bool_)
    firsts: dict[Tier, list[Flags | Ints]] = {tier: [preferred, np.maximum(targets - view.disk_used, 0)] for tier in Tier}
    leaving = np.append(view.disk_retiring & view.disk_ready, False)
    jobs = []
    for volume in sorted(view.volumes_of(pool), key=lambda v: -v.extents):
        held = view.rows(volume)
        leave = leaving[held]
        if leave.any():
            jobs.append(_Job(volume, leave, np.append(view.domain_of(volume.protection.level), -1)[held]))
    moves, stuck = _rehouse(view, pool, jobs, firsts, np.random.default_rng(seed))
    why = f"{stuck:,} strips cannot leave: no other domain with room is free of their extent's other strips." if stuck else ""
    return Moves(moves.volume, moves.extent, moves.strip, moves.leaves, moves.to, stuck, why)


def _exchange(candidates: Ints, held: Disks, others: Ints, surplus: Ints, need: Ints, domain_of: Ints, rng: np.random.Generator) -> tuple[Ints, Ints]:
    """Pairs strips on disks with too much with disks that need some; updates surplus and need. Extents and disk rows."""
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
        good = (others[offer] != domain_of[hand][:, None]).all(axis=1)
        picked.append(offer[good])
        to.append(hand[good])
        np.subtract.at(surplus, held[offer[good]], 1)
        np.subtract.at(need, hand[good], 1)
        candidates = np.setdiff1d(candidates, offer[good], assume_unique=True)
    empty = np.zeros(0, dtype=np.int64)
    return (np.concatenate(picked), np.concatenate(to)) if picked else (empty, empty)


def _moves(view: SiteView, volume: Volume, extents: Ints, strip: int, to: Ints) -> Moves:
    count = len(extents)
    return Moves(
        np.full(count, volume.number, dtype=np.int64),
        extents.astype(np.int64),
        np.full(count, strip, dtype=np.int64),
        volume.placement[extents, strip].astype(np.int32),
        view.disk_numbers[to],
    )


def join_moves(parts: list[Moves]) -> Moves:
    """Moves one after the other; what is stuck is not carried over."""
    if not parts:
        return NO_MOVES
    return Moves(
        np.concatenate([p.volume for p in parts]),
        np.concatenate([p.extent for p in parts]),
        np.concatenate([p.strip for p in parts]),
        np.concatenate([p.leaves for p in parts]),
        np.concatenate([p.to for p in parts]),
    )


def sources(view: SiteView, moves: Moves) -> tuple[Disks, Ints]:
    """For each move, the number of the disk to read from, [moves] (0 where none can be read), and which strip lies there, [moves].

    Reads are dealt around the copies.
    """
    by_number = {v.number: v for v in view.volumes}
    ready = np.append(view.disk_ready, False)
    result = np.zeros(len(moves), dtype=np.int32)
    read = np.zeros(len(moves), dtype=np.int64)
    for number in np.unique(moves.volume).tolist():
        mine = np.flatnonzero(moves.volume == number)
        volume = by_number[number]
        placement = volume.placement[moves.extent[mine]]
        readable = ready[view.row_of_number[placement]]
        count = readable.sum(axis=1)
        # The n-th readable copy, n scattered over the extents (Knuth's multiplicative hash) so that no copy is favoured.
        nth = (moves.extent[mine] * 2_654_435_761 >> 12) % np.maximum(count, 1)
        strip = (readable & (np.cumsum(readable, axis=1) == nth[:, None] + 1)).argmax(axis=1)
        found = count > 0
        read[mine[found]] = strip[found]
        result[mine[found]] = placement[np.arange(len(mine)), strip][found]
    return result, read


@dataclass(frozen=True, slots=True)
class Estimate:
    """A lower bound on a set of moves: the busiest disk or port over its bandwidth. `bottleneck` names it."""

    seconds: float
    bytes_moved: int
    bottleneck: str


def estimate(view: SiteView, moves: Moves, extent_bytes: int, rate: int = 0) -> Estimate:
    """How long the moves take at least, were nothing else to use the disks and ports. rate: most bytes per second over all; 0 for no limit."""
    if not len(moves):
        return Estimate(0.0, 0, "")
    come, _ = sources(view, moves)
    load = np.zeros(len(view.disks) + 1)
    from_rows, to_rows = view.row_of_number[come], view.row_of_number[moves.to]
    np.add.at(load, from_rows, extent_bytes)
    np.add.at(load, to_rows, extent_bytes)
    speeds = np.array([PROFILES[d.media].bytes_per_second for d in view.disks], dtype=np.float64)
    disk_seconds = load[:-1] / speeds
    node_of = np.append(view.disk_node, -1)
    crossing = node_of[from_rows] != node_of[to_rows]
    ports = np.array([max(n.port_bytes_per_second, 1) for n in view.nodes], dtype=np.float64)
    sent = np.bincount(node_of[from_rows][crossing & (come > 0)], minlength=len(ports)) * extent_bytes / ports
    received = np.bincount(node_of[to_rows][crossing], minlength=len(ports)) * extent_bytes / ports
    worst_disk, worst_node = int(np.argmax(disk_seconds)), int(np.argmax(np.maximum(sent, received)))
    node_seconds = float(max(sent[worst_node], received[worst_node]))
    moved = len(moves) * extent_bytes
    found = Estimate(float(disk_seconds[worst_disk]), moved, view.disks[worst_disk].name)
    if node_seconds > found.seconds:
        found = Estimate(node_seconds, moved, f"the ports of {view.nodes[worst_node].name}")
    if rate and moved / rate > found.seconds:
        found = Estimate(moved / rate, moved, f"the limit of {say_size(rate)}/s")
    return found
