"""Bringing a virtual machine back from the bin, with all its volumes that are still there."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.kinds.volumes.restore_volume import TakeOut
from foldbarn.changes.kinds.volumes.serving import TellServing
from foldbarn.changes.kinds.volumes.several import alone_with
from foldbarn.changes.kinds.volumes.warnings import unreadable
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.site import SiteView, Vm, Volume
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.vms.parts import called, missing_from, parts_of
from foldbarn.core.volumes.bin import against_bringing_back


class RestoreVmParams(Params):
    """A virtual machine that was deleted, by name."""

    vm: str


@register
class RestoreVm(Kind[RestoreVmParams]):
    """take out (ours) for each volume, tell their nodes (agents)."""

    name: ClassVar[str] = "restore-vm"
    params: ClassVar[type[Params]] = RestoreVmParams

    def plan(self, view: SiteView, params: RestoreVmParams) -> Plan:
        title = f"Bring the VM {params.vm} back"
        try:
            vm = view.vm(params.vm)
            parts = parts_of(view, vm)
            binned = [volume for volume in parts if volume.binned is not None]
            if not binned:
                raise NotPossible(f"{vm.name} is not in the bin.", about="vm")
            for volume in binned:
                if refusal := against_bringing_back(volume):
                    raise refusal
        except BarnError as error:
            return Plan(title=title, about=params.vm, blockers=[Note.of(error)])
        size = say_size(sum(volume.size_bytes for volume in binned))
        rows = [
            TextRow(label=volume.name, before="in the bin", after="as it was, under its name")
            for volume in binned
        ]
        return Plan(
            title=f"Bring the VM {vm.name} back",
            about=vm.name,
            summary=f"{say_count(len(binned), 'volume')}, {size}, as they were.",
            steps=[
                *(_take_out(volume) for volume in binned),
                Planned(
                    TellServing(volumes=tuple(v.number for v in binned)),
                    "Tell their nodes",
                    "They serve them as before.",
                    seconds=1,
                ),
            ],
            effects=[Texts(heads=["Its volumes", "Now", "Then"], rows=rows)],
            touches=[alone(Thing.VM, vm.number), *alone_with(view, binned)],
            meant=Meant(vms=(vm,)),
            warnings=[
                *_incomplete(vm, parts),
                *(note for volume in binned for note in unreadable(view, volume, one=False)),
            ],
        )


def _take_out(volume: Volume) -> Planned:
    title = f"Take its {called(volume)} out of the bin"
    return Planned(TakeOut(volume=volume.number), title, "It has its name and its room.", about=volume.name)


def _incomplete(vm: Vm, parts: list[Volume]) -> list[Note]:
    """That the bin was emptied of some of it."""
    gone = missing_from(vm, parts)
    if not gone:
        return []
    words = f"The bin was emptied of its {say_list(gone)}: it comes back without."
    return [warning("incomplete", words)]
