"""Reading the site: its states at this moment, and how busy its disks are."""

from __future__ import annotations

import time

from sqlalchemy import extract, func, select
from sqlalchemy.orm import Session

from foldbarn.core.errors import NotPossible
from foldbarn.core.lamps import Halted, Outlook
from foldbarn.services.changes import again_at, unfinished
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import ChangeRow, DiskRow, DiskWorkRow, PoolRow, SiteRow
from foldbarn.store.views import current_view


def outlook() -> Outlook:
    """The states of everything, now."""
    view = current_view()
    with transaction() as session:
        # By the database's clock, which is the same for whoever keeps watch and whoever asks.
        away = extract("epoch", func.now() - SiteRow.watched_at)
        grace, unwatched = session.execute(select(SiteRow.grace_seconds, away)).one()
        rebuilds = session.execute(
            select(PoolRow.id, ChangeRow.state, ChangeRow.id)
            .join(ChangeRow, (ChangeRow.kind == "rebuild") & (ChangeRow.about == PoolRow.name))
            .where(ChangeRow.state.in_(("waiting", "running", "paused")))
        ).all()
        mending = frozenset(pool for pool, state, _ in rebuilds if state != "paused")
        paused = {pool: change for pool, state, change in rebuilds if state == "paused"}
        halted = tuple(
            Halted(
                row.id, row.preview["title"], row.problem, row.paused_at.timestamp(), None if again_at(row) is None else row.tries
            )
            for row in unfinished(session)
            if row.state == "paused" and row.paused_at is not None
        )  # fmt: skip
        return Outlook(view, time.time(), grace, mending, paused, halted, float(unwatched or 0.0))


def site_row(session: Session) -> SiteRow:
    return session.scalars(select(SiteRow)).one()


def set_grace(seconds: float) -> None:
    """How long a node or disk may be away before what it held is rebuilt elsewhere. Raises NotPossible outside 1 s to 7 days."""
    if not 1 <= seconds <= 7 * 86_400:
        raise NotPossible("The grace time is between 1 second and 7 days.", about="grace_seconds")
    with transaction() as session:
        site_row(session).grace_seconds = seconds
        announce(session, "site")


def disk_work() -> dict[str, tuple[float | None, float | None]]:
    """Bytes per second read and written by disk name; None where not known."""
    with transaction() as session:
        rows = session.execute(
            select(DiskRow.name, DiskWorkRow.read_rate, DiskWorkRow.write_rate).join(
                DiskWorkRow, DiskWorkRow.disk_id == DiskRow.id
            )
        )
        return {name: (read, write) for name, read, write in rows}
