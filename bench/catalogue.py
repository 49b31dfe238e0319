"""The page of jobs, of a thousand."""

from __future__ import annotations

import time
from datetime import UTC, datetime
from pathlib import Path

from measure import spread
from sqlalchemy import insert, select

from zipplumb.demo.processes import Processes
from zipplumb.jobs.actor import Actor
from zipplumb.jobs.plan import catalogue
from zipplumb.store.database import snapshot, transaction
from zipplumb.store.models import Change, Job, Row, User

ROOT = Path(__file__).parent.parent
JOBS, ROWS, CHANGES = 1_000, 60, 80  # of each


def run() -> None:
    with Processes.for_a_while(ROOT / "var" / "bench", pace=3.0, started=False, durable=True) as processes:
        with transaction() as session:
            part, user = session.get(Job, processes.job).part_id, session.scalars(select(User.id)).first()
            recipe = session.scalars(select(Row.recipe).where(Row.job_id == processes.job)).first()
            wanted = [{"name": f"Job {k}", "part_id": part, "created_by": user} for k in range(JOBS)]
            ids = session.scalars(insert(Job).returning(Job.id), wanted).all()
            now = datetime.now(UTC)
            session.execute(insert(Row), [
                {"job_id": job, "position": k, "recipe": recipe, "finished_at": now if k % 3 else None}
                for job in ids for k in range(ROWS)
            ])  # fmt: skip
            session.execute(insert(Change), [
                {"job_id": job, "user_id": user, "act": "edit", "detail": {}} for job in ids for _ in range(CHANGES)
            ])  # fmt: skip
        actor = Actor(user, "bench", "technician")
        for asked in ({}, {"search": "Job 9"}, {"shown": "mine"}, {"shown": "unfinished"}, {"order": "name"}):
            seconds = []
            for _ in range(22):
                begin = time.perf_counter()
                with snapshot() as session:
                    catalogue.jobs_there(session, actor, **asked)
                seconds.append(time.perf_counter() - begin)
            print(f"{JOBS} jobs of {ROWS} rows, {asked or 'all'}   {spread(seconds[2:])}")
