"""Renaming a volume. Nothing on any node changes: there it is known by its number."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts, unchanged
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.core.errors import BarnError, Overtaken
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.volumes.bin import check_volume_name
from foldbarn.store import volumes
from foldbarn.store.database import Session, announce
from foldbarn.store.views import load_view


class RenameVolumeParams(Params):
    """A volume by name, and the name that it is to have."""

    volume: str
    name: str = ""


class NameVolume(Inside):
    """A volume (by number) has this name."""

    name: ClassVar[str] = "name-volume"
    volume: int
    called: str

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        if all(volume.number != self.volume for volume in view.volumes):
            raise Overtaken("The volume is gone.", about="volume")
        check_volume_name(view, self.called, self.volume)
        volumes.rename(session, self.volume, self.called)
        announce(session, "site")
        return f"It is called {self.called}."


@register
class RenameVolume(Kind[RenameVolumeParams]):
    """name (ours)."""

    name: ClassVar[str] = "rename-volume"
    params: ClassVar[type[Params]] = RenameVolumeParams

    def plan(self, view: SiteView, params: RenameVolumeParams) -> Plan:
        name = params.name.strip()
        title = f"Rename {params.volume or '...'}"
        try:
            volume = view.volume(params.volume)
            check_volume_name(view, name, volume.number)
        except BarnError as error:
            return Plan(title=title, about=params.volume, blockers=[Note.of(error)])
        words = "At once. On its nodes it is known by its number, and stays in use."
        return Plan(
            title=f"Rename {volume.name} to {name}",
            about=name,
            steps=[Planned(NameVolume(volume=volume.number, called=name), "Write down its new name", words)],
            effects=[Texts(rows=[TextRow(label=volume.name, before=volume.name, after=name)])],
            touches=[alone(Thing.VOLUME, volume.number)],
            meant=Meant(volumes=(volume,)),
            blockers=[unchanged("name")] if name == volume.name else [],
            undo=Undo(self.name, {"volume": name, "name": volume.name}),
        )
