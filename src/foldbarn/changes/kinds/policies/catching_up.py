"""Writing what volumes lack for a policy, and what they are written anew by."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from foldbarn.changes.engine.moving import Mover
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.pools.rebuild import OfPool
from foldbarn.core.errors import BarnError, NotPossible, Unreachable
from foldbarn.core.moving.moves import NO_MOVES, Busy, Moves
from foldbarn.core.moving.rebuild import (
    crowded_strips,
    lost_strips,
    plan_anew,
    ready_to_hold,
    waiting_anew,
)
from foldbarn.core.names import natural_key
from foldbarn.core.site import Ply, Pool, SiteView, Volume
from foldbarn.core.units import say_count, say_list
from foldbarn.store.views import current_view

WINDOW = 4096  # strips of what is written anew that are under way at once


class CatchUp(OfPool):
    """Writes what volumes (by number) lack for their policy, moves apart what it wants apart, and writes anew
    what has to be.
    """

    name: ClassVar[str] = "catch-up"
    moves_strips: ClassVar[bool] = True
    mends: ClassVar[bool] = True  # whether what its volumes lack otherwise is its business too
    volumes: tuple[int, ...]

    def carry_out(self, run: Run) -> str:
        return f"{say_count(self.write(run), 'strip')} written."

    def write(self, run: Run) -> int:
        """Until all of it is there; returns how many strips that took. Raises BarnError where it cannot."""
        mover = Mover(
            run,
            self.name,
            self.pool,
            self._anew,
            rate="rebuild_rate" if self.mends else "level_rate",
            ahead=self.still_to_be_written,
        )
        copied, stuck = mover.carry()
        self.check(stuck)
        return copied

    def check(self, stuck: str) -> None:
        """Raises BarnError where something of it is not there; stuck: why, as far as the mover knows."""
        view = current_view()
        for volume in self.mine(view):
            if volume.anew is not None:
                if not ready_to_hold(view, volume.anew):
                    raise not_written(view, volume, volume.anew, stuck)
            elif self.mends:
                left = sum(int((lost_strips(view, p) | crowded_strips(view, p)).sum()) for p in volume.plies)
                if not left:
                    continue
                words = f"{say_count(left, 'strip')} of {volume.name} could not be written."
                raise NotPossible(f"{words} {stuck}".strip(), next_step="Resume it when there is room.")

    def mine(self, view: SiteView) -> list[Volume]:
        return [v for v in view.volumes if v.number in self.volumes]

    def _anew(self, view: SiteView, pool: Pool, busy: Busy) -> Moves:
        """Of the first volume of which anything can be written; else what has no place, if anything."""
        stuck = NO_MOVES
        for volume in self.mine(view):
            if volume.anew is not None:
                moves = plan_anew(view, pool, volume.anew, seed=1, busy=busy, most=WINDOW)
                if len(moves):
                    return moves
                stuck = moves if moves.hindrances else stuck
        return stuck

    def still_to_be_written(self, view: SiteView) -> int:
        mine = [v.anew for v in self.mine(view) if v.anew is not None]
        return sum(int(waiting_anew(ply).sum()) for ply in mine)


def not_written(view: SiteView, volume: Volume, ply: Ply, stuck: str) -> BarnError:
    """Why what is written anew cannot hold its volume yet. What a machine has to come back for is tried
    again.
    """
    left = int(waiting_anew(ply).sum())
    rows = np.unique(np.append(view.rows_kept_for(ply), view.rows(view.ply_numbered[ply.source]))).tolist()
    gone = [view.disks[r] for r in rows if r < len(view.disks) and not view.disk_ready[r]]
    away = sorted({view.nodes[disk.node].name for disk in gone}, key=natural_key)
    what = f"{say_count(left, 'strip')} of {volume.name} {'is' if left == 1 else 'are'} not written yet"
    if not left:
        what = f"{volume.name} is written, and cannot all be read"
    if away and not stuck:
        return Unreachable(f"{what}: {say_list(away)} cannot be reached.", next_step="Bring it back.")
    return NotPossible(f"{what}. {stuck}".strip(), next_step="Resume it when there is room.")
