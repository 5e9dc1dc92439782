"""Forgetting that a host runs virtual machines. Nothing on it is touched."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count, say_list
from foldbarn.store import vm_hosts
from foldbarn.store.database import Session, announce
from foldbarn.store.views import load_view


class DisconnectVmHostParams(Params):
    """A host by name."""

    host: str


class ForgetVmHost(Inside):
    """A host (by number) is asked no more what it runs."""

    name: ClassVar[str] = "forget-vm-host"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "its account is forgotten"
    host: int

    def carry_out(self, run: Run, session: Session) -> str:
        if refusal := _against(load_view(session), self.host):
            raise refusal
        vm_hosts.forget(session, self.host)
        announce(session, "site")
        return "It is asked no more."


@register
class DisconnectVmHost(Kind[DisconnectVmHostParams]):
    """forget (ours)."""

    name: ClassVar[str] = "disconnect-vm-host"
    params: ClassVar[type[Params]] = DisconnectVmHostParams

    def plan(self, view: SiteView, params: DisconnectVmHostParams) -> Plan:
        title = f"Disconnect {params.host} as a VM host"
        try:
            host = view.host(params.host)
            runs = view.vm_host(host.number)
            if runs is None:
                raise NotPossible(f"{host.name} is not connected as a VM host.", about="host")
        except BarnError as error:
            return Plan(title=title, about=params.host, blockers=[Note.of(error)])
        refusal = _against(view, host.number)
        rows = [
            TextRow(label="Its service", before=runs.url, after="asked no more"),
            TextRow(label="Account", before=runs.user, after="forgotten, with its password"),
            TextRow(label="It runs", before=say_count(len(runs.guests), "VM"), after="the same, unseen"),
        ]
        return Plan(
            title=f"Disconnect {host.name} as a VM host",
            about=host.name,
            steps=[
                Planned(ForgetVmHost(host=host.number), "Forget its account", "Nothing on it is touched.")
            ],
            effects=[Texts(heads=["", "Now", "Then"], rows=rows)],
            touches=[alone(Thing.HOST, host.number)],
            meant=Meant(hosts=(host,)),
            blockers=[Note.of(refusal)] if refusal else [],
        )


def _against(view: SiteView, host: int) -> NotPossible | None:
    """Why a host (by number) cannot be let go of: nobody could switch off what is on there."""
    names = [vm.name for vm in view.vms if vm.host == host]
    if not names:
        return None
    words = f"{say_list(names)} {'are' if len(names) > 1 else 'is'} on at it."
    step = f"Switch {'them' if len(names) > 1 else 'it'} off first."
    return NotPossible(words, about="host", next_step=step)
