"""What one hit costs from the word of the change to the bytes, with readings in every row; and one row of very many hits."""

from __future__ import annotations

import asyncio
import resource
import subprocess
import sys
import time
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
from measure import spread
from sqlalchemy import and_, insert

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "tests" / "jobs"))

from job_bench import TECHNICIAN, Bench, batch, numbers, upright_at  # noqa: E402, F401

from zipplumb.core.sheet import recipe_from_dict  # noqa: E402
from zipplumb.demo.processes import Processes  # noqa: E402
from zipplumb.demo.seed import DIAMETER_MM  # noqa: E402
from zipplumb.jobs.link import presses  # noqa: E402
from zipplumb.jobs.state.readings import set_all_aside  # noqa: E402
from zipplumb.store.database import transaction  # noqa: E402
from zipplumb.store.models import Job, Reading, Row  # noqa: E402
from zipplumb.web.app import create_app  # noqa: E402
from zipplumb.web.live.hub import Hub  # noqa: E402
from zipplumb.web.live.listeners import Page, Watched  # noqa: E402


def run() -> None:
    with Processes.for_a_while(ROOT / "var" / "bench", pace=3.0, started=False, durable=True) as processes:
        app = create_app()
        for rows in (20, 1000, 5000):
            bench = Bench(processes)
            fill(bench, rows)
            print(f"One changed hit, load to bytes, {rows} measured rows of five kinds   {spread(_changes(app, bench, 40))}")
        print("The first page of those 5,000, each in a process that has just started", flush=True)
        for _ in range(3):
            subprocess.run([sys.executable, str(Path(__file__).with_name("first_page.py")), str(bench.job)], check=True)
        bench = Bench(processes)
        bench.plan_plane("Long", [0, 0, 60], [0, 0, 1])
        print("One row of very many hits: a change, and the memory of the process")
        for total in (500, 1000, 2000, 3000, 4000, 5000):
            _more(bench, total)
            seconds = _changes(app, bench, 20)
            peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
            print(f"  {total:5} hits   {spread(seconds)}   {peak:.0f} MB at most")
        _taken_back(Bench(processes))


def _changes(app, bench, count: int) -> list[float]:
    """A hit is kept, and worked out as for an open page."""

    async def listened() -> list[float]:
        hub, page, seconds = Hub(app), Page(), []
        hub.jobs[bench.job] = Watched(pages={page})
        hub._whole(bench.job, page)
        hub._changed(bench.job, {"what": "hits"})
        with transaction() as session:
            row = session.get(Job, bench.job).current_row_id
        for _ in range(count):
            x, y = np.random.default_rng(next(numbers)).uniform(-40, 40, 2)
            presses.keep(bench.arm, batch(center=(x, y, 63.0)), next(numbers))
            begin = time.perf_counter()
            hub._changed(bench.job, {"what": "hits", "tone": "taken", "named": {row}})
            seconds.append(time.perf_counter() - begin)
            page.begin_anew(())
        return seconds

    return asyncio.run(listened())


def fill(bench, rows: int) -> None:
    """Planes, holes, bores, balls and slots, each with its hits and finished but the first, written as the link would have."""
    bench.plan_plane("Plane 1", [0, 0, 60], [0, 0, 1])
    random = np.random.default_rng(1)
    with transaction() as session:
        reading = {"instrument_id": bench.arm, "job_id": bench.job, "kind": "press", "session": "filled", "sweep": 1,
                   "conditions": {"u_hit_mm": 0.012}}  # fmt: skip
        station = bench.state().kit
        ids = {"station_id": next(iter(station.stations)), "calibration_id": next(iter(station.calibrations))}
        for k in range(1, rows):
            raw, centers, air = MADE[k % len(MADE)](random.uniform(-100, 100, 3))
            recipe = recipe_from_dict({**raw, "name": f"{raw['kind'].capitalize()} {k + 1}"}).model_dump(mode="json")
            row = Row(job_id=bench.job, position=k + 1, recipe=recipe, finished_at=datetime.now(UTC))
            session.add(row)
            session.flush()
            noisy = centers + random.normal(0, 0.005, centers.shape)
            poses, way = ([upright_at(p) for p in places] for places in (noisy, centers + 5 * air))
            ns = [100 * k + j for j in range(len(centers))]
            session.add(Reading(**reading, **ids, row_id=row.id, first_n=ns[0], ns=ns, times=[float(n) for n in ns],
                                poses=np.ravel(poses).tolist(), approach=np.ravel(way).tolist()))  # fmt: skip


TURN = np.linspace(0, 2 * np.pi, 9, endpoint=False)
RIM = np.column_stack([np.cos(TURN), np.sin(TURN), 0 * TURN])
UP, TIP = np.array([0.0, 0, 1]), DIAMETER_MM / 2
Made = tuple[dict, np.ndarray, np.ndarray]  # a recipe, tip centers (n, 3), and where the air is (n, 3)


def _plane(at: np.ndarray) -> Made:
    spots = at + TIP * UP + 20 * np.array([[-1, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0.0]])
    nominal = {"shape": "plane", "point": at.tolist(), "normal": [0, 0, 1]}
    return {"kind": "plane", "nominal": nominal}, spots, np.tile(UP, (4, 1))


def _hole(at: np.ndarray) -> Made:
    nominal = {"shape": "circle", "center": at.tolist(), "normal": [0, 0, 1], "radius": 10.0}
    return {"kind": "circle", "nominal": nominal}, at + (10 - TIP) * RIM, -RIM


def _bore(at: np.ndarray) -> Made:
    nominal = {"shape": "cylinder", "point": at.tolist(), "direction": [0, 0, 1], "radius": 15.0}
    return {"kind": "cylinder", "nominal": nominal}, at + (15 - TIP) * RIM + np.resize([0, 10, 20], 9)[:, None] * UP, -RIM


def _ball(at: np.ndarray) -> Made:
    out = np.vstack([RIM[::2], 0.6 * RIM[1::2] + 0.8 * UP])
    nominal = {"shape": "sphere", "center": at.tolist(), "radius": 12.0}
    return {"kind": "sphere", "inside": False, "nominal": nominal}, at + (12 + TIP) * out, out


def _slot(at: np.ndarray) -> Made:
    sides = [[x, s * (6 - TIP), 0.0] for x in (-12, 0, 12) for s in (1, -1)]
    ends = [[s * (14 + (6 - TIP) * np.cos(a)), (6 - TIP) * np.sin(a), 0.0] for s in (1, -1) for a in (-0.7, 0.7)]
    around = np.array(sides + ends)
    nominal = {"shape": "slot", "center": at.tolist(), "normal": [0, 0, 1], "direction": [1, 0, 0], "length": 40.0,
               "width": 12.0}  # fmt: skip
    return {"kind": "slot", "nominal": nominal}, at + around, -around / np.linalg.norm(around, axis=1)[:, None] / 5


MADE = (_plane, _hole, _bore, _ball, _slot)


def _taken_back(bench) -> None:
    """Presses and sweeps of one row, as many as a long day gives, taken back while the job is locked."""
    row = bench.plan_plane("Swept", [0, 0, 60], [0, 0, 1])
    random = np.random.default_rng(3)

    def keep(kind: str, many: int, press: int | None) -> dict:
        n = next(numbers)
        centers = np.column_stack([random.uniform(-40, 40, (many, 2)), np.full(many, 60 + TIP)])
        poses = np.ravel([upright_at(p) for p in centers]).tolist()
        ns = [1000 * n + k for k in range(many)]
        return {"kind": kind, "first_n": ns[0], "ns": ns, "times": [float(k) for k in ns], "poses": poses,
                "approach": [float("nan")] * len(poses), "sweep": ns[0] if press is None else press}  # fmt: skip

    with transaction() as session:
        station = bench.state().kit
        whose = {"instrument_id": bench.arm, "job_id": bench.job, "row_id": row, "session": "s",
                 "conditions": {"u_hit_mm": 0.012}, "station_id": next(iter(station.stations)),
                 "calibration_id": next(iter(station.calibrations))}  # fmt: skip
        of_sweeps = [keep("sweep", 8, press) for press in range(1, 9) for _ in range(625)]
        session.execute(
            insert(Reading), [{**whose, **each} for each in (*of_sweeps, *(keep("press", 1, None) for _ in range(5000)))]
        )
    bench.state()
    print("Taken back in a row of 45,000 hits")
    print(f"  one hit             {spread(_undone(bench, False, 20))}")
    with transaction() as session:
        set_all_aside(session, and_(Reading.row_id == row, Reading.kind == "press"), None)
    print(f"  a sweep of 5,000    {spread(_undone(bench, True, 6))}")


def _undone(bench, sweep: bool, times: int) -> list[float]:
    seconds = []
    for _ in range(times):
        begin = time.perf_counter()
        assert presses.undo(bench.arm, sweep, "s", next(numbers)) == "undone"
        seconds.append(time.perf_counter() - begin)
    return seconds


def _more(bench, total: int) -> None:
    (row,) = bench.state().results
    have = bench.state().results[row].hits
    random = np.random.default_rng(total)
    for _ in range(total - have):
        x, y = random.uniform(-40, 40, 2)
        presses.keep(bench.arm, batch(center=(x, y, 63.0)), next(numbers))
