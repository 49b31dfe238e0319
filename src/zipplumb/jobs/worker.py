"""The worker process: carries long work out, and takes up what another worker left when it died."""

from __future__ import annotations

import asyncio
import logging
import signal
import time
from collections.abc import Awaitable, Callable
from functools import partial

import psycopg
from procrastinate import App, PsycopgConnector, RetryStrategy
from procrastinate.exceptions import ConnectorException
from procrastinate.jobs import Status
from psycopg_pool import PoolTimeout

from ..cad.scratch import sweep
from ..store.database import AWAY, database_url
from .measure import cloud_work, point_files
from .outcomes import kept
from .plan import parts
from .proving import plans
from .queue import AT_A_TIME, QUEUES, Task
from .report import making

log = logging.getLogger(__name__)
TASKS = {
    "import_part": parts.import_part, "make_report": making.make_report, "work_out_cloud": cloud_work.work_out,
    "read_points": point_files.read, "keep_outcome": kept.keep_outcome, "plan_proof": plans.work_out,
}  # fmt: skip
LEFT = {
    "import_part": parts.import_left,
    "make_report": making.report_left,
    "work_out_cloud": cloud_work.left,
    "read_points": point_files.left,
    "keep_outcome": kept.left,
    "plan_proof": plans.left,
}  # what is said where no try succeeds
FORGET = "DELETE FROM procrastinate_jobs WHERE id = %(id)s AND status = 'failed'"
BEAT_S, STALLED_S, LOOK_S = 1.0, 5.0, 15.0
TRIES = 200  # after lost workers: many, since files are read in a process of their own, and so do not end a worker
AGAIN = RetryStrategy(wait=1, retry_exceptions=set(AWAY))  # a database that is away says nothing of the task


def queue_app() -> App:
    """The queue's application, on this process's database."""
    app = App(connector=PsycopgConnector(conninfo=database_url()))
    for name, queue in QUEUES.items():
        app.task(name=name, queue=queue, retry=AGAIN)(TASKS[name])  # type: ignore[call-overload]
    return app


def work() -> None:
    """Carry tasks out until told to stop, through losses of the database."""
    if left := sweep():
        log.warning("removed what killed workers had left of %d files", left)
    while True:
        try:
            asyncio.run(_work())
            return
        except (psycopg.Error, ConnectorException, PoolTimeout, ExceptionGroup):
            log.warning("the database cannot be reached; trying again")
            time.sleep(1)


async def _work() -> None:
    app = queue_app()
    async with app.open_async():
        looks = ((BEAT_S, partial(_looked_after, app)), (LOOK_S, _look_around))
        watches = [asyncio.create_task(_again(every_s, look)) for every_s, look in looks]
        workers = asyncio.gather(*(_one_queue(app, task) for task in QUEUES))
        for told in (signal.SIGTERM, signal.SIGINT):  # one handler for all: a worker's own would take the others' place
            asyncio.get_running_loop().add_signal_handler(told, workers.cancel)
        try:
            await workers
        except asyncio.CancelledError:
            return
        finally:
            for watch in watches:
                watch.cancel()


async def _one_queue(app: App, task: Task) -> None:
    await app.run_worker_async(
        queues=[QUEUES[task]], concurrency=AT_A_TIME[task], fetch_job_polling_interval=1.0, update_heartbeat_interval=BEAT_S,
        stalled_worker_timeout=STALLED_S, install_signal_handlers=False,
    )  # fmt: skip


async def _again(every_s: float, look: Callable[[], Awaitable[None]]) -> None:
    while True:
        try:
            await look()
        except Exception:  # a lost session must not end the watch: the worker itself goes on without it
            log.warning("what is to be done could not be looked for; trying again", exc_info=True)
        await asyncio.sleep(every_s)


async def _look_around() -> None:
    """What was found of jobs in which something has changed is kept."""
    await asyncio.to_thread(kept.look_around)


async def _looked_after(app: App) -> None:
    """Tasks of workers that no longer report are retried a few times; what failed for good is reported."""
    for job in await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=STALLED_S):
        if job.attempts < TRIES:
            await app.job_manager.retry_job(job)
        else:
            await app.job_manager.finish_job(job, Status.FAILED, delete_job=False)
    for job in await app.job_manager.list_jobs_async(status=Status.FAILED.value):
        await asyncio.to_thread(partial(LEFT[job.task_name], **job.task_kwargs))
        await app.connector.execute_query_async(FORGET, id=job.id)
