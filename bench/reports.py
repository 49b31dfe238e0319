"""A report of 5,000 rows with 20 pictures: how long its files take, and the memory; a picture with tags by itself."""

from __future__ import annotations

import resource
import time
from pathlib import Path

import numpy as np
from live import TECHNICIAN, Bench, fill
from measure import spread

from zipplumb.core.pictures.tags import lay_out
from zipplumb.demo.processes import Processes
from zipplumb.jobs.report import making, pictures
from zipplumb.jobs.report.drawn import draw, over_stage
from zipplumb.jobs.report.views import view_of
from zipplumb.jobs.state.results import load
from zipplumb.store.database import snapshot, transaction
from zipplumb.store.reports import Report

ROOT = Path(__file__).parent.parent
ROWS, PICTURES, TAGS = 5_000, 20, 40
LOOK = {"camera": {"eye": [-0.6, -1, 0.6], "up": [0, 0, 1], "middle": [0, 0, 60], "half_mm": 220}, "shape": 1.6}


def run() -> None:
    random = np.random.default_rng(1)
    sizes = np.column_stack([random.uniform(50, 110, TAGS), np.full(TAGS, 22.0)])
    seconds = []
    for _ in range(200):
        begin = time.perf_counter()
        lay_out(random.uniform([130, 40], [1150, 760], (TAGS, 2)), sizes, (1280, 800))
        seconds.append(time.perf_counter() - begin)
    print(f"{TAGS} tags laid out   {spread(seconds)}")
    with Processes.for_a_while(ROOT / "var" / "bench", pace=3.0, started=False, durable=True) as processes:
        bench = Bench(processes)
        fill(bench, ROWS)
        tagged = LOOK | {"tags": {"first": "Plane 1", "last": "Slot 400", "seen": False, "shows": []}}
        for k in range(PICTURES):
            pictures.keep(TECHNICIAN, bench.job, tagged if k % 2 else LOOK, f"Picture {k + 1}")
        with snapshot() as session:
            state = load(session, bench.job)
            for name, act in (
                ("A picture with tags drawn", lambda: draw(state, view_of(tagged), "x")),
                ("The same over the stage", lambda: over_stage(state, view_of(tagged), 520)),
                ("What has changed since, of six files", lambda: making.made_of(session, state, 6)),
            ):
                print(f"{name}   {spread([_took(act) for _ in range(10)])}")
        for kind in making.FORMATS:
            begin = time.perf_counter()
            report = making.ask_report(TECHNICIAN, bench.job, kind)
            making.make_report(report)
            with transaction() as session:
                made = session.get(Report, report)
                size = len(made.data or b"") / 1e6
                told = f"{size:.1f} MB" if made.state == "ready" else made.message
            most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
            took = time.perf_counter() - begin
            print(f"{ROWS} rows, {PICTURES} pictures as {kind:5}   {took:5.1f} s, {told}; {most:.0f} MB at most")


def _took(act) -> float:
    begin = time.perf_counter()
    act()
    return time.perf_counter() - begin
