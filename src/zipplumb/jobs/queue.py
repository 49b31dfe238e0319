"""Long work: a queue in PostgreSQL, carried out by the worker process."""

from __future__ import annotations

from functools import lru_cache

from procrastinate import App, PsycopgConnector, SyncPsycopgConnector

from ..store.database import database_url
from . import parts, report


@lru_cache(maxsize=1)
def app() -> App:
    """The queue's application, on this process's database."""
    queue = App(connector=PsycopgConnector(conninfo=database_url()))
    queue.task(name="import_part", pass_context=False)(parts.import_part)
    queue.task(name="make_report", pass_context=False)(report.make_report)
    return queue


def defer(task: str, **arguments) -> None:
    """Put one task in the queue."""
    sender = App(connector=SyncPsycopgConnector(conninfo=database_url(), max_size=1))
    with sender.open():
        sender.configure_task(name=task, allow_unknown=True).defer(**arguments)


def work() -> None:
    """Carry tasks out until told to stop; tasks of a worker that died are taken up again."""
    app().run_worker(concurrency=1, fetch_job_polling_interval=1.0)
