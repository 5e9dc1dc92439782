"""What the watch's duties cost, and which of them fail."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from datetime import timedelta

from sqlalchemy import delete, func, select, text

from foldbarn.store.database import Session, announce
from foldbarn.store.tables import DutyRow


@dataclass(frozen=True, slots=True)
class Figure:
    """every: seconds between its turns; seconds, processor_seconds: in all, since the work process began;
    problem: of the last turn.
    """

    name: str
    every: float
    turns: int
    seconds: float
    processor_seconds: float
    failures: int
    problem: str


FORGOTTEN_AFTER = timedelta(minutes=5)
_COLUMNS = ("every", "turns", "seconds", "processor_seconds", "failures", "problem")
_KEEP = text(
    f"""
    insert into duty (name, {", ".join(_COLUMNS)}, at)
    select name, {", ".join(_COLUMNS)}, now()
    from jsonb_populate_recordset(null::duty, cast(:figures as jsonb))
    on conflict (name) do update set
        {", ".join(f"{column} = excluded.{column}" for column in _COLUMNS)}, at = excluded.at
    """
)


def report(session: Session, figures: Sequence[Figure]) -> None:
    """Keeps what some duties cost: each round of them tells of its own. Whoever looks hears of one that
    begins to fail, or works again; one that nobody has told of for long is of another version, and forgotten.
    """
    before = {row.name: row.problem for row in session.scalars(select(DutyRow))}
    long_ago = DutyRow.at < func.now() - FORGOTTEN_AFTER
    session.execute(delete(DutyRow).where(DutyRow.name.not_in([f.name for f in figures]), long_ago))
    session.execute(_KEEP, {"figures": json.dumps([asdict(f) for f in figures])})
    if any(before.get(f.name, "") != f.problem for f in figures):
        announce(session, "site")


def all_figures(session: Session) -> list[DutyRow]:
    return list(session.scalars(select(DutyRow).order_by(DutyRow.name)))


def failing(session: Session) -> list[DutyRow]:
    return [row for row in all_figures(session) if row.problem]
