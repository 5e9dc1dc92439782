"""Volumes."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import ColumnElement, delete, select, update

from foldbarn.core.arrays import Disks
from foldbarn.core.pools.protection import Scheme
from foldbarn.core.site import Ply, Purpose, Tier
from foldbarn.store import moves
from foldbarn.store.database import Session
from foldbarn.store.placements import write_placement
from foldbarn.store.tables import PlacementRow, PlyRow, PoolRow, VolumeRow


@dataclass(frozen=True, slots=True)
class Made:
    """A volume that a change has made: its number, its pool's, the bytes of a strip, and the numbers of its
    plies.
    """

    number: int
    name: str
    pool: int
    strip_bytes: int
    plies: tuple[int, ...]


def of_change(session: Session, change: int) -> Made | None:
    """The volume that a change has made; none where it has made none, or withdrawn it."""
    row = session.execute(
        select(VolumeRow.id, VolumeRow.name, VolumeRow.pool_id, PoolRow.strip_bytes)
        .join(PoolRow, PoolRow.id == VolumeRow.pool_id)
        .where(VolumeRow.change_id == change)
    ).one_or_none()
    if row is None:
        return None
    plies = session.scalars(select(PlyRow.id).where(PlyRow.volume_id == row.id).order_by(PlyRow.id))
    return Made(*row, tuple(plies))


def row_of(session: Session, volume: int) -> VolumeRow | None:
    return session.get(VolumeRow, volume)


def add(session: Session, row: VolumeRow, scheme: Scheme, tier: Tier, placement: Disks) -> None:
    """A new volume of one ply, with its placement, [extents, strips] of disk numbers."""
    session.add(row)
    session.flush()
    _add_ply(session, row.id, scheme, tier, placement)


def _add_ply(
    session: Session, volume: int, scheme: Scheme, tier: Tier, placement: Disks, source: int | None = None
) -> None:
    """source: the ply that it is written anew from."""
    ply = PlyRow(
        volume_id=volume,
        purpose=(Purpose.ANEW if source else Purpose.WHOLE).value,
        k=scheme.k,
        m=scheme.m,
        level=scheme.level.value,
        per_domain=scheme.per_domain,
        tier=tier.value,
        extents=len(placement),
        source_id=source,
    )
    session.add(ply)
    session.flush()
    write_placement(session, ply.id, placement)


def begin_anew(session: Session, ply: Ply) -> None:
    """A ply that a volume is to be written anew to, beside the one that holds it."""
    _add_ply(session, ply.volume, ply.scheme, ply.tier, ply.placement, source=ply.source)


def forget_anew(session: Session, volume: int) -> None:
    """It is not written anew: what has been written of it belongs to nothing."""
    _forget_plies(session, PlyRow.volume_id == volume, PlyRow.purpose == Purpose.ANEW.value)


def take_over(session: Session, volume: int, policy_version: int | None) -> None:
    """What was written anew holds a volume from here on, by another policy (the row of its version), and what
    held it is forgotten.
    """
    mine = PlyRow.volume_id == volume
    anew = update(PlyRow).where(mine, PlyRow.purpose == Purpose.ANEW.value)
    held = PlyRow.purpose == Purpose.WHOLE.value
    old = list(session.scalars(select(PlyRow.id).where(mine, held)))
    session.execute(anew.values(purpose=Purpose.WHOLE.value, source_id=None, version=PlyRow.version + 1))
    _forget_plies(session, PlyRow.id.in_(old))
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(policy_version_id=policy_version))


def _forget_plies(session: Session, *which: ColumnElement[bool]) -> int:
    """Returns how many moves they had."""
    plies = list(session.scalars(select(PlyRow.id).where(*which)))
    moved = moves.forget_plies(session, plies)
    session.execute(delete(PlacementRow).where(PlacementRow.ply_id.in_(plies)))
    session.execute(delete(PlyRow).where(PlyRow.id.in_(plies)))
    return moved


def open_(session: Session, volume: int) -> None:
    """It may be used from here on."""
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(forming=False))


def hold_as(session: Session, ply: int, scheme: Scheme, placement: Disks, policy_version: int | None) -> None:
    """A volume's only ply is held by another scheme of as many data strips, and the volume by another policy
    (the row of its version). Nobody moves strips of its pool meanwhile.
    """
    row = session.get_one(PlyRow, ply)
    row.m, row.level, row.per_domain = scheme.m, scheme.level.value, scheme.per_domain
    row.version += 1
    moves.forget_strips(session, ply, scheme.strips)
    session.execute(delete(PlacementRow).where(PlacementRow.ply_id == ply))
    write_placement(session, ply, placement)
    mine = update(VolumeRow).where(VolumeRow.id == row.volume_id)
    session.execute(mine.values(policy_version_id=policy_version))


def forget(session: Session, volume: int) -> int:
    """Deletes a volume, its plies and their moves. Returns how many moves there were."""
    moved = _forget_plies(session, PlyRow.volume_id == volume)
    session.execute(delete(VolumeRow).where(VolumeRow.id == volume))
    return moved
