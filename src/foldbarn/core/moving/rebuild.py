"""A new place for strips that are lost, or whose disk is being emptied. Method: docs/methods.md, "Rebuild"
and "Moving little".

Three passes, each only where the one before leaves something: strips are dealt by shares of free room; what
is left exchanges places among the strips that move anyway; then strips that lie well are moved out of the way
as well. So a strip is called stuck only where no arrangement of all that may move has a place for it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.arrays import Disks, Flags, Ints
from foldbarn.core.moving.apart import disks_open_to, too_close
from foldbarn.core.moving.dealing import Beside, deal_in_turn
from foldbarn.core.moving.exchange import Block, Exchange, block_of, settle_within_extents
from foldbarn.core.moving.levelling import level_targets
from foldbarn.core.moving.moves import (
    NO_MOVES,
    Busy,
    Hindrance,
    Moves,
    join_moves,
    moves_to,
    open_room,
    takes_strips,
)
from foldbarn.core.pools.only_on import by_where, stray_strips
from foldbarn.core.pools.protection import Level
from foldbarn.core.site import NOWHERE, UNWRITTEN, Ply, Pool, SiteView, Tier
from foldbarn.core.volumes.loss import can_be_read, enough_to_read, present_strips, readable_data


def lost_strips(view: SiteView, ply: Ply) -> Flags:
    """Strips to be remade, [extents, strips]: nowhere, or on a disk away beyond its grace time, with as many
    left to read as that takes.
    """
    rows = view.rows(ply)
    gone = np.append(view.disk_given_up & ~view.disk_ready, True)[rows]
    lost: Flags = gone & enough_to_read(view, ply)[:, None]
    return lost


def crowded_strips(view: SiteView, ply: Ply) -> Flags:
    """Strips to be moved apart, [extents, strips]: readable, in a domain that holds as many earlier readable
    strips of their extent as it may, or on the disk of one.

    That comes about where nodes are put in other racks, or return when their strips were thought lost.
    """
    rows = view.rows(ply)
    ready = np.append(view.disk_ready, False)[rows]
    domains = np.where(ready, np.append(view.domain_of(ply.scheme.level), -1)[rows], -1)
    return too_close(domains, np.where(ready, rows, -1), ply.scheme.per_domain)


def leaving_strips(view: SiteView, ply: Ply) -> Flags:
    """Strips to be moved, [extents, strips]: on a disk that is being emptied and can be read."""
    flags: Flags = np.append(view.disk_retiring & view.disk_ready, False)[view.rows(ply)]
    return flags


def plan_rebuild(
    view: SiteView, pool: Pool, seed: int, busy: Busy | None = None, prefer: Disks | None = None
) -> Moves:
    """A place for every lost strip of a pool, keeping the spread and filling disks in proportion to their
    free room.

    Strips of an extent that share a domain are moved apart in the same plan, and those that lie where their
    volume may not are moved to where it may.
    prefer: numbers of disks that get what they can hold first. busy: strips on their way already, left
    out; those that the view knows of when None.
    Deterministic in the seed.
    """
    firsts: list[Flags | Ints] = [np.isin(view.disk_numbers, prefer)] if prefer is not None else []
    wanted = {
        p.part: lost_strips(view, p) | crowded_strips(view, p) | stray_strips(view, p)
        for p in view.plies_of(pool)
    }
    return _rehouse(view, pool, wanted, firsts, seed, view.under_way if busy is None else busy)


def plan_drain(
    view: SiteView,
    pool: Pool,
    seed: int,
    prefer: Disks | None = None,
    busy: Busy | None = None,
    lost_too: bool = False,
) -> Moves:
    """A new place for every strip that can be read on disks being retired: first on the disks with these
    numbers, then where levelling wants more, then wherever there is room. What is to be written anew there is
    written elsewhere.

    lost_too: lost strips in the same plan, as a preview wants them; else those are for plan_rebuild.
    """
    targets = level_targets(view, pool)
    preferred = np.isin(view.disk_numbers, prefer if prefer is not None else [])
    firsts: list[Flags | Ints] = [preferred, np.maximum(targets - view.disk_used, 0)]
    wanted = {p.part: leaving_strips(view, p) for p in view.plies_of(pool)}
    if lost_too:
        wanted = {p.part: wanted[p.part] | lost_strips(view, p) for p in view.plies_of(pool)}
    anew = tuple(p for p in view.every_ply_of(pool) if p.source)
    leaving = np.append(view.disk_retiring & view.disk_ready, False)
    for ply in anew:
        wanted[ply.part] = leaving[view.rows_kept_for(ply)] & _can_be_written(view, ply)
    return _rehouse(view, pool, wanted, firsts, seed, view.under_way if busy is None else busy, anew)


def waiting_anew(ply: Ply) -> Flags:
    """Strips of what is written anew that are not written yet, [extents, strips]."""
    flags: Flags = (ply.placement < UNWRITTEN) | (ply.placement == NOWHERE)
    return flags


def ready_to_hold(view: SiteView, ply: Ply) -> bool:
    """Whether all of what is written anew is there and can be read, so that it may hold its volume."""
    there = present_strips(view, ply) | ply.unwritten[:, None]
    return bool(there.all())


def plan_anew(view: SiteView, pool: Pool, ply: Ply, seed: int, busy: Busy, most: int) -> Moves:
    """What is to be written of a ply that is written anew. Strips that have lost their place get another
    first, as those of a rebuild do; then come some `most` strips to the disks where room is kept for them,
    extent by extent. What cannot be read or written now is left out.

    Deterministic in the seed.
    """
    rows = view.rows_kept_for(ply)
    asked = _can_be_written(view, ply)
    for number, extent, strip in busy:
        if number == ply.number:
            asked[extent, strip] = False
    homeless = np.append(view.disk_given_up & ~view.disk_ready, True)[rows] & asked
    if homeless.any():
        return _rehouse(view, pool, {ply.part: homeless}, [], seed, busy, anew=(ply,))
    waits = waiting_anew(ply) & asked & np.append(takes_strips(view), False)[rows]
    extents, strips = np.nonzero(waits)
    if len(extents) > most:  # whole extents, so that what makes one is read once
        cut = int(np.searchsorted(extents, extents[most - 1], side="right"))
        extents, strips = extents[:cut], strips[:cut]
    return moves_to(view, ply, extents, strips, rows[extents, strips].astype(np.int64))


def _can_be_written(view: SiteView, ply: Ply) -> Flags:
    """Strips of what is written anew that hold data which can be read where it lies, [extents, strips]; of
    what was never written there is nothing to read.
    """
    owner = view.volume_numbered(ply.volume)
    if owner.origin is not None:
        origin = view.volume_numbered(owner.origin.volume)
        if not can_be_read(view, origin, owner.origin.snapshot):
            return np.zeros(ply.placement.shape, dtype=np.bool_)
    source, k = view.ply_numbered[ply.source], ply.scheme.k
    short = np.append(0, np.cumsum(~readable_data(view, source)))
    first = np.minimum(np.arange(ply.extents) * k, len(short) - 1)
    last = np.minimum(first + k, len(short) - 1)
    readable = short[last] == short[first]
    flags: Flags = readable[:, None] & (ply.placement != UNWRITTEN)
    return flags


@dataclass(slots=True, eq=False)
class _Guests:
    """The strips of a ply that want a place, and its others. want, under_way: [extents, strips] flags;
    before: the rows where they lie now."""

    ply: Ply
    block: Block
    before: Disks
    want: Flags
    under_way: Flags


def _rehouse(
    view: SiteView,
    pool: Pool,
    wanted: Mapping[tuple[int, int], Flags],
    firsts: list[Flags | Ints],
    seed: int,
    busy: Busy,
    anew: tuple[Ply, ...] = (),
) -> Moves:
    """A new place for all wanted strips ([extents, strips] flags by Ply.part), as many as any arrangement
    allows.

    firsts: what of the room is offered first, see deal_in_turn. anew: plies that are written anew, of which
    strips are wanted.
    """
    rng = np.random.default_rng(seed)
    done = []
    for tier in Tier:
        plies = [*view.plies_of(pool, tier), *(p for p in anew if p.tier == tier)]
        guests = [
            _guests(view, p, wanted[p.part], busy)
            for p in sorted(plies, key=lambda p: -p.extents)
            if p.part in wanted and wanted[p.part].any()
        ]
        if not guests:
            continue
        room = open_room(view, pool, tier) + _to_come(view, pool, tier, busy)
        # Who may lie on few disks chooses first, and moves nobody else.
        groups = by_where(view, plies)
        for may, alike in groups:
            mine = [g for g in guests if g.ply in alike]
            if mine:
                open_to = room if may is None else np.where(may, room, 0)
                moves = _rehouse_tier(view, alike, mine, open_to, firsts, rng, busy, may)
                if may is None and len(groups) > 1:
                    around = tuple(replace(h, around=True) for h in moves.hindrances)
                    moves = replace(moves, hindrances=around)
                done.append(moves)
                np.subtract.at(room, view.row_of_number[moves.to], 1)
                room = np.maximum(room, 0)
    return join_moves(done) if done else NO_MOVES


def _guests(view: SiteView, ply: Ply, want: Flags, busy: Busy) -> _Guests:
    """The strips of a ply as the plan begins: what wants a place lies nowhere, what is on its way where it
    goes.
    """
    block, before, under_way = block_of(view, ply, busy)
    wanted = np.zeros(before.shape, dtype=np.bool_)
    wanted[:, : want.shape[1]] = want
    wanted &= ~under_way
    block.at[wanted] = len(view.disks)
    return _Guests(ply, block, before, wanted, under_way)


def _to_come(view: SiteView, pool: Pool, tier: Tier, busy: Busy) -> Ints:
    """Room that strips on their way leave behind on disks that take others, [disks]."""
    room = np.zeros(len(view.disks), dtype=np.int64)
    by_number = {p.number: p for p in view.plies_of(pool, tier)}
    takes = np.append(takes_strips(view), False)
    for number, extent, strip in busy:
        if number in by_number:
            row = int(view.row_of_number[by_number[number].placement[extent, strip]])
            if takes[row]:
                room[row] += 1
    return room


def _rehouse_tier(
    view: SiteView,
    plies: list[Ply],
    guests: list[_Guests],
    room: Ints,
    firsts: list[Flags | Ints],
    rng: np.random.Generator,
    busy: Busy,
    may: Flags | None = None,
) -> Moves:
    """The plan for one tier. may: disks that may hold these plies, [disks]; any of it when None.

    A strip that cannot leave its disk stays in its domain, where none of its extent may come in then: where
    the plan counted on that, it is made once more with such strips staying.
    """
    staying: dict[tuple[int, int], Flags] = {}
    while True:
        trial = [_copy(g, staying.get(g.ply.part)) for g in guests]
        homeless = _house_all(view, plies, trial, room.copy(), [f.copy() for f in firsts], rng, busy, may)
        met = [g.ply.part for g in trial if _come_in_where_one_stays(view, g)]
        if not met:
            break
        for g in trial:
            stuck = g.want & (g.block.at == len(view.disks))
            staying[g.ply.part] = staying.get(g.ply.part, np.zeros(stuck.shape, dtype=np.bool_)) | stuck
    takes = _takes_in(view, plies, may)
    hindrances = []
    for g in trial:
        stuck = sum(len(extents) for row, extents, _ in homeless if trial[row] is g)
        stuck += int(staying[g.ply.part].sum()) if g.ply.part in staying else 0
        if stuck:
            hindrances.append(
                Hindrance(
                    ply=g.ply.number,
                    strips=stuck,
                    domains=len(np.unique(g.block.domain_of[:-1][takes])),
                    needed=g.ply.scheme.least_domains,
                    confined=may is not None,
                )
            )
    moves = join_moves([m for g in trial for m in [_moves_of(view, g)] if len(m)])
    return replace(moves, hindrances=tuple(hindrances))


def _copy(guests: _Guests, staying: Flags | None) -> _Guests:
    """The same, to be altered by one attempt. staying: [extents, strips] strips that are to stay where they
    are.
    """
    at, want = guests.block.at.copy(), guests.want.copy()
    if staying is not None:
        at[staying] = guests.before[staying]
        want &= ~staying
    block = replace(guests.block, at=at, loose=np.zeros(at.shape, dtype=np.bool_))
    return _Guests(guests.ply, block, guests.before, want, guests.under_way)


def _come_in_where_one_stays(view: SiteView, guests: _Guests) -> bool:
    """Whether a strip would enter a domain that another of its extent, which finds no place, does not
    leave.
    """
    block = guests.block
    ready = np.append(view.disk_ready, False)
    left = guests.want & (block.at == len(view.disks)) & ready[guests.before]
    for extent in np.flatnonzero(left.any(axis=1)).tolist():
        stay = guests.before[extent, left[extent]].tolist()
        others = block.at[extent].tolist()
        staying = Counter(int(block.domain_of[row]) for row in stay)
        beside = Counter(int(block.domain_of[row]) for row in others)
        if any(beside[d] and beside[d] + staying[d] > block.most for d in staying):
            return True
        if block.most > 1 and not set(stay).isdisjoint(others):
            return True
    return False


def _takes_in(view: SiteView, plies: list[Ply], may: Flags | None) -> Flags:
    """Disks of a tier (that of these plies) on which a plan may put strips of them, [disks]."""
    takes = np.zeros(len(view.disks), dtype=np.bool_)
    takes[view.in_pool(view.pools[plies[0].pool], plies[0].tier)] = True
    takes &= takes_strips(view)
    return takes if may is None else takes & may


def _house_all(
    view: SiteView,
    plies: list[Ply],
    guests: list[_Guests],
    room: Ints,
    firsts: list[Flags | Ints],
    rng: np.random.Generator,
    busy: Busy,
    may: Flags | None,
) -> list[tuple[int, Ints, Ints]]:
    """Places what is wanted; adds the other plies to `guests` where their strips are needed. Returns what
    has no place.
    """
    _deal_all(view, guests, room, firsts, rng)
    takes = _takes_in(view, plies, may)
    homeless, hopeless = _split(guests, _homeless(view, guests), takes)
    if homeless:
        for g in guests:
            g.block.loose = g.want
        homeless = Exchange([g.block for g in guests], room, takes, rng).settle(homeless)
    if homeless:
        known = {g.ply.part for g in guests}
        for ply in plies:
            if ply.part not in known:
                nothing = np.zeros(ply.placement.shape, dtype=np.bool_)
                guests.append(_guests(view, ply, nothing, busy))
        ready = np.append(view.disk_ready, False)
        for g in guests:
            g.block.loose = (g.want | ready[g.block.at]) & ~g.under_way
        homeless = Exchange([g.block for g in guests], room, takes, rng).settle(homeless)
    return [*homeless, *hopeless]


_Strips = list[tuple[int, Ints, Ints]]  # row in guests, extents, strips


def _split(guests: list[_Guests], homeless: _Strips, takes: Flags) -> tuple[_Strips, _Strips]:
    """Strips for which a search is worth while, and those whose extent lies already wherever it may: moving
    anything helps these no more than its own strips could be moved.
    """
    worth: _Strips = []
    hopeless: _Strips = []
    for number, extents, strips in homeless:
        block = guests[number].block
        at = block.at[extents]
        held = block.domain_of[at]
        disks = np.where(held < 0, -1, at)
        some = disks_open_to(held, disks, block.most, takes, block.domain_of[:-1]) > 0
        if some.any():
            worth.append((number, extents[some], strips[some]))
        if not some.all():
            hopeless.append((number, extents[~some], strips[~some]))
    return worth, hopeless


def _deal_all(
    view: SiteView, guests: list[_Guests], room: Ints, firsts: list[Flags | Ints], rng: np.random.Generator
) -> None:
    """Deals every wanted strip by shares of free room. Volumes that are kept apart alike are dealt with
    together.
    """
    alike: dict[tuple[Level, int], list[_Guests]] = {}
    for g in guests:
        alike.setdefault((g.ply.scheme.level, g.ply.scheme.per_domain), []).append(g)
    for (level, most), group in alike.items():
        widest = max(g.ply.scheme.strips for g in group)
        for strip in range(widest):
            mine = [(g, np.flatnonzero(g.want[:, strip])) for g in group if g.want.shape[1] > strip]
            mine = [(g, extents) for g, extents in mine if len(extents)]
            if not mine:
                continue
            width = max(g.want.shape[1] for g, _ in mine)
            domains = np.full((sum(len(extents) for _, extents in mine), width), -1, dtype=np.int64)
            disks = domains.copy()
            at = 0
            for g, extents in mine:
                lies = g.block.at[extents]
                part = (slice(at, at + len(extents)), slice(0, g.want.shape[1]))
                domains[part] = g.block.domain_of[lies]
                disks[part] = np.where(domains[part] < 0, -1, lies)
                at += len(extents)
            beside = Beside(domains, disks, most)
            to = deal_in_turn(beside, room, firsts, view.domain_of(level), view.disk_node, rng)
            at = 0
            for g, extents in mine:
                found = to[at : at + len(extents)]
                at += len(extents)
                g.block.at[extents[found >= 0], strip] = found[found >= 0]


def _homeless(view: SiteView, guests: list[_Guests]) -> list[tuple[int, Ints, Ints]]:
    """Wanted strips that lie nowhere yet: (row in guests, extents, strips)."""
    found = []
    for number, g in enumerate(guests):
        extents, strips = np.nonzero(g.want & (g.block.at == len(view.disks)))
        if len(extents):
            found.append((number, extents, strips))
    return found


def _moves_of(view: SiteView, guests: _Guests) -> Moves:
    """The moves that lead a ply from where it lies to where the plan has it."""
    ply, block = guests.ply, guests.block
    before = guests.before
    settle_within_extents(block, before, np.append(view.disk_ready, False))
    changed = (block.at != before) & (block.at < len(view.disks)) & ~guests.under_way
    extents, strips = np.nonzero(changed)
    rows = block.at[extents, strips].astype(np.int64)
    return moves_to(view, ply, extents, strips, rows, makes_room=~guests.want[extents, strips])
