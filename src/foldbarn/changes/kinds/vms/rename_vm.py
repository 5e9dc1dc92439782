"""Renaming a virtual machine. Its volumes keep their names, and hosts know it by its UUID."""

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
from foldbarn.core.vms.parts import check_vm_name, parts_of
from foldbarn.store import vms
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view


class RenameVmParams(Params):
    """A virtual machine by name, and the name that it is to have."""

    vm: str
    name: str = ""


class CallVm(Inside):
    """A virtual machine (by number) has this name; was: the one it had."""

    name: ClassVar[str] = "call-vm"
    vm: int
    called: str
    was: str

    def carry_out(self, run: Run, session: Session) -> str:
        vms.one_at_a_time(session)
        view = load_view(session)
        if all(vm.number != self.vm for vm in view.vms):
            raise Overtaken("The VM is gone.", about="vm")
        check_vm_name(view, self.called, self.vm)
        vms.rename(session, self.vm, self.called)
        announce(session, "site")
        return f"It is called {self.called}."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            vms.one_at_a_time(session)
            view = load_view(session)
            check_vm_name(view, self.was, self.vm)
            vms.rename(session, self.vm, self.was)
            announce(session, "site")


@register
class RenameVm(Kind[RenameVmParams]):
    """call (ours)."""

    name: ClassVar[str] = "rename-vm"
    params: ClassVar[type[Params]] = RenameVmParams

    def plan(self, view: SiteView, params: RenameVmParams) -> Plan:
        name = params.name.strip()
        title = f"Rename the VM {params.vm or '...'}"
        try:
            vm = view.vm(params.vm)
            check_vm_name(view, name, vm.number)
        except BarnError as error:
            return Plan(title=title, about=params.vm, blockers=[Note.of(error)])
        rows = [TextRow(label="The VM", before=vm.name, after=name)]
        rows += [TextRow(label=v.name, before=v.name, after="the same") for v in parts_of(view, vm)]
        words = (
            "At once." if vm.host is None else "At once; its host calls it so when it is switched on next."
        )
        return Plan(
            title=f"Rename the VM {vm.name} to {name}",
            about=name,
            steps=[Planned(CallVm(vm=vm.number, called=name, was=vm.name), "Write down its new name", words)],
            effects=[Texts(rows=rows)],
            touches=[alone(Thing.VM, vm.number)],
            meant=Meant(vms=(vm,)),
            blockers=[unchanged("name")] if name == vm.name else [],
            undo=Undo(self.name, {"vm": name, "name": vm.name}),
        )
