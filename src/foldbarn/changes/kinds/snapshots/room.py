"""Room for what is overwritten of a volume: it comes with the first snapshot, and goes with the last."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from foldbarn.changes.engine.marks import MARKS
from foldbarn.changes.engine.plan import Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside
from foldbarn.changes.engine.telling import tell_for_a_step
from foldbarn.changes.kinds.pools.holding import InPool
from foldbarn.changes.kinds.pools.rebuild import OfPool
from foldbarn.changes.kinds.volumes.serving import find_volume
from foldbarn.changes.kinds.volumes.setting_aside import read_back, set_aside
from foldbarn.core.errors import Overtaken
from foldbarn.core.policies.adopting import new_past
from foldbarn.core.policies.limits import holders
from foldbarn.core.site import Pool, Volume
from foldbarn.core.units import say_count
from foldbarn.store import pools, snapshots, volumes
from foldbarn.store.database import announce, transaction
from foldbarn.store.views import current_view, load_view


class SetPast(InPool):
    """A volume (by number) has a disk for each strip of so many extents, for what is overwritten of it."""

    name: ClassVar[str] = "set-past"
    volume: int
    extents: int

    def carry_out(self, run: Run) -> str:
        with self.placing(run) as session:
            view = load_view(session)
            volume = find_volume(view, self.volume)
            if volume is None:
                raise Overtaken("The volume is gone.", about="volumes")
            if volume.past is not None:
                return "It has room for them already."
            volumes.add_ply(session, volume.number, new_past(view, volume, self.extents))
            announce(session, "site")
        return f"A disk chosen for each strip of {say_count(self.extents, 'extent')}."

    def take_back(self, run: Run) -> None:
        """Where no snapshot has been taken since."""
        with self.holding(run) as session:
            volume = find_volume(load_view(session), self.volume)
            if volume is None or volume.past is None or volume.marks:
                return
            volumes.forget_past(session, volume.number)
            # What its nodes have set aside is dropped by the comparison that follows.
            pools.look(session, [self.pool], f"Room for snapshots of {volume.name} was withdrawn")
            announce(session, "site")


class SetPastAside(OfPool):
    """Agents set that room aside for volumes (by number)."""

    name: ClassVar[str] = "set-past-aside"
    volumes: tuple[int, ...]

    def carry_out(self, run: Run) -> str:
        with transaction() as session:
            forming = snapshots.forming_pasts(session, self.volumes)
        for ply in forming:
            set_aside(run, ply, current_view().pool_numbered(self.pool).strip_bytes)
            read_back(run, ply)
            with run.writing() as session:
                volumes.made(session, ply)
                announce(session, "site")
        return f"Set aside for {say_count(len(forming), 'volume')}."


class LetPastGo(InPool):
    """A volume (by number) of which there are no snapshots keeps nothing more of what is overwritten."""

    name: ClassVar[str] = "let-past-go"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "its last snapshots are gone"
    volume: int

    def carry_out(self, run: Run) -> str:
        with self.holding(run) as session:
            volume = find_volume(load_view(session), self.volume)
            if volume is None or volume.past is None:
                return "It has none already."
            if volume.marks:
                return "There are others by now, which it is kept for."
            volumes.forget_past(session, volume.number)
            announce(session, "site")
        return "Its room is free for others."


class TellMarks(Outside):
    """The nodes of a volume (by number) know which snapshots of it there are."""

    name: ClassVar[str] = "tell-marks"
    volume: int

    def carry_out(self, run: Run) -> str:
        view = current_view()
        volume = find_volume(view, self.volume)
        if volume is None:
            return "It is gone."
        return tell_for_a_step(run, MARKS, {node for node, _ in holders(view, volume)})


def set_up(pool: Pool, lacking: Sequence[tuple[Volume, int]], *, one: bool) -> list[Planned]:
    """The steps that set room aside for volumes of a pool, each of so many extents."""
    if not lacking:
        return []
    chosen = [
        Planned(
            SetPast(pool=pool.number, volume=volume.number, extents=extents),
            "Choose disks for room for its snapshots"
            if one
            else f"Choose disks for snapshots of {volume.name}",
            "As it is held itself; what is overwritten is kept there.",
            about="" if one else volume.name,
        )
        for volume, extents in lacking
    ]
    aside = SetPastAside(pool=pool.number, volumes=tuple(volume.number for volume, _ in lacking))
    return [*chosen, Planned(aside, "Set that room aside", "Every agent reserves its strips.", seconds=1)]
