"""The job queue in PostgreSQL: one job carries out one change; jobs with the same lock wait for one another."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache

import procrastinate
import structlog
from procrastinate.exceptions import AlreadyEnqueued, ConnectorException
from sqlalchemy import select

import foldbarn.changes.all_kinds  # noqa: F401  (registers the kinds)
from foldbarn.changes.runner import run_change
from foldbarn.settings import settings
from foldbarn.store.database import transaction
from foldbarn.store.tables import ChangeRow

log = structlog.get_logger()
TASK = "carry out a change"
QUEUE = "changes"


def worker_app() -> procrastinate.App:
    """The queue as a work process uses it."""
    app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=settings().plain_database_url))
    app.task(name=TASK, queue=QUEUE)(_carry_out)
    return app


def _carry_out(change: int) -> None:
    run_change(change)


@lru_cache
def _sender() -> procrastinate.App:
    app = procrastinate.App(
        connector=procrastinate.SyncPsycopgConnector(
            conninfo=settings().plain_database_url, min_size=0, max_size=4
        )
    )
    app.open()
    return app


def enqueue(change: int, touches: str) -> None:
    """Queues a change; does nothing when it is queued already. One that cannot be queued now is queued by the work process."""
    try:
        task = _sender().configure_task(
            TASK, queue=QUEUE, lock=touches, queueing_lock=f"change {change}", allow_unknown=True
        )
        task.defer(change=change)
    except AlreadyEnqueued:
        return
    except ConnectorException as error:
        log.info("could not queue", change=change, error=str(error)[:120])


def enqueue_forgotten(queued: set[int]) -> None:
    """Queues every change that should run and has no job: one lost with its process, or never sent. queued: changes with a job."""
    with transaction() as session:
        query = select(ChangeRow.id, ChangeRow.touches).where(ChangeRow.state.in_(("waiting", "running")))
        forgotten = [(change, touches) for change, touches in session.execute(query) if change not in queued]
    for change, touches in forgotten:
        enqueue(change, touches)


@contextmanager
def closing_sender() -> Iterator[None]:
    """Closes the sending side at the end of a process."""
    try:
        yield
    finally:
        if _sender.cache_info().currsize:
            _sender().close()
            _sender.cache_clear()
