"""What is known of how much the extents of volumes are asked for."""

from __future__ import annotations

import zlib
from collections.abc import Mapping

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert

from foldbarn.core.volumes.heat import Heat
from foldbarn.store.database import Session
from foldbarn.store.tables import HeatRow, VolumeRow

_FAST = 1  # of zlib: most of it is small numbers


def read_heat(session: Session, volume: int) -> Heat | None:
    """Of a volume (by number); none while nothing is known of it."""
    row = session.get(HeatRow, volume)
    return None if row is None else _read(row)


def read_all(session: Session) -> dict[int, tuple[Heat, float]]:
    """By number of the volume: what is known of it, and how many seconds ago that was."""
    age = func.extract("epoch", func.clock_timestamp() - HeatRow.at)
    return {row.volume_id: (_read(row), float(ago)) for row, ago in session.execute(select(HeatRow, age))}


def keep_heat(session: Session, found: Mapping[int, Heat]) -> None:
    """By number of the volume. One that has been deleted meanwhile is left out."""
    there = select(VolumeRow.id).where(VolumeRow.id.in_(list(found))).with_for_update(key_share=True)
    for number in session.scalars(there).all():
        heat = found[number]
        values = {
            "at": func.clock_timestamp(),
            "data": heat.data,
            "seconds": heat.seconds,
            "counts": zlib.compress(heat.counts.astype("<i8").tobytes(), _FAST),
            "warmth": zlib.compress(heat.warmth.astype("<f4").tobytes(), _FAST),
        }
        fresh = insert(HeatRow).values(volume_id=number, **values)
        session.execute(fresh.on_conflict_do_update(index_elements=["volume_id"], set_=values))


def _read(row: HeatRow) -> Heat:
    return Heat(
        data=row.data,
        counts=np.frombuffer(zlib.decompress(row.counts), dtype="<i8").astype(np.int64),
        warmth=np.frombuffer(zlib.decompress(row.warmth), dtype="<f4").astype(np.float64),
        seconds=row.seconds,
    )
