"""What one hit costs from the word of the change to the bytes, with readings in every row; and one row of very many hits."""

from __future__ import annotations

import asyncio
import resource
import sys
import time
from pathlib import Path

import numpy as np
from measure import spread

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "tests" / "jobs"))

from job_bench import Bench, batch, numbers  # noqa: E402

from zipplumb.demo.processes import Processes  # noqa: E402
from zipplumb.jobs import measure  # noqa: E402
from zipplumb.store.database import transaction  # noqa: E402
from zipplumb.store.models import Job, Reading, Row  # noqa: E402
from zipplumb.web.app import create_app  # noqa: E402
from zipplumb.web.live import Hub, Page, Watched  # noqa: E402

HITS = 4


def run() -> None:
    with Processes.for_a_while(ROOT / "var" / "bench", pace=3.0, started=False) as processes:
        app = create_app()
        for rows in (20, 1000, 5000):
            bench = Bench(processes)
            fill(bench, rows)
            print(f"One changed hit, load to bytes, {rows} measured rows   {spread(_changes(app, bench, 40))}")
        bench = Bench(processes)
        bench.plan_plane("Long", [0, 0, 60], [0, 0, 1])
        print("One row of very many hits: a change, and the memory of the process")
        for total in (500, 1000, 2000, 3000, 4000, 5000):
            _more(bench, total)
            seconds = _changes(app, bench, 20)
            peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
            print(f"  {total:5} hits   {spread(seconds)}   {peak:.0f} MB at most")


def _changes(app, bench, count: int) -> list[float]:
    """A hit is kept, and worked out as for an open page."""

    async def listened() -> list[float]:
        hub, page, seconds = Hub(app), Page(), []
        hub.jobs[bench.job] = Watched({page})
        hub._whole(bench.job, page)
        hub._changed(bench.job, {"what": "hits"})
        with transaction() as session:
            row = session.get(Job, bench.job).current_row_id
        for _ in range(count):
            x, y = np.random.default_rng(next(numbers)).uniform(-40, 40, 2)
            measure.keep_hits(bench.arm, batch(center=(x, y, 63.0)), next(numbers))
            begin = time.perf_counter()
            hub._changed(bench.job, {"what": "hits", "tone": "taken", "named": {row}})
            seconds.append(time.perf_counter() - begin)
            page.begin_anew(())
        return seconds

    return asyncio.run(listened())


def fill(bench, rows: int) -> None:
    """Planes, each with four hits and finished but the first, written as the link would have."""
    first = bench.plan_plane("Plane 1", [0, 0, 60], [0, 0, 1])
    random = np.random.default_rng(1)
    with transaction() as session:
        reading = {"instrument_id": bench.arm, "job_id": bench.job, "kind": "press", "session": "filled", "sweep": 1,
                   "conditions": {"u_hit_mm": 0.012}}  # fmt: skip
        like = session.get(Row, first)
        station = bench.state().kit
        ids = {"station_id": next(iter(station.stations)), "calibration_id": next(iter(station.calibrations))}
        for k in range(1, rows):
            height = float(random.uniform(-100, 100))
            nominal = {"shape": "plane", "point": [0, 0, height], "normal": [0, 0, 1]}
            row = Row(job_id=bench.job, position=k + 1, recipe={**like.recipe, "name": f"Plane {k + 1}", "nominal": nominal},
                      finished_at=like.finished_at)  # fmt: skip
            session.add(row)
            session.flush()
            poses = np.array(
                [[20 * a, 20 * b, height - 180 + 3, 1.0, 0, 0, 0] for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
            )
            way = poses + [0, 0, 15, 0, 0, 0, 0]
            ns = [10 * k + j for j in range(HITS)]
            session.add(Reading(**reading, **ids, row_id=row.id, first_n=ns[0], ns=ns, times=[float(n) for n in ns],
                                poses=poses.ravel().tolist(), approach=way.ravel().tolist()))  # fmt: skip


def _more(bench, total: int) -> None:
    (row,) = bench.state().results
    have = bench.state().results[row].hits
    random = np.random.default_rng(total)
    for _ in range(total - have):
        x, y = random.uniform(-40, 40, 2)
        measure.keep_hits(bench.arm, batch(center=(x, y, 63.0)), next(numbers))
