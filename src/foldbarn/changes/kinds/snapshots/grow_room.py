"""Growing the room for snapshots of a volume while it is in use: more of what consumers overwrite is kept
before the oldest gives way.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from foldbarn.changes.engine.effects import AnyEffect, Note, Row, Sums, TextRow, Texts, unchanged
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.pools.effects import room_rows
from foldbarn.changes.kinds.pools.holding import InPool
from foldbarn.changes.kinds.volumes.serving import find_volume
from foldbarn.changes.kinds.volumes.setting_aside import strips_by_node, strips_of
from foldbarn.core.arrays import Ints
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.figures import Figure
from foldbarn.core.policies.adopting import more_past, room_extents_of, with_volumes
from foldbarn.core.policies.giving import Placed
from foldbarn.core.site import UNWRITTEN, Ply, Pool, SiteView, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_count, say_size
from foldbarn.core.volumes.bin import against_altering
from foldbarn.core.volumes.snapshots import MOST_ROOM, held
from foldbarn.store import giving, pools, volumes
from foldbarn.store.database import Session, announce
from foldbarn.store.views import current_view, load_view


class GrowRoomParams(Params):
    """A volume by name. room: per cent of its size that is set aside for what is overwritten."""

    volume: str
    room: int = Field(default=0, ge=0, le=MOST_ROOM)


class OfRoom(InPool):
    """A step for the room for snapshots of a volume (both by number), which has so many extents, and is to
    have so many.
    """

    volume: int
    ply: int
    before: int
    after: int

    def find(self, view: SiteView) -> tuple[Volume, Ply]:
        """Raises Overtaken where that room has gone, though there may be another by now."""
        found = find_volume(view, self.volume)
        if found is None or found.past is None or found.past.number != self.ply:
            raise Overtaken("The snapshots that it was for are gone, and their room.", about="volume")
        return found, found.past


class WidenPast(OfRoom):
    """A disk for each strip of what is added."""

    name: ClassVar[str] = "widen-past"

    def carry_out(self, run: Run) -> str:
        with self.holding(run) as session:
            view = load_view(session)
            volume, past = self.find(view)
            if past.extents < self.after:  # it may have been done, where this was killed when it had
                if any(one.ply == self.ply for one in giving.begun(session)):
                    words = f"Another change is about to give snapshots of {volume.name} more room."
                    raise Overtaken(words, about="room", next_step="Let that go on, or withdraw it.")
                fresh = np.arange(past.extents, self.after)
                placed = more_past(view, volume, len(fresh))
                volumes.lengthen(session, past.number, len(fresh))
                giving.begin(session, past.number, fresh, [Placed(past.number, fresh, placed)])
            announce(session, "site")
        return f"A disk chosen for each strip of {say_count(self.after - self.before, 'extent')}."

    def take_back(self, run: Run) -> None:
        """Nodes keep no more than before there; what they have set aside is dropped by the comparison that
        follows.
        """
        with self.holding(run) as session:
            volume = find_volume(load_view(session), self.volume)
            past = volume.past if volume is not None else None
            if volume is None or past is None or (past.number, past.extents) != (self.ply, self.after):
                return
            volumes.shorten(session, past.number, self.before)
            pools.look(session, [self.pool], f"More room for snapshots of {volume.name} was withdrawn")
            announce(session, "site")


class WidenPastAside(OfRoom):
    """Agents set it aside."""

    name: ClassVar[str] = "widen-past-aside"

    def carry_out(self, run: Run) -> str:
        with self.holding(run) as session:
            view = load_view(session)
            volume, past = self.find(view)
            _choose_others(session, view, volume, past, np.arange(self.before, self.after))
        view = current_view()
        _, past = self.find(view)
        fresh = strips_of(past.number, np.arange(self.before, self.after))
        order = _order(view, past)
        run.tell_nodes({node: {**order, "strips": strips} for node, strips in fresh.items()}, part="room")
        with run.writing() as session:
            for one in giving.begun(session):
                if one.ply == past.number and giving.hold(session, one.id):
                    giving.done(session, one.id)
        return f"Reserved on {say_count(len(fresh), 'node')}."


class KeepMore(OfRoom):
    """All of it is there: agents keep more from here on."""

    name: ClassVar[str] = "keep-more"
    no_way_back: ClassVar = "begun"
    why_no_way_back: ClassVar[str] = "nodes may keep there what was overwritten"

    def carry_out(self, run: Run) -> str:
        view = current_view()
        volume, past = self.find(view)
        every = strips_by_node(past.number)
        keeps = {"ply": volume.whole.number, "strips": past.extents * past.scheme.k}
        more = {**_order(view, past), "strips": {}, "keeps_for": keeps}
        run.tell_nodes(dict.fromkeys(every, more), part=f"keeps{past.extents}")
        return f"Told to {say_count(len(every), 'node')}."


def _order(view: SiteView, past: Ply) -> dict[str, Any]:
    strip_bytes = view.pools[past.pool].strip_bytes
    return {"kind": "reserve", "ply": past.number, "bytes": strip_bytes, "data": past.scheme.k}


def _choose_others(session: Session, view: SiteView, volume: Volume, past: Ply, fresh: Ints) -> None:
    """Other disks for what is added, where one of those chosen has gone before it was set aside: nothing is
    held there that could be copied.
    """
    begun = [one for one in giving.begun(session) if one.ply == past.number]
    rows = view.rows(past)[fresh]
    if not begun or np.append(view.disk_ready, False)[rows].all():
        return
    shorter = replace(past, placement=past.placement[: int(fresh[0])])
    without = replace(volume, plies=tuple(shorter if p is past else p for p in volume.plies))
    placed = more_past(with_volumes(view, {volume.number: without}), without, len(fresh))
    nothing = np.full((len(fresh), past.scheme.strips), UNWRITTEN, dtype=np.int32)
    for one in begun:
        giving.take_back(session, one, [Placed(past.number, fresh, nothing)])
    giving.begin(session, past.number, fresh, [Placed(past.number, fresh, placed)])
    announce(session, "site")


@register
class GrowRoom(Kind[GrowRoomParams]):
    """widen past (ours), widen past aside, keep more (agents)."""

    name: ClassVar[str] = "grow-room"
    params: ClassVar[type[Params]] = GrowRoomParams

    def plan(self, view: SiteView, params: GrowRoomParams) -> Plan:
        title, about = f"More room for snapshots of {params.volume or '...'}", params.volume
        try:
            volume = view.volume(params.volume)
            before, extents = _extents(volume, params.room)
            if extents == before.extents:
                return Plan(title=title, about=about, blockers=[unchanged("room")])
            placed = more_past(view, volume, extents - before.extents)
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        pool = view.pools[before.pool]
        grown = replace(before, placement=np.concatenate([before.placement, placed]))
        plies = tuple(grown if p is before else p for p in volume.plies)
        after = with_volumes(view, {volume.number: replace(volume, plies=plies)})
        room = say_size(extents * view.data_bytes(before))
        mine = {
            "pool": pool.number,
            "volume": volume.number,
            "ply": before.number,
            "before": before.extents,
            "after": extents,
        }
        return Plan(
            title=f"{room} of room for snapshots of {volume.name}",
            about=volume.name,
            summary=f"{params.room} % of its size, {before.scheme.counted()} in {pool.name}.",
            steps=[
                Planned(WidenPast(**mine), "Choose disks for what is added"),
                Planned(
                    WidenPastAside(**mine), "Set it aside", "Every agent reserves its strips.", seconds=1
                ),
                Planned(KeepMore(**mine), "Keep more there", "From here on there is no way back.", seconds=1),
            ],
            effects=_effects(view, after, pool, volume),
            touches=[alone(Thing.VOLUME, volume.number), shared(Thing.POOL, pool.number)],
            meant=Meant(volumes=(volume,), pools=(pool,)),
        )


def _extents(volume: Volume, per_cent: int) -> tuple[Ply, int]:
    """The room that a volume has for its snapshots, and the extents that it is to have. Raises
    NotPossible.
    """
    if refusal := against_altering(volume):
        raise refusal
    past = volume.past
    if not per_cent:
        raise NotPossible("Say how much of its size is to be kept for its snapshots.", about="room")
    if past is None:
        words = f"There are no snapshots of {volume.name}, and no room for any."
        raise NotPossible(words, about="volume", next_step="Take one, and say how much room there is to be.")
    if past.forming:
        raise NotPossible("The room for its snapshots is being set aside.", about="volume")
    extents = room_extents_of(volume, past, per_cent)
    if extents < past.extents:
        words = f"There are {say_count(past.extents, 'extent')} for snapshots of {volume.name} already"
        step = "Choose more. All of it goes with the last snapshot."
        raise NotPossible(f"{words}, and these would be {extents:,}.", about="room", next_step=step)
    return past, extents


def _effects(view: SiteView, after: SiteView, pool: Pool, volume: Volume) -> list[AnyEffect]:
    def room(site: SiteView) -> int:
        past = site.volume_numbered(volume.number).past
        return past.extents * site.data_bytes(past) if past is not None else 0

    def on_disks(site: SiteView) -> Figure:
        past = site.volume_numbered(volume.number).past
        strips = past.extents * past.scheme.strips if past is not None else 0
        return Figure("On disks", strips * pool.strip_bytes, "bytes")

    def taken(site: SiteView) -> str:
        share = held(volume.spans) / room(site)
        return f"{say_size(room(site))}, {share:.0%} taken"

    tiers = {volume.past.tier} if volume.past is not None else set()
    rows = [
        Row(label="Room for its snapshots, on disks", before=on_disks(view), after=on_disks(after)),
        *room_rows(view, after, pool, tiers),
    ]
    words = TextRow(label=volume.name, before=taken(view), after=taken(after))
    return [
        Texts(heads=["Volume", "Room for its snapshots", "Then"], rows=[words]),
        Sums(pool=pool.name, rows=rows),
    ]
