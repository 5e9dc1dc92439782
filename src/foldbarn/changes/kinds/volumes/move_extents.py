"""Extents of a volume moved between its tiers while it is in use: by heat, or as a person wishes."""

from __future__ import annotations

from typing import ClassVar

import numpy as np
from pydantic import Field

from foldbarn.changes.engine.effects import Note, Promise, Row, Sums
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.moving import stop_moving
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.policies.catching_up import CatchUp, not_written
from foldbarn.changes.kinds.pools.effects import NO_FEWER_COPIES, estimate_of, moved, room_rows
from foldbarn.changes.kinds.pools.holding import InPool
from foldbarn.changes.kinds.pools.rebuild import DropOld
from foldbarn.core.arrays import Ints
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.figures import Figure
from foldbarn.core.moving.rebuild import ready_to_hold
from foldbarn.core.policies.shifting import Shifted, shift
from foldbarn.core.site import Pool, SiteView, Tier, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_binary, say_count, say_size
from foldbarn.store import pools
from foldbarn.store import volumes as store_volumes
from foldbarn.store.database import announce
from foldbarn.store.views import load_view

MOST = 100_000  # extents of one change


class MoveExtentsParams(Params):
    """A volume by name, the tier that some of it is to lie on, and its extents, counted from 0 over all of
    it. Where none is named, all that lies on the fast tier goes down.
    """

    volume: str
    tier: Tier
    extents: list[int] = Field(default=[], max_length=MOST)


class OfExtents(InPool):
    """A step for some extents of a volume (by number) in a pool that go up to its fast tier, or down."""

    volume: int
    up: bool
    extents: tuple[int, ...]

    def find(self, view: SiteView) -> Volume | None:
        """The volume; None where it is gone."""
        return next((v for v in view.volumes if v.number == self.volume), None)

    def left(self, volume: Volume) -> Ints:
        """Those that do not lie there yet."""
        asked = np.array(self.extents, dtype=np.int64)
        asked = asked[asked < volume.whole.extents]  # it may have been written anew in fewer since
        found: Ints = asked[volume.upper[asked] != self.up]
        return found


class KeepRoom(OfExtents):
    """Room is kept for their strips on the tier that they go to; what holds them holds them as before.
    leaving: they go because the volume is to keep another policy.
    """

    name: ClassVar[str] = "keep-room"
    leaving: bool = False

    def carry_out(self, run: Run) -> str:
        with self.holding(run) as session:
            view = load_view(session)
            volume = self.find(view)
            if volume is None:
                raise Overtaken("The volume is gone.", about="volume")
            if max(self.extents) >= volume.whole.extents:
                raise Overtaken(f"{volume.name} has other extents by now.", about="extents")
            left = self.left(volume)
            # It may be kept already, where this was killed when it was done.
            if len(left) and volume.anew is None:
                try:
                    found = shift(view, volume, left, self.up, leaving=self.leaving)
                except NotPossible as error:
                    raise Overtaken(error.sentence, about=volume.name, next_step=error.next_step) from error
                store_volumes.set_extents(session, found.into.number, found.extents, found.rows)
            announce(session, "site")
        return f"{say_count(len(self.extents), 'extent')} to be written."

    def take_back(self, run: Run) -> None:
        with self.holding(run) as session:
            volume = self.find(load_view(session))
            if volume is None or volume.anew is None:
                return
            store_volumes.clear_extents(session, volume.anew.number, np.flatnonzero(~volume.anew.unwritten))
            pools.look(session, [self.pool], f"{volume.name} stays where it lay")
            announce(session, "site")


class Bring(CatchUp):
    """Writes them there, from what holds them."""

    name: ClassVar[str] = "bring"
    mends: ClassVar[bool] = False


class HoldThere(OfExtents):
    """What was written holds these extents from here on. Those that lie there stay, though the change be
    withdrawn: what is right is found out from their heat.
    """

    name: ClassVar[str] = "hold-there"
    moves_strips: ClassVar[bool] = True

    def take_back(self, run: Run) -> None:
        stop_moving(run)
        with self.holding(run) as session:
            volume = self.find(load_view(session))
            if volume is not None and not len(self.left(volume)):  # what held them may still lie on disks
                pools.look(session, [self.pool], f"{volume.name} keeps what was moved")
            announce(session, "site")

    def stop(self, run: Run) -> None:
        stop_moving(run)

    def carry_out(self, run: Run) -> str:
        # What was lost since it was written is written once more.
        Bring(pool=self.pool, volumes=(self.volume,)).write(run)
        with self.holding(run) as session:
            view = load_view(session)
            volume = view.volume_numbered(self.volume)
            left = self.left(volume)
            if len(left) and volume.anew is not None:
                if not ready_to_hold(view, volume.anew):
                    raise not_written(view, volume, volume.anew, "")
                store_volumes.hold_there(session, self.volume, left, up=self.up)
            announce(session, "site")
        return f"{say_count(len(self.extents), 'extent')} on the {_tier(self.up).value} tier."


def _tier(up: bool) -> Tier:
    return Tier.FAST if up else Tier.BULK


@register
class MoveExtents(Kind[MoveExtentsParams]):
    """keep room (ours), bring (agents), hold there (ours), drop old (agents)."""

    name: ClassVar[str] = "move-extents"
    params: ClassVar[type[Params]] = MoveExtentsParams

    def plan(self, view: SiteView, params: MoveExtentsParams) -> Plan:
        up = params.tier == Tier.FAST
        way = f"{'up' if up else 'down'} to the {params.tier.value} tier"
        title = f"Move extents of {params.volume or '...'} {way}"
        try:
            volume = view.volume(params.volume)
            extents = np.array(params.extents, dtype=np.int64)
            if not len(extents) and not up:
                extents = np.flatnonzero(volume.upper)
            found = shift(view, volume, extents, up)
        except BarnError as error:
            return Plan(title=title, about=params.volume, blockers=[Note.of(error)])
        pool = view.pools[volume.pool]
        counted = say_count(len(extents), "extent")
        data = len(extents) * view.data_bytes(volume.whole)
        return Plan(
            title=f"Move {counted} of {volume.name} {way}",
            about=volume.name,
            summary=f"{say_binary(data)} of {volume.name}, as {found.into.scheme.counted()}.",
            steps=steps_for(found, pool, volume, extents, up),
            effects=[
                Promise(title="From here on", sentence=_promise(found, counted, up)),
                _sums(view, found, pool, volume),
                *moved(found.during, pool, found.moves),
                NO_FEWER_COPIES,
            ],
            touches=[shared(Thing.POOL, pool.number), alone(Thing.VOLUME, volume.number)],
            meant=Meant(pools=(pool,), volumes=(volume,)),
        )


def steps_for(
    found: Shifted, pool: Pool, volume: Volume, extents: Ints, up: bool, *, leaving: bool = False
) -> list[Planned]:
    """The steps that carry a shift out."""
    which = tuple(extents.tolist())
    mine = {"pool": pool.number, "volume": volume.number, "up": up, "extents": which}
    seconds = estimate_of(found.during, pool, found.moves).seconds
    written = say_size(len(found.moves) * pool.strip_bytes)
    return [
        Planned(
            KeepRoom(**mine, leaving=leaving),
            "Keep room for them there",
            "They are held as before until they are there.",
        ),
        Planned(
            Bring(pool=pool.number, volumes=(volume.number,)),
            "Write them there",
            f"{written} on disks. Lost strips of the pool are written again first.",
            seconds=seconds,
        ),
        Planned(HoldThere(**mine), "Hold them there", "Only where every strip of them can be read."),
        Planned(DropOld(pool=pool.number), "Let go of the old strips", "Only after the new ones are whole."),
    ]


def _promise(found: Shifted, counted: str, up: bool) -> str:
    where = "fast" if up else "bulk"
    return f"{counted} on the {where} tier. {found.into.scheme.sentence().capitalize()}."


def _sums(view: SiteView, found: Shifted, pool: Pool, volume: Volume) -> Sums:
    def on_disks(site: SiteView) -> Figure:
        plies = site.volume_numbered(volume.number).every_ply
        strips = sum(int((p.placement > 0).sum() + (p.placement < -1).sum()) for p in plies)
        return Figure("On disks", strips * pool.strip_bytes, "bytes")

    rows = [
        Row(label=f"{volume.name} on disks", before=on_disks(view), after=on_disks(found.after)),
        Row(label="Both on disks, meanwhile", after=on_disks(found.during)),
        *room_rows(view, found.after, pool, {Tier.BULK, Tier.FAST}),
    ]
    return Sums(pool=pool.name, rows=rows)
