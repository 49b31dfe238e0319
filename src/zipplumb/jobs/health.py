"""How the parts of a running installation are."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select, text

from ..store.database import snapshot
from ..store.models import Instrument, Part
from ..store.reports import Report
from ..store.revisions import newest_revision

STALE_S = 10.0


@dataclass(frozen=True)
class Health:
    """``schema``: the database has the newest. ``workers``: seconds since each was heard of. ``waiting``: tasks."""

    schema: bool
    workers: tuple[float, ...]
    links: tuple[tuple[str, bool], ...]
    waiting: int
    unfinished: int

    @property
    def good(self) -> bool:
        return self.schema and any(s < STALE_S for s in self.workers)


def health() -> Health:
    """Raises OperationalError where the database is away."""
    with snapshot() as session:
        revision = session.scalar(text("SELECT version_num FROM alembic_version"))
        beats = session.scalars(
            text("SELECT extract(epoch FROM now() - last_heartbeat)::float FROM procrastinate_workers")
        ).all()
        waiting = session.scalar(text("SELECT count(*) FROM procrastinate_jobs WHERE status = 'todo'"))
        here = session.scalars(select(Instrument).where(Instrument.removed_at.is_(None)).order_by(Instrument.id)).all()
        parts = session.scalars(select(Part.id).where(Part.state == "importing")).all()
        reports = session.scalars(select(Report.id).where(Report.state == "making")).all()
        links = tuple((i.name, i.connected) for i in here)
        return Health(revision == newest_revision(), tuple(sorted(beats)), links, waiting or 0, len(parts) + len(reports))
