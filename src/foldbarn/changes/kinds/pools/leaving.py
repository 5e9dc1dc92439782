"""Disks that stop holding strips: what stands against it, what it does to their pools, and the steps that all
such changes share.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from foldbarn.changes.engine.effects import AnyEffect, Note, warning
from foldbarn.changes.engine.moving import Mover, compare, stop_moving
from foldbarn.changes.engine.plan import Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.changes.kinds.pools.disks import serials_by_node
from foldbarn.changes.kinds.pools.effects import Moving, room_before_and_after, with_disks
from foldbarn.changes.kinds.pools.joining import release
from foldbarn.core.errors import NotPossible, Unreachable
from foldbarn.core.moving.moves import Busy, Moves, arrived
from foldbarn.core.moving.rebuild import plan_drain
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.healing import healing_sentence, heals
from foldbarn.core.pools.protection import Level
from foldbarn.core.site import Disk, Pool, Role, SiteView
from foldbarn.core.touching import Thing, Touch, alone, shared
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.store import disks as store_disks
from foldbarn.store import nodes as store_nodes
from foldbarn.store import pools as store_pools
from foldbarn.store.database import Session, announce
from foldbarn.store.views import current_view


def pools_of(view: SiteView, disks: Iterable[Disk]) -> list[Pool]:
    """The pools that these disks belong to, in the site's order."""
    return [view.pools[row] for row in sorted({d.pool for d in disks if d.pool >= 0})]


def holding(disks: Iterable[Disk]) -> list[Disk]:
    """Those that hold strips for good."""
    return [d for d in disks if d.role == Role.CAPACITY]


@dataclass(frozen=True, slots=True, eq=False)
class Leaving:
    """A pool before, while and after disks leave it, and the moves that empty them. Others may join at the
    same time.
    """

    pool: Pool
    during: SiteView
    after: SiteView
    moves: Moves


def plan_leaving(
    view: SiteView,
    pool: Pool,
    disks: Sequence[Disk],
    joining: Sequence[Disk] = (),
    becoming: Role | None = None,
) -> Leaving:
    """Plans the emptying of disks. joining: disks as they will be once they have joined, which get strips
    first; becoming: the role that those that leave have in the pool afterwards, None where they leave it
    altogether."""
    mine = [d for d in disks if d.pool >= 0 and view.pools[d.pool].number == pool.number]
    during = with_disks(view, [*(replace(d, retiring=True) for d in holding(mine)), *joining])
    prefer = np.array([d.number for d in joining], dtype=np.int32) if joining else None
    moves = plan_drain(during, pool, seed=1, prefer=prefer, lost_too=True)
    placed = arrived(during, moves)
    gone = [
        replace(d, retiring=False, pool=d.pool if becoming else -1, role=becoming or Role.UNCLAIMED)
        for d in mine
    ]
    return Leaving(pool, during, with_disks(placed, gone), moves)


def leaving_effects(view: SiteView, found: Leaving, moving: Moving) -> tuple[list[AnyEffect], float]:
    """What it does to a pool, with its moves added to those of others; and the seconds these take."""
    seconds = moving.add(found.during, found.pool, found.moves)
    return room_before_and_after(view, found.after, found.pool), seconds


def rooms_while_leaving(view: SiteView, found: Leaving, last: str) -> list[tuple[str, SiteView, Pool]]:
    """The sites at which a pool's room differs. last: when the disks are gone."""
    pool = found.pool
    return [
        ("as it is", view, pool),
        ("nothing new goes there", found.during, pool),
        (last, found.after, pool),
    ]


def leaving_blockers(view: SiteView, found: Leaving) -> list[Note]:
    """What stands against it: strips that find no place, and too little room."""
    pool = found.pool
    if found.moves.stuck:
        return _stuck(view, found)
    after = pool_space(found.after, pool)
    if after.used <= after.slots:
        return []
    short = say_size((after.used - after.slots) * pool.strip_bytes)
    words = f"{pool.name} would be {short} over what its other disks hold."
    return [Note(sentence=words, next_step="Add disks first.")]


def leaving_warnings(view: SiteView, found: Leaving) -> list[Note]:
    """What is worse afterwards: fuller than the line, or unable to heal."""
    pool, notes = found.pool, []
    before, after = pool_space(view, pool), pool_space(found.after, pool)
    if not found.moves.stuck and after.slots >= after.used and after.full > pool.fill_line >= before.full:
        words = f"{pool.name} would be {after.full:.0%} full, past its fill line of {pool.fill_line:.0%}."
        notes.append(warning("past-fill-line", words, about=pool.name))
    if heals(view, pool, before) and not heals(found.after, pool, after):
        words = f"Afterwards: {healing_sentence(found.after, pool, after)} As it is now, it could."
        step = "Add disks first, or hold fewer copies."
        notes.append(warning("heals-no-more", words, about=pool.name, next_step=step))
    return notes


def _stuck(view: SiteView, found: Leaving) -> list[Note]:
    """Why strips cannot leave, by volume, as the plan found it."""
    by_number = view.ply_numbered
    notes = []
    for hindrance in found.moves.hindrances:
        ply = by_number[hindrance.ply]
        level: Level = ply.scheme.level
        if hindrance.too_few_domains:
            words = (
                f"{ply.name} keeps {ply.scheme.counted()} in as "
                f"many {level}s; "
                f"{'only ' if hindrance.domains else ''}{say_count(hindrance.domains, level.value)} "
                "would be left."
            )
            step = f"Add disks in another {level} first, or delete {ply.name}."
        else:
            strip = found.pool.strip_bytes
            open_ = found.during.in_pool(found.pool, ply.tier)
            room = int(found.during.disk_free[open_[found.during.disk_open[open_]]].sum()) * strip
            words = (
                f"{say_size(hindrance.strips * strip)} that {ply.name} has on these disks has "
                "nowhere to go: "
                f"{say_size(room)} is free on the other disks of {found.pool.name}, and moving others "
                "makes no room where its extents stay apart."
            )
            step = "Add disks first."
        notes.append(Note(sentence=words, about="names", next_step=step))
    return notes


def unreadable_blockers(view: SiteView, disks: Sequence[Disk]) -> list[Note]:
    """Volumes that have extents which cannot be read now and lie partly on these disks: taking the disks
    would lose them for good.
    """
    rows = view.row_of_number[[d.number for d in disks]] if disks else np.zeros(0, dtype=np.int32)
    here = np.zeros(len(view.disks) + 1, dtype=np.bool_)
    here[rows] = True
    ready = np.append(view.disk_ready, False)
    notes = []
    for ply in view.plies:
        held = view.rows(ply)
        unreadable = (ready[held].sum(axis=1) < ply.scheme.k) & ~ply.unwritten
        count = int((here[held].any(axis=1) & unreadable).sum())
        if count:
            words = (
                f"{say_count(count, 'extent')} of {ply.name} cannot be read now and may return only "
                "with these disks."
            )
            notes.append(Note(sentence=words, about="names", next_step="Bring them back first."))
    return notes


# Steps. ------------------------------------------------------------------------------------------------


class Mark(Inside):
    """Disks (by number) get nothing new from here on."""

    name: ClassVar[str] = "mark"
    disks: tuple[int, ...]

    def carry_out(self, run: Run, session: Session) -> str:
        return mark(session, self.disks)

    def take_back(self, run: Run) -> None:
        """They are in use as before; what has moved stays where it is now, and levels itself."""
        with run.writing() as session:
            store_disks.use_again(session, self.disks)
            announce(session, "site")


class Drain(Outside):
    """Empties disks (by number) of one pool. prefer: those that get their strips first."""

    name: ClassVar[str] = "drain"
    moves_strips: ClassVar[bool] = True
    pool: int
    disks: tuple[int, ...]
    prefer: tuple[int, ...] = ()

    def carry_out(self, run: Run) -> str:
        prefer = np.array(self.prefer, dtype=np.int32) if self.prefer else None

        def more(view: SiteView, found: Pool, busy: Busy) -> Moves:
            return plan_drain(view, found, run.change, prefer, busy)

        part = f"drain{run.step}"
        copied, why = Mover(run, part, self.pool, more, prefer=prefer).carry()
        view = current_view()
        pool = view.pool_numbered(self.pool)
        rows = np.intersect1d(view.row_of_number[list(self.disks)], view.in_pool(pool))
        left = int(view.disk_used[rows].sum())
        if not left:
            return f"{say_count(copied, 'strip')} moved."
        silent = [r for r in view.in_pool(pool).tolist() if not view.disk_ready[r]]
        away = sorted({view.nodes[view.disks[r].node].name for r in silent})
        words = f"{say_count(left, 'strip')} could not leave. {why}".strip()
        if away:  # what is away may return, and then they can
            raise Unreachable(f"{words} {say_list(away, 3)} cannot be reached, or lacks disks.")
        raise NotPossible(words, next_step="Bring back what is missing, or add disks; then let it go on.")

    def take_back(self, run: Run) -> None:
        stop_moving(run)

    def stop(self, run: Run) -> None:
        stop_moving(run)


class Blank(Outside):
    """Drops old strips, and has the agents blank the disks (by number) that can be reached."""

    name: ClassVar[str] = "blank"
    no_way_back: ClassVar = "begun"
    why_no_way_back: ClassVar[str] = "what was emptied is being blanked"
    disks: tuple[int, ...]

    def carry_out(self, run: Run) -> str:
        view = current_view()
        disks = [d for n in self.disks if (d := view.known_number(n)) is not None]
        for pool in pools_of(view, disks):
            with run.holding_strips(pool):
                compare(run, pool.number, only_drop=True)
        ours = [d for d in disks if d.pool >= 0]
        reachable = [d for d in ours if view.disk_ready[view.row_of_number[d.number]]]
        release(run, serials_by_node(view, reachable))
        untold = [d for d in ours if d not in reachable]
        with run.writing() as session:
            store_disks.note_untold(session, [d.number for d in untold], [d.number for d in reachable])
        silent = [d.name for d in untold]
        ending = f" {say_list(silent)} could not be told; blank by hand before using again." if silent else ""
        return f"{say_count(len(reachable), 'disk')} blanked.{ending}"


class LetGo(Inside):
    """The disks (by number) belong to their pools no more. Those that could not be blanked are unfit until
    someone has looked at them.
    """

    name: ClassVar[str] = "part"
    lasting: ClassVar[bool] = True
    disks: tuple[int, ...]

    def carry_out(self, run: Run, session: Session) -> str:
        rows = store_disks.locked(session, self.disks)
        pools = {r.pool_id for r in rows if r.pool_id}
        for row in rows:
            if row.pool_id is None:
                continue
            store_disks.leave(row)
        store_nodes.ask_inventory(session, {r.node_id for r in rows})
        store_pools.look(session, pools, f"{say_list([r.name for r in rows])} left it")
        return f"{say_count(len(rows), 'disk')} {'is' if len(rows) == 1 else 'are'} out of use."


def mark(session: Session, disks: Iterable[int]) -> str:
    """From here on the disks (by number) get nothing new."""
    rows = store_disks.locked(session, disks)
    for row in rows:
        row.retiring = row.role == Role.CAPACITY
    marked = [r.name for r in rows if r.retiring]
    if not marked:
        return "None of them holds strips."
    verb = "takes" if len(marked) == 1 else "take"
    return f"{say_count(len(marked), 'disk')} {verb} nothing new from here on."


def numbers_of(disks: Iterable[Disk]) -> tuple[int, ...]:
    return tuple(d.number for d in disks)


def mark_step(disks: Sequence[Disk]) -> Planned:
    return Planned(
        Mark(disks=numbers_of(disks)),
        "Give them nothing new",
        "Volumes made from here on leave them out.",
    )


def leaving_touches(pools: Iterable[Pool], disks: Iterable[Disk]) -> list[Touch]:
    """What emptying disks touches: of each pool one change at a time does it."""
    touched = [t for p in pools for t in (shared(Thing.POOL, p.number), alone(Thing.LEAVING, p.number))]
    return touched + [alone(Thing.DISK, d.number) for d in disks]
