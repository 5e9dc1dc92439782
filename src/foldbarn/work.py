"""The work process: carries out changes from the queue, and keeps watch."""

from __future__ import annotations

import asyncio
import contextlib
import resource
import signal
import threading

import structlog
from procrastinate import App
from procrastinate.jobs import Status

from foldbarn.changes.engine.queue import (
    AT_ONCE,
    QUEUE,
    anything_to_run,
    closing_sender,
    enqueue_ready,
    worker_app,
)
from foldbarn.changes.engine.runner import ending
from foldbarn.logs import set_up_logs
from foldbarn.services.consumers.looking_after import look_after_orchestrators
from foldbarn.services.watching import Watch
from foldbarn.settings import settings
from foldbarn.store.database import wait_for_database

log = structlog.get_logger()
FORGET_SECONDS = 600.0  # between two sweeps of old jobs


async def take_over(app: App) -> None:
    """Clears away jobs of dead workers, and queues every open change that has no job."""
    while True:
        try:
            if not await asyncio.to_thread(anything_to_run):
                await asyncio.sleep(1.0)
                continue
            for job in await app.job_manager.get_stalled_jobs(
                seconds_since_heartbeat=settings().dead_after_seconds
            ):
                log.info("taking over a job", job=job.id)
                await app.job_manager.finish_job(job, status=Status.FAILED, delete_job=True)
            queued = [
                job
                for status in ("todo", "doing")
                for job in await app.job_manager.list_jobs_async(queue=QUEUE, status=status)
            ]
            await asyncio.to_thread(enqueue_ready, {int(str(job.task_kwargs["change"])) for job in queued})
        except Exception as error:
            log.info("could not look for forgotten jobs", error=str(error)[:120])
        await asyncio.sleep(1.0)


async def forget_jobs(app: App) -> None:
    """Keeps the jobs of the last hour only: what a job did stands with its change."""
    while True:
        try:
            await app.job_manager.delete_old_jobs(
                nb_hours=1, include_failed=True, include_cancelled=True, include_aborted=True
            )
        except Exception as error:
            log.info("could not forget old jobs", error=str(error)[:120])
        await asyncio.sleep(FORGET_SECONDS)


async def give_signs() -> None:
    """Touches the file by which the house sees that this process lives and is not stuck."""
    while (sign := settings().sign) is not None:
        sign.touch()
        await asyncio.sleep(1.0)


def as_many_files_as_may_be() -> None:
    """Each question to a node takes one, and a shell commonly allows fewer than there are nodes."""
    _, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))


async def work() -> None:
    """Until stopped. A lost database ends the process; whoever started it starts it again."""
    as_many_files_as_may_be()
    app = worker_app()
    async with app.open_async():
        beside = [
            asyncio.create_task(duty)
            for duty in (Watch().run(), take_over(app), give_signs(), forget_jobs(app))
        ]
        leaving = threading.Event()
        # A thread of its own, with threads of its own: what an orchestrator is slow to answer holds up
        # nothing.
        following = threading.Thread(target=look_after_orchestrators, args=(leaving,), daemon=True)
        following.start()
        worker = asyncio.create_task(
            app.run_worker_async(
                concurrency=AT_ONCE,
                fetch_job_polling_interval=1.0,
                update_heartbeat_interval=settings().dead_after_seconds / 4,
                stalled_worker_timeout=settings().dead_after_seconds,
                shutdown_graceful_timeout=3.0,
                install_signal_handlers=False,
            )
        )

        def end() -> None:
            # A job is a thread, which nothing can cancel: the changes look for this themselves, and the queue
            # has them again.
            ending.set()
            worker.cancel()

        def broken(task: asyncio.Task[None]) -> None:
            # Without what broke the process is not what it should be: it ends, and is started again.
            if not task.cancelled() and task.exception() is not None:
                end()

        for task in beside:
            task.add_done_callback(broken)
        for signal_ in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(signal_, end)
        try:
            with contextlib.suppress(asyncio.CancelledError):
                await worker
        finally:
            leaving.set()
            for task in beside:
                task.cancel()
            ends = await asyncio.gather(*beside, return_exceptions=True)
        for error in ends:
            if isinstance(error, Exception):
                raise error


def main() -> None:
    set_up_logs()
    wait_for_database()
    with closing_sender():
        asyncio.run(work())


if __name__ == "__main__":
    main()
