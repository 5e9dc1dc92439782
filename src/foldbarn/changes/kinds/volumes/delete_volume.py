"""Deleting a volume: it goes into the bin, whole, and comes back from there for a set time."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.hosts.parting import may_be_in_use
from foldbarn.changes.kinds.volumes.serving import TellServing, find_volume, in_use, silent_holders
from foldbarn.changes.kinds.volumes.several import (
    OfVolumes,
    alone_with,
    called,
    consumers,
    find_volumes,
    pools_of,
)
from foldbarn.core.errors import BarnError, Overtaken
from foldbarn.core.hosts.attaching import against_parting
from foldbarn.core.hosts.lanes import Lane, lanes_of
from foldbarn.core.shares.belonging import against_by_itself
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.touching import Meant
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.vms.parts import against_alone
from foldbarn.core.volumes.bin import MOST_DAYS, USUAL_DAYS, bytes_held
from foldbarn.core.volumes.origins import readers_of, snapshot_of
from foldbarn.store import volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view


class DeleteVolumeParams(OfVolumes):
    """days: for which they are kept in the bin; typed: the volume's name once more, or how many there are."""

    days: int = Field(default=USUAL_DAYS, ge=1, le=MOST_DAYS)
    typed: str = ""


class PutInBin(Inside):
    """A volume (by number) is in the bin from here on, for so many days."""

    name: ClassVar[str] = "put-in-bin"
    volume: int
    days: int

    def carry_out(self, run: Run, session: Session) -> str:
        volume = find_volume(load_view(session), self.volume)
        if volume is None:
            return "It is gone already."
        if volume.binned is not None:
            return "It is in the bin already."
        lanes = lanes_of(load_view(session), volume=volume.number)
        if refusals := against_parting(lanes, "volumes"):
            raise refusals[0]
        volumes.put_in_bin(session, volume.number, self.days, run.change)
        announce(session, "site")
        return f"{volume.name} is kept there for {say_count(self.days, 'day')}."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            volumes.take_out_of_bin(session, self.volume, run.change)
            announce(session, "site")


class ForgetShown(Inside):
    """A volume (by number) that shows a snapshot is no more: it holds nothing that a bin could keep."""

    name: ClassVar[str] = "forget-shown"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is gone, and can be shown again"
    volume: int

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        volume = find_volume(view, self.volume)
        if volume is None:
            return "It is gone already."
        if refusals := against_parting(lanes_of(view, volume=volume.number), "volumes"):
            raise refusals[0]
        if volume.origin is None or not volume.origin.shown:
            raise Overtaken(f"{volume.name} holds something itself.", about="volumes")
        volumes.forget(session, volume.number)
        announce(session, "site")
        return f"{volume.name} is gone."


@register
class DeleteVolume(Kind[DeleteVolumeParams]):
    """put in bin (ours) for each volume, tell their nodes (agents)."""

    name: ClassVar[str] = "delete-volume"
    params: ClassVar[type[Params]] = DeleteVolumeParams

    def plan(self, view: SiteView, params: DeleteVolumeParams) -> Plan:
        about = called(params.volumes)
        try:
            chosen = find_volumes(view, params.volumes)
        except BarnError as error:
            return Plan(title=f"Delete {about}", about=about, blockers=[Note.of(error)])
        about = called([v.name for v in chosen])
        lanes = [lane for v in chosen for lane in lanes_of(view, volume=v.number)]
        one, days = len(chosen) == 1, say_count(params.days, "day")
        pools = pools_of(view, chosen)
        size, it = say_size(sum(v.size_bytes for v in chosen)), "It" if one else "They"
        tell = TellServing(volumes=tuple(v.number for v in chosen))
        words = f"They serve none of {'it' if one else 'them'} any more, and drop nothing."
        kept = [v for v in chosen if not _is_shown(v)]
        back = f" {it if kept == chosen else 'All others'} can be brought back for {days}." if kept else ""
        return Plan(
            title=f"Delete {about}",
            about=about,
            summary=f"{size} in {pools}.{back}",
            steps=[
                *(_put_in_bin(volume, params.days, one=one) for volume in kept),
                *(_forget(volume, one=one) for volume in chosen if _is_shown(volume)),
                Planned(tell, f"Tell {'its' if one else 'their'} nodes", words, seconds=1),
            ],
            effects=[
                consumers(chosen, _used, lambda _: "none, nodes serve nothing of it"),
                *([_reached_by(lanes, one=one)] if lanes else []),
                *([_room(view, pools, kept)] if kept else []),
                *_with_snapshots(chosen),
                *_read_by(view, chosen),
            ],
            touches=alone_with(view, chosen),
            meant=Meant(volumes=tuple(chosen)),
            blockers=[
                *(note for volume in chosen for note in _against_volume(view, volume)),
                *_against_typed(about, params.typed, one=one),
                *(Note.of(error) for error in against_parting(lanes, "volumes")),
            ],
            warnings=[
                *in_use(chosen),
                *claimed(view, chosen),
                *may_be_in_use(lanes),
                *silent_holders(view, chosen),
            ],
            undo=Undo("restore-volume", {"volumes": [v.name for v in chosen]}) if kept == chosen else None,
            type_to_confirm=about,
        )


def claimed(view: SiteView, chosen: Sequence[Volume]) -> list[Note]:
    """That claims lose their volumes."""
    mine = [kept for v in chosen if (kept := view.claim_of(v.number)) is not None and kept.held]
    if not mine:
        return []
    are, they = ("is", "it") if len(mine) == 1 else ("are", "they")
    words = (
        f"{say_list([kept.path for kept in mine])} {are} bound to what goes: {they} will be there, and hold "
    )
    words += "nothing."
    return [warning("claimed", words, next_step="Delete the claim instead, and its volume goes with it.")]


def _put_in_bin(volume: Volume, days: int, *, one: bool) -> Planned:
    words = f"It is kept whole there for {say_count(days, 'day')}, and comes back under its name."
    step = PutInBin(volume=volume.number, days=days)
    about = "" if one else volume.name
    return Planned(step, f"Put {'it' if one else volume.name} into the bin", words, about=about)


def _is_shown(volume: Volume) -> bool:
    return volume.origin is not None and volume.origin.shown


def _forget(volume: Volume, *, one: bool) -> Planned:
    words = "It shows a snapshot, and holds nothing: nothing goes into the bin, and it can be shown again."
    step = ForgetShown(volume=volume.number)
    about = "" if one else volume.name
    return Planned(step, f"Forget {'it' if one else volume.name}", words, about=about)


def _with_snapshots(chosen: Sequence[Volume]) -> list[Texts]:
    """The snapshots of these."""
    rows = [
        TextRow(
            label=volume.name,
            before=say_list([snapshot.name for snapshot in volume.snapshots], 4),
            after="kept with it in the bin, and gone when that is emptied",
        )
        for volume in chosen
        if volume.snapshots
    ]
    return [Texts(heads=["Volume", "Its snapshots", "Then"], rows=rows)] if rows else []


def _read_by(view: SiteView, chosen: Sequence[Volume]) -> list[Texts]:
    """The volumes that read from snapshots of these."""
    rows = []
    for volume in chosen:
        for reader in readers_of(view, volume):
            _, snapshot = snapshot_of(view, reader)
            words = f"reads from {snapshot.name} of {volume.name}"
            rows.append(
                TextRow(label=reader.name, before=words, after="goes on: the bin is not emptied of it")
            )
    return [Texts(heads=["Volume", "Now", "Then"], rows=rows)] if rows else []


def _used(volume: Volume) -> str:
    return "read and write it" if volume.served else "none, it is offline"


def _reached_by(lanes: Sequence[Lane], *, one: bool) -> Texts:
    """The hosts that they are attached to, and stay attached to should they come back."""
    rows = []
    for lane in lanes:
        paths = say_count(lane.width, "path")
        before = f"connected by {lane.live} of {paths}" if lane.live else "attached, and not connected"
        label = lane.host.name if one else f"{lane.host.name}, {lane.volume.name}"
        after = "let in nowhere, nothing is left" if lane.shown else "attached, and let in nowhere"
        rows.append(TextRow(label=label, before=before, after=after))
    return Texts(heads=["Host", "Now", "Then"], rows=rows)


def _room(view: SiteView, pools: str, volumes: Sequence[Volume]) -> Promise:
    held, one = say_size(bytes_held(view, volumes)), len(volumes) == 1
    words = f"{'Its' if one else 'Their'} {held} on disks of {pools} stay taken, and protected as they are, "
    return Promise(title="Room", sentence=f"{words}until the bin is emptied of {'it' if one else 'them'}.")


def _against_volume(view: SiteView, volume: Volume) -> list[Note]:
    found = []
    if part := against_alone(view, volume, "Delete the VM {vm} instead, with all its volumes."):
        found.append(Note.of(part))
    refusals = against_by_itself(view, volume, "Delete the share {share} instead.")
    found += [Note.of(error) for error in refusals]
    if volume.forming:
        words, step = f"{volume.name} is still being made.", "Withdraw that change instead."
        found.append(Note(sentence=words, about="volumes", next_step=step))
    if volume.binned is not None:
        words = f"{volume.name} is in the bin already."
        found.append(Note(sentence=words, about="volumes", next_step="Empty the bin of it to be rid of it."))
    return found


def _against_typed(wanted: str, typed: str, *, one: bool) -> list[Note]:
    if typed == wanted:
        return []
    whose, them = ("its", "it") if one else ("their", "them")
    words = f"Type {wanted} to confirm that {whose} consumers are to lose {them}."
    return [Note(sentence=words, about="typed")]
