"""Pools."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from sqlalchemy import select, update

from foldbarn.store.database import Session
from foldbarn.store.tables import PoolRow, VolumeRow


def locked(session: Session, pool: int) -> PoolRow | None:
    """A pool by number, which nobody else alters until the transaction ends; none where it is gone."""
    return session.get(PoolRow, pool, with_for_update=True)


def names(session: Session) -> list[str]:
    return list(session.scalars(select(PoolRow.name)))


def of_change(session: Session, change: int) -> PoolRow | None:
    """The pool that a change has made, and no other with its name."""
    return session.scalars(select(PoolRow).where(PoolRow.change_id == change)).one_or_none()


def add(session: Session, row: PoolRow) -> int:
    session.add(row)
    session.flush()
    return row.id


def set_values(session: Session, pool: int, values: Mapping[str, Any]) -> None:
    """Settings, or whether it is being formed or deleted."""
    if values:
        session.execute(update(PoolRow).where(PoolRow.id == pool).values(dict(values)))


def delete(session: Session, row: PoolRow) -> None:
    session.flush()
    session.delete(row)


def look(session: Session, pools: Iterable[int], why: str) -> None:
    """Asks for a look at pools (by number): their disks are to be compared with what they should hold."""
    asked = {"look_reason": why, "looks_asked": PoolRow.looks_asked + 1}
    session.execute(update(PoolRow).where(PoolRow.id.in_(list(pools))).values(asked))


def looks(session: Session) -> dict[int, str]:
    """Why each pool is to be looked at, by its number; empty where nobody asked."""
    return {pool: why for pool, why in session.execute(select(PoolRow.id, PoolRow.look_reason))}


def looks_asked(session: Session, pool: int) -> int:
    """How many looks at a pool have been asked for so far."""
    return session.scalars(select(PoolRow.looks_asked).where(PoolRow.id == pool)).one()


def answer_look(session: Session, pool: int, asked: int) -> None:
    """What was asked for has been looked at. What was asked for meanwhile, though for the same reason, still
    stands.
    """
    answered = PoolRow.id == pool, PoolRow.looks_asked == asked
    session.execute(update(PoolRow).where(*answered).values(look_reason=""))


def volumes_in(session: Session, pool: int) -> list[str]:
    """Names of a pool's volumes."""
    return list(session.scalars(select(VolumeRow.name).where(VolumeRow.pool_id == pool)))


def made_by(session: Session, pool: int) -> int | None:
    """The number of the change that made a pool."""
    return session.scalar(select(PoolRow.change_id).where(PoolRow.id == pool))
