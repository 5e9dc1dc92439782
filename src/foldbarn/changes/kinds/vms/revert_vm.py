"""Bringing a virtual machine back to a snapshot of all its volumes. The present of all is kept
first, as it is at one moment.
"""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.snapshots.reading import find_snapshot
from foldbarn.changes.kinds.snapshots.restore_snapshot import (
    BringBack,
    against_restoring,
    against_restoring_room,
)
from foldbarn.changes.kinds.snapshots.take_snapshot import NoteSnapshots, TakeSnapshots, check_snapshot_name
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.site import SiteView, Vm, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_list, say_size
from foldbarn.core.vms.parts import called, lasting_parts, memory_at, missing_from
from foldbarn.core.volumes.bin import against_altering
from foldbarn.core.volumes.snapshots import Snapshot, differs
from foldbarn.store import vms
from foldbarn.store.database import Session, announce
from foldbarn.store.views import load_view


class RevertVmParams(Params):
    """A snapshot that all volumes of a virtual machine have, by name, and the name under which the present of
    all is kept first. memory: with what its memory held then it goes on when it is switched on next.
    """

    vm: str
    snapshot: str
    keep_as: str = ""
    memory: bool = False


class ResumeWith(Inside):
    """With what its memory held (by its place) a virtual machine (by number) goes on when it is switched on
    next.
    """

    name: ClassVar[str] = "resume-with"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "its disks are as they were then already"
    vm: int
    place: int

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        if memory_at(view, view.vm_numbered(self.vm), self.place) is None:
            return "What its memory held is gone: it starts anew."
        vms.resume_with(session, self.vm, self.place)
        announce(session, "site")
        return "It goes on from there when it is switched on."


@register
class RevertVm(Kind[RevertVmParams]):
    """note (ours), take (agents): the present of all; bring back (agents) each volume."""

    name: ClassVar[str] = "revert-vm"
    params: ClassVar[type[Params]] = RevertVmParams

    def plan(self, view: SiteView, params: RevertVmParams) -> Plan:
        title, keep_as = f"Bring the VM {params.vm or '...'} back to a snapshot", params.keep_as.strip()
        try:
            vm = view.vm(params.vm)
            parts = lasting_parts(view, vm)
            wanted = _wanted(vm, parts, params.snapshot, keep_as)
            place = _memory(view, vm, wanted) if params.memory else None
        except BarnError as error:
            return Plan(title=title, about=params.vm, blockers=[Note.of(error)])
        numbers = tuple(volume.number for volume in parts)
        pools = sorted({view.pools[volume.pool].number for volume in parts})
        more = sum(differs(volume.spans, snapshot.number) for volume, snapshot in wanted)
        snapshot = wanted[0][1].name
        return Plan(
            title=f"Bring the VM {vm.name} back to {snapshot}",
            about=vm.name,
            summary=f"About {say_size(more)} of {say_size(sum(v.size_bytes for v in parts))} changed since.",
            steps=[
                Planned(NoteSnapshots(volumes=numbers, called=keep_as), f"Write down {keep_as}, the present"),
                Planned(
                    TakeSnapshots(volumes=numbers),
                    "Keep the present of all at one moment",
                    "As a snapshot like any other.",
                    seconds=1,
                ),
                *(_bring_back(volume, taken) for volume, taken in wanted),
                *_resume(vm, place),
            ],
            effects=[_effect(wanted)],
            touches=[
                alone(Thing.VM, vm.number),
                *(alone(Thing.VOLUME, number) for number in numbers),
                *(shared(Thing.POOL, pool) for pool in pools),
            ],
            meant=Meant(vms=(vm,)),
            blockers=[*_against(view, vm, wanted)],
        )


def _wanted(vm: Vm, parts: list[Volume], named: str, keep_as: str) -> list[tuple[Volume, Snapshot]]:
    """Each volume with the snapshot that it goes back to. Raises BarnError."""
    if gone := missing_from(vm, parts):
        words = f"Its {say_list(gone)} {'are' if len(gone) > 1 else 'is'} gone for good."
        raise NotPossible(words, about="vm", next_step="Bring back each of its other volumes by itself.")
    found = []
    for volume in parts:
        if refusal := against_altering(volume):
            raise refusal
        found.append((volume, find_snapshot(volume, named)))
        check_snapshot_name(volume, keep_as)
    return found


def _memory(view: SiteView, vm: Vm, wanted: list[tuple[Volume, Snapshot]]) -> int:
    """The place of what its memory held then. Raises NotPossible where that was not kept."""
    _, snapshot = wanted[0]  # of its configuration
    image = memory_at(view, vm, snapshot.number)
    if image is None or image.binned is not None:
        words = f"{snapshot.name} was taken without memory."
        raise NotPossible(words, about="memory", next_step="Bring it back without: it starts anew then.")
    return snapshot.number


def _resume(vm: Vm, place: int | None) -> list[Planned]:
    if place is None:
        return []
    step = ResumeWith(vm=vm.number, place=place)
    return [Planned(step, "Go on with its memory", "When it is switched on next, and not before.")]


def _bring_back(volume: Volume, snapshot: Snapshot) -> Planned:
    return Planned(
        BringBack(volume=volume.number, number=snapshot.number),
        f"Write over its {called(volume)} what it held then",
        "From here on there is no way back, but to the present that was kept.",
        seconds=1,
        about=volume.name,
    )


def _effect(wanted: list[tuple[Volume, Snapshot]]) -> Texts:
    rows = [
        TextRow(
            label=volume.name,
            before=f"about {say_size(differs(volume.spans, snapshot.number))} changed since",
            after=f"as at {snapshot.name}",
        )
        for volume, snapshot in wanted
    ]
    return Texts(heads=["Its volumes", "Now", "Then"], rows=rows)


def _against(view: SiteView, vm: Vm, wanted: list[tuple[Volume, Snapshot]]) -> list[Note]:
    """What stands against it, by the rule that each volume goes by."""
    if vm.host is not None:
        words = f"{vm.name} is on at {view.host_numbered(vm.host).name}: it would see its disks change."
        return [Note(sentence=words, about="vm", next_step="Switch it off first.")]
    if used := [volume for volume, _ in wanted if not volume.offline]:
        words = f"{vm.name} is in use: who uses it would see it change under them."
        step = f"Take {'all its volumes' if len(used) == len(wanted) else say_list([v.name for v in used])} "
        return [Note(sentence=words, about="vm", next_step=f"{step}offline first.")]
    refusals = [
        *(error for volume, snapshot in wanted for error in against_restoring(view, volume, snapshot)),
        *(error for volume, snapshot in wanted for error in against_restoring_room(view, volume, snapshot)),
    ]
    return list({error.sentence: Note.of(error) for error in refusals}.values())
