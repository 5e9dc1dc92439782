"""Showing an orchestrator's secret, once."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from foldbarn.core.actors import Actor
from foldbarn.core.claims.secrets import secret_object, where_it_answers
from foldbarn.core.errors import Conflict, NotFound
from foldbarn.sealed import unseal
from foldbarn.store import orchestrators, records
from foldbarn.store.database import announce, transaction
from foldbarn.store.views import load_view


@dataclass(frozen=True, slots=True)
class Shown:
    """A secret in the clear, and the object by which it is handed over."""

    name: str
    secret: str
    thing: dict[str, Any]


def show(actor: Actor, orchestrator: str, name: str) -> Shown:
    """Of those who ask at once, one sees it. Raises NotFound, Conflict where somebody has seen it, and
    NotPossible where it cannot be opened any more.
    """
    with transaction() as session:
        view = load_view(session)
        found = view.orchestrator(orchestrator)
        number = next((one.number for one in found.secrets if one.name == name), None)
        secret = orchestrators.secret(session, number) if number is not None else None
        if secret is None:
            raise NotFound(f"{found.name} has no secret {name}.", about="secret")
        if secret.shown_at is not None:
            when = datetime.fromtimestamp(secret.shown_at, UTC).strftime("%Y-%m-%d %H:%M UTC")
            raise Conflict(
                f"{secret.shown_to} saw {name} on {when}. It is shown once.",
                about="secret",
                next_step="Make another one, apply that, and revoke this one.",
            )
        clear = unseal(secret.sealed)
        orchestrators.note_shown(session, secret.number, actor)
        records.note(session, actor, f"The secret {name} of {found.name} was shown.")
        announce(session, "site")
        return Shown(name, clear, secret_object(name, clear, where_it_answers(view)))
