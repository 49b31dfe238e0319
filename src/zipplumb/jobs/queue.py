"""Long work is put in a queue in PostgreSQL, in the transaction of what it belongs to: both are there, or neither is."""

from __future__ import annotations

from functools import lru_cache
from typing import Literal, cast

import psycopg
from procrastinate import App, SyncPsycopgConnector
from sqlalchemy.orm import Session

from ..store.database import database_url

Task = Literal["import_part", "make_report", "work_out_cloud", "read_points"]
QUEUES: dict[Task, str] = {  # none waits for another
    "import_part": "imports", "make_report": "reports", "work_out_cloud": "clouds", "read_points": "points",
}  # fmt: skip
# in a worker; files are read in processes of their own
AT_A_TIME: dict[Task, int] = {"import_part": 3, "make_report": 1, "work_out_cloud": 1, "read_points": 1}


@lru_cache(maxsize=1)
def _sender() -> App:
    return App(connector=SyncPsycopgConnector(conninfo=database_url()))


def defer(session: Session, task: Task, **arguments: int) -> None:
    """Put one task in its queue, once the transaction is committed."""
    connection = cast(psycopg.Connection, session.connection().connection.driver_connection)
    options = {"name": task, "queue": QUEUES[task], "allow_unknown": True, "connection": connection}
    _sender().configure_task(**options).defer(**arguments)  # type: ignore[arg-type]
