"""Writing what a copy of a snapshot still reads from there, until it stands alone."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from foldbarn.changes.engine.effects import Note, Promise
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.moving import Mover
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.policies.catching_up import CatchUp, not_written
from foldbarn.changes.kinds.pools.effects import NO_FEWER_COPIES, estimate_of, moved
from foldbarn.changes.kinds.pools.holding import InPool
from foldbarn.changes.kinds.volumes.serving import find_volume
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.moving.moves import NO_MOVES, Busy, Moves
from foldbarn.core.moving.rebuild import plan_anew
from foldbarn.core.policies.adopting import hot_for
from foldbarn.core.site import Pool, SiteView, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_count, say_size
from foldbarn.core.volumes.origins import against_reshaping, snapshot_of, written_in
from foldbarn.settings import settings
from foldbarn.store import volumes
from foldbarn.store.database import announce
from foldbarn.store.views import current_view, load_view

PORTION = 128  # strips that are under way together


class StandAloneParams(Params):
    """A volume by name that was made from a snapshot."""

    volume: str


class WriteRest(CatchUp):
    """Writes what copies (by number) still read from their origin. What has been written stays, though the
    change be withdrawn: the rest is read from there as before.
    """

    name: ClassVar[str] = "write-rest"
    mends: ClassVar[bool] = False

    def carry_out(self, run: Run) -> str:
        for number in self.volumes:
            self._begin(run, number)
        return super().carry_out(run)

    def write(self, run: Run) -> int:
        """Portion by portion: whoever wants strips of the pool to stay where they are gets a turn between two
        of them.
        """
        before = -1
        while True:
            portion = _Portion(self)
            mover = Mover(
                run, self.name, self.pool, portion.plan, rate="level_rate", ahead=self.still_to_be_written
            )
            copied, stuck = mover.carry()
            if not portion.planned:
                self.check(stuck)
                return copied
            if copied == before:  # nothing of it could be read or written just now
                time.sleep(settings().look_seconds)
            before = copied

    def _begin(self, run: Run, number: int) -> None:
        """Room that is kept for what its origin never wrote is not written: there is nothing to write."""
        pool = current_view().pool_numbered(self.pool)
        with run.holding_strips(pool), run.writing() as session:
            view = load_view(session)
            volume = find_volume(view, number)
            if volume is None or volume.origin is None:
                return
            volumes.leave_copying(session, number, left=False)
            origin = view.volume_numbered(volume.origin.volume)
            written = written_in(origin, volume.whole.scheme, volume.whole.extents)
            if len(never := np.flatnonzero(volume.through & ~written)):
                volumes.clear_extents(session, volume.whole.number, never)
            announce(session, "site")


@dataclass(slots=True)
class _Portion:
    """A part of what copies still read from their origin, planned a single time."""

    step: WriteRest
    planned: int = 0

    def plan(self, view: SiteView, pool: Pool, busy: Busy) -> Moves:
        moves = NO_MOVES
        for volume in self.step.mine(view) if not self.planned else []:
            if volume.anew is not None and not len(moves):
                moves = plan_anew(view, pool, volume.anew, seed=1, busy=busy, most=PORTION)
        self.planned += len(moves)
        return moves


class LetStandAlone(InPool):
    """A copy (by number) of which all is written reads from nowhere else any more."""

    name: ClassVar[str] = "let-stand-alone"
    moves_strips: ClassVar[bool] = True
    volume: int

    def carry_out(self, run: Run) -> str:
        # What was lost on its way since is written once more.
        WriteRest(pool=self.pool, volumes=(self.volume,)).write(run)
        with self.holding(run) as session:
            view = load_view(session)
            volume = find_volume(view, self.volume)
            if volume is None:
                return "It is gone."  # its bin was emptied while this was paused
            if volume.origin is None:
                return "It stands alone already."
            if volume.anew is not None:
                raise not_written(view, volume, volume.anew, "")
            policy = view.policy_of(volume)
            volumes.stand_alone(session, volume.number)
            if policy is not None and volume.hot is None and (hot := hot_for(volume, policy.wishes)):
                volumes.add_ply(session, volume.number, hot, volume.whole.extents)
            announce(session, "site")
        return f"{volume.name} stands alone."


@register
class StandAlone(Kind[StandAloneParams]):
    """write rest (agents), let stand alone (ours)."""

    name: ClassVar[str] = "stand-alone"
    params: ClassVar[type[Params]] = StandAloneParams

    def plan(self, view: SiteView, params: StandAloneParams) -> Plan:
        title = f"Let {params.volume or '...'} stand alone"
        try:
            volume = view.volume(params.volume)
            if refusal := _against(volume):
                raise refusal
        except BarnError as error:
            return Plan(title=title, about=params.volume, blockers=[Note.of(error)])
        pool, anew = view.pools[volume.pool], volume.anew
        moves = NO_MOVES
        if anew is not None:
            moves = plan_anew(view, pool, anew, seed=1, busy={}, most=anew.placement.size)
        origin, snapshot = snapshot_of(view, volume)
        left = int(volume.through.sum())
        return Plan(
            title=f"Let {volume.name} stand alone",
            about=volume.name,
            summary=f"{say_size(len(moves) * pool.strip_bytes)} on disks; {say_count(left, 'extent')} of it "
            f"{'is' if left == 1 else 'are'} still read from {snapshot.name} of {origin.name}.",
            steps=[
                Planned(
                    WriteRest(pool=pool.number, volumes=(volume.number,)),
                    "Write what it still reads from there",
                    "It is in use meanwhile. Lost strips of the pool are written again first.",
                    seconds=estimate_of(view, pool, moves).seconds,
                ),
                Planned(
                    LetStandAlone(pool=pool.number, volume=volume.number),
                    "Let it stand alone",
                    "Only where all of it is written.",
                ),
            ],
            effects=[
                Promise(
                    title="Then",
                    sentence=f"{volume.name} has all of its own: deleting {snapshot.name}, or {origin.name}, "
                    f"takes nothing from it, and deleting {volume.name} nothing from them.",
                ),
                *moved(view, pool, moves),
                NO_FEWER_COPIES,
            ],
            touches=[shared(Thing.POOL, pool.number), alone(Thing.COPYING, volume.number)],
            meant=Meant(volumes=(volume,), pools=(pool,)),
        )


def _against(volume: Volume) -> NotPossible | None:
    if volume.forming:
        words = f"{volume.name} is still being made."
        return NotPossible(words, about="volume", next_step="Wait until that change is done.")
    if volume.origin is None:
        return NotPossible(f"{volume.name} stands alone already.", about="volume")
    return against_reshaping(volume) if volume.origin.shown else None
