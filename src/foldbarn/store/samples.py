"""Samples of what things did, in partitions by time: written by COPY, condensed as they grow old, and dropped
partition by partition.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, cast

import numpy as np
from psycopg import Connection
from sqlalchemy import func, select, text
from sqlalchemy.dialects.postgresql import insert

from foldbarn.core.arrays import Ints, Reals
from foldbarn.core.watch.samples import (
    HOUR,
    KEPT,
    MEASURES,
    MINUTE,
    Condensed,
    Sampled,
    Samples,
    Series,
    condensed,
    of_samples,
    packed,
)
from foldbarn.store.database import Session
from foldbarn.store.tables import CondensingRow, HourRow, MinuteRow, SampleRow

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
_KEY = ("what", "number", "part", "at")
_KEY_TYPES = ["text", "int8", "text", "timestamptz"]
LATE = timedelta(seconds=20)  # a sample may be written so long after the time that it tells of
DROP_SECONDS = 2  # for which whoever reads may keep a partition from being dropped


@dataclass(frozen=True, slots=True)
class _Table:
    """Where samples lie that are condensed to `span` seconds each (0: as taken), in partitions of so many."""

    row: type[SampleRow] | type[MinuteRow] | type[HourRow]
    span: int
    partition: int

    @property
    def name(self) -> str:
        return str(self.row.__tablename__)


TAKEN = _Table(SampleRow, 0, HOUR)
MINUTES = _Table(MinuteRow, MINUTE, 24 * HOUR)
HOURS = _Table(HourRow, HOUR, 7 * 24 * HOUR)
TABLES = {table.span: table for table in (TAKEN, MINUTES, HOURS)}


def now(session: Session) -> datetime:
    """By the database's clock."""
    return cast(datetime, session.scalar(select(func.clock_timestamp())))


def keep(session: Session, at: datetime, found: Samples) -> None:
    """Writes down what was sampled just now."""
    _make_room(session, TAKEN, at)
    values = found.values.tolist()
    known = [[None if value != value else value for value in row] for row in values]
    rows = (
        (one.of.value, one.number, one.part, at, *measures, times)
        for one, measures, times in zip(found.series, known, packed(found.times), strict=True)
    )
    columns = [*_KEY, *(measure.value for measure in MEASURES), "times"]
    _copy(session, TAKEN, columns, [*_KEY_TYPES, *["float8"] * len(MEASURES), "bytea"], rows)


def condense(session: Session, span: int, at: datetime) -> int:
    """Puts together what has been taken, or condensed to less, for the next stretch of `span` seconds that
    has not been yet, where that is over. Returns how many rows came of it; -1 where there is nothing to do
    yet.
    """
    into, source = TABLES[span], MINUTES if span == HOUR else TAKEN
    row = session.get(CondensingRow, span, with_for_update=True)
    left = select(func.min(source.row.at))
    oldest = session.scalar(left if row is None else left.where(source.row.at >= row.until))
    if oldest is None:
        return -1
    begin = _floor(oldest, span)  # where there is nothing for a while, that is passed over
    end = begin + timedelta(seconds=span)
    late = LATE if source is TAKEN else LATE + timedelta(seconds=MINUTE)
    if end + late > at:
        return -1
    series, _, rows = _read(session, source, source.row.at >= begin, source.row.at < end)
    if series:
        places = {one: place for place, one in enumerate(dict.fromkeys(series))}
        groups = np.array([places[one] for one in series], dtype=np.int64)
        _write(session, into, begin, list(places), condensed(rows, groups, len(places)))
    done = insert(CondensingRow).values(span=span, until=end)
    session.execute(done.on_conflict_do_update(index_elements=["span"], set_={"until": end}))
    return len(rows)


def drop_old(session: Session, at: datetime) -> list[str]:
    """Drops the partitions of which all is older than samples are kept; returns their names. Raises what says
    that somebody reads them yet, after a moment.
    """
    session.execute(text(f"set local lock_timeout = '{DROP_SECONDS}s'"))
    found = text("select inhrelid::regclass::text from pg_inherits where inhparent = to_regclass(:parent)")
    dropped = []
    for table in TABLES.values():
        oldest = at - timedelta(seconds=KEPT[table.span])
        for name in session.scalars(found, {"parent": table.name}).all():
            begin = datetime.strptime(name, f"{table.name}_from_%Y%m%d_%H").replace(tzinfo=UTC)
            if begin + timedelta(seconds=table.partition) <= oldest:
                session.execute(text(f"drop table {name}"))
                dropped.append(name)
    return dropped


def of_series(session: Session, series: Series, span: int, since: datetime) -> tuple[Reals, Condensed]:
    """The samples of one thing since a moment, oldest first: when each was taken, or the time that it stands
    for begins, in seconds since 1970; and what they say.
    """
    table = TABLES[span]
    row = table.row
    mine = row.what == series.of.value, row.number == series.number, row.part == series.part
    _, at, rows = _read(session, table, *mine, row.at >= since)
    return np.array([moment.timestamp() for moment in at], dtype=np.float64), rows


def newest(session: Session, of: Sampled) -> tuple[list[Series], Condensed]:
    """The last sample of each thing of a kind that was sampled just now."""
    last = select(func.max(SampleRow.at)).where(SampleRow.what == of.value).scalar_subquery()
    series, _, rows = _read(session, TAKEN, SampleRow.what == of.value, SampleRow.at == last)
    return series, rows


def _read(session: Session, table: _Table, *which: Any) -> tuple[list[Series], list[datetime], Condensed]:
    """Of which thing each is, when, and what they say; in their order."""
    row = table.row
    key = (row.what, row.number, row.part, row.at)
    if row is SampleRow:
        taken = [getattr(SampleRow, measure.value) for measure in MEASURES]
        query = select(*key, SampleRow.times, *taken)
    else:
        kept = cast(type[MinuteRow], row)
        query = select(*key, kept.times, kept.spread, kept.count, kept.mean, kept.least, kept.most)
    found = session.execute(query.where(*which).order_by(*key)).all()
    series = [Series(Sampled(what), number, part) for what, number, part, *_ in found]
    at, times = [one[3] for one in found], [bytes(one[4]) for one in found]
    if row is SampleRow:
        return series, at, of_samples(_matrix([one[5:] for one in found]), times)
    count = np.nan_to_num(_matrix([one[6] for one in found])).astype(np.int64)
    mean, least, most = (_matrix([one[column] for one in found]) for column in (7, 8, 9))
    return series, at, Condensed(count, mean, least, most, [bytes(one[5]) for one in found], times)


def _matrix(rows: Sequence[Sequence[float | None]]) -> Reals:
    """NaN where nothing is known: of measures that came later, and that were left out at the end."""
    found = np.full((len(rows), len(MEASURES)), np.nan)
    for row, values in enumerate(rows):
        found[row, : len(values)] = values
    return found


def _as_long_as_known(counts: Ints) -> Ints:
    """Up to where of each row anything is known, [rows]: what follows need not be kept."""
    known = counts > 0
    ends: Ints = np.where(known.any(axis=1), counts.shape[1] - np.argmax(known[:, ::-1], axis=1), 1)
    return ends


def _write(session: Session, table: _Table, at: datetime, series: Sequence[Series], rows: Condensed) -> None:
    _make_room(session, table, at)
    ends = _as_long_as_known(rows.count).tolist()
    measured = (
        [values[:end] for values, end in zip(table.tolist(), ends, strict=True)]
        for table in (rows.count, rows.mean, rows.least, rows.most)
    )
    listed = zip(series, *measured, rows.spread, rows.times, strict=True)
    columns = [*_KEY, "count", "mean", "least", "most", "spread", "times"]
    types = [*_KEY_TYPES, "int4[]", "float4[]", "float4[]", "float4[]", "bytea", "bytea"]
    told = ((one.of.value, one.number, one.part, at, *said) for one, *said in listed)
    _copy(session, table, columns, types, told)


def _copy(
    session: Session,
    table: _Table,
    columns: Sequence[str],
    types: Sequence[str],
    rows: Iterable[Sequence[Any]],
) -> None:
    """Writes rows by COPY, which is many times quicker than inserting them (PostgreSQL's manual, "Populating
    a Database").
    """
    driver = cast(Connection[Any], session.connection().connection.driver_connection)
    named = ", ".join(f'"{column}"' for column in columns)  # some are words of SQL too
    command = f"copy {table.name} ({named}) from stdin (format binary)"
    with driver.cursor() as cursor, cursor.copy(command) as copy:
        copy.set_types(list(types))
        for row in rows:
            copy.write_row(row)


def _make_room(session: Session, table: _Table, at: datetime) -> None:
    """The partition for a moment is there."""
    begin = _floor(at, table.partition)
    name = f"{table.name}_from_{begin:%Y%m%d_%H}"
    if session.scalar(text("select to_regclass(:name) is not null"), {"name": name}):
        return
    end = begin + timedelta(seconds=table.partition)
    # `if not exists`: another may have made it since.
    made = f"create table if not exists {name} partition of {table.name}"
    session.execute(text(f"{made} for values from ('{begin.isoformat()}') to ('{end.isoformat()}')"))


def _floor(at: datetime, seconds: int) -> datetime:
    """When the stretch of so many seconds began that a moment lies in."""
    whole = timedelta(seconds=seconds)
    return at - (at - _EPOCH) % whole
