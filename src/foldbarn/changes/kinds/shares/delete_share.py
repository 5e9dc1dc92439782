"""Deleting a share: its volume goes into the bin with all that lies there, and comes back from there."""

from __future__ import annotations

from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.shares.telling import tell_files
from foldbarn.changes.kinds.volumes.delete_volume import claimed
from foldbarn.changes.kinds.volumes.serving import TellServing, find_volume, silent_holders
from foldbarn.changes.kinds.volumes.several import alone_with, pools_of
from foldbarn.core.errors import BarnError, Overtaken
from foldbarn.core.shares.belonging import against_mounted, is_binned, mounts_of, untold
from foldbarn.core.shares.share import Share
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_binary, say_count, say_list, say_size
from foldbarn.core.volumes.bin import MOST_DAYS, USUAL_DAYS, bytes_held
from foldbarn.store import volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view


class DeleteShareParams(Params):
    """days: for which its volume is kept in the bin; typed: its name once more."""

    share: str
    days: int = Field(default=USUAL_DAYS, ge=1, le=MOST_DAYS)
    typed: str = ""


class PutShareInBin(Inside):
    """The volume of a share (by number) is in the bin, for so many days."""

    name: ClassVar[str] = "put-share-in-bin"
    share: int
    days: int

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        share = next((one for one in view.shares if one.number == self.share), None)
        if share is None:
            raise Overtaken("The share is gone.", about="share")
        if refusals := against_mounted(view, share, "share"):
            raise refusals[0]
        volumes.put_in_bin(session, share.volume, self.days, run.change)
        announce(session, "site")
        return f"{share.name} is kept there for {say_count(self.days, 'day')}."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            view = load_view(session)
            share = next((one for one in view.shares if one.number == self.share), None)
            if share is not None and find_volume(view, share.volume) is not None:
                volumes.take_out_of_bin(session, share.volume, run.change)
                announce(session, "site")


@register
class DeleteShare(Kind[DeleteShareParams]):
    """put in bin (ours), tell its nodes (agents), tell the cluster (agents)."""

    name: ClassVar[str] = "delete-share"
    params: ClassVar[type[Params]] = DeleteShareParams

    def plan(self, view: SiteView, params: DeleteShareParams) -> Plan:
        title = f"Delete the share {params.share}"
        try:
            share = view.share(params.share)
        except BarnError as error:
            return Plan(title=title, about=params.share, blockers=[Note.of(error)])
        volume, days = view.volume_numbered(share.volume), say_count(params.days, "day")
        held = say_size(bytes_held(view, [volume]))
        words = f"Its {held} on disks of {pools_of(view, [volume])} stay taken, and protected as they are, "
        snapshots = say_list([one.name for one in volume.snapshots], 3) or "no snapshot"
        return Plan(
            title=title,
            about=share.name,
            summary=f"{say_binary(share.used)} lie there. It can be brought back for {days}.",
            steps=[
                Planned(
                    PutShareInBin(share=share.number, days=params.days),
                    "Put its volume into the bin",
                    f"It is kept whole there for {days}.",
                    about=volume.name,
                ),
                Planned(
                    TellServing(volumes=(volume.number,)),
                    "Tell the nodes that hold it",
                    "They serve nothing of it any more, and drop nothing.",
                    seconds=1,
                ),
                tell_files("Clients find it no more."),
            ],
            effects=[
                Texts(
                    heads=["Its volume", "Snapshots", "Then"],
                    rows=[
                        TextRow(label=volume.name, before=snapshots, after="in the bin, with its snapshots")
                    ],
                ),
                Promise(title="Room", sentence=f"{words}until the bin is emptied of it."),
            ],
            touches=[
                alone(Thing.SHARE, share.number),
                shared(Thing.FILES),
                *alone_with(view, [volume]),
            ],
            meant=Meant(shares=(share,)),
            blockers=[*_against(view, share), *_against_typed(share, params.typed)],
            warnings=[
                *claimed(view, [volume]),
                *_perhaps_mounted(view, share),
                *silent_holders(view, [volume]),
            ],
            undo=Undo("restore-share", {"share": share.name}),
            type_to_confirm=share.name,
        )


def _against(view: SiteView, share: Share) -> list[Note]:
    volume = view.volume_numbered(share.volume)
    if is_binned(view, share):
        step = f"Empty the bin of {volume.name} to be rid of it."
        return [Note(sentence=f"{share.name} is in the bin already.", about="share", next_step=step)]
    if volume.forming:
        step = "Withdraw that change instead."
        return [Note(sentence=f"{share.name} is still being made.", about="share", next_step=step)]
    return [Note.of(error) for error in against_mounted(view, share, "share")]


def _perhaps_mounted(view: SiteView, share: Share) -> list[Note]:
    """That nobody tells who has it mounted."""
    silent = untold(view, share)
    if not silent or mounts_of(view, share):
        return []
    words = f"{say_list(silent)} served it, and {'is' if len(silent) == 1 else 'are'} not heard: "
    return [warning("mounts-unknown", f"{words}who has it mounted there is not known.")]


def _against_typed(share: Share, typed: str) -> list[Note]:
    if typed == share.name:
        return []
    words = f"Type {share.name} to confirm that its clients are to lose it."
    return [Note(sentence=words, about="typed")]
