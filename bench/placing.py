"""From the instrument to the fitters' pages: two instruments at 100 Hz at one job, ten phones on one detail."""

from __future__ import annotations

import http.client
import re
import sys
import threading
import time
from pathlib import Path

from measure import spread

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "tests" / "jobs"))

from job_bench import TECHNICIAN  # noqa: E402

from zipplumb.demo import shop_real  # noqa: E402
from zipplumb.demo.processes import Processes  # noqa: E402
from zipplumb.jobs.hand import tell_hand  # noqa: E402
from zipplumb.jobs.kit import stations  # noqa: E402
from zipplumb.jobs.place import details, fitter  # noqa: E402
from zipplumb.jobs.plan import adding, listing, sheet  # noqa: E402
from zipplumb.jobs.state.results import load  # noqa: E402
from zipplumb.store.database import stored, transaction  # noqa: E402
from zipplumb.store.models import Instrument, Job  # noqa: E402

PHONES, SECONDS = 10, 15.0
NAMES = ("N1", "N2", "N3", "N4")


def run() -> None:
    with Processes.for_a_while(ROOT / "var" / "bench", pace=6.0, durable=True) as processes:
        job, detail = _job(processes)
        tell_hand({"do": "nest", "name": "Nest 4", "take": False}, processes.sims["tracker"][0])
        time.sleep(3)
        stop, arrived = threading.Event(), []
        for token in [fitter.make_link(TECHNICIAN, job, detail) for _ in range(PHONES)]:
            threading.Thread(target=_listen, args=(processes, token, stop, arrived), daemon=True).start()
        time.sleep(2)
        arrived.clear()
        time.sleep(SECONDS)
        stop.set()
        each = len(arrived) / PHONES / SECONDS
        print(f"Instrument -> {PHONES} fitters' pages, at the door, {each:.0f} numbers a second each   {spread(arrived)}")


def _job(processes) -> tuple[int, int]:
    """Four nests are measured, three of them hold the part, the fourth is carried by a detail."""
    with transaction() as session:
        part = stored(session, Job, processes.job).part_id
        kinds = {i.kind: i.id for i in session.query(Instrument)}
    job = sheet.create_job(TECHNICIAN, "Fitters", part)
    for kind in ("arm", "tracker"):  # the one that is brought last is the one that measures
        stations.bring(TECHNICIAN, job, kinds[kind])
    lines = [f"{name};{x};{y};{z}" for name, (x, y, z) in zip(NAMES, shop_real.NESTS, strict=False)]
    rows = listing.plan_list(TECHNICIAN, job, "\n".join(lines), "mm")
    for row, name in zip(rows, NAMES, strict=True):
        tell_hand({"do": "nest", "name": f"Nest {name[1:]}"}, processes.sims["tracker"][0])
        _until(lambda row=row: _of(job, row).hits == 1)
        tell_hand({"do": "click", "button": "finish"}, processes.sims["tracker"][0])
        _until(lambda row=row: _of(job, row).state == "done")
    with transaction() as session:
        system = {"kind": "reference_points", "name": "Reference", "points": rows[:3]}
        stored(session, Job, job).alignment_row_id = adding.add_row(session, TECHNICIAN, job, system)
    return job, details.add(TECHNICIAN, job, "Foot", rows[3:], "")


def _of(job: int, row: int):
    with transaction() as session:
        return load(session, job).results[row]


def _until(true) -> None:
    end = time.monotonic() + 60
    while not true():
        assert time.monotonic() < end, "it did not come to that"
        time.sleep(0.05)


def _listen(processes, token: str, stop: threading.Event, arrived: list[float]) -> None:
    connection = http.client.HTTPConnection("127.0.0.1", processes.web_port, timeout=20)
    connection.request("GET", f"/fit/{token}/live")
    answer = connection.getresponse()
    while not stop.is_set():
        line = answer.readline()
        if at := re.search(rb'"at": ?([\d.]+)', line):
            arrived.append(time.time() - float(at[1]))
    connection.close()
