"""Bringing a virtual machine back to a snapshot of all its volumes. The present of all is kept
first, as it is at one moment.
"""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
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
from foldbarn.core.vms.parts import called, lasting_parts, missing_from
from foldbarn.core.volumes.bin import against_altering
from foldbarn.core.volumes.snapshots import Snapshot, differs


class RevertVmParams(Params):
    """A snapshot that all volumes of a virtual machine have, by name, and the name under which the present of
    all is kept first.
    """

    vm: str
    snapshot: str
    keep_as: str = ""


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
