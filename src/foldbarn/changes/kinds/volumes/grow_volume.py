"""Growing a volume while it is in use. It never shrinks: what consumers wrote is theirs."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from foldbarn.changes.engine.effects import AnyEffect, Note, Promise, Row, Sums, TextRow, Texts, unchanged
from foldbarn.changes.engine.giving import AT_ONCE, give, still_to_set_aside
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.policies.keep_policy import SetLandings, change_landing
from foldbarn.changes.kinds.pools.effects import room_rows
from foldbarn.changes.kinds.pools.holding import InPool
from foldbarn.changes.kinds.pools.rebuild import DropOld
from foldbarn.changes.kinds.volumes.create_volume import MOST_EXTENTS
from foldbarn.changes.kinds.volumes.setting_aside import strips_by_node
from foldbarn.changes.kinds.volumes.warnings import warnings_of
from foldbarn.core.arrays import Ints
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.figures import Figure
from foldbarn.core.hosts.lanes import Gate, lanes_of
from foldbarn.core.policies.adopting import new_landing, with_volumes
from foldbarn.core.policies.matching import (
    extents_for,
    landing_as_wished,
    place_new,
    rounded_size,
    said_limit,
)
from foldbarn.core.pools.capacity import fits, most_that_fits
from foldbarn.core.site import UNWRITTEN, Ply, Pool, SiteView, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import parse_size, say_binary, say_count, say_size
from foldbarn.core.volumes.bin import against_altering
from foldbarn.core.volumes.origins import against_reshaping
from foldbarn.core.volumes.thin import is_thin, to_set_aside
from foldbarn.settings import settings
from foldbarn.store import volumes
from foldbarn.store.database import announce
from foldbarn.store.views import current_view, load_view

NOTHING: Ints = np.zeros(0, dtype=np.int64)


class GrowVolumeParams(Params):
    """A volume by name, and how large it is to be: as typed, such as "2 TiB", or bytes."""

    volume: str
    size: str = Field(max_length=40)


class OfGrowing(InPool):
    """A step for a volume that grows in a pool, both by number."""

    volume: int

    def find(self, view: SiteView) -> Volume:
        found = next((v for v in view.volumes if v.number == self.volume), None)
        if found is None:
            raise Overtaken("The volume is gone.", about="volume")
        return found


class Extend(OfGrowing):
    """The volume has a new size in bytes; room for what is added is set aside after that. Where it lands
    first, it gets a landing for its new size.
    """

    name: ClassVar[str] = "extend"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "consumers may have written to what was added"
    bytes: int

    def carry_out(self, run: Run) -> str:
        with self.holding(run) as session:
            view = load_view(session)
            volume = self.find(view)
            if volume.size_bytes < self.bytes:  # it may have grown already, where this was killed when it had
                grown = _grown(view, volume, self.bytes)
                volumes.extend(session, volume.number, self.bytes, {p.number: p.extents for p in grown.plies})
                change_landing(session, volume, _landing(view, grown))
            announce(session, "site")
        return f"It has {say_size(self.bytes)}."


class FillUp(OfGrowing):
    """Room is set aside for what was added; of a thin volume its nodes are told how much they may ask for."""

    name: ClassVar[str] = "fill-up"

    def carry_out(self, run: Run) -> str:
        view = current_view()
        volume = self.find(view)
        if is_thin(view, volume):
            return self._tell_size(run, view, volume)
        left, tries = still_to_set_aside(volume), 0
        in_all, strip = left, volume.whole.scheme.strips * view.pools[volume.pool].strip_bytes
        while left and tries < settings().attempts:
            run.check_asked()
            give(view.pools[volume.pool], volume, NOTHING, refuses=False)
            now = still_to_set_aside(volume)
            view = current_view()
            volume = self.find(view)
            tries = 0 if now < left else tries + 1
            left = now
            run.progress((in_all - left) * strip, in_all * strip, None)
            time.sleep(settings().look_seconds if tries else 0.0)
        if left:
            words = f"{say_count(left, 'extent')} of {volume.name} found no room, or no node to hold them."
            raise NotPossible(words, next_step="Resume it when there is room.")
        return f"Room set aside for {say_count(in_all, 'extent')}."

    def _tell_size(self, run: Run, view: SiteView, volume: Volume) -> str:
        whole, pool = volume.whole, view.pools[volume.pool]
        order: dict[str, Any] = {
            "kind": "reserve",
            "ply": whole.number,
            "bytes": pool.strip_bytes,
            "data": whole.scheme.k,
            "thin": whole.extents * whole.scheme.k,
            "strips": {},
        }
        on = strips_by_node(whole.number)
        run.tell_nodes(dict.fromkeys(on, order), part=f"size{volume.size_bytes}")
        return f"Told to {say_count(len(on), 'node')}."


@dataclass(frozen=True, slots=True)
class _Growth:
    """What a volume is to be: bytes and extents, and how many extents that adds."""

    size: int
    extents: int
    added: int


def _growth(view: SiteView, volume: Volume, asked: int) -> _Growth:
    """The one rule of whether a volume can be so large, for the plan and for the step. Raises NotPossible."""
    pool, whole = view.pools[volume.pool], volume.whole
    if refusal := against_altering(volume) or against_reshaping(volume):
        raise refusal
    if pool.closing:
        raise NotPossible(f"{pool.name} is being deleted.", about="volume")
    if volume.anew is not None:
        words = f"{volume.name} is being written anew."
        raise NotPossible(words, about="volume", next_step="Wait until that change is done.")
    size = rounded_size(asked, pool)
    if size < volume.size_bytes:
        raise NotPossible(
            f"{volume.name} has {say_size(volume.size_bytes)}, and never shrinks.",
            about="size",
            next_step="Make a smaller volume, and move the data there.",
        )
    extents = extents_for(size, pool, whole.scheme)
    if extents > MOST_EXTENTS:
        words = (
            f"{say_size(size)} would take {extents:,} extents; {MOST_EXTENTS:,} are the most for one volume."
        )
        raise NotPossible(words, about="size")
    added = extents - whole.extents
    thin = is_thin(view, volume)
    only = volume.only_on
    if added and not fits(view, pool, whole.scheme, whole.tier, added, 0 if thin else added, only=only):
        # Of a thin one nothing of what is added is set aside at once.
        rule = (lambda _: 0) if thin else None
        fit = most_that_fits(view, pool, whole.scheme, whole.tier, rule, only=only)
        more = say_size(fit.extents * view.data_bytes(whole))
        raise NotPossible(
            f"{pool.name} can take {more} more with {whole.scheme.counted()}, "
            f"{said_limit(pool, whole.scheme, fit.limit)}.",
            about="size",
            next_step="Choose a smaller size, or add disks.",
        )
    return _Growth(size, extents, added)


def _grown(view: SiteView, volume: Volume, asked: int) -> Volume:
    """The volume as it is then, with no room set aside for what is added. Raises NotPossible."""
    found = _growth(view, volume, asked)
    plies = []
    for ply in volume.plies:
        more = {volume.whole: found.added, volume.hot: found.added * volume.whole.scheme.k}.get(ply, 0)
        plies.append(_longer(ply, more) if more else ply)
    return replace(volume, size_bytes=found.size, plies=tuple(plies))


def _longer(ply: Ply, more: int) -> Ply:
    placement = np.full((more, ply.scheme.strips), UNWRITTEN, dtype=np.int32)
    # What is added lies in no hot ply, so it is elsewhere there, and here where all of it is.
    away = None
    if ply.elsewhere is not None:
        away = np.append(ply.elsewhere, np.full(more, ply.purpose.value == "hot"))
    return replace(ply, placement=np.concatenate([ply.placement, placement]), elsewhere=away)


def _landing(view: SiteView, grown: Volume) -> Ply | None:
    """The landing that a volume of its new size is to have: its own where that is as wished. Raises
    NotPossible.
    """
    policy = view.policy_of(grown)
    if policy is None or landing_as_wished(grown, view.pools[grown.pool], policy.wishes):
        return grown.landing
    return new_landing(view, grown, policy.wishes, view.disk_free.copy())


@register
class GrowVolume(Kind[GrowVolumeParams]):
    """extend (ours), fill up (agents); where it lands first: drop old, set its landing aside (agents)."""

    name: ClassVar[str] = "grow-volume"
    params: ClassVar[type[Params]] = GrowVolumeParams

    def plan(self, view: SiteView, params: GrowVolumeParams) -> Plan:
        title, about = f"Grow {params.volume or '...'}", params.volume
        try:
            volume = view.volume(params.volume)
            asked = parse_size(params.size)
            grown = _grown(view, volume, asked)
            landing = _landing(view, grown)
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        pool, whole = view.pools[volume.pool], volume.whole
        blockers = [unchanged("size")] if grown.size_bytes == volume.size_bytes else []
        mine = {"pool": pool.number, "volume": volume.number}
        thin = is_thin(view, volume)
        steps = [
            Planned(
                Extend(**mine, bytes=grown.size_bytes),
                "Write down its new size",
                "From here on there is no way back.",
            ),
            Planned(
                FillUp(**mine),
                "Tell its nodes" if thin else "Set room aside for what is added",
                "They ask for room as it is written."
                if thin
                else "Consumers may write there as it is set aside.",
                seconds=1 if thin else _seconds(grown),
            ),
        ]
        if landing is not grown.landing:
            words = "What waits there settles before."
            steps.append(Planned(DropOld(pool=pool.number), "Let go of its landing", words))
            words = "From here on what is written lands there first."
            aside = SetLandings(pool=pool.number, volumes=(volume.number,))
            steps.append(Planned(aside, "Set a larger landing aside", words, seconds=1))
        after = _after(view, volume, grown, landing)
        return Plan(
            title=f"Grow {volume.name} to {say_size(grown.size_bytes)}",
            about=volume.name,
            summary=f"{say_size(grown.size_bytes)}{_rounded(grown.size_bytes, asked, pool)} in {pool.name}, "
            f"{say_count(grown.whole.extents - whole.extents, 'extent')} more.",
            steps=steps,
            effects=[*_effects(view, after, pool, volume, grown), *_on_hosts(after, volume)],
            touches=[shared(Thing.POOL, pool.number), alone(Thing.VOLUME, volume.number)],
            meant=Meant(pools=(pool,), volumes=(volume,)),
            blockers=blockers,
            warnings=warnings_of(view, after, pool, whole.scheme, whole.tier),
        )


def _seconds(grown: Volume) -> float:
    """To set room aside for what is added, a turn after the other."""
    return float(-(-int(to_set_aside(grown).sum()) // AT_ONCE) or 1)


def _rounded(size: int, asked: int, pool: Pool) -> str:
    if size <= asked * 1.001:
        return ""
    return f", rounded up from {say_size(asked)} to whole units of {say_binary(pool.allocation_bytes)}"


def _after(view: SiteView, volume: Volume, grown: Volume, landing: Ply | None) -> SiteView:
    """The site once room is set aside for what is added."""
    whole = grown.whole
    added = np.flatnonzero(to_set_aside(grown))
    if not is_thin(view, volume) and len(added):
        pool = view.pools[volume.pool]
        placement = whole.placement.copy()
        name, only = f"{volume.name} {grown.size_bytes}", volume.only_on
        placement[added] = place_new(view, pool, whole.tier, whole.scheme, len(added), name, only=only)
        whole = replace(whole, placement=placement)
    plies = [whole, *(p for p in grown.plies[1:] if p is not grown.landing)]
    if landing is not None:
        plies.append(replace(landing, forming=False))
    return with_volumes(view, {volume.number: replace(grown, plies=tuple(plies))})


def _on_hosts(after: SiteView, volume: Volume) -> list[AnyEffect]:
    """What is then to be done on the hosts that see it."""
    steps = [
        (lane.host.name, step)
        for lane in lanes_of(after, volume=volume.number)
        for step in lane.steps
        if step.gate == Gate.GROWN and step.commands
    ]
    return [Promise(title=f"Then, on {host}", sentence="; ".join(step.commands)) for host, step in steps]


def _effects(view: SiteView, after: SiteView, pool: Pool, volume: Volume, grown: Volume) -> list[AnyEffect]:
    def on_disks(site: SiteView) -> Figure:
        plies = site.volume_numbered(volume.number).plies
        strips = sum(p.extents_set_aside * p.scheme.strips for p in plies)
        return Figure("On disks", strips * pool.strip_bytes, "bytes")

    tiers = {p.tier for p in grown.plies if p.extents_here}
    sizes = TextRow(label=volume.name, before=say_size(volume.size_bytes), after=say_size(grown.size_bytes))
    return [
        Texts(heads=["Volume", "It has", "From here on"], rows=[sizes]),
        Sums(
            pool=pool.name,
            rows=[
                Row(label=f"{volume.name} on disks", before=on_disks(view), after=on_disks(after)),
                *room_rows(view, after, pool, tiers),
            ],
        ),
    ]
