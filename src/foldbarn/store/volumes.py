"""Volumes."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import delete, select, update

from foldbarn.core.arrays import Disks
from foldbarn.store import moves
from foldbarn.store.database import Session
from foldbarn.store.placements import write_placement
from foldbarn.store.tables import PlacementRow, PoolRow, VolumeRow


@dataclass(frozen=True, slots=True)
class Made:
    """A volume that a change has made: its number, its pool's, and the bytes of a strip."""

    number: int
    name: str
    pool: int
    strip_bytes: int


def of_change(session: Session, change: int) -> Made | None:
    """The volume that a change has made; none where it has made none, or withdrawn it."""
    row = session.execute(
        select(VolumeRow.id, VolumeRow.name, VolumeRow.pool_id, PoolRow.extent_bytes)
        .join(PoolRow, PoolRow.id == VolumeRow.pool_id)
        .where(VolumeRow.change_id == change)
    ).one_or_none()
    return Made(*row) if row else None


def row_of(session: Session, volume: int) -> VolumeRow | None:
    return session.get(VolumeRow, volume)


def add(session: Session, row: VolumeRow, placement: Disks) -> None:
    """A new volume with its placement, [extents, copies] of disk numbers."""
    session.add(row)
    session.flush()
    write_placement(session, row.id, placement)


def open_(session: Session, volume: int) -> None:
    """It may be used from here on."""
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(forming=False))


def forget(session: Session, volume: int) -> int:
    """Deletes a volume, its placement and its moves. Returns how many moves there were."""
    moved = moves.forget_volume(session, volume)
    session.execute(delete(PlacementRow).where(PlacementRow.volume_id == volume))
    session.execute(delete(VolumeRow).where(VolumeRow.id == volume))
    return moved
