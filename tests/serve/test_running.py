"""The product by itself: on an empty database, without its demo; and under kills. KILLS=1000 makes it the long one."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import time
import urllib.request
from contextlib import suppress
from urllib.error import HTTPError

import numpy as np
import psycopg
import pytest
from fake_arm import FakeArm
from fake_light import FakeLight
from installation import CLI, PASSWORD, signed_in

from zipplumb.core.frames import Motion

KILLS = int(os.environ.get("KILLS", "24"))
LIT = "SELECT unnest(ns) FROM readings WHERE kind = 'stripes'"
HEAVY = "SELECT state FROM clouds ORDER BY id DESC LIMIT 1"
TO_SCAN = """UPDATE calibrations SET method = 'scanner', doubt = '', detail = '{"axis_from_scanner": [%s]}' WHERE probe_id = %%s
RETURNING id"""
PRESSES = "SELECT unnest(ns) FROM readings WHERE instrument_id = %s AND kind = 'press'"
UNFINISHED = "SELECT id FROM parts WHERE state = 'importing' UNION ALL SELECT id FROM reports WHERE state = 'making'"
QUEUE = "SELECT task_name, args, status, attempts, worker_id FROM procrastinate_jobs WHERE status <> 'succeeded'"
OTHERS_END = """
SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = current_user AND pid <> pg_backend_pid()
"""


def test_it_runs_on_an_empty_database_with_a_person_added_by_hand(installation, step):
    with pytest.raises(subprocess.CalledProcessError) as refused:
        subprocess.run([*CLI, "serve", "all"], env={"PATH": os.defpath}, capture_output=True, text=True, check=True)
    assert "ZIPPLUMB_DATABASE and ZIPPLUMB_SECRET are not set" in refused.value.stderr
    assert "newest schema" in installation.cli("migrate")
    installation.cli("people", "add", "olwen", "Olwen", "administrator", said=PASSWORD + "\n")
    role = installation.ask("SELECT rolsuper, rolcreatedb, rolcreaterole FROM pg_roles WHERE rolname = current_user")
    assert role == [(False, False, False)]
    assert installation.ask("SELECT password_hash FROM users")[0][0].startswith("scrypt:32768:8:1$")  # slow on purpose
    installation.serve()
    installation.until(lambda: urllib.request.urlopen(installation.url + "/health", timeout=2).status == 200)
    assert {"web-1", "web-2", "worker-1", "worker-2", "link"} <= set(installation.pids())
    visitor = signed_in(installation)
    page = visitor.post("/parts", {"name": "Carrier"}, step)
    part = visitor.at.rsplit("/", 1)[1]
    page = installation.until(lambda: (p := visitor.get(f"/parts/{part}")) and "20</b> faces" in p and p)
    assert "Begin the job" in page
    visitor.post(f"/parts/{part}/job", {"name": "First job", "body": "0"})
    assert "First job" in visitor.get("/")
    assert "stand-in" not in visitor.get("/jobs/1/measure").lower()
    assert "● heard" in visitor.get("/state")


@pytest.mark.timeout(max(600, 30 * KILLS))
def test_kills_lose_nothing_double_nothing_and_leave_nothing_stuck(installation, step):
    """While hits are taken, a part scanned, files read and reports made: web, link, worker, a session of the database, its
    first process, the supervisor. The arms are the test's own: they know what was confirmed."""
    visitor, chance, arm = signed_in(installation), random.Random(11), FakeArm()
    job = int(installation.ask("SELECT min(id) FROM jobs")[0][0])
    visitor.post("/instruments", {"name": "Fake arm", "kind": "arm", "host": "127.0.0.1", "port": arm.port, "u_hit": "0.01"})
    instrument = int(visitor.at.rsplit("/", 1)[1])
    visitor.post("/probes", {"name": "Ball", "kind": "ball", "diameter": "6", "diameter_unit": "mm", "length": "180"})
    visitor.post(f"/instruments/{instrument}/probe", {"probe": visitor.at.rsplit("/", 1)[1]})
    visitor.post(f"/jobs/{job}/instruments/{instrument}/bring", {})
    visitor.post(f"/jobs/{job}/faces/0/plan", {})
    light = scanning(installation, visitor)
    arm.pressing.set()
    installation.until(lambda: len(arm.confirmed) > 5)
    back, starts = [], []
    for kill in range(KILLS):
        if kill and kill % 50 == 0:  # of the long one
            print(f"{kill} kills, {len(arm.confirmed)} hits confirmed, back after {np.median(back):.1f} s", flush=True)
        if kill % 6 == 0:
            starts.append(start_s(installation))
        victim = chance.choice(["web-1", "web-2", "link", "worker-1", "worker-2", "session", "database", "supervisor"])
        with suppress(OSError, HTTPError):
            if kill % 3 == 0:
                visitor.post("/parts", {"name": f"Part {kill}"}, step)
            elif kill % 3 == 1:
                visitor.post(f"/jobs/{job}/reports", {"kind": "csv"})
                light.finishing.set()  # what is heavy is asked for, and scanned on meanwhile
            else:
                visitor.get(f"/jobs/{light.job}/measure")
        end(installation, victim, chance)
        began = time.monotonic()
        if victim.startswith("worker"):  # what it left is seen below
            time.sleep(0.1)
            continue
        installation.until(lambda since=began + 0.05: arm.confirmed_at > since)
        installation.until(lambda: visitor.get("/", timeout=1.0))
        back.append(time.monotonic() - began)
    for each in (arm, light):
        each.pressing.clear()
        installation.until(lambda each=each: each.confirmed == set(each.sent))
    of_light = [n for (n,) in installation.ask(LIT)]
    assert len(of_light) == len(set(of_light)) and light.whole and light.whole <= set(of_light) <= light.lines
    light.finishing.set()
    stored = [n for (n,) in installation.ask(PRESSES, instrument)]
    assert sorted(stored) == sorted(arm.confirmed)  # none lost, none doubled
    assert set(arm.tones.values()) == {"taken"}
    try:
        installation.until(
            lambda: installation.ask(UNFINISHED) == [], max(240, KILLS)
        )  # a third of the kills left a file to read
    except AssertionError:
        raise AssertionError(installation.ask(QUEUE)) from None
    installation.until(lambda: visitor.get(f"/jobs/{light.job}/measure") and installation.ask(HEAVY) == [("ready",)], 240)
    assert "points" in visitor.get(f"/jobs/{light.job}/measure")
    assert installation.ask("SELECT words FROM parts WHERE state = 'failed'") == [], installation.told()
    print(
        f"{KILLS} kills, {len(stored)} hits, {len(of_light)} lines; back after {np.median(back):.1f} s, worst {max(back):.1f}"
    )
    assert np.median(back) < max(3.0, 4 * np.median(starts))  # four starts, where this machine is slow now
    arm.close()
    light.close()


def scanning(installation, visitor) -> FakeLight:
    """A second arm with a scanner on, at a job of its own."""
    light = FakeLight()
    visitor.post("/instruments", {"name": "Light", "kind": "arm", "host": "127.0.0.1", "port": light.port, "u_hit": "0.01"})
    instrument = int(visitor.at.rsplit("/", 1)[1])
    visitor.post("/probes", {"name": "Line of light", "kind": "scanner", "length": "100"})
    probe = int(visitor.at.rsplit("/", 1)[1])
    visitor.post(f"/instruments/{instrument}/probe", {"probe": probe})
    identity = ", ".join(str(number) for number in Motion.identity().as_list())
    assert installation.ask(TO_SCAN % identity, probe)
    part = int(installation.ask("SELECT min(id) FROM parts")[0][0])
    visitor.post(f"/parts/{part}/job", {"name": "Scanned", "body": "0"})
    light.job = int(visitor.at.split("/jobs/")[1].split("/")[0])
    visitor.post(f"/jobs/{light.job}/instruments/{instrument}/bring", {})
    light.pressing.set()
    installation.until(lambda: light.whole)
    return light


def start_s(installation) -> float:
    """How long a process that does nothing takes to start here and now."""
    began = time.monotonic()
    installation.cli("--help")
    return time.monotonic() - began


def end(installation, victim: str, chance: random.Random) -> None:
    if victim == "session":
        with suppress(psycopg.Error):
            installation.ask(OTHERS_END)
        return
    if victim == "database":
        pid = int((installation.cluster.data / "postmaster.pid").read_text().split()[0])
    elif victim == "supervisor":
        pid = installation.server.pid
    else:
        pid = installation.pids().get(victim, 0)
    if pid:
        with suppress(ProcessLookupError):
            os.kill(pid, signal.SIGKILL)


def test_a_task_that_failed_for_good_is_told_on_what_it_was_for(installation):
    part = "INSERT INTO parts (name, file_name, sha256) VALUES ('Lost', 'lost.step', '') RETURNING id"
    (number,) = installation.ask(part)[0]
    installation.ask(
        "INSERT INTO procrastinate_jobs (queue_name, task_name, args, status, attempts) "
        "VALUES ('imports', 'import_part', jsonb_build_object('part_id', %s::int), 'failed', 30) RETURNING id",
        number,
    )
    told = "SELECT words FROM parts WHERE id = %s AND state = 'failed'"
    assert "ended the reader each time" in installation.until(lambda: installation.ask(told, number))[0][0]
    installation.until(lambda: installation.ask("SELECT id FROM procrastinate_jobs WHERE status = 'failed'") == [])
