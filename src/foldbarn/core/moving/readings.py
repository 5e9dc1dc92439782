"""What moves of strips read, and how long they take at least. Method: docs/methods.md, "Rebuild" and "Another
policy for a volume".
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from foldbarn.core.arrays import Disks, Flags, Ints
from foldbarn.core.moving.moves import Moves
from foldbarn.core.pools.media import PROFILES
from foldbarn.core.site import UNWRITTEN, Ply, SiteView
from foldbarn.core.units import say_size
from foldbarn.core.volumes.loss import hot_beside


@dataclass(frozen=True, slots=True, eq=False)
class Readings:
    """What is read for each of some moves.

    disks: [moves, most] numbers of the disks to read from; 0 beyond what a move needs, and all 0 where its
    strip can neither be read nor be made from others now. plies, extents, strips: [moves, most] which strip
    of which extent of which ply lies there. along: [moves] the row of the
    move whose reading serves this one as well, else its own: a stripe is read once for all of its strips that
    are missing.
    """

    disks: Disks
    plies: Ints
    extents: Ints
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
    of its extent. Of a mirror any copy serves. Reads are dealt around those that can be read. What is written
    anew is made from the data of the ply that it is made from.
    """
    by_number = view.ply_numbered
    ready = np.append(view.disk_ready, False)
    plies = np.unique(moves.ply).tolist()
    anew = {ply.number: ply for ply in view.plies_anew}
    parts = [part for n in plies for part in (by_number[n], anew.get(n)) if part is not None]
    most = max((_most_read(by_number, part) for part in parts), default=1)
    disks = np.zeros((len(moves), most), dtype=np.int32)
    extents = np.broadcast_to(moves.extent[:, None], disks.shape).copy()
    strips = np.zeros((len(moves), most), dtype=np.int64)
    along = np.arange(len(moves), dtype=np.int64)
    read = np.broadcast_to(moves.ply[:, None], disks.shape).copy()
    for number in plies:
        mine = np.flatnonzero(moves.ply == number)
        ply = by_number[number]
        if (fresh := anew.get(number)) is not None:
            comes = fresh.placement[moves.extent[mine], 0] != UNWRITTEN
            theirs, mine = mine[comes], mine[~comes]
            _, first, which = np.unique(moves.extent[theirs], return_index=True, return_inverse=True)
            along[theirs] = theirs[first][which]
            leads = theirs[first]
            table = _read_anew(view, fresh, by_number[fresh.source], moves.extent[leads])
            width = table[0].shape[1]
            disks[theirs, :width], read[theirs, :width] = table[0][which], table[1][which]
            extents[theirs, :width], strips[theirs, :width] = table[2][which], table[3][which]
        if not len(mine):
            continue
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
    return Readings(disks, read, extents, strips, along)


def _most_read(by_number: Mapping[int, Ply], ply: Ply) -> int:
    """The most strips that are read to make one of a ply."""
    if not ply.source:
        return ply.scheme.k
    k = by_number[ply.source].scheme.k
    # Data that begins in the middle of an extent of the source may reach into one more.
    return k * (-(-ply.scheme.k // k) + (ply.scheme.k > 1))


def _read_anew(view: SiteView, ply: Ply, source: Ply, wanted: Ints) -> tuple[Disks, Ints, Ints, Ints]:
    """Where the data of some extents of a ply is read from its source: disks, plies, extents and strips,
    [wanted, most] each; a disk of 0 for no more, and all 0 where the data cannot be read now. What was never
    written is not read, and counts as zeros; what a hot ply holds instead of the source is read there.

    Data strips of a volume follow one another through its extents, whatever the scheme, and are of one size.
    """
    k, of, hot = ply.scheme.k, source.scheme.k, hot_beside(view, source)
    number = wanted[:, None] * k + np.arange(k)
    there = number < source.extents * of
    upper = np.zeros(there.shape, dtype=np.bool_)
    if hot is not None and source.elsewhere is not None:
        upper = there & source.elsewhere[np.where(there, number // of, 0)]
    if source.unwritten.any():
        there &= ~source.unwritten[np.where(there, number // of, 0)] | upper
        order = np.argsort(~there, axis=1, kind="stable")
        number, there = np.take_along_axis(number, order, axis=1), np.take_along_axis(there, order, axis=1)
        upper = np.take_along_axis(upper, order, axis=1)
    extent = np.where(there, number // of, 0)
    strip = number % of
    ready = np.append(view.disk_ready, False)
    placement = source.placement[extent]  # [wanted, k, strips]
    readable = ready[view.row_of_number[placement]]
    if of == 1:
        strip, fine = _any_copy(readable, extent)
    else:
        fine = np.take_along_axis(readable, strip[:, :, None], axis=2)[:, :, 0]
    disks = np.take_along_axis(placement, strip[:, :, None], axis=2)[:, :, 0]
    plies = np.full(number.shape, source.number, dtype=np.int64)
    if hot is not None and upper.any():
        lies = hot.placement[np.where(upper, number, 0)]
        copy, readable_there = _any_copy(ready[view.row_of_number[lies]], number)
        disks = np.where(upper, np.take_along_axis(lies, copy[:, :, None], axis=2)[:, :, 0], disks)
        plies[upper] = hot.number
        extent, strip = np.where(upper, number, extent), np.where(upper, copy, strip)
        fine = np.where(upper, readable_there, fine)
    disks = np.where(fine & there, disks, 0).astype(np.int32)
    if (fine | ~there).all():
        return disks, plies, extent, strip
    most = max(k, _most_read({source.number: source}, ply))
    return _with_short(source, readable, (disks, plies, extent, strip), fine, there, most)


def _any_copy(readable: Flags, extent: Ints) -> tuple[Ints, Flags]:
    """Of mirrored extents, [wanted, k] each, which copy is read, and whether any can be. readable:
    [wanted, k, copies].
    """
    copies = readable.shape[2]
    chosen = _dealt(readable.reshape(-1, copies), extent.reshape(-1), 1).reshape(readable.shape)
    return chosen.argmax(axis=2), np.asarray(chosen.any(axis=2))


def _with_short(
    source: Ply,
    readable: Flags,
    table: tuple[Disks, Ints, Ints, Ints],
    fine: Flags,
    there: Flags,
    most: int,
) -> tuple[Disks, Ints, Ints, Ints]:
    """The same table, with more to read where some of the data lies on disks that cannot be read."""
    disks, plies, extent, strip = table
    wide = (
        np.zeros((len(disks), most), dtype=np.int32),
        np.full((len(disks), most), source.number, dtype=np.int64),
        np.zeros((len(disks), most), dtype=np.int64),
        np.zeros((len(disks), most), dtype=np.int64),
    )
    k = disks.shape[1]
    wide[0][:, :k], wide[1][:, :k], wide[2][:, :k], wide[3][:, :k] = table
    for row in np.flatnonzero((~fine & there).any(axis=1)).tolist():
        hot = there[row] & (plies[row] != source.number)
        mine = there[row] & ~hot
        reads = _read_short(readable[row], extent[row], fine[row], mine, source.scheme.k, strip[row])
        wide[0][row] = 0
        if reads is None or not fine[row][hot].all():
            continue
        places = [(source.number, e, s, source.placement[e, s]) for e, s in reads]
        each = zip(plies[row], extent[row], strip[row], disks[row], strict=True)
        places += [place for place, is_hot in zip(each, hot, strict=True) if is_hot]
        for column, (number, e, s, disk) in enumerate(places):
            wide[0][row, column], wide[1][row, column] = disk, number
            wide[2][row, column], wide[3][row, column] = e, s
    return wide


def _read_short(
    readable: Flags, extent: Ints, fine: Flags, there: Flags, of: int, strip: Ints
) -> list[tuple[int, int]] | None:
    """What is read for one extent where some of its data lies on disks that cannot be read: of those extents
    of the source as many strips as make it, extent and strip. None where there are too few.
    """
    reads: list[tuple[int, int]] = []
    for one in np.unique(extent[there]).tolist():
        mine = there & (extent == one)
        if fine[mine].all():
            reads += [(one, s) for s in strip[mine].tolist()]
            continue
        left = np.flatnonzero(readable[int(np.flatnonzero(mine)[0])]).tolist()
        if len(left) < of:
            return None
        reads += [(one, s) for s in left[:of]]
    return reads


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
