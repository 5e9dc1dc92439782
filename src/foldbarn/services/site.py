"""Reading the site: its states at this moment, and how busy its disks are."""

from __future__ import annotations

import time

from foldbarn.core.actors import Actor
from foldbarn.core.errors import NotPossible
from foldbarn.core.pools.compressing import Measured
from foldbarn.core.watch.lamps import Halted, Outlook
from foldbarn.services.changes import again_at
from foldbarn.store import changes as kept
from foldbarn.store import records, watching
from foldbarn.store import site as store_site
from foldbarn.store.database import announce, transaction
from foldbarn.store.views import current_view


def outlook() -> Outlook:
    """The states of everything, now."""
    view = current_view()
    with transaction() as session:
        grace, unwatched = store_site.grace_and_unwatched(session)
        open_changes = kept.unfinished(session)
        mending, paused = set(), {}
        copying_paused: dict[int, int] = {}
        for row in open_changes:
            if row.kind == "rebuild":
                pool = row.meant.get("pool", {}).get(row.about, 0)
                if row.state == "paused":
                    paused[pool] = row.id
                else:
                    mending.add(pool)
            elif row.kind == "stand-alone" and row.state == "paused":
                copying_paused |= dict.fromkeys(row.meant.get("volume", {}).values(), row.id)
        for name in ("catch-up", "bring", "write-rest"):
            mending |= {(step.payload or {}).get("pool", 0) for step in kept.steps_under_way(session, name)}
        halted = tuple(
            Halted(
                row.id,
                row.title,
                row.problem,
                row.paused_at.timestamp(),
                None if again_at(row) is None else row.tries,
            )
            for row in open_changes
            if row.state == "paused" and row.paused_at is not None
        )
    return Outlook(
        view=view,
        now=time.time(),
        grace_seconds=grace,
        mending=frozenset(mending),
        paused=paused,
        halted=halted,
        unwatched=unwatched,
        copying_paused=copying_paused,
    )


def set_grace(actor: Actor, seconds: float) -> None:
    """How long a node or disk may be away before what it held is rebuilt elsewhere. Raises NotPossible
    outside 1 s to 7 days.
    """
    if not 1 <= seconds <= 7 * 86_400:
        raise NotPossible("The grace time is between 1 second and 7 days.", about="grace_seconds")
    with transaction() as session:
        row = store_site.row(session)
        before, row.grace_seconds = row.grace_seconds, seconds
        records.note(session, actor, f"The grace time is {seconds:g} s; it was {before:g} s.")
        announce(session, "site")


def compressed(number: int) -> Measured:
    """What compressing has come to in a pool (by number), as its nodes told last."""
    with transaction() as session:
        return watching.compressed(session, number)


def disk_work() -> dict[str, tuple[float | None, float | None]]:
    """Bytes per second read and written by disk name; None where not known."""
    with transaction() as session:
        return store_site.disk_work(session)


site_row = store_site.row
