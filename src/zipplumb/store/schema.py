"""Bringing a database to the newest schema."""

from __future__ import annotations

from alembic import command
from alembic.config import Config
from sqlalchemy import text

from ..core.errors import InputError
from .database import database_url, engine
from .revisions import MIGRATIONS, newest_revision


def upgrade() -> None:
    """Run every migration that is missing, and the queue's own schema where there is none.

    Raises InputError where the database is of a newer version than this program.
    """
    if (there := _revision()) > newest_revision():
        raise InputError(
            f"The database is of a newer version ({there}) than this program ({newest_revision()}).", "It was left as it is.",
            "Start the newer program, or choose another database or folder.",
        )  # fmt: skip
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    command.upgrade(config, "head")
    _queue_schema()


def _revision() -> str:
    """The database's, "" where it has none yet."""
    with engine().connect() as connection:
        if connection.execute(text("SELECT to_regclass('alembic_version')")).scalar() is None:
            return ""
        return connection.execute(text("SELECT version_num FROM alembic_version")).scalar() or ""


def _queue_schema() -> None:
    with engine().connect() as connection:
        there = connection.execute(text("SELECT to_regclass('procrastinate_jobs')")).scalar()
    if there is None:
        from procrastinate import App, SyncPsycopgConnector

        app = App(connector=SyncPsycopgConnector(conninfo=database_url()))
        with app.open():
            app.schema_manager.apply_schema()
