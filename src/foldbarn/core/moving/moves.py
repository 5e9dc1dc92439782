"""Moves of strips: what is to be written where, what can begin now, and what has no place."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.arrays import Disks, Flags, Ints
from foldbarn.core.site import UNWRITTEN, Ply, Pool, SiteView, Tier, to_come
from foldbarn.core.units import say_count

Busy = Mapping[tuple[int, int, int], int]  # (ply, extent, strip) on its way -> number of the disk it goes to


@dataclass(frozen=True, slots=True)
class Hindrance:
    """Strips of one ply that have no place, and why.

    ply: its number; domains: domains of its level that take strips at all; needed: domains that it needs.
    Where there are enough, it is room that is missing: no chain of exchanges makes any where these strips may
    lie. confined: these may lie on chosen disks alone, and the domains are of those; others were not moved
    out of their way. around: they may lie anywhere, and what is confined was not moved out of their way.
    """

    ply: int
    strips: int
    domains: int
    needed: int
    confined: bool = False
    around: bool = False

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


def arrived(view: SiteView, moves: Moves) -> SiteView:
    """The site once all moves have arrived."""
    volumes = []
    for volume in view.volumes:
        plies = tuple(_with_moves(ply, moves) for ply in volume.plies)
        anew = _with_moves(volume.anew, moves) if volume.anew else None
        same = plies == volume.plies and anew is volume.anew
        volumes.append(volume if same else replace(volume, plies=plies, anew=anew))
    return replace(view, volumes=tuple(volumes))


def _with_moves(ply: Ply, moves: Moves) -> Ply:
    mine = moves.ply == ply.number
    if not mine.any():
        return ply
    placement = ply.placement.copy()
    extents, strips = moves.extent[mine], moves.strip[mine]
    # What is on its way into a ply from another one is apart from the rest of it.
    own = placement[extents, strips] != UNWRITTEN
    placement[extents[own], strips[own]] = moves.to[mine][own]
    return replace(ply, placement=placement)


def open_room(view: SiteView, pool: Pool, tier: Tier) -> Ints:
    """Strips that each disk can take now for a tier of a pool, [disks] over all disks."""
    room = np.zeros(len(view.disks), dtype=np.int64)
    rows = view.in_pool(pool, tier)
    room[rows] = np.where(takes_strips(view)[rows], view.disk_free[rows], 0)
    return room


def crowds(view: SiteView, ply: int, extent: int, strip: int) -> bool:
    """Whether a strip that stayed where it is would lie too close to others of its extent, there or on their
    way.
    """
    mine = view.ply_numbered.get(ply)
    if mine is None:
        return False
    lies = mine.placement[extent].tolist()
    others = [disk for s, disk in enumerate(lies) if s != strip and disk > 0]
    others += [to for (p, e, s), to in view.under_way.items() if (p, e) == (ply, extent) and s != strip]
    return not lies_apart(view, mine, lies[strip], others)


def lies_apart(view: SiteView, ply: Ply, disk: int, others: Iterable[int]) -> bool:
    """Whether a strip of a ply on one disk keeps the spread beside others of its extent on these, all by
    number; one that is known no more keeps it beside any.
    """
    domain_of = np.append(view.domain_of(ply.scheme.level), -1)
    domain = int(domain_of[view.row_of_number[disk]])
    known = list(others)
    beside = sum(int(domain_of[view.row_of_number[other]]) == domain for other in known)
    return domain < 0 or (beside < ply.scheme.per_domain and disk not in known)


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
    fits: Flags = moves.leaves == to_come(moves.to)  # room is kept for these
    others = np.flatnonzero(~fits)
    order = others[np.argsort(rows[others], kind="stable")]
    ordered = rows[order]
    rank = np.arange(len(ordered)) - np.searchsorted(ordered, ordered, side="left")
    fits[order] = rank < view.disk_free[ordered]
    return fits


def say_hindrances(view: SiteView, hindrances: tuple[Hindrance, ...], most: int = 3) -> str:
    """Why strips have no place, in whole sentences, by ply; empty where there are none."""
    by_number = view.ply_numbered
    said = []
    for found in sorted(hindrances, key=lambda h: -h.strips)[:most]:
        ply = by_number[found.ply]
        level = ply.scheme.level.value
        strips = say_count(found.strips, "strip")
        if found.too_few_domains:
            take = "takes" if found.domains == 1 else "take"
            takes = f", {say_count(found.domains, level)} {take} strips"
            if found.confined:
                takes = f"; of those chosen for it, {found.domains or 'none'} {take} strips"
            said.append(
                f"{strips} of {ply.name} {'has' if found.strips == 1 else 'have'} no place: "
                f"it needs {say_count(found.needed, level)}{takes}."
            )
        elif found.confined:
            have = "has" if found.strips == 1 else "have"
            said.append(f"{strips} of {ply.name} {have} no place: the disks chosen for it have no room.")
        else:
            have, it = ("has", "it") if found.strips == 1 else ("have", "them")
            others = "others that may lie anywhere" if found.around else "others"
            said.append(
                f"{strips} of {ply.name} {have} no place: the disks that may hold {it} are full, and moving "
                f"{others} makes no room there."
            )
    if more := hindrances[most:]:
        said.append(
            f"And {say_count(sum(h.strips for h in more), 'strip')} of {say_count(len(more), 'volume')} more."
        )
    return " ".join(said)
