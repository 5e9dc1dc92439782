"""Bringing a volume back from the bin, as it was when it was put there."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.volumes.serving import TellServing, find_volume
from foldbarn.changes.kinds.volumes.several import (
    OfVolumes,
    alone_with,
    called,
    consumers,
    find_volumes,
    pools_of,
)
from foldbarn.changes.kinds.volumes.warnings import unreadable
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.shares.belonging import against_by_itself
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.touching import Meant
from foldbarn.core.units import say_size
from foldbarn.core.vms.parts import against_alone
from foldbarn.core.volumes.bin import against_bringing_back
from foldbarn.store import volumes
from foldbarn.store.database import Session, announce
from foldbarn.store.views import load_view


class RestoreVolumeParams(OfVolumes):
    """Volumes in the bin."""


class TakeOut(Inside):
    """A volume (by number) is in the bin no more."""

    name: ClassVar[str] = "take-out-of-bin"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "consumers may be using it again"
    volume: int

    def carry_out(self, run: Run, session: Session) -> str:
        volume = find_volume(load_view(session), self.volume)
        if volume is None and run.step > 1:
            return "The bin was emptied of it: there is nothing to bring back."  # others are back already
        if volume is None:
            raise Overtaken("The bin was emptied of it.", about="volumes")
        if refusal := against_bringing_back(volume):
            if run.step > 1:
                return refusal.sentence
            raise refusal
        volumes.take_out_of_bin(session, volume.number)
        announce(session, "site")
        return f"{volume.name} is back."


@register
class RestoreVolume(Kind[RestoreVolumeParams]):
    """take out (ours) for each volume, tell their nodes (agents)."""

    name: ClassVar[str] = "restore-volume"
    params: ClassVar[type[Params]] = RestoreVolumeParams

    def plan(self, view: SiteView, params: RestoreVolumeParams) -> Plan:
        about = called(params.volumes)
        try:
            chosen = find_volumes(view, params.volumes)
            for volume in chosen:
                if volume.binned is None:
                    raise NotPossible(f"{volume.name} is not in the bin.", about="volumes")
                if refusal := against_bringing_back(volume):
                    raise refusal
                if part := against_alone(view, volume, "Bring the VM {vm} back, with all its volumes."):
                    raise part
                if refusals := against_by_itself(view, volume, "Bring the share {share} back instead."):
                    raise refusals[0]
        except BarnError as error:
            return Plan(title=f"Bring {about} back", about=about, blockers=[Note.of(error)])
        about, one = called([v.name for v in chosen]), len(chosen) == 1
        tell = TellServing(volumes=tuple(v.number for v in chosen))
        words = f"They serve {'it' if one else 'them'} as before."
        return Plan(
            title=f"Bring {about} back",
            about=about,
            summary=f"{say_size(sum(v.size_bytes for v in chosen))} in {pools_of(view, chosen)}.",
            steps=[
                *(_take_out(volume, one=one) for volume in chosen),
                Planned(tell, f"Tell {'its' if one else 'their'} nodes", words, seconds=1),
            ],
            effects=[consumers(chosen, lambda _: "none, it is in the bin", _used_again)],
            touches=alone_with(view, chosen),
            meant=Meant(volumes=tuple(chosen)),
            warnings=[note for volume in chosen for note in unreadable(view, volume, one=one)],
        )


def _take_out(volume: Volume, *, one: bool) -> Planned:
    title, words = f"Take {'it' if one else volume.name} out of the bin", "It has its name and its room."
    return Planned(TakeOut(volume=volume.number), title, words, about="" if one else volume.name)


def _used_again(volume: Volume) -> str:
    return "none, it is offline as it was" if volume.offline else "read and write it"
