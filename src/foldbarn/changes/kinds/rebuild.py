"""Rebuild and level: what is lost is written again elsewhere, what has returned is put to use, and disks are
evened out.
"""

from __future__ import annotations

from functools import partial
from typing import ClassVar

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.moving import Mover, compare, stop_moving
from foldbarn.changes.engine.preview import Note, PlannedStep, Preview, Row
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.disks import bind
from foldbarn.changes.kinds.effects import NO_FEWER_COPIES, estimate_of, tell_moves
from foldbarn.core.figures import Figure
from foldbarn.core.lamps import Outlook
from foldbarn.core.levelling import LEVEL_TOLERANCE, above_share, imbalance, plan_levelling
from foldbarn.core.moves import NO_MOVES, Busy, Moves, say_hindrances
from foldbarn.core.rebuild import lost_strips, plan_rebuild
from foldbarn.core.site import Pool, Role, SiteView
from foldbarn.core.touching import Meant, Thing, Touch, alone, shared
from foldbarn.core.units import say_count, say_size
from foldbarn.store import moves as store_moves
from foldbarn.store import pools
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view


class RebuildParams(Params):
    """Which pool to mend and level."""

    pool: str


@register
class Rebuild(Kind[RebuildParams]):
    """compare (agents), copy, level, let_go (agents)."""

    name: ClassVar[str] = "rebuild"
    params: ClassVar[type[Params]] = RebuildParams
    exact: ClassVar[bool] = False

    def about(self, params: RebuildParams) -> str:
        return params.pool

    def meant(self, view: SiteView, params: RebuildParams) -> Meant:
        return Meant(pools=(view.pool(params.pool),))

    def touches(self, view: SiteView, params: RebuildParams) -> list[Touch]:
        pool = view.pool(params.pool).number
        return [shared(Thing.POOL, pool), alone(Thing.REBUILD, pool)]

    def preview(self, view: SiteView, params: RebuildParams) -> Preview:
        pool = view.pool(params.pool)
        rebuild = plan_rebuild(view, pool, seed=1)
        moves = rebuild if len(rebuild) else plan_levelling(view, pool, seed=1)
        guess = estimate_of(view, pool, moves, lost=bool(len(rebuild)))
        preview = Preview(
            kind=self.name,
            title=f"Rebuild and level {pool.name}",
            summary=_summary(rebuild, moves, pool),
            revision=view.revision,
            steps=[
                PlannedStep(
                    name="compare",
                    title="Compare each disk with what it should hold",
                    detail="Strips that were moved on meanwhile are dropped.",
                ),
                PlannedStep(
                    name="copy",
                    title="Write lost strips again elsewhere",
                    detail="Each in a domain that keeps its extent's spread.",
                    seconds=guess.seconds if len(rebuild) else 0,
                ),
                PlannedStep(
                    name="level",
                    title="Level the disks",
                    detail="Fullest disks give to emptiest, until each is near its share.",
                    seconds=0 if len(rebuild) else guess.seconds,
                ),
                PlannedStep(
                    name="let_go",
                    title="Let go of the old strips",
                    detail="Only after the new ones are whole.",
                ),
            ],
            protection=NO_FEWER_COPIES,
        )
        if any(d.role == Role.CACHE for d in view.all_of(pool)):
            detail = "Disks whose device is gone are served by another of their node."
            preview.steps.insert(0, PlannedStep(name="bind", title="Bind its cache devices", detail=detail))
        _tell(preview, view, pool, moves, rebuild)
        if rebuild.stuck:
            preview.warnings.append(
                Note(
                    sentence=say_hindrances(view, rebuild.hindrances),
                    next_step=f"Bring the missing nodes back, or add disks in another {pool.usual.level}.",
                )
            )
        unreadable = sum(
            f.unavailable + f.lost
            for f, v in zip(Outlook(view, 0.0, 0.0).fates, view.volumes, strict=True)
            if view.pools[v.pool] is pool
        )
        if unreadable:
            preview.warnings.append(
                Note(
                    sentence=f"{say_count(unreadable, 'extent')} cannot be read and so cannot be copied "
                    "until something returns."
                )
            )
        return preview.sealed()

    def step_bind(self, run: Run[RebuildParams]) -> str:
        return bind(run, _pool(run).name)

    def step_compare(self, run: Run[RebuildParams]) -> str:
        """Asks every reachable disk what it holds; drops what belongs elsewhere by now, marks what is
        missing.
        """
        pool = _pool(run)
        with transaction() as session:
            asked = pools.looks(session).get(pool.number, "")
        with run.holding_strips(pool):
            dropped, missing = compare(run, pool.name)
        with run.writing() as session:
            pools.answer_look(session, pool.number, asked)
        return (
            f"{say_count(dropped, 'left-over strip')} dropped, {say_count(missing, 'strip')} found missing."
        )

    def step_copy(self, run: Run[RebuildParams]) -> str:
        copied, stuck = Mover(run, "copy", _pool(run).name, rate="rebuild_rate").carry()
        ending = f" {stuck}" if stuck else ""
        return f"{say_count(copied, 'strip')} written again.{ending}"

    def step_level(self, run: Run[RebuildParams]) -> str:
        level = partial(_level, seed=run.change)
        copied, stuck = Mover(run, "level", _pool(run).name, level, once=True).carry()
        ending = f" {stuck}" if stuck else ""
        return f"{say_count(copied, 'strip')} moved.{ending}"

    def step_let_go(self, run: Run[RebuildParams]) -> str:
        pool = _pool(run)
        with run.holding_strips(pool):
            dropped, _ = compare(run, pool.name, only_drop=True)
        with run.writing() as session:
            store_moves.settle(session, run.change)
        return f"{say_count(dropped, 'old strip')} dropped."

    def stop(self, run: Run[RebuildParams]) -> None:
        stop_moving(run)

    def withdraw(self, run: Run[RebuildParams]) -> None:
        """Pausing has stopped its copies, and what has arrived stays: old strips are dropped when the pool is
        next compared.
        """
        stop_moving(run)


def _pool(run: Run[RebuildParams]) -> Pool:
    return run.pool(current_view(), run.params.pool)


def _level(view: SiteView, pool: Pool, busy: Busy, *, seed: int) -> Moves:
    """Levelling, where it is worth its moves. While disks are being emptied it waits: the drain levels as it
    goes.
    """
    draining = bool(view.disk_used[view.disk_retiring & (view.disk_pool == view.pool_row(pool))].any())
    if draining or imbalance(view, pool) <= LEVEL_TOLERANCE:
        return NO_MOVES
    return plan_levelling(view, pool, seed, busy)


def _summary(rebuild: Moves, moves: Moves, pool: Pool) -> str:
    size = say_size(len(moves) * pool.extent_bytes)
    if len(rebuild):
        return f"{say_count(len(rebuild), 'strip')} ({size}) to be written again."
    if len(moves):
        return (
            f"Nothing is lost; {say_count(len(moves), 'strip')} ({size}) move so that the disks are "
            "evenly used."
        )
    return "Nothing is lost and the disks are level: there is nothing to move."


def _tell(preview: Preview, view: SiteView, pool: Pool, moves: Moves, plan: Moves) -> None:
    """The moves, and the figures before and after."""
    tell_moves(preview, view, pool, moves, lost=bool(len(plan)))
    lost = sum(int(lost_strips(view, v).sum()) for v in view.volumes_of(pool))
    preview.rows += [
        Row(
            label="Strips to write again",
            before=Figure("lost", lost, "count"),
            after=Figure("lost", moves.stuck if lost else 0, "count"),
        ),
        Row(label="Furthest disk from level", before=Figure("furthest", imbalance(view, pool), "share")),
        Row(
            label="Strips above their disks' shares", before=Figure("above", above_share(view, pool), "count")
        ),
        Row(label="Data to move", after=Figure("data", len(moves) * pool.extent_bytes, "bytes")),
    ]
