"""What is known of what the consumers of volumes got."""

from __future__ import annotations

import zlib
from collections.abc import Mapping

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert

from foldbarn.core.volumes.pace import COUNTED, Pace, work_of
from foldbarn.store.database import Session
from foldbarn.store.tables import PaceRow, VolumeRow


def read_pace(session: Session, volume: int) -> Pace | None:
    """Of a volume (by number); none while nothing is known of it."""
    row = session.get(PaceRow, volume)
    return None if row is None else _read(row)


def read_all(session: Session) -> dict[int, Pace]:
    """By number of the volume."""
    return {row.volume_id: _read(row) for row in session.scalars(select(PaceRow))}


def keep_paces(session: Session, found: Mapping[int, Pace]) -> None:
    """By number of the volume. One that has been deleted meanwhile is left out."""
    there = select(VolumeRow.id).where(VolumeRow.id.in_(list(found))).with_for_update(key_share=True)
    for number in session.scalars(there).all():
        pace = found[number]
        values = {
            "at": func.clock_timestamp(),
            "seconds": pace.seconds,
            "counted": dict(zip(COUNTED, pace.work.numbers.tolist(), strict=True)),
            "times": zlib.compress(pace.work.times.astype("<f4").tobytes()),
        }
        fresh = insert(PaceRow).values(volume_id=number, **values)
        session.execute(fresh.on_conflict_do_update(index_elements=["volume_id"], set_=values))


def _read(row: PaceRow) -> Pace:
    times = np.frombuffer(zlib.decompress(row.times), dtype="<f4").astype(np.float64)
    return Pace(work_of([row.counted.get(name, 0.0) for name in COUNTED], times), row.seconds)
