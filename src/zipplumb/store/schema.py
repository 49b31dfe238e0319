"""Bringing a database to the newest schema."""

from __future__ import annotations

from alembic import command
from alembic.config import Config

from .database import database_url, engine
from .revisions import MIGRATIONS


def upgrade() -> None:
    """Run every migration that is missing, and the queue's own schema where there is none."""
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    command.upgrade(config, "head")
    _queue_schema()


def _queue_schema() -> None:
    from sqlalchemy import text

    with engine().connect() as connection:
        there = connection.execute(text("SELECT to_regclass('procrastinate_jobs')")).scalar()
    if there is None:
        from procrastinate import App, SyncPsycopgConnector

        app = App(connector=SyncPsycopgConnector(conninfo=database_url()))
        with app.open():
            app.schema_manager.apply_schema()
