"""Making a virtual machine a template: it stays off, others are made from it, and it is one of its snapshots
that they are made from.
"""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import AnyEffect, Note, Promise, TextRow, Texts, unchanged
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.snapshots.room import set_up
from foldbarn.changes.kinds.snapshots.take_snapshot import (
    NoteSnapshots,
    TakeSnapshots,
    check_snapshot_name,
    with_room,
)
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.site import SiteView, Vm, Volume
from foldbarn.core.touching import Meant, Thing, Touch, alone, shared
from foldbarn.core.units import say_list
from foldbarn.core.vms.parts import lasting_parts, missing_from, newest_of_all
from foldbarn.core.volumes.bin import against_altering
from foldbarn.core.volumes.origins import against_marking
from foldbarn.store import vms
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view

ROOM = 1  # per cent, where there are no snapshots yet: nobody overwrites anything of it


class SetTemplateParams(Params):
    """template: whether it is to be one. name: of the snapshot of all its volumes that others are made from,
    where it is taken for that: there is none yet.
    """

    vm: str
    template: bool = True
    name: str = "as-template"


class MarkTemplate(Inside):
    """A virtual machine (by number) is a template from here on, or is none."""

    name: ClassVar[str] = "mark-template"
    vm: int
    template: bool

    def carry_out(self, run: Run, session: Session) -> str:
        vm = load_view(session).vm_numbered(self.vm)
        if self.template and vm.host is not None:
            raise NotPossible(f"{vm.name} is on.", about="vm", next_step="Switch it off first.")
        vms.set_template(session, self.vm, template=self.template)
        announce(session, "site")
        return f"{vm.name} is a template." if self.template else f"{vm.name} is a VM like others."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            vms.set_template(session, self.vm, template=not self.template)
            announce(session, "site")


@register
class SetTemplate(Kind[SetTemplateParams]):
    """Where it has no snapshot of all its volumes: note (ours), take (agents). Then mark (ours)."""

    name: ClassVar[str] = "set-template"
    params: ClassVar[type[Params]] = SetTemplateParams

    def plan(self, view: SiteView, params: SetTemplateParams) -> Plan:
        title = f"Make the VM {params.vm or '...'} {'a template' if params.template else 'a VM again'}"
        try:
            vm = view.vm(params.vm)
            if params.template:
                _check(view, vm)
            parts = lasting_parts(view, vm)
            takes = params.template and newest_of_all(parts) is None
            name = params.name.strip()
            steps, touches = _snapshot(view, parts, name) if takes else ([], [])
        except BarnError as error:
            return Plan(title=title, about=params.vm, blockers=[Note.of(error)])
        return Plan(
            title=f"Make the VM {vm.name} {'a template' if params.template else 'a VM again'}",
            about=vm.name,
            steps=[
                *steps,
                Planned(
                    MarkTemplate(vm=vm.number, template=params.template),
                    "Write it down",
                    "It is not switched on any more." if params.template else "It may be switched on.",
                ),
            ],
            effects=_effects(vm, parts, name if takes else "", template=params.template),
            touches=[alone(Thing.VM, vm.number), *touches],
            meant=Meant(vms=(vm,)),
            blockers=[unchanged("template")] if vm.template == params.template else [],
            undo=Undo(self.name, {"vm": vm.name, "template": not params.template}),
        )


def _check(view: SiteView, vm: Vm) -> None:
    """Whether it may be a template. Raises NotPossible."""
    if vm.host is not None:
        words = f"{vm.name} is on at {view.host_numbered(vm.host).name}."
        raise NotPossible(words, about="vm", next_step="Switch it off first.")
    parts = lasting_parts(view, vm)
    if gone := missing_from(vm, parts):
        words = f"Its {say_list(gone)} {'are' if len(gone) > 1 else 'is'} gone for good."
        raise NotPossible(words, about="vm")
    for volume in parts:
        if refusal := against_altering(volume) or against_marking(volume):
            raise refusal


def _snapshot(view: SiteView, parts: list[Volume], name: str) -> tuple[list[Planned], list[Touch]]:
    """The steps that take a snapshot of all, and what they touch. Raises BarnError."""
    for volume in parts:
        check_snapshot_name(volume, name)
    _, lacking = with_room(view, parts, ROOM)
    pools = [view.pools[row] for row in sorted({volume.pool for volume in parts})]
    numbers = tuple(volume.number for volume in parts)
    rooms: list[Planned] = []
    for pool in pools:
        rooms += set_up(pool, [(v, n) for v, n in lacking if view.pools[v.pool] is pool], one=False)
    steps = [
        *rooms,
        Planned(NoteSnapshots(volumes=numbers, called=name), f"Write down {name}"),
        Planned(TakeSnapshots(volumes=numbers), "Mark the moment", "Others are made from that.", seconds=1),
    ]
    touches = [alone(Thing.VOLUME, number) for number in numbers]
    return steps, [*touches, *(shared(Thing.POOL, pool.number) for pool in pools)]


def _effects(vm: Vm, parts: list[Volume], taken: str, *, template: bool) -> list[AnyEffect]:
    if not template:
        words = "It may be switched on. What was made from it stays as it is."
        return [Promise(title="Then", sentence=words)]
    newest = newest_of_all(parts)
    of = taken or (newest.name if newest is not None else "")
    rows = [
        TextRow(label="Switched on", before="when somebody wants to", after="not any more"),
        TextRow(label="Others are made", before="from a snapshot of it", after=f"from {of}, or a later one"),
    ]
    return [Texts(heads=[vm.name, "Now", "Then"], rows=rows)]
