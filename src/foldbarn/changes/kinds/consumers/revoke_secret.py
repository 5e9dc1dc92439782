"""Revoking a secret of an orchestrator: whoever is connected by it is let go, and nobody is let in by it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.consumers.make_secret import tell_secrets
from foldbarn.core.claims.kept import Orchestrator, Secret
from foldbarn.core.claims.secrets import connected_by
from foldbarn.core.errors import BarnError, NotFound
from foldbarn.core.site import Host, SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_list
from foldbarn.store import orchestrators
from foldbarn.store.database import Session, announce


class RevokeSecretParams(Params):
    """An orchestrator and one of its secrets, by name; typed: the secret's once more, where somebody is
    connected by it.
    """

    orchestrator: str
    secret: str
    typed: str = ""


class ForgetSecret(Inside):
    """A secret (by number) is good no more."""

    name: ClassVar[str] = "forget-secret"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is forgotten"
    secret: int

    def carry_out(self, run: Run, session: Session) -> str:
        found = orchestrators.secret(session, self.secret)
        if found is None:
            return "It was revoked already."
        orchestrators.forget_secret(session, self.secret)
        announce(session, "site")
        return f"{found.name} is good no more."


@register
class RevokeSecret(Kind[RevokeSecretParams]):
    """forget (ours), tell the nodes that serve by it (agents)."""

    name: ClassVar[str] = "revoke-secret"
    params: ClassVar[type[Params]] = RevokeSecretParams

    def plan(self, view: SiteView, params: RevokeSecretParams) -> Plan:
        title = f"Revoke {params.secret or 'a secret'}"
        try:
            found = view.orchestrator(params.orchestrator)
            secret = _called(found, params.secret)
        except BarnError as error:
            return Plan(title=title, about=params.orchestrator, blockers=[Note.of(error)])
        connected = connected_by(view, secret)
        others = [one for one in found.secrets if one is not secret]
        blockers = []
        if connected and params.typed != secret.name:
            blockers.append(Note(sentence=f"Type {secret.name} to confirm.", about="typed"))
        return Plan(
            title=f"Revoke {secret.name} of {found.name}",
            about=found.name,
            steps=[
                Planned(ForgetSecret(secret=secret.number), "Forget it"),
                tell_secrets(found.number),
            ],
            effects=[Texts(heads=["", "Now", "Then"], rows=_rows(secret, others, connected))],
            touches=[alone(Thing.ORCHESTRATOR, found.number)],
            meant=Meant(orchestrators=(found,)),
            blockers=blockers,
            warnings=_warnings(found, others, connected),
            type_to_confirm=secret.name if connected else "",
        )


def _called(found: Orchestrator, name: str) -> Secret:
    """Raises NotFound."""
    secret = next((one for one in found.secrets if one.name == name), None)
    if secret is None:
        raise NotFound(f"{found.name} has no secret {name}.", about="secret")
    return secret


def _rows(secret: Secret, others: Sequence[Secret], connected: Sequence[Host]) -> list[TextRow]:
    good = say_list([one.name for one in others])
    again = f"let go, and let in by {good} once it has that" if others else "let go"
    rows = [TextRow(label=secret.name, before="good", after="revoked")]
    rows += [TextRow(label=one.name, before="good", after="good") for one in others]
    return rows + [
        TextRow(label=host.name, before=f"connected by {secret.name}", after=again) for host in connected
    ]


def _warnings(found: Orchestrator, others: Sequence[Secret], connected: Sequence[Host]) -> list[Note]:
    if not others:
        words = f"No node of {found.name} is let in then to volumes that ask for a secret."
        step = "Make another one first, and apply it there."
        return [warning("last-secret", words, about="secret", next_step=step)]
    if connected and all(one.shown_at is None for one in others):
        names = say_list([one.name for one in others])
        words = f"{names} has been seen by nobody, so no node can have it yet."
        return [warning("unseen-secret", words, about="secret", next_step="Show it, and apply it there.")]
    return []
