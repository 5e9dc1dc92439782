"""Rebuild and level: what is lost is written again elsewhere, what has returned is put to use, and disks are
evened out.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import ClassVar

from foldbarn.changes.engine.effects import Note, Row, Sums, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.moving import Mover, compare, stop_moving
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside
from foldbarn.changes.kinds.pools.effects import NO_FEWER_COPIES, estimate_of, moved
from foldbarn.changes.kinds.pools.joining import Bind
from foldbarn.core.figures import Figure
from foldbarn.core.moving.levelling import LEVEL_TOLERANCE, above_share, imbalance, plan_levelling
from foldbarn.core.moving.moves import NO_MOVES, Busy, Moves, say_hindrances
from foldbarn.core.moving.rebuild import lost_strips, plan_rebuild
from foldbarn.core.site import Pool, Role, SiteView
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_count, say_size
from foldbarn.core.watch.lamps import Outlook
from foldbarn.store import moves as store_moves
from foldbarn.store import pools
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view


class RebuildParams(Params):
    """Which pool to mend and level."""

    pool: str


class OfPool(Outside):
    """A step that mends a pool (by number).

    What has arrived stays in withdrawing: old strips are dropped when the pool is next compared.
    """

    pool: int

    def take_back(self, run: Run) -> None:
        stop_moving(run)

    def stop(self, run: Run) -> None:
        stop_moving(run)


class Compare(OfPool):
    """Asks every reachable disk what it holds; drops what belongs elsewhere by now, marks what is missing."""

    name: ClassVar[str] = "compare"

    def carry_out(self, run: Run) -> str:
        pool = current_view().pool_numbered(self.pool)
        with transaction() as session:
            asked = pools.looks_asked(session, pool.number)
        with run.holding_strips(pool):
            dropped, missing = compare(run, pool.number)
        with run.writing() as session:
            pools.answer_look(session, pool.number, asked)
        return (
            f"{say_count(dropped, 'left-over strip')} dropped, {say_count(missing, 'strip')} found missing."
        )


class WriteAgain(OfPool):
    """Writes what is lost again elsewhere."""

    name: ClassVar[str] = "copy"
    moves_strips: ClassVar[bool] = True

    def carry_out(self, run: Run) -> str:
        copied, stuck = Mover(run, "copy", self.pool, rate="rebuild_rate").carry()
        ending = f" {stuck}" if stuck else ""
        return f"{say_count(copied, 'strip')} written again.{ending}"


class EvenOut(OfPool):
    """Levels the disks."""

    name: ClassVar[str] = "level"
    moves_strips: ClassVar[bool] = True

    def carry_out(self, run: Run) -> str:
        level = partial(_level, seed=run.change)
        copied, stuck = Mover(run, "level", self.pool, level, once=True).carry()
        ending = f" {stuck}" if stuck else ""
        return f"{say_count(copied, 'strip')} moved.{ending}"


class DropOld(OfPool):
    """Drops the strips that have been written elsewhere."""

    name: ClassVar[str] = "drop-old"

    def carry_out(self, run: Run) -> str:
        pool = current_view().pool_numbered(self.pool)
        with run.holding_strips(pool):
            dropped, _ = compare(run, pool.number, only_drop=True)
        with run.writing() as session:
            store_moves.settle(session, run.change)
        return f"{say_count(dropped, 'old strip')} dropped."


@register
class Rebuild(Kind[RebuildParams]):
    """bind (agents, where there is cache), compare (agents), copy, level, drop old (agents)."""

    name: ClassVar[str] = "rebuild"
    params: ClassVar[type[Params]] = RebuildParams

    def plan(self, view: SiteView, params: RebuildParams) -> Plan:
        pool = view.pool(params.pool)
        rebuild = plan_rebuild(view, pool, seed=1)
        moves = rebuild if len(rebuild) else plan_levelling(view, pool, seed=1)
        return Plan(
            title=f"Rebuild and level {pool.name}",
            about=params.pool,
            summary=_summary(rebuild, moves, pool),
            steps=_steps(view, pool, rebuild, moves),
            effects=[
                _sums(view, pool, moves, rebuild),
                *moved(view, pool, moves, lost=bool(len(rebuild))),
                NO_FEWER_COPIES,
            ],
            touches=[shared(Thing.POOL, pool.number), alone(Thing.REBUILD, pool.number)],
            meant=Meant(pools=(pool,)),
            warnings=_warnings(view, pool, rebuild),
        )


def _steps(view: SiteView, pool: Pool, rebuild: Moves, moves: Moves) -> Sequence[Planned]:
    seconds = estimate_of(view, pool, moves, lost=bool(len(rebuild))).seconds
    cached = any(d.role == Role.CACHE for d in view.all_of(pool))
    bind = Planned(
        Bind(pool=pool.number),
        "Bind its cache devices",
        "Disks whose device is gone are served by another of their node.",
    )
    return [
        *([bind] if cached else []),
        Planned(
            Compare(pool=pool.number),
            "Compare each disk with what it should hold",
            "Strips that were moved on meanwhile are dropped.",
        ),
        Planned(
            WriteAgain(pool=pool.number),
            "Write lost strips again elsewhere",
            "Each in a domain that keeps its extent's spread.",
            seconds=seconds if len(rebuild) else 0,
        ),
        Planned(
            EvenOut(pool=pool.number),
            "Level the disks",
            "Fullest disks give to emptiest, until each is near its share.",
            seconds=0 if len(rebuild) else seconds,
        ),
        Planned(DropOld(pool=pool.number), "Let go of the old strips", "Only after the new ones are whole."),
    ]


def _level(view: SiteView, pool: Pool, busy: Busy, *, seed: int) -> Moves:
    """Levelling, where it is worth its moves. While disks are being emptied it waits: the drain levels as it
    goes.
    """
    draining = bool(view.disk_used[view.disk_retiring & (view.disk_pool == view.pool_row(pool))].any())
    if draining or imbalance(view, pool) <= LEVEL_TOLERANCE:
        return NO_MOVES
    return plan_levelling(view, pool, seed, busy)


def _summary(rebuild: Moves, moves: Moves, pool: Pool) -> str:
    size = say_size(len(moves) * pool.strip_bytes)
    if len(rebuild):
        return f"{say_count(len(rebuild), 'strip')} ({size}) to be written again."
    if len(moves):
        return (
            f"Nothing is lost; {say_count(len(moves), 'strip')} ({size}) move so that the disks are "
            "evenly used."
        )
    return "Nothing is lost and the disks are level: there is nothing to move."


def _sums(view: SiteView, pool: Pool, moves: Moves, rebuild: Moves) -> Sums:
    """The figures before and after."""
    lost = sum(int(lost_strips(view, p).sum()) for p in view.plies_of(pool))
    left = rebuild.stuck if lost else 0
    to_move = len(moves) * pool.strip_bytes
    return Sums(
        rows=[
            Row(
                label="Strips to write again",
                before=Figure("lost", lost, "count"),
                after=Figure("lost", left, "count"),
            ),
            Row(label="Furthest disk from level", before=Figure("furthest", imbalance(view, pool), "share")),
            Row(
                label="Strips above their disks' shares",
                before=Figure("above", above_share(view, pool), "count"),
            ),
            Row(label="Data to move", after=Figure("data", to_move, "bytes")),
        ]
    )


def _warnings(view: SiteView, pool: Pool, rebuild: Moves) -> list[Note]:
    found = []
    if rebuild.stuck:
        step = f"Bring the missing nodes back, or add disks in another {pool.usual.level}."
        found.append(warning("stuck", say_hindrances(view, rebuild.hindrances), next_step=step))
    fates = zip(Outlook(view, 0.0, 0.0).fates, view.volumes, strict=True)
    unreadable = sum(f.unavailable + f.lost for f, v in fates if view.pools[v.pool] is pool)
    if unreadable:
        words = (
            f"{say_count(unreadable, 'extent')} cannot be read and so cannot be copied until something "
            "returns."
        )
        found.append(warning("unreadable", words))
    return found
