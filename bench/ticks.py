"""One tick in the table of what holds the part, with 40 features: from the request to the bytes of its answer."""

from __future__ import annotations

import sys
import time
from pathlib import Path

from live import fill
from measure import spread

ROOT = Path(__file__).parent.parent
sys.path[:0] = [str(ROOT / "tests" / "jobs"), str(ROOT / "tests" / "web")]

from job_bench import Bench  # noqa: E402
from visitor import Visitor  # noqa: E402

from zipplumb.demo.processes import Processes  # noqa: E402
from zipplumb.jobs.align import mounted  # noqa: E402
from zipplumb.jobs.state.results import load  # noqa: E402
from zipplumb.store.database import transaction  # noqa: E402
from zipplumb.web.app import create_app  # noqa: E402

FEATURES, TICKS = 40, 60


def run() -> None:
    with Processes.for_a_while(ROOT / "var" / "bench", pace=3.0, started=False, durable=True) as processes:
        bench = Bench(processes)
        fill(bench, FEATURES + 1)  # the first is not finished
        visitor = Visitor(create_app())
        visitor.sign_in("tamsin")
        with transaction() as session:
            found = mounted.candidates(load(session, bench.job), ())
        ticks = {f"{c.row}.{c.may[k % len(c.may)]}": "1" for k, c in enumerate(found)}
        ticks |= {f"{c.row}.level": "1" for c in found}
        seconds = []
        for k in range(TICKS):
            one = found[k % len(found)]
            turned = {**ticks, f"{one.row}.{one.may[-1]}": "1" if k % 2 else ""}
            begin = time.perf_counter()
            answer = visitor.post(f"/jobs/{bench.job}/mounted/tried", turned)
            seconds.append(time.perf_counter() - begin)
            assert answer.status_code == 200
            assert b"of 6" in answer.data, answer.data
        print(f"A tick among {len(found)} features, request to answer   {spread(seconds)}")
