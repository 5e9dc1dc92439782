"""Correcting the name of a snapshot. Nothing on any node changes: there it is known by its number."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts, unchanged
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.snapshots.reading import find_snapshot
from foldbarn.changes.kinds.volumes.serving import find_volume
from foldbarn.core.errors import BarnError, Overtaken
from foldbarn.core.names import check_name
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.store import snapshots
from foldbarn.store.database import Session, announce
from foldbarn.store.views import load_view


class RenameSnapshotParams(Params):
    """A snapshot of a volume, both by name, and the name that it is to have."""

    volume: str
    snapshot: str
    name: str = ""


class NameSnapshot(Inside):
    """A snapshot of a volume, both by number, has this name."""

    name: ClassVar[str] = "name-snapshot"
    volume: int
    snapshot: int
    called: str

    def carry_out(self, run: Run, session: Session) -> str:
        volume = find_volume(load_view(session), self.volume)
        if volume is None or all(s.number != self.snapshot for s in volume.snapshots):
            raise Overtaken("The snapshot is gone.", about="snapshot")
        _check(volume, self.snapshot, self.called)
        snapshots.rename(session, self.volume, self.snapshot, self.called)
        announce(session, "site")
        return f"It is called {self.called}."


def _check(volume: Volume, snapshot: int, name: str) -> str:
    """Raises NotPossible, Conflict."""
    return check_name(name, "snapshot", [s.name for s in volume.snapshots if s.number != snapshot])


@register
class RenameSnapshot(Kind[RenameSnapshotParams]):
    """name (ours)."""

    name: ClassVar[str] = "rename-snapshot"
    params: ClassVar[type[Params]] = RenameSnapshotParams

    def plan(self, view: SiteView, params: RenameSnapshotParams) -> Plan:
        name, title = params.name.strip(), f"Rename {params.snapshot or 'a snapshot'}"
        try:
            volume = view.volume(params.volume)
            snapshot = find_snapshot(volume, params.snapshot)
            _check(volume, snapshot.number, name)
        except BarnError as error:
            return Plan(title=title, about=params.volume, blockers=[Note.of(error)])
        step = NameSnapshot(volume=volume.number, snapshot=snapshot.number, called=name)
        words = "At once. On its nodes it is known by its number."
        back = {"volume": volume.name, "snapshot": name, "name": snapshot.name}
        return Plan(
            title=f"Rename {snapshot.name} of {volume.name} to {name}",
            about=volume.name,
            steps=[Planned(step, "Write down its new name", words)],
            effects=[
                Texts(
                    heads=["Of it", "Now", "Then"],
                    rows=[TextRow(label="Name", before=snapshot.name, after=name)],
                )
            ],
            touches=[alone(Thing.VOLUME, volume.number)],
            meant=Meant(volumes=(volume,)),
            blockers=[unchanged("name")] if name == snapshot.name else [],
            undo=Undo(self.name, back),
        )
