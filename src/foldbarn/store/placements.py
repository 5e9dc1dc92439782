"""Writing placements: whole for a new volume, strip by strip as moves arrive."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable

import numpy as np
from sqlalchemy import select, update

from foldbarn.core.arrays import Disks
from foldbarn.store.database import Session
from foldbarn.store.tables import PlacementRow, VolumeRow
from foldbarn.store.views import CHUNK


def write_placement(session: Session, volume: int, placement: Disks) -> None:
    """Stores a new volume's placement, [extents, copies] of disk numbers."""
    stored = placement.astype("<i4")
    for chunk, start in enumerate(range(0, len(stored), CHUNK)):
        session.add(
            PlacementRow(volume_id=volume, chunk=chunk, disks=stored[start : start + CHUNK].tobytes())
        )
    session.flush()


def read_placement(session: Session, volume: int) -> Disks:
    """A volume's placement, [extents, copies] of disk numbers; 0 is nowhere."""
    copies = session.scalars(select(VolumeRow.copies).where(VolumeRow.id == volume)).one()
    rows = select(PlacementRow.disks).where(PlacementRow.volume_id == volume).order_by(PlacementRow.chunk)
    placement: Disks = np.frombuffer(b"".join(session.scalars(rows)), dtype="<i4").reshape(-1, copies)
    return placement


def set_strips(
    session: Session,
    strips: list[tuple[int, int, int, int, int]],
    domain: Callable[[int, int], int] | None = None,
) -> list[tuple[int, int, int, int, int]]:
    """Points strips at other disks; each is (volume, extent, strip, expected disk number, new disk number).

    domain: of a volume's disk, where extents are to be kept apart; -1 for a disk that is lost. A strip that
    no longer lies where it is expected is left as it is, and so is one whose new domain holds another strip
    of its extent. Returns those that were set.
    """
    chunks: dict[tuple[int, int], list[tuple[int, int, int, int, int]]] = defaultdict(list)
    for one in strips:
        chunks[one[0], one[1] // CHUNK].append(one)
    applied = []
    for (volume, chunk), ones in sorted(chunks.items()):
        copies = session.scalars(select(VolumeRow.copies).where(VolumeRow.id == volume)).one()
        stored = session.scalars(
            select(PlacementRow).filter_by(volume_id=volume, chunk=chunk).with_for_update()
        ).one()
        matrix = np.frombuffer(stored.disks, dtype="<i4").reshape(-1, copies).copy()
        for one in ones:
            _, extent, strip, expected, disk = one
            row = matrix[extent % CHUNK]
            if row[strip] != expected:
                continue
            if domain is not None and any(
                other and s != strip and domain(volume, other) == domain(volume, disk) >= 0
                for s, other in enumerate(row.tolist())
            ):
                continue
            row[strip] = disk
            applied.append(one)
        stored.disks = matrix.tobytes()
    touched = {one[0] for one in applied}
    session.execute(update(VolumeRow).where(VolumeRow.id.in_(touched)).values(version=VolumeRow.version + 1))
    return applied
