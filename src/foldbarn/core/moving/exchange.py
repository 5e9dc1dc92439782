"""Chains of exchanges: a place for a strip that has none, by moving others out of its way.

An extent's strips and the disks form a bipartite graph: a strip may lie on any disk that takes strips, holds
no other strip of its extent, and is in a domain that holds fewer of them than it may. Placing one more strip
is then one more unit of flow, and a shortest augmenting path in that graph is a chain: this strip goes to
that disk, whose strip goes to another, and so on to a disk with room. Layers are found backwards from the
disks with room, and chains are looked up in them as in Dinic, "Algorithm for solution of a problem of maximum
flow in a network with power estimation", Soviet Math. Doklady 11, 1970. What finds no chain can have no
place, whatever else is moved: that is a finding, not a failure to search.

Volumes that are kept apart at different levels share disks, and may stand in one search: each strip is judged
by the domains of its own ply's level.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from foldbarn.core.arrays import Disks, Flags, Ints
from foldbarn.core.moving.apart import disks_open_to
from foldbarn.core.site import UNWRITTEN, Ply, SiteView

FAR = np.iinfo(np.int32).max  # a disk from which no chain leads to room


@dataclass(slots=True, eq=False)
class Block:
    """The strips of one ply.

    at: [extents, strips] disk row where each lies, or will lie by the plan so far; the number of disks for
    nowhere.
    Altered in place. loose: [extents, strips] strips that a chain may move. domain_of: [disks + 1] the domain
    of each row at the ply's level, and -1 for nowhere. most: strips of an extent that a domain may hold.
    """

    at: Disks
    loose: Flags
    domain_of: Ints
    most: int = 1


@dataclass(slots=True, eq=False)
class _Layers:
    """How far each disk is from room, and by which strips.

    far: [disks] exchanges until room is made on a disk; 0 where it has room, FAR where none can be made.
    candidates: by disk row, the (block, extent, strip) that can go one layer nearer. offers: for each block,
    for each layer, its domains in that layer with their disks.
    """

    far: Ints
    candidates: dict[int, _Candidates]
    offers: list[list[list[tuple[int, list[int]]]]]


@dataclass(slots=True, eq=False)
class _Candidates:
    """Strips of one disk that can go a layer nearer, taken from the end: block, extent and strip of each,
    [candidates].
    """

    blocks: Ints
    extents: Ints
    strips: Ints
    left: int

    def pop(self) -> tuple[int, int, int]:
        self.left -= 1
        return int(self.blocks[self.left]), int(self.extents[self.left]), int(self.strips[self.left])


class Exchange:
    """Searches chains over some plies' strips. room: [disks] strips each can still take; takes: [disks]
    whether it takes any at all. Both `room` and the blocks' `at` are altered as chains are found.
    Deterministic in rng's seed."""

    def __init__(self, blocks: Sequence[Block], room: Ints, takes: Flags, rng: np.random.Generator) -> None:
        self.blocks = blocks
        self.room = room
        self.takes = takes
        self.rng = rng
        # disks that take nothing, and that strips are led away from
        self.leaving = np.zeros(len(room), dtype=np.bool_)
        self._twins = [_has_twins(block) for block in blocks]
        self._layers: _Layers | None = None
        self._touched: set[tuple[int, int]] = set()

    def settle(self, homeless: Sequence[tuple[int, Ints, Ints]]) -> list[tuple[int, Ints, Ints]]:
        """Places as many of these strips as any arrangement can. homeless: (block, extents, strips), all
        lying nowhere.

        Returns those for which there is no place, in the same shape.
        """
        waiting = list(homeless)
        stuck: list[tuple[int, Ints, Ints]] = []
        while waiting:
            layers = self._search()
            again: list[tuple[int, Ints, Ints]] = []
            for number, extents, strips in waiting:
                # Once a strip has no chain it will have none after others were placed (Berge's lemma), so it
                # is done with.
                hopeful = self._reachable(layers, number, extents, strips)
                if not hopeful.all():
                    stuck.append((number, extents[~hopeful], strips[~hopeful]))
                if hopeful.any():
                    again.append((number, extents[hopeful], strips[hopeful]))
            waiting = []
            for number, extents, strips in again:
                left = [
                    i
                    for i, (e, s) in enumerate(zip(extents.tolist(), strips.tolist(), strict=True))
                    if not self._house(number, e, s)
                ]
                if left:
                    waiting.append((number, extents[left], strips[left]))
            if sum(len(w[1]) for w in waiting) == sum(len(a[1]) for a in again):
                return [*stuck, *waiting]  # no chain could be carried through
        return stuck

    def even_out(self, surplus: Ints) -> int:
        """Leads strips away from disks that hold too many, [disks], to disks with room, by chains; alters
        `surplus`.

        Returns how many were led away. What is left of it cannot be led away by any chain.
        """
        led = 0
        while True:
            self.leaving = (surplus > 0) & ~self.takes
            layers = self._search()
            givers = np.flatnonzero((surplus > 0) & (layers.far[: len(surplus)] < FAR))
            before = led
            for disk in givers[self.rng.permutation(len(givers))].tolist():
                while surplus[disk] > 0:
                    self._touched = set()
                    if not self._take(disk, int(layers.far[disk])):
                        break
                    surplus[disk] -= 1
                    led += 1
            if led == before:
                return led

    # One search. -----------------------------------------------------------------------------------

    def _search(self) -> _Layers:
        """Layers of disks by their distance from room, found backwards: one pass over all strips for each
        layer.
        """
        disks = len(self.room)
        far = np.full(disks + 1, FAR, dtype=np.int64)
        far[:disks][self.takes & (self.room > 0)] = 0
        found: list[tuple[int, Ints, Ints, Ints]] = []
        layer = 0
        while True:
            layer += 1
            nearer = (far == layer - 1) & np.append(self.takes, False)
            if not nearer.any():
                break
            reached: list[Ints] = []
            for number, block in enumerate(self.blocks):
                unreached = np.append((far[:-1] == FAR) & (self.takes | self.leaving), False)
                extents, strips = np.nonzero(block.loose & unreached[block.at])
                if not len(extents):
                    continue
                able = self._may_reach(number, nearer, extents, strips)
                extents, strips = extents[able], strips[able]
                rows = block.at[extents, strips].astype(np.int64)
                if len(rows):
                    found.append((number, extents, strips, rows))
                    reached.append(np.unique(rows))
            if not reached:
                break
            far[np.concatenate(reached)] = layer
        self._layers = _Layers(far[:disks], self._by_disk(found), self._offers(far[:disks]))
        return self._layers

    def _may_reach(self, number: int, near: Flags, extents: Ints, strips: Ints) -> Flags:
        """Whether strips may lie on any disk of those flagged, [strips], beside the others of their extent;
        one in their own domain may do. near: [disks + 1].
        """
        block = self.blocks[number]
        if block.most == 1:
            domains_near = _domains_with(near, block.domain_of)
            able: Flags = self._beside(number, domains_near, extents, strips) < int(domains_near.sum())
            return able
        at = block.at[extents]
        at[np.arange(len(extents)), strips] = len(self.room)
        domains = block.domain_of[at]
        disks = np.where(domains < 0, -1, at)
        return disks_open_to(domains, disks, block.most, near[:-1], block.domain_of[:-1]) > 0

    def _beside(self, number: int, near: Flags, extents: Ints, strips: Ints) -> Ints:
        """Domains, of those flagged, that hold another strip of the extent, [strips]; two strips in one count
        once.
        """
        block = self.blocks[number]
        domains = block.domain_of[block.at[extents]]
        flagged = near[domains]
        rows = np.arange(len(extents))
        if not self._twins[number]:
            flagged[rows, strips] = False
            return np.asarray(flagged.sum(axis=1), dtype=np.int64)
        domains[rows, strips] = -1
        flagged[rows, strips] = False
        for later in range(1, domains.shape[1]):
            flagged[:, later] &= (domains[:, :later] != domains[:, later : later + 1]).all(axis=1)
        return np.asarray(flagged.sum(axis=1), dtype=np.int64)

    def _by_disk(self, found: list[tuple[int, Ints, Ints, Ints]]) -> dict[int, _Candidates]:
        """Candidates by the disk they lie on, in random order, so that no extent is favoured."""
        if not found:
            return {}
        blocks = np.concatenate([np.full(len(rows), number, dtype=np.int32) for number, _, _, rows in found])
        extents, strips, rows = (np.concatenate([f[part] for f in found]) for part in (1, 2, 3))
        shuffled = self.rng.permutation(len(rows))
        # numpy sorts 16-bit numbers by radix, several times faster than wider ones.
        keys = rows[shuffled].astype(np.int16 if len(self.room) < 2**15 else np.int64)
        order = shuffled[np.argsort(keys, kind="stable")]
        sorted_rows = rows[order]
        starts = np.flatnonzero(np.append(True, sorted_rows[1:] != sorted_rows[:-1])).tolist()
        candidates = {}
        for start, end in zip(starts, [*starts[1:], len(order)], strict=True):
            part = order[start:end]
            candidates[int(sorted_rows[start])] = _Candidates(
                blocks=blocks[part], extents=extents[part], strips=strips[part], left=end - start
            )
        return candidates

    def _offers(self, far: Ints) -> list[list[list[tuple[int, list[int]]]]]:
        """For each block, for each layer, the domains at its level with their disks of that layer."""
        kept: dict[bytes, list[list[tuple[int, list[int]]]]] = {}
        found = []
        last = int(far[far < FAR].max()) if (far < FAR).any() else -1
        for block in self.blocks:
            key = block.domain_of.tobytes()
            if key not in kept:
                by_layer: list[list[tuple[int, list[int]]]] = []
                for layer in range(last + 1):
                    domains: dict[int, list[int]] = {}
                    rows = np.flatnonzero((far == layer) & self.takes)
                    for row in rows[self.rng.permutation(len(rows))].tolist():
                        domains.setdefault(int(block.domain_of[row]), []).append(row)
                    by_layer.append(list(domains.items()))
                kept[key] = by_layer
            found.append(kept[key])
        return found

    def _reachable(self, layers: _Layers, number: int, extents: Ints, strips: Ints) -> Flags:
        """Whether a strip that lies nowhere has a disk from which a chain leads to room, [strips]."""
        reach = np.append((layers.far < FAR) & self.takes, False)
        return self._may_reach(number, reach, extents, strips)

    # One chain. ------------------------------------------------------------------------------------

    def _house(self, number: int, extent: int, strip: int) -> bool:
        """Gives a strip that lies nowhere a place, if the layers as they stand allow one."""
        assert self._layers is not None
        block = self.blocks[number]
        taken = block.domain_of[block.at[extent]].tolist()
        del taken[strip]
        own = self._disks_beside(block, extent, strip)
        self._touched = {(number, extent)}
        for layer, domains in enumerate(self._layers.offers[number]):
            for domain, disks in domains:
                if taken.count(domain) >= block.most:
                    continue
                if (disk := self._make_room(disks, layer, own)) is not None:
                    block.at[extent, strip] = disk
                    return True
        return False

    def _disks_beside(self, block: Block, extent: int, strip: int) -> set[int]:
        """Disks that hold another strip of an extent; where a domain may hold one, that says it already."""
        if block.most == 1:
            return set()
        rows = block.at[extent].tolist()
        del rows[strip]
        return set(rows)

    def _make_room(self, disks: list[int], layer: int, own: set[int]) -> int | None:
        """Room for one strip on one of these disks, but for those of its own extent, or None; disks that turn
        out to have none are struck off the list.
        """
        place = len(disks)
        while place:
            place -= 1
            disk = disks[place]
            if disk in own:
                continue
            if self._take(disk, layer):
                return disk
            del disks[place]
        return None

    def _take(self, disk: int, layer: int) -> bool:
        """Makes a place on a disk of this layer: by its room, or by leading one of its strips a layer
        nearer.
        """
        assert self._layers is not None
        if layer == 0:
            if self.room[disk] <= 0:
                return False
            self.room[disk] -= 1
            return True
        candidates = self._layers.candidates.get(disk)
        while candidates is not None and candidates.left:
            number, extent, strip = candidates.pop()
            block = self.blocks[number]
            if block.at[extent, strip] != disk:
                continue  # an earlier chain has moved it
            held = block.domain_of[block.at[extent]].tolist()
            home = held.pop(strip)
            own = self._disks_beside(block, extent, strip)
            again = (number, extent) in self._touched
            self._touched.add((number, extent))
            for domain, disks in self._layers.offers[number][layer - 1]:
                # An extent that this chain moves already may at most shift inside a domain: its domains stay
                # as judged.
                if held.count(domain) >= block.most or (again and domain != home):
                    continue
                if (to := self._make_room(disks, layer - 1, own)) is not None:
                    block.at[extent, strip] = to
                    return True
            if not again:
                self._touched.discard((number, extent))
        return False


def block_of(
    view: SiteView, ply: Ply, busy: Mapping[tuple[int, int, int], int]
) -> tuple[Block, Disks, Flags]:
    """A ply's strips as they lie, or as room is kept for them, what is on its way (busy: to the disk of this
    number) already there; nothing is loose.

    Returns the block, [extents, strips and more] rows where each strip lies now, and flags of what is on its
    way. A strip on its way from a disk that can be read may yet stay there, so it bars both domains: the one
    that it goes to, and in a further column the one that it comes from.
    """
    rows, lies = view.rows_kept_for(ply), view.rows(ply)
    mine = [
        (e, s, int(view.row_of_number[to]))
        for (number, e, s), to in busy.items()
        if number == ply.number and ply.placement[e, s] != UNWRITTEN
    ]
    per_extent = Counter(e for e, s, _ in mine if lies[e, s] < len(view.disks))
    more = max(per_extent.values(), default=0)
    before = np.full((rows.shape[0], rows.shape[1] + more), len(view.disks), dtype=np.int32)
    before[:, : rows.shape[1]] = rows
    at, under_way = before.copy(), np.zeros(before.shape, dtype=np.bool_)
    ready = np.append(view.disk_ready, False)
    used: Counter[int] = Counter()
    for extent, strip, to in mine:
        if ready[lies[extent, strip]]:
            column = rows.shape[1] + used[extent]
            before[extent, column] = at[extent, column] = rows[extent, strip]
            under_way[extent, column] = True
            used[extent] += 1
        at[extent, strip] = to
        under_way[extent, strip] = True
    domain_of = np.append(view.domain_of(ply.scheme.level), -1)
    nothing = np.zeros(at.shape, dtype=np.bool_)
    return Block(at, nothing, domain_of, ply.scheme.per_domain), before, under_way


def _domains_with(disks: Flags, domain_of: Ints) -> Flags:
    """Domains that have a flagged disk, [domains + 1]; the last, which nowhere (-1) falls on, never has.
    disks: [disks + 1].
    """
    flags = np.zeros(int(domain_of.max(initial=0)) + 2, dtype=np.bool_)
    flags[domain_of[disks]] = True
    flags[-1] = False
    return flags


def _has_twins(block: Block) -> bool:
    """Whether any extent has two strips in one domain already."""
    domains = block.domain_of[block.at]
    for later in range(1, domains.shape[1]):
        same = domains[:, :later] == domains[:, later : later + 1]
        if (same & (domains[:, later : later + 1] >= 0)).any():
            return True
    return False


def settle_within_extents(block: Block, before: Disks, ready: Flags) -> None:
    """Deals the new places of each extent among its moving strips so that none enters a domain that another
    has yet to leave.

    Copies arrive in any order. Where one strip goes to the domain that a second one of its extent leaves, the
    second takes that place instead (or stays, where it is the same disk), so that every order keeps the
    spread. before: [extents, strips] rows where they lie; ready: [disks + 1] rows from which a strip still
    has to leave.
    """
    nowhere = len(block.domain_of) - 1
    changed = (block.at != before) & (block.at < nowhere)
    several = np.flatnonzero(changed.sum(axis=1) > 1)
    if not len(several):
        return
    old = np.where(changed[several] & ready[before[several]], block.domain_of[before[several]], -1)
    new = np.where(changed[several], block.domain_of[block.at[several]], -2)
    enters = np.zeros(len(several), dtype=np.bool_)
    for mover in range(old.shape[1]):
        for leaver in range(old.shape[1]):
            if mover != leaver:
                enters |= new[:, mover] == old[:, leaver]
    for extent in several[enters].tolist():
        strips = np.flatnonzero(changed[extent]).tolist()
        places = block.at[extent, strips].tolist()
        for strip in list(strips):  # first those whose own disk is among the places, which may stay there
            row = int(before[extent, strip])
            if row in places:
                places.remove(row)
                strips.remove(strip)
                block.at[extent, strip] = row
        for strip in list(strips):
            row = int(before[extent, strip])
            domain = int(block.domain_of[row]) if ready[row] else -1
            near = next((p for p in places if domain >= 0 and int(block.domain_of[p]) == domain), None)
            if near is not None:
                places.remove(near)
                strips.remove(strip)
                block.at[extent, strip] = near
        for strip, place in zip(strips, places, strict=True):
            block.at[extent, strip] = place
