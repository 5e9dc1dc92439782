"""Showing a snapshot as a volume of its own, to be read: it holds nothing itself, and is there at once."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, Promise, Row, Sums
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.snapshots.reading import (
    against_name,
    find_to_read,
    may_give_way,
    still_to_read,
)
from foldbarn.changes.kinds.volumes.warnings import unreadable
from foldbarn.core.errors import BarnError
from foldbarn.core.figures import Figure
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, shared
from foldbarn.core.units import say_size
from foldbarn.core.volumes.bin import check_volume_name
from foldbarn.core.volumes.origins import shown_as
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
        volume, snapshot = still_to_read(view, self.volume, self.snapshot)
        check_volume_name(view, self.called)
        pool, size = view.pools[volume.pool], snapshot.bytes or volume.size_bytes
        pools.locked(session, pool.number)
        row = VolumeRow(
            name=self.called,
            pool_id=pool.number,
            size_bytes=size,
            change_id=run.change,
            forming=False,
            origin_id=volume.number,
            origin_snapshot=snapshot.number,
            shown=True,
        )
        volumes.add(session, row, shown_as(view, volume, snapshot, self.called).plies)
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
        title = f"Show {params.snapshot or 'a snapshot'} as {name or 'a volume'}"
        blockers = against_name(view, name)
        try:
            volume, snapshot = find_to_read(view, params.volume, params.snapshot)
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
            warnings=[
                *unreadable(view, shown_as(view, volume, snapshot, name)),
                *may_give_way(view, volume, snapshot),
            ],
        )
