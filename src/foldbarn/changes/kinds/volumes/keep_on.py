"""Choosing the very nodes and disks that may hold a volume, or any of its pool again. What lies elsewhere is
moved, while the volume is in use.
"""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

import numpy as np
from pydantic import Field

from foldbarn.changes.engine.effects import Note, TextRow, Texts, unchanged
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.pools.effects import NO_FEWER_COPIES, estimate_of, moved
from foldbarn.changes.kinds.pools.rebuild import DropOld, WriteAgain
from foldbarn.changes.kinds.volumes.chosen import OnlyOnAt
from foldbarn.changes.kinds.volumes.serving import find_volume
from foldbarn.changes.kinds.volumes.warnings import warnings_of
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.moving.moves import Moves, say_hindrances
from foldbarn.core.moving.rebuild import plan_rebuild
from foldbarn.core.policies.adopting import with_volumes
from foldbarn.core.policies.matching import too_few_domains
from foldbarn.core.pools.only_on import chosen, names_of, say_only_on
from foldbarn.core.site import OnlyOn, SiteView, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_count, say_size
from foldbarn.core.volumes.bin import against_altering
from foldbarn.store import volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view


class KeepOnParams(Params):
    """A volume by name. only_on: names of the nodes and disks of which alone some may hold it; any of its
    pool where none is named.
    """

    volume: str
    only_on: list[str] = Field(default=[], max_length=2000)


class WriteOnlyOn(Inside):
    """A volume (by number) may lie there from here on. before: where it might."""

    name: ClassVar[str] = "write-only-on"
    volume: int
    before: OnlyOnAt
    then: OnlyOnAt

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        volume = find_volume(view, self.volume)
        if volume is None:
            raise Overtaken("The volume is gone.", about="volume")
        _moves(view, volume, self.then.value())
        volumes.set_only_on(session, self.volume, self.then.nodes, self.then.disks)
        announce(session, "site")
        return "Written down."

    def take_back(self, run: Run) -> None:
        """Where it might before, unless somebody has chosen otherwise since; what has moved is moved back."""
        with transaction() as session:
            volume = find_volume(load_view(session), self.volume)
            if volume is not None and volume.only_on == self.then.value():
                volumes.set_only_on(session, self.volume, self.before.nodes, self.before.disks)
                announce(session, "site")


def _moves(view: SiteView, volume: Volume, only: OnlyOn) -> tuple[SiteView, Moves]:
    """The one rule of whether a volume can be kept there, for the plan and for the step: the site with it,
    and what has to be moved for it. Raises NotPossible.
    """
    if refusal := against_altering(volume):
        raise refusal
    if volume.origin is not None and volume.origin.shown:
        raise NotPossible(f"{volume.name} shows a snapshot, and holds nothing itself.", about="volume")
    pool = view.pools[volume.pool]
    for ply in volume.every_ply:
        if few := too_few_domains(view, pool, ply.scheme, ply.tier, only) if only else None:
            raise NotPossible(few.sentence, about="only_on", next_step=few.cure)
    after = with_volumes(view, {volume.number: replace(volume, only_on=only)})
    planned = plan_rebuild(after, pool, seed=1)
    own = {ply.number for ply in volume.every_ply}
    stuck = tuple(h for h in planned.hindrances if h.ply in own)
    if stuck and only:
        words = say_hindrances(after, stuck)
        raise NotPossible(words, about="only_on", next_step="Choose more nodes or disks, or none.")
    return after, planned.only(np.isin(planned.ply, list(own)))


@register
class KeepOn(Kind[KeepOnParams]):
    """write (ours), copy, drop old (agents)."""

    name: ClassVar[str] = "keep-on"
    params: ClassVar[type[Params]] = KeepOnParams

    def plan(self, view: SiteView, params: KeepOnParams) -> Plan:
        title, about = f"Choose where {params.volume or '...'} may lie", params.volume
        try:
            volume = view.volume(params.volume)
            only = chosen(view, params.only_on)
            after, moves = _moves(view, volume, only)
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        pool, whole = view.pools[volume.pool], volume.whole
        where = say_only_on(view, only) or f"any disk of {pool.name}"
        write = WriteOnlyOn(volume=volume.number, before=OnlyOnAt.of(volume.only_on), then=OnlyOnAt.of(only))
        move = Planned(
            WriteAgain(pool=pool.number),
            "Move what lies elsewhere",
            "Beside what of the pool is to be written again, which goes first.",
            seconds=estimate_of(after, pool, moves, lost=False).seconds,
        )
        drop = Planned(DropOld(pool=pool.number), "Let go of the old strips", "After the new ones are whole.")
        size = say_size(len(moves) * pool.strip_bytes)
        return Plan(
            title=f"Keep {volume.name} on {where}",
            about=volume.name,
            summary=f"{say_count(len(moves), 'strip')} ({size}) to move." if len(moves) else "Nothing moves.",
            steps=[
                Planned(write, "Write down where it may lie"),
                *([move, drop] if len(moves) else []),
            ],
            effects=[
                Texts(
                    heads=["", "May lie on", "Then"],
                    rows=[
                        TextRow(
                            label=volume.name,
                            before=say_only_on(view, volume.only_on) or f"any disk of {pool.name}",
                            after=where,
                        )
                    ],
                ),
                *(moved(after, pool, moves, lost=False) if len(moves) else []),
                NO_FEWER_COPIES,
            ],
            touches=[
                alone(Thing.VOLUME, volume.number),
                shared(Thing.POOL, pool.number),
                *([alone(Thing.REBUILD, pool.number)] if len(moves) else []),
            ],
            meant=Meant(volumes=(volume,), pools=(pool,)),
            blockers=[unchanged("only_on")] if only == volume.only_on else [],
            warnings=warnings_of(view, after, pool, whole.scheme, whole.tier),
            undo=Undo(self.name, {"volume": volume.name, "only_on": names_of(view, volume.only_on)}),
        )
