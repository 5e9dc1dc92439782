"""What is known of what the consumers of volumes got."""

from __future__ import annotations

import zlib
from collections.abc import Mapping
from dataclasses import asdict

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert

from foldbarn.core.volumes.growth import Growth
from foldbarn.core.volumes.pace import COUNTED, Pace, is_news, work_of
from foldbarn.store.database import Session
from foldbarn.store.tables import PaceRow, VolumeRow


def read_pace(session: Session, volume: int) -> Pace | None:
    """Of a volume (by number); none while nothing is known of it."""
    row = session.get(PaceRow, volume)
    return None if row is None else _read(row)


def read_all(session: Session) -> dict[int, Pace]:
    """By number of the volume."""
    return {row.volume_id: _read(row) for row in session.scalars(select(PaceRow))}


def growths(session: Session) -> dict[int, Growth]:
    """How fast room is set aside for volumes, by number of the volume."""
    return {
        number: Growth(**found)
        for number, found in session.execute(select(PaceRow.volume_id, PaceRow.growth))
    }


def keep_growths(session: Session, found: Mapping[int, Growth]) -> bool:
    """By number of volumes of which a pace is kept. Returns whether any of it is news for the picture of the
    site.
    """
    for row in session.scalars(select(PaceRow).where(PaceRow.volume_id.in_(list(found)))):
        row.growth = asdict(found[row.volume_id])
    news = False
    rows = select(VolumeRow).where(VolumeRow.id.in_(list(found))).with_for_update()
    for volume in session.scalars(rows):
        if not found[volume.id].is_like(Growth(**volume.growth)):
            volume.growth, news = asdict(found[volume.id]), True
    return news


def keep_paces(session: Session, found: Mapping[int, Pace]) -> bool:
    """By number of the volume. One that has been deleted meanwhile is left out. Returns whether any of it is
    news for the picture of the site.
    """
    there = select(VolumeRow).where(VolumeRow.id.in_(list(found))).order_by(VolumeRow.id)
    news = False
    for volume in session.scalars(there.with_for_update(key_share=True)).all():
        number, pace = volume.id, found[volume.id]
        asked = round(pace.a_second(pace.work.operations), 2)
        if is_news(volume.asked, asked):
            volume.asked, news = asked, True
        values = {
            "at": func.clock_timestamp(),
            "seconds": pace.seconds,
            "counted": dict(zip(COUNTED, pace.work.numbers.tolist(), strict=True)),
            "times": zlib.compress(pace.work.times.astype("<f4").tobytes()),
        }
        fresh = insert(PaceRow).values(volume_id=number, **values)
        session.execute(fresh.on_conflict_do_update(index_elements=["volume_id"], set_=values))
    return news


def _read(row: PaceRow) -> Pace:
    times = np.frombuffer(zlib.decompress(row.times), dtype="<f4").astype(np.float64)
    return Pace(work_of([row.counted.get(name, 0.0) for name in COUNTED], times), row.seconds)
