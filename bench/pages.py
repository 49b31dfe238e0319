"""The running application: hit to screen with ten pages open, and page times."""

from __future__ import annotations

import http.client
import re
import socket
import sys
import threading
import time
from pathlib import Path

from measure import spread
from playwright.sync_api import sync_playwright

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "tests" / "e2e"))

from live import Bench, fill  # noqa: E402
from person import Person, launched  # noqa: E402

from zipplumb.demo.processes import Processes  # noqa: E402
from zipplumb.jobs.actor import Actor  # noqa: E402
from zipplumb.jobs.hand import move_hand  # noqa: E402

TECHNICIAN = Actor(1, "bench", "technician")
SEEN = """() => {
  window.seen = [];
  window.written = [];
  document.addEventListener("zipplumb:update", (event) => {
    const { tone, at } = event.detail;
    if (tone !== "taken" || !at) return;
    window.written.push(Date.now() / 1000 - at);
    requestAnimationFrame(() => window.seen.push(Date.now() / 1000 - at));
  });
}"""


def run() -> None:
    with Processes.for_a_while(ROOT / "var" / "bench", pace=3.0) as processes, sync_playwright() as playwright:
        browser = launched(playwright)
        _hits(browser, processes)
        _pages(browser, processes)
        _crowd(browser, processes)
        browser.close()


def _hits(browser, processes) -> None:
    """From the device's own time of the sample to the frame in which the page shows it."""
    print("Hit taken -> seen in the browser, device at 100 Hz")
    technician = Person(browser, processes)
    technician.open(processes.job)
    technician.page.evaluate(SEEN)
    _take(technician, 30)
    _tell(technician, "one page open")
    stop, arrived = threading.Event(), []
    cookie = "; ".join(f"{c['name']}={c['value']}" for c in technician.context.cookies())
    for _ in range(9):  # nine more listeners, as pages are for the server; ten software-drawn stages would measure the drawing
        threading.Thread(target=_listen, args=(processes, cookie, stop, arrived), daemon=True).start()
    time.sleep(1)
    technician.page.evaluate("() => { window.seen = []; window.written = []; }")
    _take(technician, 60)
    print(f"  ten pages open: at the door    {spread(arrived)}")
    _tell(technician, "ten pages open")
    stop.set()
    technician.context.close()


def _tell(person, name: str) -> None:
    print(f"  {name}: on the page    {spread(person.page.evaluate('window.written'))}")
    print(f"  {name}: next frame     {spread(person.page.evaluate('window.seen'))}")


def _listen(processes, cookie: str, stop: threading.Event, arrived: list[float]) -> None:
    connection = http.client.HTTPConnection("127.0.0.1", processes.web_port, timeout=20)
    connection.request("GET", f"/jobs/{processes.job}/live", headers={"Cookie": cookie})
    answer = connection.getresponse()
    while not stop.is_set():
        line = answer.readline()
        if b'"tone":"taken"' in line and (at := re.search(rb'"at":([\d.]+)', line)):
            arrived.append(time.time() - float(at[1]))
    connection.close()


def _take(person, count: int) -> None:
    """Real touches of what the current row asks."""
    before = person.hits[0]
    move_hand(TECHNICIAN, person.running.job, "touch", hits=count)
    person.until(lambda: person.hits[0] >= before + count, 60)


def _pages(browser, processes) -> None:
    person = Person(browser, processes)
    many = _large_job(processes, 5000)
    for name, job in (("demo job", processes.job), ("5,000 measured rows", many)):
        print(f"Page times on the server, {name}")
        for path in ("measure", "part", "kit", "align", "derive", "report"):
            seconds = []
            for _ in range(12):
                begin = time.perf_counter()
                answer = person.context.request.get(f"{processes.url}/jobs/{job}/{path}", headers={"HX-Request": "true"})
                assert answer.ok
                seconds.append(time.perf_counter() - begin)
            print(f"  {path:10} {spread(seconds[2:])}")


def _crowd(browser, processes) -> None:
    """Open pages and half-sent requests of strangers; what a person's page takes meanwhile."""
    person = Person(browser, processes)
    cookie = "; ".join(f"{c['name']}={c['value']}" for c in person.context.cookies())
    live = f"GET /jobs/{processes.job}/live HTTP/1.1\r\nHost: x\r\nCookie: {cookie}\r\n\r\n".encode()
    half = b"POST /sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\nContent-Type: text/plain\r\n\r\nhalf"
    opened = []
    for count, sent in ((200, live), (100, half)):
        for _ in range(count):
            link = socket.create_connection(("127.0.0.1", processes.web_port), timeout=20)
            link.sendall(sent)
            opened.append(link)
    time.sleep(2)
    seconds = []
    for _ in range(40):
        begin = time.perf_counter()
        assert person.context.request.get(f"{processes.url}/jobs/{processes.job}/measure", headers={"HX-Request": "true"}).ok
        seconds.append(time.perf_counter() - begin)
    print(f"A page, with 200 live pages and 100 half-sent requests   {spread(seconds)}")
    for link in opened:
        link.close()


def _large_job(processes, rows: int) -> int:
    """Rows with readings in every one."""
    bench = Bench(processes)
    fill(bench, rows)
    return bench.job
