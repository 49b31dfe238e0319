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
    with Processes.for_a_while(ROOT / "var" / "bench", pace=3.0, durable=True) as processes, sync_playwright() as playwright:
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
    technician.page.goto("about:blank")  # drawn by software on the same cores, a stage would be what is measured
    stop, arrived, cookie = threading.Event(), [], _cookie(technician)
    for _ in range(10):
        threading.Thread(target=_listen, args=(processes, cookie, stop, arrived), daemon=True).start()
    time.sleep(1)
    for taken in range(20, 61, 20):
        move_hand(TECHNICIAN, processes.job, "touch", hits=20)
        while len(arrived) < 10 * taken - 30:
            time.sleep(0.05)
    stop.set()
    print(f"  ten listeners: at the door    {spread(arrived)}")
    technician.context.close()


def _cookie(person) -> str:
    return "; ".join(f"{c['name']}={c['value']}" for c in person.context.cookies())


def _fetch(processes, cookie: str, path: str) -> float:
    """How long a page takes, s."""
    begin = time.perf_counter()
    connection = http.client.HTTPConnection("127.0.0.1", processes.web_port, timeout=60)
    connection.request("GET", path, headers={"Cookie": cookie, "HX-Request": "true"})
    answer = connection.getresponse()
    answer.read()
    assert answer.status == 200, answer.status
    connection.close()
    return time.perf_counter() - begin


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
    cookie, many = _cookie(person), _large_job(processes, 5000)
    person.page.goto("about:blank")
    for name, job in (("demo job", processes.job), ("5,000 measured rows", many)):
        print(f"Page times on the server, {name}")
        for path in ("measure", "part", "kit", "align", "derive", "report"):
            seconds = [_fetch(processes, cookie, f"/jobs/{job}/{path}") for _ in range(22)]
            print(f"  {path:10} {spread(seconds[2:])}")


def _crowd(browser, processes) -> None:
    """Open pages and half-sent requests of strangers; what a person's page takes meanwhile."""
    person = Person(browser, processes)
    cookie = _cookie(person)
    person.page.goto("about:blank")
    live = f"GET /jobs/{processes.job}/live HTTP/1.1\r\nHost: x\r\nCookie: {cookie}\r\n\r\n".encode()
    half = b"POST /sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\nContent-Type: text/plain\r\n\r\nhalf"
    opened = []
    for count, sent in ((200, live), (100, half)):
        for _ in range(count):
            link = socket.create_connection(("127.0.0.1", processes.web_port), timeout=20)
            link.sendall(sent)
            opened.append(link)
    time.sleep(2)
    seconds = [_fetch(processes, cookie, f"/jobs/{processes.job}/measure") for _ in range(40)]
    print(f"A page, with 200 live pages and 100 half-sent requests   {spread(seconds)}")
    for link in opened:
        link.close()


def _large_job(processes, rows: int) -> int:
    """Rows with readings in every one."""
    bench = Bench(processes)
    fill(bench, rows)
    return bench.job
