"""Making another secret by which the nodes of an orchestrator are let in. Those that are good stay good, so
that one can take the place of the other while everything goes on.
"""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.changes.engine.targets import TARGETS
from foldbarn.changes.engine.telling import tell_for_a_step
from foldbarn.core.claims.kept import Orchestrator, Secret
from foldbarn.core.claims.secrets import MOST_SECRETS, SECRET_BYTES, by_secret, said_of_plain
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_list
from foldbarn.sealed import fresh_secret, seal
from foldbarn.store import orchestrators
from foldbarn.store.database import Session, announce
from foldbarn.store.views import current_view, load_view


class MakeSecretParams(Params):
    """An orchestrator by name."""

    orchestrator: str


def put_secret(session: Session, orchestrator: int) -> Secret:
    """An orchestrator (by number) has one more secret, which nobody has seen."""
    return orchestrators.add_secret(session, orchestrator, seal(fresh_secret(SECRET_BYTES)))


class MakeSecret(Inside):
    """An orchestrator (by number) has one more secret."""

    name: ClassVar[str] = "make-secret"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is made, and can be revoked"
    orchestrator: int

    def carry_out(self, run: Run, session: Session) -> str:
        found = load_view(session).orchestrator_numbered(self.orchestrator)
        if refusal := against_another(found):
            raise refusal
        made = put_secret(session, found.number)
        announce(session, "site")
        return f"{made.name} is made. It can be seen once, among the orchestrators."


class TellSecrets(Outside):
    """The nodes that serve volumes by the secrets of an orchestrator (by number) know which are good. Those
    that cannot be told now are told as soon as they can.
    """

    name: ClassVar[str] = "tell-secrets"
    orchestrator: int

    def carry_out(self, run: Run) -> str:
        nodes = serving_by_secret(current_view(), self.orchestrator)
        if not nodes:
            return "No volume is attached by a secret of it."
        return tell_for_a_step(run, TARGETS, nodes)


def serving_by_secret(view: SiteView, orchestrator: int) -> set[int]:
    """Numbers of the nodes that serve volumes for which an orchestrator's secrets are asked."""
    return {
        node
        for target in view.targets
        if any(one.secret_of == orchestrator for one in target.attachments)
        for node in target.gateways
    }


def tell_secrets(orchestrator: int) -> Planned:
    words = "Who logs in from then on is asked for one that is good."
    return Planned(
        TellSecrets(orchestrator=orchestrator), "Tell the nodes that serve by it", words, seconds=1
    )


def against_another(found: Orchestrator) -> NotPossible | None:
    if len(found.secrets) < MOST_SECRETS:
        return None
    names = say_list([one.name for one in found.secrets])
    step = "Revoke the one that is not used any more."
    return NotPossible(f"It has {names} already.", about="orchestrator", next_step=step)


@register
class MakeAnotherSecret(Kind[MakeSecretParams]):
    """make (ours), tell the nodes that serve by it (agents)."""

    name: ClassVar[str] = "make-secret"
    params: ClassVar[type[Params]] = MakeSecretParams

    def plan(self, view: SiteView, params: MakeSecretParams) -> Plan:
        title = f"Make another secret for {params.orchestrator or 'an orchestrator'}"
        try:
            found = view.orchestrator(params.orchestrator)
        except BarnError as error:
            return Plan(title=title, about=params.orchestrator, blockers=[Note.of(error)])
        refusal = against_another(found)
        rows = [TextRow(label=one.name, before="good", after="good still") for one in found.secrets]
        return Plan(
            title=f"Make another secret for {found.name}",
            about=found.name,
            steps=[
                Planned(MakeSecret(orchestrator=found.number), "Make it", "It is kept sealed."),
                tell_secrets(found.number),
            ],
            effects=[
                Texts(heads=["", "Now", "Then"], rows=[*rows, TextRow(label="One more", after="good")]),
                Promise(title="What is connected", sentence="Nobody is let go: what was good stays good."),
            ],
            touches=[alone(Thing.ORCHESTRATOR, found.number)],
            meant=Meant(orchestrators=(found,)),
            blockers=[Note.of(refusal)] if refusal else [],
            warnings=_only_for_new(view, found),
        )


def _only_for_new(view: SiteView, found: Orchestrator) -> list[Note]:
    """Objects of volumes say for good whether a secret is asked for."""
    words = said_of_plain(by_secret(view, found.number)[1])
    return [warning("only-new-volumes", f"{words} That stays so.")] if words else []
