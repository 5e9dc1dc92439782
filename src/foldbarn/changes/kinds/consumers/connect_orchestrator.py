"""Connecting a container orchestrator, and altering by what it is asked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any, ClassVar
from urllib.parse import urlsplit

from pydantic import Field

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside
from foldbarn.changes.kinds.consumers.make_secret import put_secret
from foldbarn.core.claims.kept import Orchestrator
from foldbarn.core.errors import BarnError, Conflict, NotPossible
from foldbarn.core.names import check_name
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count
from foldbarn.links import orchestrators as link
from foldbarn.sealed import seal, unseal
from foldbarn.store import orchestrators
from foldbarn.store.database import announce, transaction
from foldbarn.store.orchestrators import Access, Said
from foldbarn.store.views import load_view

NEW = 0  # the number of an orchestrator that has none yet
LONGEST_URL, LONGEST_PEM, LONGEST_TOKEN = 500, 100_000, 20_000


class ConnectOrchestratorParams(Params):
    """orchestrator: the one that is altered, by name; empty for a new one. authority: the certificate that
    its own goes back to, as PEM; empty for what is commonly trusted. token: of the account by which it is
    asked; recorded nowhere but sealed; empty, of one that is known, for the one it has.
    """

    orchestrator: str = ""
    name: str = ""
    url: str = Field(default="", max_length=LONGEST_URL)
    authority: str = Field(default="", max_length=LONGEST_PEM)
    token: str = Field(default="", max_length=LONGEST_TOKEN)


class AskAndWrite(Outside):
    """An orchestrator (by number; 0 for a new one) is asked who it is and what it allows; what it says is
    written down with the address. token: sealed; empty for the one that is known.
    """

    name: ClassVar[str] = "ask-orchestrator"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is connected, and can be disconnected"
    orchestrator: int
    called: str
    url: str
    authority: str
    token: str = ""

    def carry_out(self, run: Run) -> str:
        sealed = self.token or self._known_token()
        run.say(f"Asking {self.url}.")
        said = ask_who(link.Orchestrator(self.url, self.authority, unseal(sealed)))
        access = Access(self.called, self.url, self.authority, sealed)
        with run.writing() as session:
            known = self.orchestrator or orchestrators.made_by(session, run.change)
            check(load_view(session), self.called, self.url, known or None)
            self._check_same(load_view(session).orchestrators, said.identity, known or None)
            if known:
                orchestrators.alter(session, known, run.change, access, said)
            else:
                put_secret(session, orchestrators.add(session, run.change, access, said))
            announce(session, "site")
        lacks = f" It lacks {say_count(len(said.missing), 'right')}." if said.missing else ""
        return f"{self.called} answers, in version {said.version}.{lacks}"

    def _known_token(self) -> str:
        with transaction() as session:
            found = orchestrators.token_of(session, self.orchestrator)
        if not found:
            raise NotPossible("The orchestrator is gone.", about="orchestrator")
        return found

    def _check_same(self, there: Sequence[Orchestrator], identity: str, known: int | None) -> None:
        twin = next((one for one in there if one.identity == identity and one.number != known), None)
        if twin is not None:
            raise Conflict(f"It is connected already, as {twin.name}.", about="url")
        before = next((one for one in there if one.number == known), None)
        if before is not None and before.identity not in ("", identity):
            raise Conflict(
                f"What answers at {self.url} is not {before.name}: its claims are other ones.",
                about="url",
                next_step="Connect it as another one.",
            )


def ask_who(asked: link.Orchestrator) -> Said:
    """Raises what asking it does."""
    missing = asked.missing()
    return Said(asked.identity(), asked.version(), tuple(right.line for right in missing))


def check(view: SiteView, name: str, url: str, known: int | None) -> None:
    """Whether an orchestrator (by number; None for a new one) may be called so and asked there. Raises
    BarnError.
    """
    others = [one for one in view.orchestrators if one.number != known]
    check_name(name, "orchestrator", [one.name for one in others])
    parts = urlsplit(url)
    if parts.scheme != "https" or not parts.hostname or parts.query or parts.fragment:
        raise NotPossible(
            f"'{url}' is no address of an orchestrator.",
            about="url",
            next_step="Give the one at which it serves its API, such as https://10.0.0.5:6443.",
        )


@register
class ConnectOrchestrator(Kind[ConnectOrchestratorParams]):
    """ask who it is (the orchestrator), and write that down (ours)."""

    name: ClassVar[str] = "connect-orchestrator"
    params: ClassVar[type[Params]] = ConnectOrchestratorParams

    def plan(self, view: SiteView, params: ConnectOrchestratorParams) -> Plan:
        title, old = f"Connect {params.name.strip() or 'an orchestrator'}", None
        try:
            if params.orchestrator:
                title = f"Change how {params.orchestrator} is asked"
                old = view.orchestrator(params.orchestrator)
            check(view, params.name, params.url.strip(), old.number if old else None)
            link.check_authority(params.authority)
        except BarnError as error:
            return Plan(title=title, about=params.orchestrator or params.name, blockers=[Note.of(error)])
        name, url = params.name.strip(), params.url.strip()
        step = AskAndWrite(
            orchestrator=old.number if old else NEW, called=name, url=url, authority=params.authority.strip()
        )
        words = "It says which one it is, its version, and which rights it gives. Nothing in it is altered."
        blockers = []
        if not params.token.strip() and old is None:
            step_on = "Apply the manifests that make an account, and copy its token here."
            blockers.append(Note(sentence="It is asked by a token.", about="token", next_step=step_on))
        return Plan(
            title=title,
            about=name,
            steps=[Planned(step, "Ask it, and write it down", words, seconds=1)],
            effects=[Texts(heads=["", "Now", "Then"], rows=_rows(old, params)), _then(old), *_secret(old)],
            # New ones come one after the other, so that of two with the same name the second is told so.
            touches=[alone(Thing.ORCHESTRATOR, old.number if old else NEW)],
            meant=Meant(orchestrators=(old,)) if old else Meant(),
            blockers=blockers,
        )

    def to_keep(self, view: SiteView, params: ConnectOrchestratorParams) -> dict[str, Any]:
        return params.model_dump(mode="json", exclude={"token"})

    def with_secrets(self, params: ConnectOrchestratorParams, steps: Sequence[Planned]) -> Sequence[Planned]:
        token = params.token.strip()
        if not token:
            return steps
        first, *rest = steps
        return [replace(first, step=first.step.model_copy(update={"token": seal(token)})), *rest]


def _rows(old: Orchestrator | None, params: ConnectOrchestratorParams) -> list[TextRow]:
    trusted = "the certificate given" if params.authority.strip() else "what is commonly trusted"
    was = ("the certificate given" if old.authority else "what is commonly trusted") if old else ""
    token = "a new one" if params.token.strip() else "the one it has"
    rows = [
        TextRow(label="Name", before=old.name if old else "", after=params.name.strip()),
        TextRow(label="Its API", before=old.url if old else "", after=params.url.strip()),
        TextRow(label="It is trusted by", before=was, after=trusted),
        TextRow(label="Token", before="the one it has" if old else "", after=token),
    ]
    return [row for row in rows if row.before != row.after] or rows[:1]


def _then(old: Orchestrator | None) -> Promise:
    if old is not None:
        return Promise(title="Its claims", sentence="Those that are known stay known, with their volumes.")
    words = "Its namespaces and claims are seen from then on. No claim gets a volume before a policy is "
    words += "granted to its namespace, and published as a class."
    return Promise(title="Its claims", sentence=words)


def _secret(old: Orchestrator | None) -> list[Promise]:
    if old is not None:
        return []
    words = (
        "It is made with it, and can be seen once: by it its nodes are let in to the volumes of its claims."
    )
    return [Promise(title="A secret", sentence=words)]
