"""Orchestrators that are connected."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import delete, func, select

from foldbarn.core.claims.kept import Answering, Orchestrator, Secret
from foldbarn.core.names import natural_key
from foldbarn.store.database import Session
from foldbarn.store.tables import OrchestratorRow, SecretRow


def read_orchestrators(session: Session) -> tuple[Orchestrator, ...]:
    """All of them, by name."""
    rows = sorted(session.scalars(select(OrchestratorRow)), key=lambda row: natural_key(row.name))
    secrets: dict[int, list[Secret]] = {}
    for one in session.scalars(select(SecretRow).order_by(SecretRow.id)):
        secrets.setdefault(one.orchestrator_id, []).append(_secret(one))
    return tuple(
        Orchestrator(
            number=row.id,
            name=row.name,
            url=row.url,
            authority=row.authority,
            identity=row.identity,
            answering=Answering(row.answering),
            reason=row.reason,
            since=row.since.timestamp(),
            version=row.version,
            missing=tuple(row.missing),
            namespaces=tuple(row.namespaces),
            others=tuple(row.others),
            altered=row.altered,
            secrets=tuple(secrets.get(row.id, ())),
        )
        for row in rows
    )


def _secret(row: SecretRow) -> Secret:
    shown = row.shown_at.timestamp() if row.shown_at else None
    return Secret(row.id, row.name, row.sealed, row.made_at.timestamp(), shown, row.shown_to)


def row_of(session: Session, number: int) -> OrchestratorRow | None:
    return session.get(OrchestratorRow, number, with_for_update=True)


@dataclass(frozen=True, slots=True)
class Access:
    """By what an orchestrator is asked; token: sealed."""

    name: str
    url: str
    authority: str
    token: str


@dataclass(frozen=True, slots=True)
class Said:
    """What an orchestrator said of itself; missing: lines of rights that it has not given."""

    identity: str
    version: str
    missing: tuple[str, ...]


def token_of(session: Session, number: int) -> str | None:
    """Sealed; none where the orchestrator is gone."""
    return session.scalar(select(OrchestratorRow.token).where(OrchestratorRow.id == number))


def add(session: Session, change: int, access: Access, said: Said) -> int:
    row = OrchestratorRow(made_by=change, name="", url="", token="")
    _write(row, access, said)
    session.add(row)
    session.flush()
    return row.id


def alter(session: Session, number: int, change: int, access: Access, said: Said) -> None:
    row = session.get_one(OrchestratorRow, number, with_for_update=True)
    _write(row, access, said)
    row.altered, row.altered_by = row.altered + 1, change


def _write(row: OrchestratorRow, access: Access, said: Said) -> None:
    row.name, row.url, row.authority, row.token = access.name, access.url, access.authority, access.token
    row.identity, row.version, row.missing = said.identity, said.version, list(said.missing)
    row.answering, row.reason, row.since = Answering.HEARD.value, "", func.now()


def access_of(session: Session, number: int) -> Access | None:
    row = session.get(OrchestratorRow, number)
    return None if row is None else Access(row.name, row.url, row.authority, row.token)


def made_by(session: Session, change: int) -> int | None:
    return session.scalar(select(OrchestratorRow.id).where(OrchestratorRow.made_by == change))


def altered_by(session: Session, number: int) -> int | None:
    return session.scalar(select(OrchestratorRow.altered_by).where(OrchestratorRow.id == number))


def forget(session: Session, number: int) -> None:
    """Deletes an orchestrator; nothing is granted to it any more, and no claim of it is kept."""
    session.execute(delete(OrchestratorRow).where(OrchestratorRow.id == number))


def note_answering(session: Session, number: int, answering: Answering, reason: str) -> bool:
    """How it answers, and why so; true where that is news."""
    row = session.get(OrchestratorRow, number, with_for_update=True)
    if row is None or (row.answering, row.reason) == (answering.value, reason):
        return False
    if row.answering != answering:
        row.since = func.now()
    row.answering, row.reason = answering.value, reason
    return True


def note_said(session: Session, number: int, version: str, missing: Sequence[str]) -> bool:
    """Its version, and which rights it has not given by now; true where that is news."""
    row = session.get(OrchestratorRow, number, with_for_update=True)
    if row is None or (row.version, row.missing) == (version, list(missing)):
        return False
    row.version, row.missing = version, list(missing)
    return True


def note_names(session: Session, number: int, namespaces: Sequence[str], others: Sequence[str]) -> bool:
    """Names of the namespaces that it has, and of the classes that are somebody else's; true where any is
    news.
    """
    row = session.get(OrchestratorRow, number, with_for_update=True)
    if row is None or (row.namespaces, row.others) == (list(namespaces), list(others)):
        return False
    row.namespaces, row.others = list(namespaces), list(others)
    return True


def all_altered(session: Session) -> dict[int, int]:
    """How often the access of each orchestrator was altered, by its number."""
    rows = session.execute(select(OrchestratorRow.id, OrchestratorRow.altered))
    return {number: altered for number, altered in rows}


# Secrets. --------------------------------------------------------------------------------------------------


def add_secret(session: Session, orchestrator: int, sealed: str) -> Secret:
    row = SecretRow(orchestrator_id=orchestrator, sealed=sealed)
    session.add(row)
    session.flush()
    session.refresh(row)
    return _secret(row)


def secret(session: Session, number: int) -> Secret | None:
    """Locked until the session ends."""
    row = session.get(SecretRow, number, with_for_update=True)
    return None if row is None else _secret(row)


def note_shown(session: Session, number: int, to: str) -> None:
    row = session.get_one(SecretRow, number)
    row.shown_at, row.shown_to = func.now(), to


def forget_secret(session: Session, number: int) -> None:
    session.execute(delete(SecretRow).where(SecretRow.id == number))
