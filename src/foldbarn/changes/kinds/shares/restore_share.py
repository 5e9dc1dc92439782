"""Bringing a share back from the bin, with all that lies there."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.kinds.shares.telling import tell_files
from foldbarn.changes.kinds.volumes.restore_volume import TakeOut
from foldbarn.changes.kinds.volumes.serving import TellServing
from foldbarn.changes.kinds.volumes.several import alone_with
from foldbarn.changes.kinds.volumes.warnings import unreadable
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.shares.belonging import is_binned
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_binary
from foldbarn.core.volumes.bin import against_bringing_back


class RestoreShareParams(Params):
    """A share that was deleted, by name."""

    share: str


@register
class RestoreShare(Kind[RestoreShareParams]):
    """take out (ours), tell its nodes (agents), tell the cluster (agents)."""

    name: ClassVar[str] = "restore-share"
    params: ClassVar[type[Params]] = RestoreShareParams

    def plan(self, view: SiteView, params: RestoreShareParams) -> Plan:
        title = f"Bring the share {params.share} back"
        try:
            share = view.share(params.share)
            volume = view.volume_numbered(share.volume)
            if not is_binned(view, share):
                raise NotPossible(f"{share.name} is not in the bin.", about="share")
            if refusal := against_bringing_back(volume):
                raise refusal
        except BarnError as error:
            return Plan(title=title, about=params.share, blockers=[Note.of(error)])
        row = TextRow(label=volume.name, before="in the bin", after="as it was, under its name")
        return Plan(
            title=f"Bring the share {share.name} back",
            about=share.name,
            summary=f"{say_binary(share.used)} lie there, as they did.",
            steps=[
                Planned(
                    TakeOut(volume=volume.number),
                    "Take its volume out of the bin",
                    "It has its name and its room.",
                    about=volume.name,
                ),
                Planned(
                    TellServing(volumes=(volume.number,)),
                    "Tell the nodes that hold it",
                    "They serve it as before.",
                    seconds=1,
                ),
                tell_files("Clients may mount it as before."),
            ],
            effects=[Texts(heads=["Its volume", "Now", "Then"], rows=[row])],
            touches=[
                alone(Thing.SHARE, share.number),
                shared(Thing.FILES),
                *alone_with(view, [volume]),
            ],
            meant=Meant(shares=(share,)),
            warnings=list(unreadable(view, volume, one=True)),
        )
