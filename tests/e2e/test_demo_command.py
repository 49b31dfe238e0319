"""./run demo as a person starts and stops it."""

import os
import re
import signal
import subprocess
import sys
import time
import urllib.request

import pytest

from zipplumb.store.cluster import Cluster, free_port


@pytest.fixture
def start(tmp_path_factory, request):
    folder = request.config.rootpath / "var" / f"demo-{os.getpid()}"
    running = []

    def begin(*more):
        command = [sys.executable, "-m", "zipplumb.cli", "demo", "--folder", str(folder), *more]
        child = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, start_new_session=True)
        running.append(child)
        return child

    begin.folder = folder
    yield begin
    for child in running:
        if child.poll() is None:
            child.send_signal(signal.SIGINT)
            child.wait(timeout=30)
    subprocess.run(["rm", "-rf", str(folder)], check=True)


def until_served(child):
    for line in child.stdout:
        if found := re.search(r"Zip Plumb is at (http://127\.0\.0\.1:\d+)", line):
            return found[1]
    raise AssertionError("it ended without an address")


def left_over(folder_part):
    listed = subprocess.run(["ps", "ax", "-o", "args"], capture_output=True, text=True, check=True).stdout
    return [line for line in listed.splitlines() if folder_part in line and "zipplumb.cli demo" not in line]


def nothing_left_over(folder_part):
    """Soon: a process that was told to end may take a moment."""
    end = time.monotonic() + 10
    while left_over(folder_part) and time.monotonic() < end:
        time.sleep(0.05)
    assert left_over(folder_part) == []


def test_it_serves_refuses_a_twin_keeps_its_data_and_stops_whole(start):
    port = str(free_port())
    first = start("--port", port)
    url = until_served(first)
    assert urllib.request.urlopen(url + "/sign-in", timeout=5).status == 200
    twin = start("--port", str(free_port()))
    assert "running already" in twin.communicate(timeout=60)[0]
    first.send_signal(signal.SIGTERM)
    first.send_signal(signal.SIGTERM)  # an impatient second one must not stop the stopping
    first.wait(timeout=30)
    nothing_left_over(f"demo-{os.getpid()}")
    version = Cluster(start.folder / "postgres").data / "PG_VERSION"
    made = version.stat().st_mtime_ns
    again = start("--port", port)
    until_served(again)
    assert version.stat().st_mtime_ns == made  # the same data, not made anew
    again.send_signal(signal.SIGINT)
    assert again.wait(timeout=30) == 0
    nothing_left_over(f"demo-{os.getpid()}")
