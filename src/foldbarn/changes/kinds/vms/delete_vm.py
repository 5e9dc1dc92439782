"""Deleting a virtual machine: all its volumes go into the bin, and come back from there together."""

from __future__ import annotations

from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.kinds.hosts.parting import may_be_in_use
from foldbarn.changes.kinds.volumes.delete_volume import PutInBin
from foldbarn.changes.kinds.volumes.serving import TellServing, in_use, silent_holders
from foldbarn.changes.kinds.volumes.several import alone_with, pools_of
from foldbarn.core.errors import BarnError
from foldbarn.core.hosts.attaching import against_parting
from foldbarn.core.hosts.lanes import lanes_of
from foldbarn.core.site import SiteView, Vm, Volume
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.vms.parts import called, is_binned, parts_of
from foldbarn.core.volumes.bin import MOST_DAYS, USUAL_DAYS, bytes_held


class DeleteVmParams(Params):
    """days: for which its volumes are kept in the bin; typed: its name once more."""

    vm: str
    days: int = Field(default=USUAL_DAYS, ge=1, le=MOST_DAYS)
    typed: str = ""


@register
class DeleteVm(Kind[DeleteVmParams]):
    """put in bin (ours) for each volume, tell their nodes (agents)."""

    name: ClassVar[str] = "delete-vm"
    params: ClassVar[type[Params]] = DeleteVmParams

    def plan(self, view: SiteView, params: DeleteVmParams) -> Plan:
        try:
            vm = view.vm(params.vm)
        except BarnError as error:
            return Plan(title=f"Delete the VM {params.vm}", about=params.vm, blockers=[Note.of(error)])
        parts = parts_of(view, vm)
        there = [volume for volume in parts if volume.binned is None]
        lanes = [lane for volume in there for lane in lanes_of(view, volume=volume.number)]
        days, size = say_count(params.days, "day"), say_size(sum(v.size_bytes for v in there))
        held = say_size(bytes_held(view, there))
        words = f"Its {held} on disks of {pools_of(view, there)} stay taken, and protected as they are, "
        return Plan(
            title=f"Delete the VM {vm.name}",
            about=vm.name,
            summary=f"{say_count(len(there), 'volume')}, {size}. They can be brought back for {days}.",
            steps=[
                *(_put_in_bin(volume, params.days) for volume in there),
                Planned(
                    TellServing(volumes=tuple(v.number for v in there)),
                    "Tell their nodes",
                    "They serve none of them any more, and drop nothing.",
                    seconds=1,
                ),
            ],
            effects=[
                _effect(there),
                Promise(title="Room", sentence=f"{words}until the bin is emptied of them."),
            ],
            touches=[alone(Thing.VM, vm.number), *alone_with(view, there)],
            meant=Meant(vms=(vm,)),
            blockers=[
                *_against(view, vm, parts),
                *_against_typed(vm, params.typed),
                *(Note.of(error) for error in against_parting(lanes, "vm")),
            ],
            warnings=[*in_use(there), *may_be_in_use(lanes), *silent_holders(view, there)],
            undo=Undo("restore-vm", {"vm": vm.name}),
            type_to_confirm=vm.name,
        )


def _put_in_bin(volume: Volume, days: int) -> Planned:
    words = f"It is kept whole there for {say_count(days, 'day')}."
    step = PutInBin(volume=volume.number, days=days)
    return Planned(step, f"Put its {called(volume)} into the bin", words, about=volume.name)


def _effect(parts: list[Volume]) -> Texts:
    rows = []
    for volume in parts:
        snapshots = say_list([snapshot.name for snapshot in volume.snapshots], 3) or "no snapshot"
        rows.append(TextRow(label=volume.name, before=snapshots, after="in the bin, with its snapshots"))
    return Texts(heads=["Its volumes", "Snapshots", "Then"], rows=rows)


def _against(view: SiteView, vm: Vm, parts: list[Volume]) -> list[Note]:
    if vm.host is not None:
        words = f"{vm.name} is on at {view.host_numbered(vm.host).name}."
        return [Note(sentence=words, about="vm", next_step="Switch it off first.")]
    if is_binned(parts):
        step = "Empty the bin of its volumes to be rid of it."
        return [Note(sentence=f"{vm.name} is in the bin already.", about="vm", next_step=step)]
    if any(volume.forming for volume in parts):
        step = "Withdraw that change instead."
        return [Note(sentence=f"{vm.name} is still being made.", about="vm", next_step=step)]
    return []


def _against_typed(vm: Vm, typed: str) -> list[Note]:
    if typed == vm.name:
        return []
    words = f"Type {vm.name} to confirm that who uses it is to lose it."
    return [Note(sentence=words, about="typed")]
