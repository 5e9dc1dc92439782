"""Disks and what pools make of them."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any

from sqlalchemy import select, update

from foldbarn.core.pools.roles import Assignment
from foldbarn.core.site import Role
from foldbarn.store.database import Session
from foldbarn.store.tables import DiskRow


def locked(session: Session, disks: Iterable[int]) -> list[DiskRow]:
    """Disks by number, in the order of their numbers, which nobody else alters until the transaction ends."""
    query = select(DiskRow).where(DiskRow.id.in_(list(disks))).order_by(DiskRow.id)
    return list(session.scalars(query.with_for_update()))


def whereabouts(session: Session, disks: Iterable[int]) -> dict[int, tuple[int, str]]:
    """Number of the node, and serial, of disks (by number)."""
    rows = select(DiskRow.id, DiskRow.node_id, DiskRow.serial).where(DiskRow.id.in_(list(disks)))
    return {disk: (node, serial) for disk, node, serial in session.execute(rows.order_by(DiskRow.id))}


def health_of(session: Session, disk: int) -> dict[str, Any]:
    """What a disk (by number) says of itself, as core.machines.health.Health has it; empty where it says
    nothing.
    """
    return session.get_one(DiskRow, disk).health


def of_pool(session: Session, pool: int) -> list[DiskRow]:
    return list(session.scalars(select(DiskRow).where(DiskRow.pool_id == pool).order_by(DiskRow.id)))


def join(disk: DiskRow, pool: int, role: Assignment) -> None:
    """The disk belongs to a pool (by number) from here on. What its node has reported of a pool's mark was
    that pool's.
    """
    disk.role, disk.tier, disk.pool_id = role.role.value, role.tier.value, pool
    disk.role_reason = role.reason if role.overridden else ""
    disk.retiring, disk.reasons = False, []


def leave(disk: DiskRow) -> None:
    """The disk belongs to no pool any more, and is fit unless it could not be told (`note_untold`)."""
    role = Role.UNFIT if disk.reasons else Role.UNCLAIMED
    disk.role, disk.tier, disk.pool_id, disk.role_reason = role.value, "bulk", None, ""
    disk.retiring, disk.stands_in_for = False, None


def note_untold(session: Session, untold: Collection[int], told: Collection[int]) -> None:
    """Which disks (by number) that leave a pool could not be told to blank themselves, and so hold old strips
    and its mark; and which could.
    """
    away = ["taken-out", "it was away when its pool let go of it"]
    for disk in locked(session, [*untold, *told]):
        others = [reason for reason in disk.reasons if reason[0] != away[0]]
        disk.reasons = [*others, away] if disk.id in untold else others


def use_again(session: Session, disks: Iterable[int]) -> None:
    """Disks that were being emptied are in use as before."""
    mine = DiskRow.id.in_(list(disks)), DiskRow.retiring
    session.execute(update(DiskRow).where(*mine).values(retiring=False))


def light(session: Session, disk: int, on: bool) -> None:
    session.get_one(DiskRow, disk).lit = on


def standing_in(session: Session) -> set[int]:
    """Numbers of disks whose place a spare has taken."""
    return set(session.scalars(select(DiskRow.stands_in_for).where(DiskRow.stands_in_for.is_not(None))))


def take_place(new: DiskRow, old: DiskRow) -> None:
    """One disk joins the pool of another, in its role."""
    new.role, new.tier, new.pool_id, new.role_reason = old.role, old.tier, old.pool_id, old.role_reason
    new.retiring, new.reasons = False, []


def give_role(disk: DiskRow, role: Role, reason: str, stands_in_for: int | None) -> None:
    """Another role in the same pool."""
    disk.role, disk.tier, disk.role_reason = role.value, "bulk", reason
    disk.retiring, disk.stands_in_for = False, stands_in_for
