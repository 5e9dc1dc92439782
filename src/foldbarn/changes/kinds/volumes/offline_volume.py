"""Taking a volume offline, and bringing it online again. Nothing of it moves."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from foldbarn.changes.engine.effects import Note, unchanged
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.hosts.parting import may_be_in_use
from foldbarn.changes.kinds.volumes.serving import TellServing, find_volume, in_use, silent_holders
from foldbarn.changes.kinds.volumes.several import OfVolumes, alone_with, called, consumers, find_volumes
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.hosts.attaching import against_parting
from foldbarn.core.hosts.lanes import lanes_of
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.touching import Meant
from foldbarn.core.vms.parts import against_while_on
from foldbarn.core.volumes.bin import against_altering
from foldbarn.store import volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view


class OfflineVolumeParams(OfVolumes):
    """offline: whether consumers are to be kept from them."""

    offline: bool = True


class SetOffline(Inside):
    """Whether consumers are kept from a volume (by number). was: the same, before."""

    name: ClassVar[str] = "set-offline"
    volume: int
    offline: bool
    was: bool

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        volume = find_volume(view, self.volume)
        if volume is None:
            raise Overtaken("The volume is gone.", about="volumes")
        if refusal := against_altering(volume):
            raise refusal
        lanes = lanes_of(view, volume=volume.number)
        if self.offline and (refusals := [*_of_a_vm(view, [volume]), *against_parting(lanes, "volumes")]):
            raise refusals[0]
        if volume.offline != self.offline:
            volumes.set_offline(session, volume.number, offline=self.offline, by=run.change)
        announce(session, "site")
        return f"{volume.name} is {'offline' if self.offline else 'online'}."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            volumes.take_back_offline(session, self.volume, offline=self.was, by=run.change)
            announce(session, "site")


@register
class OfflineVolume(Kind[OfflineVolumeParams]):
    """set offline (ours) for each volume that is not yet, tell their nodes (agents)."""

    name: ClassVar[str] = "offline-volume"
    params: ClassVar[type[Params]] = OfflineVolumeParams

    def plan(self, view: SiteView, params: OfflineVolumeParams) -> Plan:
        offline, about = params.offline, called(params.volumes)
        try:
            chosen = find_volumes(view, params.volumes)
            for volume in chosen:
                if refusal := against_altering(volume):
                    raise refusal
        except BarnError as error:
            return Plan(title=_title(about, offline), about=about, blockers=[Note.of(error)])
        about = called([v.name for v in chosen])
        altered = [v for v in chosen if v.offline != offline]
        if not altered:
            return Plan(title=_title(about, offline), about=about, blockers=[unchanged("offline")])
        lanes = [lane for v in altered for lane in lanes_of(view, volume=v.number)] if offline else []
        one = len(chosen) == 1
        it = "it" if one else "them"
        how = (
            f"They serve none of {it} any more, and keep {it} whole."
            if offline
            else f"They serve {it} again."
        )
        tell = TellServing(volumes=tuple(v.number for v in altered))
        return Plan(
            title=_title(about, offline),
            about=about,
            summary="" if len(altered) == len(chosen) else _passed_over(len(chosen) - len(altered), offline),
            steps=[
                *(_set(volume, offline, one=one) for volume in altered),
                Planned(tell, f"Tell {'its' if one else 'their'} nodes", how, seconds=1),
            ],
            effects=[consumers(altered, lambda v: _USES[v.offline], lambda _: _USES[offline])],
            touches=alone_with(view, altered),
            meant=Meant(volumes=tuple(altered)),
            blockers=[
                *(Note.of(error) for error in (_of_a_vm(view, altered) if offline else [])),
                *(Note.of(error) for error in against_parting(lanes, "volumes")),
            ],
            warnings=[*in_use(altered), *may_be_in_use(lanes), *silent_holders(view, altered)]
            if offline
            else [],
            undo=Undo(self.name, {"volumes": [v.name for v in altered], "offline": not offline}),
        )


def _of_a_vm(view: SiteView, volumes_: Sequence[Volume]) -> list[NotPossible]:
    """Of those that are part of a virtual machine which is on: it would lose its disks."""
    found = (against_while_on(view, volume, "not taken from it") for volume in volumes_)
    return [refusal for refusal in found if refusal is not None]


def _title(about: str, offline: bool) -> str:
    return f"Take {about} offline" if offline else f"Bring {about} online"


def _passed_over(count: int, offline: bool) -> str:
    return f"{count:,} of them {'is' if count == 1 else 'are'} {_WORD[offline]} already."


_WORD = {True: "offline", False: "online"}
_USES = {True: "none, nodes serve nothing of it", False: "read and write it"}


def _set(volume: Volume, offline: bool, *, one: bool) -> Planned:
    step = SetOffline(volume=volume.number, offline=offline, was=volume.offline)
    what = "it" if one else volume.name
    return Planned(step, f"Write down that {what} is {_WORD[offline]}", about="" if one else volume.name)
