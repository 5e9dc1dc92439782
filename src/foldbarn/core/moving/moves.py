"""Moves of strips: what is to be written where, from where it is read, and how long that takes at least."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.arrays import Disks, Flags, Ints
from foldbarn.core.pools.media import PROFILES
from foldbarn.core.site import Ply, Pool, SiteView, Tier
from foldbarn.core.units import say_count, say_size

Busy = Mapping[tuple[int, int, int], int]  # (ply, extent, strip) on its way -> number of the disk it goes to


@dataclass(frozen=True, slots=True)
class Hindrance:
    """Strips of one ply that have no place, and why.

    ply: its number; domains: domains of its level that take strips at all; needed: domains that it needs.
    Where there are enough, it is room that is missing: no chain of exchanges makes any where these strips may
    lie.
    """

    ply: int
    strips: int
    domains: int
    needed: int

    @property
    def too_few_domains(self) -> bool:
        return self.domains < self.needed


@dataclass(frozen=True, slots=True, eq=False)
class Moves:
    """Strips to write, [moves] each: the ply's number, extent, strip, disk numbers it leaves (0: nowhere)
    and goes to.

    makes_room: moves of strips that were well where they were, and go to make room for others. hindrances: by
    ply, the strips for which there is no place; none is left out because the search was given up.
    left_over: of a levelling, strips above their disks' shares that no chain of exchanges can lead away.
    """

    ply: Ints
    extent: Ints
    strip: Ints
    leaves: Disks
    to: Disks
    makes_room: Flags
    hindrances: tuple[Hindrance, ...] = ()
    left_over: int = 0

    def __len__(self) -> int:
        return len(self.ply)

    @property
    def stuck(self) -> int:
        """Strips for which no place keeps the spread."""
        return sum(h.strips for h in self.hindrances)

    def only(self, kept: Flags) -> Moves:
        """Some of them, [moves]; what is stuck stays so."""
        return replace(self, **{name: getattr(self, name)[kept] for name in _ARRAYS})


_ARRAYS = ("ply", "extent", "strip", "leaves", "to", "makes_room")
_NONE = np.zeros(0, dtype=np.int64)
NO_MOVES = Moves(_NONE, _NONE, _NONE, _NONE.astype(np.int32), _NONE.astype(np.int32), _NONE.astype(np.bool_))


def moves_to(
    view: SiteView, ply: Ply, extents: Ints, strips: Ints, rows: Ints, makes_room: Flags | None = None
) -> Moves:
    """These strips of a ply to these disk rows, [moves] each."""
    return Moves(
        ply=np.full(len(extents), ply.number, dtype=np.int64),
        extent=extents.astype(np.int64),
        strip=strips.astype(np.int64),
        leaves=ply.placement[extents, strips].astype(np.int32),
        to=view.disk_numbers[rows].astype(np.int32),
        makes_room=np.zeros(len(extents), dtype=np.bool_) if makes_room is None else makes_room,
    )


def open_room(view: SiteView, pool: Pool, tier: Tier) -> Ints:
    """Strips that each disk can take now for a tier of a pool, [disks] over all disks."""
    room = np.zeros(len(view.disks), dtype=np.int64)
    rows = view.in_pool(pool, tier)
    room[rows] = np.where(takes_strips(view)[rows], view.disk_free[rows], 0)
    return room


def crowds(view: SiteView, ply: int, extent: int, strip: int) -> bool:
    """Whether a strip that stayed where it is would share its domain with another of its extent, there or on
    its way.
    """
    mine = next((p for p in view.plies if p.number == ply), None)
    if mine is None:
        return False
    domain_of = np.append(view.domain_of(mine.scheme.level), -1)
    lies = mine.placement[extent].tolist()
    others = [disk for s, disk in enumerate(lies) if s != strip and disk > 0]
    others += [to for (p, e, s), to in view.under_way.items() if (p, e) == (ply, extent) and s != strip]
    rows = view.row_of_number
    return int(domain_of[rows[lies[strip]]]) in {int(domain_of[rows[disk]]) for disk in others}


def takes_strips(view: SiteView) -> Flags:
    """Disks on which a plan may put strips, [disks]."""
    flags: Flags = view.disk_open & ~view.disk_given_up
    return flags


def join_moves(parts: list[Moves]) -> Moves:
    """Moves one after the other, with all that is stuck."""
    if not parts:
        return NO_MOVES
    arrays = {name: np.concatenate([getattr(p, name) for p in parts]) for name in _ARRAYS}
    hindrances = tuple(h for p in parts for h in p.hindrances)
    return Moves(**arrays, hindrances=hindrances, left_over=sum(p.left_over for p in parts))


def startable(view: SiteView, moves: Moves) -> Flags:
    """Which moves can begin now: their disk has room as it stands. The others wait until moves before them
    have made it.
    """
    rows = view.row_of_number[moves.to]
    order = np.argsort(rows, kind="stable")
    ordered = rows[order]
    rank = np.arange(len(ordered)) - np.searchsorted(ordered, ordered, side="left")
    fits = np.zeros(len(rows), dtype=np.bool_)
    fits[order] = rank < view.disk_free[ordered]
    return fits


def say_hindrances(view: SiteView, hindrances: tuple[Hindrance, ...], most: int = 3) -> str:
    """Why strips have no place, in whole sentences, by ply; empty where there are none."""
    by_number = {p.number: p for p in view.plies}
    said = []
    for found in sorted(hindrances, key=lambda h: -h.strips)[:most]:
        ply = by_number[found.ply]
        level = ply.scheme.level.value
        strips = say_count(found.strips, "strip")
        if found.too_few_domains:
            takes = f"{say_count(found.domains, level)} {'takes' if found.domains == 1 else 'take'} strips"
            said.append(
                f"{strips} of {ply.name} {'has' if found.strips == 1 else 'have'} no place: "
                f"it needs {say_count(found.needed, level)}, {takes}."
            )
        else:
            said.append(
                f"{strips} of {ply.name} {'has' if found.strips == 1 else 'have'} no place: the "
                "disks that may hold "
                f"{'it' if found.strips == 1 else 'them'} are full, and moving others makes no room there."
            )
    if more := hindrances[most:]:
        said.append(
            f"And {say_count(sum(h.strips for h in more), 'strip')} of {say_count(len(more), 'volume')} more."
        )
    return " ".join(said)


@dataclass(frozen=True, slots=True, eq=False)
class Readings:
    """What is read for each of some moves.

    disks: [moves, most] numbers of the disks to read from; 0 beyond what a move needs, and all 0 where its
    strip can neither be read nor be made from others now. strips: [moves, most] which strip of the extent
    lies there. along: [moves] the row of the move whose reading serves this one as well, else its own: a
    stripe is read once for all of its strips that are missing.
    """

    disks: Disks
    strips: Ints
    along: Ints

    @property
    def possible(self) -> Flags:
        flags: Flags = self.disks[:, 0] > 0
        return flags

    @property
    def leads(self) -> Flags:
        """Moves for which something is read, [moves]."""
        flags: Flags = self.possible & (self.along == np.arange(len(self.along)))
        return flags


def readings(view: SiteView, moves: Moves) -> Readings:
    """A strip of parity that can be read is copied from where it lies; one that is lost is made from k others
    of its extent. Of a mirror any copy serves. Reads are dealt around those that can be read.
    """
    by_number = {p.number: p for p in view.plies}
    ready = np.append(view.disk_ready, False)
    plies = np.unique(moves.ply).tolist()
    most = max((by_number[number].scheme.k for number in plies), default=1)
    disks = np.zeros((len(moves), most), dtype=np.int32)
    strips = np.zeros((len(moves), most), dtype=np.int64)
    along = np.arange(len(moves), dtype=np.int64)
    for number in plies:
        mine = np.flatnonzero(moves.ply == number)
        ply = by_number[number]
        k = ply.scheme.k
        placement = ply.placement[moves.extent[mine]]
        readable = ready[view.row_of_number[placement]]
        chosen = _dealt(readable, moves.extent[mine], k)
        lost = np.ones(len(mine), dtype=np.bool_)
        if k > 1:
            own = np.arange(readable.shape[1]) == moves.strip[mine, None]
            lost = ~(readable & own).any(axis=1)
            chosen[~lost] = own[~lost]
            _, first, which = np.unique(moves.extent[mine[lost]], return_index=True, return_inverse=True)
            along[mine[lost]] = mine[lost][first[which]]
        order = np.argsort(~chosen, axis=1, kind="stable")[:, :k]
        kept = np.take_along_axis(chosen, order, axis=1)
        disks[mine, :k] = np.where(kept, np.take_along_axis(placement, order, axis=1), 0)
        strips[mine, :k] = np.where(kept, order, 0)
    return Readings(disks, strips, along)


def _dealt(readable: Flags, extents: Ints, k: int) -> Flags:
    """k of the strips that can be read of each extent, [extents, strips]; none where there are fewer. They
    begin with the n-th, n scattered over the extents (Knuth's multiplicative hash), so that none is favoured.
    """
    count = readable.sum(axis=1)
    first = (extents * 2_654_435_761 >> 12) % np.maximum(count, 1)
    rank = np.cumsum(readable, axis=1) - 1
    after = (rank - first[:, None]) % np.maximum(count, 1)[:, None]
    flags: Flags = readable & (after < k) & (count >= k)[:, None]
    return flags


@dataclass(frozen=True, slots=True)
class Estimate:
    """A lower bound on a set of moves: the busiest disk or port over its bandwidth. `bottleneck` names it."""

    seconds: float
    bytes_moved: int
    bottleneck: str


def estimate(view: SiteView, moves: Moves, strip_bytes: int, rate: int = 0) -> Estimate:
    """How long the moves take at least, were nothing else to use the disks and ports. rate: most bytes per
    second over all; 0 for no limit.
    """
    if not len(moves):
        return Estimate(0.0, 0, "")
    found = readings(view, moves)
    leads = found.leads
    read = found.disks[leads]
    reader = moves.to[leads]  # a stripe is read, and its missing strips made, where the first of them goes
    load = np.zeros(len(view.disks) + 1)
    to_rows = view.row_of_number[moves.to]
    np.add.at(load, view.row_of_number[read[read > 0]], strip_bytes)
    np.add.at(load, to_rows, strip_bytes)
    speeds = np.array([PROFILES[d.media].bytes_per_second for d in view.disks], dtype=np.float64)
    disk_seconds = load[:-1] / speeds
    node_of = np.append(view.disk_node, -1)
    ports = np.array([max(n.port_bytes_per_second, 1) for n in view.nodes], dtype=np.float64)
    into = np.broadcast_to(node_of[view.row_of_number[reader]][:, None], read.shape)[read > 0]
    out = node_of[view.row_of_number[read[read > 0]]]
    helper = found.possible & ~leads
    out = np.concatenate([out, node_of[view.row_of_number[moves.to[found.along[helper]]]]])
    into = np.concatenate([into, node_of[to_rows[helper]]])
    crossing = out != into
    sent = np.bincount(out[crossing], minlength=len(ports)) * strip_bytes / ports
    received = np.bincount(into[crossing], minlength=len(ports)) * strip_bytes / ports
    worst_disk, worst_node = int(np.argmax(disk_seconds)), int(np.argmax(np.maximum(sent, received)))
    node_seconds = float(max(sent[worst_node], received[worst_node]))
    moved = len(moves) * strip_bytes
    guess = Estimate(float(disk_seconds[worst_disk]), moved, view.disks[worst_disk].name)
    if node_seconds > guess.seconds:
        guess = Estimate(node_seconds, moved, f"the ports of {view.nodes[worst_node].name}")
    if rate and moved / rate > guess.seconds:
        guess = Estimate(moved / rate, moved, f"the limit of {say_size(rate)}/s")
    return guess
