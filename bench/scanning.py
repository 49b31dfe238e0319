"""A scanner's 50,000 points a second for a minute, from a device in a process of its own to a page: nothing lost, how late each
line is in the database and at the page's door, what link and web need, and what other pages take meanwhile."""

from __future__ import annotations

import base64
import http.client
import http.cookiejar
import json
import multiprocessing
import os
import socket
import sys
import threading
import time
import urllib.parse
import urllib.request
from contextlib import suppress
from pathlib import Path

import numpy as np
from measure import spread
from sqlalchemy import text

ROOT = Path(__file__).parent.parent
sys.path[:0] = [str(ROOT / "tests" / "jobs"), str(ROOT / "tests" / "web")]

from job_bench import batch  # noqa: E402
from scan_bench import DOWN, HIGH, ScannedBench, numbers  # noqa: E402

from zipplumb.demo.processes import Processes  # noqa: E402
from zipplumb.demo.seed import PASSWORD  # noqa: E402
from zipplumb.jobs.link import presses  # noqa: E402
from zipplumb.store.cluster import free_port  # noqa: E402
from zipplumb.store.database import stored, transaction  # noqa: E402
from zipplumb.store.models import Instrument, Reading  # noqa: E402

SECONDS, LINES_S, POINTS = 60, 100, 512
LACKING_S = 0.5  # as the stage asks for it
TIMES = 4
WHOSE = "instrument_id, job_id, row_id, station_id, calibration_id"
SAME = f"{WHOSE}, kind, first_n, sweep, ns, times, poses, approach, points, counts"
COPIED = f"""
insert into readings ({SAME}, conditions, session) select {SAME}, conditions, session || '-' || :k from readings
where job_id = :job and kind = 'stripes' and session not like '%-_'"""
TICK = os.sysconf("SC_CLK_TCK")


def run() -> None:
    with Processes.for_a_while(ROOT / "var" / "bench", pace=1.0, started=False, durable=True) as processes:
        bench = ScannedBench.aligned(processes)
        port = free_port()
        with transaction() as session:
            stored(session, Instrument, bench.arm).port = port
        bench.top()
        processes.start("serve")
        processes.wait_for_web()
        go = multiprocessing.get_context("spawn").Event()
        device = multiprocessing.get_context("spawn").Process(target=scan, args=(port, go), daemon=True)
        device.start()
        cookie = _signed_in(processes)
        page = _Listener(processes, bench.job, cookie)
        until(lambda: _connected(bench.arm))
        others, link, web = [], processes.pid_of("link"), processes.pid_of("web-1")
        before, began = _cpu_s(link), time.monotonic()
        go.set()
        while device.is_alive():
            others.append(_fetch(processes, cookie, f"/jobs/{processes.job}/measure")[0])
            time.sleep(0.3)
        share = (_cpu_s(link) - before) / (time.monotonic() - began)
        until(lambda: _kept(bench.job)[0] == SECONDS * LINES_S)
        lines, points, behind = _kept(bench.job)
        time.sleep(1)
        page.stop()
        print(f"{POINTS * LINES_S} points a second for {SECONDS} s: {lines} lines of {SECONDS * LINES_S} kept, {points} points")
        print(f"  a line behind, in the database   {spread(behind)}")
        print(f"  a line at the page's door        {spread(page.late(bench.job))}")
        print(f"  link {100 * share:.0f} % of a core; web {_most_mb(web):.0f} MB at most")
        print(f"  another job's page meanwhile     {spread(others[2:])}")
        _worked_out(processes, bench)


def _worked_out(processes, bench) -> None:
    """Four times as many points as came in a minute, worked out by the worker of the application."""
    points, worker = TIMES * _kept(bench.job)[1], processes.pid_of("worker-1")
    with transaction() as session:
        for k in range(1, TIMES):
            session.execute(text(COPIED), {"k": k, "job": bench.job})
    begin = time.monotonic()
    presses.finish(bench.arm, batch("pull_off"), next(numbers))
    scan = next(row.id for row in bench.state().rows if row.recipe.kind == "scan")
    until(lambda: bench.state().results[scan].cloud.state == "done", 300)
    print(
        f"{TIMES * SECONDS * LINES_S} lines, {points} points, through the database: {time.monotonic() - begin:.1f} s; ", end=""
    )
    print(f"worker {_most_mb(worker):.0f} MB at most, web {_most_mb(processes.pid_of('web-1')):.0f} MB")


def scan(port: int, go) -> None:
    """A device with its button held: poses and lines of light at 100 Hz, each with its own time."""
    link, _ = socket.create_server(("127.0.0.1", port)).accept()

    def say(**message) -> None:
        link.sendall(json.dumps(message).encode() + b"\n")

    say(t="hello", protocol=3, session="bench", kind="arm", model="Bench", serial="1", rate_hz=LINES_S, axes=7)
    say(t="state", temperature_c=20.0)
    random = np.random.default_rng(4)
    across = np.linspace(-35, 35, POINTS)
    packed = []
    for _ in range(40):
        line = np.column_stack([across, HIGH + random.normal(0, 0.02, POINTS), np.ones(POINTS)]).astype("<f4")
        packed.append(base64.b64encode(line.tobytes()).decode())
    n = 0

    def head() -> dict:
        way = 0.2 * n
        x, y = -200 + 60 * (way // 200 % 6), -100 + way % 200
        return {"n": n, "at": time.time(), "p": [x, y, 60 + HIGH], "q": list(DOWN)}

    while not go.is_set():  # so that it is not taken for lost
        n += 1
        say(t="pose", **head())
        time.sleep(0.05)
    threading.Thread(target=_hear, args=(link,), daemon=True).start()
    n += 1
    say(t="button", e=1, name="take", down=True, **head())
    began = time.perf_counter()
    for k in range(SECONDS * LINES_S):
        n += 1
        time.sleep(max(0.0, began + k / LINES_S - time.perf_counter()))
        here = head()
        say(t="pose", **here)
        say(t="stripe", packed=packed[k % len(packed)], **here)
    n += 1
    say(t="button", e=2, name="take", down=False, **head())
    time.sleep(2.0)


def _hear(link: socket.socket) -> None:
    with suppress(OSError):
        while link.recv(4096):
            pass


class _Listener:
    """A page of the job: told of each change, it asks for what is new, as the stage does."""

    def __init__(self, processes, job: int, cookie: str):
        self.fetched: list[tuple[float, int, int]] = []  # when, after which reading, and up to which
        self._stopped = False
        threading.Thread(target=self._listen, args=(processes, job, cookie), daemon=True).start()

    def _listen(self, processes, job: int, cookie: str) -> None:
        connection = http.client.HTTPConnection("127.0.0.1", processes.web_port, timeout=120)
        connection.request("GET", f"/jobs/{job}/live", headers={"Cookie": cookie})
        answer, last, asked = connection.getresponse(), 0, 0.0
        while not self._stopped and (line := answer.readline()):
            if not line.startswith(b"data:") or b'"light"' not in line or b'"scene"' not in line:
                continue
            scan = next(row for row, drawn in json.loads(line[5:])["scene"]["rows"].items() if drawn.get("light"))
            while True:
                _, headers = _fetch(processes, cookie, f"/jobs/{job}/scans/{scan}/points?after={last}")
                upto = int(headers["X-Last"])
                if upto == last:
                    break
                self.fetched.append((time.time(), last, upto))
                last = upto
            if time.monotonic() > asked + LACKING_S:
                _fetch(processes, cookie, f"/jobs/{job}/scans/{scan}/lacking")
                asked = time.monotonic()

    def stop(self) -> None:
        self._stopped = True

    def late(self, job: int) -> list[float]:
        with transaction() as session:
            times = {r.id: r.times for r in session.query(Reading).filter(Reading.job_id == job, Reading.kind == "stripes")}
        return [
            when - at for when, after, upto in self.fetched for i, each in times.items() if after < i <= upto for at in each
        ]


def until(true, seconds: float = 60.0) -> None:
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end, "it did not come to that"
        time.sleep(0.1)


def _connected(arm: int) -> bool:
    with transaction() as session:
        return stored(session, Instrument, arm).connected


def _kept(job: int) -> tuple[int, int, list[float]]:
    with transaction() as session:
        kept = session.query(Reading).filter(Reading.job_id == job, Reading.kind == "stripes").all()
        ns = [n for reading in kept for n in reading.ns]
        assert len(ns) == len(set(ns))
        behind = [reading.kept_at.timestamp() - at for reading in kept for at in reading.times]
        return len(ns), sum(sum(reading.counts) for reading in kept), behind


def _cpu_s(pid: int) -> float:
    return sum(map(int, Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[11:13])) / TICK


def _most_mb(pid: int) -> float:
    return int(Path(f"/proc/{pid}/status").read_text().split("VmHWM:")[1].split()[0]) / 1024


def _signed_in(processes) -> str:
    """The cookies of a technician."""
    cookies = http.cookiejar.CookieJar()
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(cookies))
    page = opener.open(f"{processes.url}/sign-in").read().decode()
    token = page.split('name="csrf-token" content="')[1].split('"')[0]
    form = {"login": "tamsin", "password": PASSWORD, "csrf_token": token}
    opener.open(f"{processes.url}/sign-in", urllib.parse.urlencode(form).encode())
    return "; ".join(f"{cookie.name}={cookie.value}" for cookie in cookies)


def _fetch(processes, cookie: str, path: str) -> tuple[float, http.client.HTTPMessage]:
    begin = time.perf_counter()
    connection = http.client.HTTPConnection("127.0.0.1", processes.web_port, timeout=60)
    connection.request("GET", path, headers={"Cookie": cookie, "HX-Request": "true"})
    answer = connection.getresponse()
    answer.read()
    assert answer.status == 200, (path, answer.status)
    connection.close()
    return time.perf_counter() - begin, answer.headers
