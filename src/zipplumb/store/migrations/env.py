"""Alembic's entry: migrations run on the application's own engine."""

from alembic import context

from zipplumb.store import pieces, proofs, reports, scans  # noqa: F401 their tables are known with the others
from zipplumb.store.database import engine
from zipplumb.store.models import Base


def _ours(thing, name, kind, reflected, compare_to) -> bool:
    return not (kind == "table" and name.startswith("procrastinate"))


with engine().connect() as connection:
    context.configure(connection=connection, target_metadata=Base.metadata, include_object=_ours)
    with context.begin_transaction():
        context.run_migrations()
