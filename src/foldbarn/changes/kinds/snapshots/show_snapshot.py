"""Showing a snapshot as a volume of its own, to be read: it holds nothing itself, and is there at once."""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from foldbarn.changes.engine.effects import Note, Promise, Row, Sums
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.snapshots.copy_snapshot import nearly_full
from foldbarn.changes.kinds.snapshots.delete_snapshot import find_snapshot
from foldbarn.core.errors import BarnError, Overtaken
from foldbarn.core.figures import Figure
from foldbarn.core.policies.matching import extents_for
from foldbarn.core.site import UNWRITTEN, SiteView, plain_volume
from foldbarn.core.touching import Meant, Thing, shared
from foldbarn.core.units import say_size
from foldbarn.core.volumes.bin import check_volume_name
from foldbarn.core.volumes.origins import against_reading
from foldbarn.store import pools, volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.tables import VolumeRow
from foldbarn.store.views import load_view


class ShowSnapshotParams(Params):
    """A snapshot of a volume, which may be in the bin, both by name; and the name under which it is shown."""

    volume: str
    snapshot: str
    name: str = ""


class PlaceShown(Inside):
    """A volume of this name shows a snapshot of a volume, both by number."""

    name: ClassVar[str] = "place-shown"
    called: str
    volume: int
    snapshot: int

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        volume = next((v for v in view.volumes if v.number == self.volume), None)
        snapshot = next((s for s in volume.snapshots if s.number == self.snapshot), None) if volume else None
        if volume is None or snapshot is None:
            raise Overtaken("The snapshot is gone.", about="snapshot")
        if refusal := against_reading(volume, snapshot):
            raise refusal
        check_volume_name(view, self.called)
        pool, size = view.pools[volume.pool], snapshot.bytes or volume.size_bytes
        pools.locked(session, pool.number)
        row = VolumeRow(
            name=self.called,
            pool_id=pool.number,
            size_bytes=size,
            change_id=run.change,
            thin=True,
            forming=False,
            origin_id=volume.number,
            origin_snapshot=snapshot.number,
            shown=True,
        )
        scheme, extents = volume.whole.scheme, extents_for(size, pool, volume.whole.scheme)
        nothing = np.full((extents, scheme.strips), UNWRITTEN, dtype=np.int32)
        tier = volume.whole.tier
        shown = plain_volume(0, self.called, volume.pool, size, scheme, nothing, tier=tier)
        volumes.add(session, row, shown.plies)
        announce(session, "site")
        return f"{say_size(size)}, to be read."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            made = volumes.of_change(session, run.change)
            if made is not None:
                volumes.forget(session, made.number)
            announce(session, "site")


@register
class ShowSnapshot(Kind[ShowSnapshotParams]):
    """place shown (ours)."""

    name: ClassVar[str] = "show-snapshot"
    params: ClassVar[type[Params]] = ShowSnapshotParams

    def plan(self, view: SiteView, params: ShowSnapshotParams) -> Plan:
        name = params.name.strip()
        title, blockers = f"Show {params.snapshot or 'a snapshot'} as {name or 'a volume'}", []
        try:
            check_volume_name(view, name)
        except BarnError as error:
            blockers.append(Note.of(error))
        try:
            volume = view.volume(params.volume)
            snapshot = find_snapshot(volume, params.snapshot)
            if refusal := against_reading(volume, snapshot):
                raise refusal
        except BarnError as error:
            return Plan(title=title, about=name, blockers=[*blockers, Note.of(error)])
        pool = view.pools[volume.pool]
        return Plan(
            title=f"Show {snapshot.name} of {volume.name} as {name or 'a volume'}",
            about=name,
            summary=f"{say_size(snapshot.bytes or volume.size_bytes)}, to be read only.",
            steps=[
                Planned(
                    PlaceShown(called=name, volume=volume.number, snapshot=snapshot.number),
                    f"Write down {name or 'its name'}",
                    "At once; hosts are attached to it as to any other volume.",
                )
            ],
            effects=[
                Promise(
                    title="It holds nothing",
                    sentence=f"All of it is read from {snapshot.name}, which cannot be deleted as long as it "
                    f"is shown, nor the bin be emptied of {volume.name}. Nobody can write to it.",
                ),
                Sums(rows=[Row(label="On disks", after=Figure("On disks", 0, "bytes"))]),
            ],
            touches=[shared(Thing.VOLUME, volume.number), shared(Thing.POOL, pool.number)],
            meant=Meant(volumes=(volume,), pools=(pool,)),
            blockers=blockers,
            warnings=nearly_full(view, volume, snapshot),
        )
