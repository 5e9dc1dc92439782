"""Forgetting an orchestrator of which no claim has a volume any more."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.core.claims.kept import Orchestrator
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count, say_list
from foldbarn.store import claims, orchestrators, snapshots
from foldbarn.store.database import Session, announce
from foldbarn.store.views import load_view


class DisconnectOrchestratorParams(Params):
    """An orchestrator by name; typed: the same once more."""

    orchestrator: str
    typed: str = ""


class ForgetOrchestrator(Inside):
    """An orchestrator (by number) is known no more, nor what was granted to its namespaces."""

    name: ClassVar[str] = "forget-orchestrator"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is forgotten"
    orchestrator: int

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        if refusal := against(view, self.orchestrator):
            raise refusal
        for grant in view.grants:
            if grant.orchestrator == self.orchestrator:
                claims.forget_grant(session, grant.number)
        claims.forget_of(session, self.orchestrator)
        snapshots.no_more_asked(session, self.orchestrator)
        orchestrators.forget(session, self.orchestrator)
        claims.note(session)
        announce(session, "site")
        return "It is forgotten."


@register
class DisconnectOrchestrator(Kind[DisconnectOrchestratorParams]):
    """forget (ours)."""

    name: ClassVar[str] = "disconnect-orchestrator"
    params: ClassVar[type[Params]] = DisconnectOrchestratorParams

    def plan(self, view: SiteView, params: DisconnectOrchestratorParams) -> Plan:
        title = f"Disconnect {params.orchestrator}"
        try:
            found = view.orchestrator(params.orchestrator)
        except BarnError as error:
            return Plan(title=title, about=params.orchestrator, blockers=[Note.of(error)])
        refusal = against(view, found.number)
        blockers = [Note.of(refusal)] if refusal else []
        if params.typed != found.name:
            blockers.append(Note(sentence=f"Type {found.name} to confirm.", about="typed"))
        words = "Nothing in it is altered; classes that were published there stay, and make no volumes."
        return Plan(
            title=f"Disconnect {found.name}",
            about=found.name,
            steps=[Planned(ForgetOrchestrator(orchestrator=found.number), "Forget it", words)],
            effects=[Texts(heads=["", "Now", "Then"], rows=_rows(view, found))],
            touches=[alone(Thing.ORCHESTRATOR, found.number)],
            meant=Meant(orchestrators=(found,)),
            blockers=blockers,
            type_to_confirm=found.name,
        )


def against(view: SiteView, orchestrator: int) -> NotPossible | None:
    """Why an orchestrator (by number) cannot be forgotten: the volumes of its claims would be nobody's."""
    done = Life.WAITING, Life.OVER
    held = [one.path for one in view.claims if one.orchestrator == orchestrator and one.life not in done]
    if not held:
        return _against_attached(view, orchestrator)
    words = f"{say_list(held)} {'have volumes' if len(held) > 1 else 'has a volume'} that would be nobody's."
    step = "Delete these claims there first, and here what is kept aside."
    return NotPossible(words, about="orchestrator", next_step=step)


def _against_attached(view: SiteView, orchestrator: int) -> NotPossible | None:
    """Nobody could prove any more that a host may reach what is attached by its secrets."""
    by_it = [t.volume for t in view.targets if any(one.secret_of == orchestrator for one in t.attachments)]
    if not by_it:
        return None
    names = say_list([view.volume_numbered(number).name for number in by_it])
    words = f"{names} {'are' if len(by_it) > 1 else 'is'} attached to its nodes by its secret."
    step = "Let its pods that use them end, or detach them here."
    return NotPossible(words, about="orchestrator", next_step=step)


def _rows(view: SiteView, found: Orchestrator) -> list[TextRow]:
    waiting = sum(k.orchestrator == found.number and k.life is Life.WAITING for k in view.claims)
    granted = sum(grant.orchestrator == found.number for grant in view.grants)
    return [
        TextRow(label="Claims that wait", before=say_count(waiting, "claim"), after="not seen any more"),
        TextRow(label="Granted to it", before=say_count(granted, "grant"), after="withdrawn"),
    ]
