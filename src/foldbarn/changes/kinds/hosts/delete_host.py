"""Forgetting a host to which no volume is attached."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.hosts.lanes import lanes_of
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_list
from foldbarn.store import hosts
from foldbarn.store.database import Session, announce
from foldbarn.store.views import load_view


class DeleteHostParams(Params):
    """A host by name."""

    host: str


class ForgetHost(Inside):
    """A host (by number) is known no more."""

    name: ClassVar[str] = "forget-host"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is forgotten"
    host: int

    def carry_out(self, run: Run, session: Session) -> str:
        if refusal := _against(load_view(session), self.host):
            raise refusal
        hosts.forget(session, self.host)
        announce(session, "site")
        return "It is forgotten."


@register
class DeleteHost(Kind[DeleteHostParams]):
    """forget (ours)."""

    name: ClassVar[str] = "delete-host"
    params: ClassVar[type[Params]] = DeleteHostParams

    def plan(self, view: SiteView, params: DeleteHostParams) -> Plan:
        title = f"Forget the host {params.host}"
        try:
            host = view.host(params.host)
        except BarnError as error:
            return Plan(title=title, about=params.host, blockers=[Note.of(error)])
        refusal = _against(view, host.number)
        names = [one.name for one in host.initiators]
        rows = [TextRow(label="It connects as", before=say_list(names, most=16), after="let in nowhere")]
        back = {"name": host.name, "group": host.group, "initiators": names, "agent_url": host.agent_url}
        return Plan(
            title=f"Forget the host {host.name}",
            about=host.name,
            steps=[Planned(ForgetHost(host=host.number), "Forget it", "Nothing on it is touched.")],
            effects=[Texts(heads=["", "Now", "Then"], rows=rows)],
            touches=[alone(Thing.HOST, host.number)],
            meant=Meant(hosts=(host,)),
            blockers=[Note.of(refusal)] if refusal else [],
            undo=Undo("save-host", back),
        )


def _against(view: SiteView, host: int) -> NotPossible | None:
    """Why a host (by number) cannot be forgotten."""
    if view.vm_host(host) is not None:
        step = "Disconnect it as a VM host first."
        return NotPossible("It runs virtual machines.", about="host", next_step=step)
    names = [lane.volume.name for lane in lanes_of(view, host=host)]
    if not names:
        return None
    words = f"{say_list(names)} {'are' if len(names) > 1 else 'is'} attached to it."
    return NotPossible(words, about="host", next_step=f"Detach {'them' if len(names) > 1 else 'it'} first.")
