"""Long work: a queue in PostgreSQL, carried out by the worker process."""

from __future__ import annotations

import asyncio
import logging
import time
from functools import lru_cache

import psycopg
from procrastinate import App, PsycopgConnector, SyncPsycopgConnector
from procrastinate.exceptions import ConnectorException
from psycopg_pool import PoolTimeout

from ..store.database import database_url
from . import parts, report

log = logging.getLogger(__name__)
STALLED_S = 30


@lru_cache(maxsize=1)
def app() -> App:
    """The queue's application, on this process's database."""
    queue = App(connector=PsycopgConnector(conninfo=database_url()))
    queue.task(name="import_part", pass_context=False)(parts.import_part)
    queue.task(name="make_report", pass_context=False)(report.make_report)
    return queue


def defer(task: str, **arguments) -> None:
    """Put one task in the queue."""
    sender = App(connector=SyncPsycopgConnector(conninfo=database_url(), min_size=1, max_size=1))
    with sender.open():
        sender.configure_task(name=task, allow_unknown=True).defer(**arguments)


def work() -> None:
    """Carry tasks out until told to stop, through losses of the database.

    Tasks that another worker left unfinished when it died are taken up again.
    """
    while True:
        try:
            asyncio.run(_retry_stalled())
            app().run_worker(concurrency=1, fetch_job_polling_interval=1.0)
            return
        except (psycopg.Error, ConnectorException, PoolTimeout):
            log.warning("the database cannot be reached; trying again")
            app.cache_clear()
            time.sleep(1)


async def _retry_stalled() -> None:
    queue = App(connector=PsycopgConnector(conninfo=database_url()))
    async with queue.open_async():
        for job in await queue.job_manager.get_stalled_jobs(seconds_since_heartbeat=STALLED_S):
            await queue.job_manager.retry_job(job)
