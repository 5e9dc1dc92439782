"""Writing placements: whole for a new ply, strip by strip as moves arrive."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection

import numpy as np
from sqlalchemy import delete, select, update

from foldbarn.core.arrays import Disks, Ints
from foldbarn.core.site import UNWRITTEN
from foldbarn.store.database import Session
from foldbarn.store.tables import PlacementRow, PlyRow
from foldbarn.store.views import CHUNK


def write_placement(session: Session, ply: int, placement: Disks) -> None:
    """Stores a new ply's placement, [extents, strips] of disk numbers."""
    stored = placement.astype("<i4")
    for chunk, start in enumerate(range(0, len(stored), CHUNK)):
        session.add(PlacementRow(ply_id=ply, chunk=chunk, disks=stored[start : start + CHUNK].tobytes()))
    session.flush()


def set_extents(session: Session, ply: int, extents: Ints, rows: Disks) -> None:
    """Places some extents of a ply, [extents, strips]. Nobody moves strips of its pool meanwhile."""
    width = _strips(session, ply)
    for chunk in np.unique(extents // CHUNK).tolist():
        mine = extents // CHUNK == chunk
        which = PlacementRow.ply_id == ply, PlacementRow.chunk == chunk
        stored = session.scalars(select(PlacementRow).where(*which).with_for_update()).one()
        matrix = np.frombuffer(stored.disks, dtype="<i4").reshape(-1, width).copy()
        matrix[extents[mine] % CHUNK] = rows[mine]
        stored.disks = matrix.tobytes()
    session.execute(update(PlyRow).where(PlyRow.id == ply).values(version=PlyRow.version + 1))


def append_extents(session: Session, ply: int, more: int) -> None:
    """So many extents more, that lie nowhere and were never written."""
    width = _strips(session, ply)
    mine = PlacementRow.ply_id == ply
    last = session.scalars(
        select(PlacementRow).where(mine).order_by(PlacementRow.chunk.desc()).limit(1)
    ).one()
    matrix: Disks = np.frombuffer(last.disks, dtype="<i4").reshape(-1, width)
    fresh = np.full((more, width), UNWRITTEN, dtype="<i4")
    stored = np.concatenate([matrix, fresh])
    last.disks = stored[:CHUNK].tobytes()
    for chunk, start in enumerate(range(CHUNK, len(stored), CHUNK), last.chunk + 1):
        session.add(PlacementRow(ply_id=ply, chunk=chunk, disks=stored[start : start + CHUNK].tobytes()))
    session.flush()


def cut_off(session: Session, ply: int, extents: int) -> None:
    """What is placed of a ply beyond its first so many extents, of which there is one at least."""
    last = (extents - 1) // CHUNK
    session.execute(delete(PlacementRow).where(PlacementRow.ply_id == ply, PlacementRow.chunk > last))
    stored = session.scalars(select(PlacementRow).filter_by(ply_id=ply, chunk=last)).one()
    matrix = np.frombuffer(stored.disks, dtype="<i4").reshape(-1, _strips(session, ply))
    stored.disks = matrix[: extents - last * CHUNK].tobytes()
    session.flush()


def read_placement(session: Session, ply: int) -> Disks:
    """A ply's placement, [extents, strips] of disk numbers; 0 is nowhere."""
    return read_placements(session, [ply])[ply]


def read_placements(session: Session, plies: Collection[int]) -> dict[int, Disks]:
    """Those of several plies, by number."""
    widths = dict(session.execute(select(PlyRow.id, PlyRow.k + PlyRow.m).where(PlyRow.id.in_(plies))).all())
    pieces: dict[int, list[bytes]] = {ply: [] for ply in plies}
    rows = select(PlacementRow.ply_id, PlacementRow.disks).where(PlacementRow.ply_id.in_(plies))
    for ply, piece in session.execute(rows.order_by(PlacementRow.ply_id, PlacementRow.chunk)):
        pieces[ply].append(piece)
    return {
        ply: np.frombuffer(b"".join(mine), dtype="<i4").reshape(-1, widths[ply])
        for ply, mine in pieces.items()
    }


def _strips(session: Session, ply: int) -> int:
    """Of an extent."""
    return session.scalars(select(PlyRow.k + PlyRow.m).where(PlyRow.id == ply)).one()


def set_strips(
    session: Session,
    strips: list[tuple[int, int, int, int, int]],
    apart: Callable[[int, int, list[int]], bool] | None = None,
) -> list[tuple[int, int, int, int, int]]:
    """Points strips at other disks; each is (ply, extent, strip, expected disk number, new disk number).

    apart: whether a strip of a ply may lie on a disk beside others of its extent, on these; any may when
    None. A strip that no longer lies where it is expected is left as it is, and so is one that may not lie
    there. Returns those that were set.
    """
    chunks: dict[tuple[int, int], list[tuple[int, int, int, int, int]]] = defaultdict(list)
    for one in strips:
        chunks[one[0], one[1] // CHUNK].append(one)
    applied = []
    for (ply, chunk), ones in sorted(chunks.items()):
        width = _strips(session, ply)
        stored = session.scalars(
            select(PlacementRow).filter_by(ply_id=ply, chunk=chunk).with_for_update()
        ).one()
        matrix = np.frombuffer(stored.disks, dtype="<i4").reshape(-1, width).copy()
        for one in ones:
            _, extent, strip, expected, disk = one
            row = matrix[extent % CHUNK]
            if row[strip] != expected:
                continue
            others = [other for s, other in enumerate(row.tolist()) if s != strip and other > 0]
            if apart is not None and not apart(ply, disk, others):
                continue
            row[strip] = disk
            applied.append(one)
        stored.disks = matrix.tobytes()
    touched = {one[0] for one in applied}
    session.execute(update(PlyRow).where(PlyRow.id.in_(touched)).values(version=PlyRow.version + 1))
    return applied
