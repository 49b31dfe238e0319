"""Long work is put in a queue in PostgreSQL, in the transaction of what it belongs to: both are there, or neither is."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import lru_cache
from typing import Literal, cast

import psycopg
from procrastinate import App, SyncPsycopgConnector
from sqlalchemy.orm import Session

from ..core.errors import PlumbError
from ..store.database import AWAY, database_url

log = logging.getLogger(__name__)

Task = Literal["import_part", "make_report", "work_out_cloud", "read_points", "keep_outcome", "plan_proof"]
QUEUES: dict[Task, str] = {  # none waits for another
    "import_part": "imports", "make_report": "reports", "work_out_cloud": "clouds", "read_points": "points",
    "keep_outcome": "outcomes", "plan_proof": "proofs",
}  # fmt: skip
# in a worker; files are read in processes of their own
AT_A_TIME: dict[Task, int] = {
    "import_part": 3,
    "make_report": 1,
    "work_out_cloud": 1,
    "read_points": 1,
    "keep_outcome": 1,
    "plan_proof": 1,
}


@lru_cache(maxsize=1)
def _sender() -> App:
    return App(connector=SyncPsycopgConnector(conninfo=database_url()))


@contextmanager
def said_where_it_fails(what: str, fail: Callable[[str], None], otherwise: str) -> Iterator[None]:
    """Long work: what goes wrong is said on what it belongs to, by ``fail``; ``otherwise``: where nobody knows what it is. A
    database that is away says nothing of the work, which is tried again."""
    try:
        yield
    except AWAY:
        raise
    except PlumbError as error:
        fail(str(error))
    except Exception:
        log.exception(what)
        fail(otherwise)


def defer(session: Session, task: Task, **arguments: int) -> None:
    """Put one task in its queue, once the transaction is committed."""
    connection = cast(psycopg.Connection, session.connection().connection.driver_connection)
    options = {"name": task, "queue": QUEUES[task], "allow_unknown": True, "connection": connection}
    _sender().configure_task(**options).defer(**arguments)  # type: ignore[arg-type]
