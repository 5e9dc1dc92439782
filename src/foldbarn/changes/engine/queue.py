"""The job queue in PostgreSQL: one job carries out one change. Which may run side by side is the matter of
what they touch.
"""

from __future__ import annotations

import asyncio
from collections.abc import Container, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from functools import lru_cache

import procrastinate
import structlog
from procrastinate.exceptions import AlreadyEnqueued, ConnectorException

from foldbarn.changes.engine.runner import ending, run_change
from foldbarn.settings import settings
from foldbarn.store.changes import JOB, jobs_of, to_be_run
from foldbarn.store.database import transaction

log = structlog.get_logger()
TASK = "carry out a change"
QUEUE = "changes"
AT_ONCE = 24  # changes side by side: a few may take hours, and must not keep the others from their turn


def worker_app() -> procrastinate.App:
    """The queue as a work process uses it."""
    app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=settings().plain_database_url))
    app.task(name=TASK, queue=QUEUE)(_carry_out)
    return app


async def _carry_out(change: int) -> None:
    """In a crew of threads for changes alone, so that however many run, the watch has its turns."""
    await asyncio.get_running_loop().run_in_executor(_crew(), _run_and_pass_on, change)


def _run_and_pass_on(change: int) -> None:
    """A change that has ended or paused lets others go on: those whose turn it is now are queued at once."""
    run_change(change)
    if not ending.is_set():
        _enqueue_next()


@lru_cache
def _crew() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(max_workers=AT_ONCE, thread_name_prefix="change")


@lru_cache
def _sender() -> procrastinate.App:
    app = procrastinate.App(
        connector=procrastinate.SyncPsycopgConnector(
            conninfo=settings().plain_database_url, min_size=0, max_size=4
        )
    )
    app.open()
    return app


def enqueue(change: int) -> None:
    """Queues a change; does nothing when it is queued already. One that cannot be queued now is queued by the
    work process.
    """
    try:
        task = _sender().configure_task(TASK, queue=QUEUE, queueing_lock=f"{JOB}{change}", allow_unknown=True)
        task.defer(change=change)
    except AlreadyEnqueued:
        return
    except ConnectorException as error:
        log.info("could not queue", change=change, error=str(error)[:120])


def enqueue_ready(queued: Container[int] = frozenset()) -> None:
    """Queues every change that should run now and has no job: one whose turn has come, whose job was lost
    with its process, or was never sent. queued: changes with a job."""
    with transaction() as session:
        ready = to_be_run(session)
    for change in ready:
        if change not in queued:
            enqueue(change)


def _enqueue_next() -> None:
    """Queues the changes that waited and need not any longer. Of many that were asked at once nearly all have
    a job by then, and to try each again at the end of each is what takes the time."""
    with transaction() as session:
        ready = to_be_run(session, held_up=True)
        known = jobs_of(session) if ready else set()
    for change in ready:
        if change not in known:
            enqueue(change)


def anything_to_run() -> bool:
    """Whether any change runs or waits for its turn."""
    with transaction() as session:
        return bool(to_be_run(session))


@contextmanager
def closing_sender() -> Iterator[None]:
    """Closes the sending side at the end of a process."""
    try:
        yield
    finally:
        if _sender.cache_info().currsize:
            _sender().close()
            _sender.cache_clear()
