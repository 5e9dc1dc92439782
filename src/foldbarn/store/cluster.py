"""The cluster: one row once one is being formed."""

from __future__ import annotations

from typing import Any

from sqlalchemy import delete, select, update
from sqlalchemy.exc import IntegrityError

from foldbarn.store.database import Session
from foldbarn.store.tables import ClusterRow, NodeRow


def row(session: Session) -> ClusterRow | None:
    return session.get(ClusterRow, 1)


def add(session: Session, row: ClusterRow) -> bool:
    """False, and nothing is written, where there is one already."""
    try:
        with session.begin_nested():
            session.add(row)
            session.flush()
    except IntegrityError:
        return False
    return True


def made_by(session: Session) -> int | None:
    """The number of the change that forms it, or has formed it."""
    return session.scalar(select(ClusterRow.change_id))


def name(session: Session) -> str | None:
    return session.scalar(select(ClusterRow.name))


def opened(session: Session) -> None:
    session.execute(update(ClusterRow).values(forming=False))


def remove(session: Session, change: int) -> None:
    session.execute(delete(ClusterRow).where(ClusterRow.change_id == change))


def set_mail(session: Session, mail: dict[str, Any]) -> None:
    session.execute(update(ClusterRow).values(mail=mail))


def note_witness(session: Session, silent: str) -> None:
    """silent: why the witness is not heard; empty while it is."""
    session.execute(update(ClusterRow).values(witness_silent=silent))


def heard_outsiders(session: Session) -> list[NodeRow]:
    """Nodes that are heard, belong to no cluster of ours, and say that they belong to one."""
    heard = (NodeRow.contact == "heard", NodeRow.member.is_(False))
    return [n for n in session.scalars(select(NodeRow).where(*heard)) if n.says.get("name")]
