"""Some eighty instruments that mean harm: each is named and refused, and the one that measures is not slowed."""

from __future__ import annotations

import re
import time
import urllib.request
from contextlib import contextmanager

import numpy as np
import pytest
from fake_arm import FakeArm
from hostile import VICES, Hostile
from installation import PASSWORD, signed_in

TOGETHER = 14
LATEST = 15  # presses
UNANSWERED = 3  # presses: a hand waits for the tone, so that a slow machine slows the arm and nothing piles up
TRIES = 3
GROUPS = [VICES[k : k + TOGETHER] for k in range(0, len(VICES), TOGETHER)]
PRESSES = "SELECT unnest(ns) FROM readings WHERE instrument_id = %s AND kind = 'press'"


@pytest.fixture(scope="module")
def measuring(installation, step):
    """A job, and a good arm that presses ten times a second. Returns (visitor, arm, its id)."""
    installation.cli("migrate")
    installation.cli("people", "add", "olwen", "Olwen", "administrator", said=PASSWORD + "\n")
    installation.serve()
    installation.until(lambda: urllib.request.urlopen(installation.url + "/health", timeout=2).status == 200)
    visitor, arm = signed_in(installation), FakeArm(unanswered=UNANSWERED)
    visitor.post("/parts", {"name": "Carrier"}, step)
    part = visitor.at.rsplit("/", 1)[1]
    installation.until(lambda: "Begin the job" in visitor.get(f"/parts/{part}"))
    visitor.post(f"/parts/{part}/job", {"name": "First job", "body": "0"})
    instrument = added(visitor, "Good arm", arm.port)
    visitor.post("/probes", {"name": "Ball", "kind": "ball", "diameter": "6", "diameter_unit": "mm", "length": "180"})
    visitor.post(f"/instruments/{instrument}/probe", {"probe": visitor.at.rsplit("/", 1)[1]})
    visitor.post(f"/jobs/1/instruments/{instrument}/bring", {})
    visitor.post("/jobs/1/faces/0/plan", {})
    arm.pressing.set()
    installation.until(lambda: len(arm.confirmed) > 20)
    yield visitor, arm, instrument
    arm.close()


def added(visitor, name: str, port: int) -> int:
    visitor.post("/instruments", {"name": name, "kind": "arm", "host": "127.0.0.1", "port": port, "u_hit": "0.01"})
    return int(visitor.at.rsplit("/", 1)[1])


def told(visitor) -> dict[str, str]:
    """By name, what an instrument's line on the page says."""
    lines = visitor.get("/instruments").split("<article")[1:]
    return {re.search(r'kit-name"[^>]*>([^<]+)<', line)[1]: line for line in lines}


@contextmanager
def among(visitor, group):
    """Hostile ones around the good arm, for a while."""
    listening = Hostile(group)
    ids = [added(visitor, name, port) for name, port in listening.ports.items()]
    try:
        yield
    finally:
        for number in ids:
            seen = re.search(r'name="seen" value="([^"]+)"', visitor.get(f"/instruments/{number}"))[1]
            visitor.post(f"/instruments/{number}/remove", {"seen": seen})
        listening.close()


def waits(installation, arm) -> float:
    """s that presses wait for their tone from now on, the median of some."""
    first = len(arm.sent) + 1
    mine = range(first, first + LATEST)
    try:
        installation.until(lambda: all(n in arm.waited for n in mine), 60)
    except AssertionError as error:
        raise AssertionError(arm.heard(), [arm.waited.get(n) for n in mine]) from error
    return float(np.median([arm.waited[n] for n in mine]))


@pytest.mark.parametrize("group", GROUPS, ids=[g[0].name for g in GROUPS])
def test_each_is_named_and_nobody_else_is_slowed(installation, measuring, group):
    """Slowed: against what the arm waits right before and right after. Other tests on the same cores slow all of that."""
    visitor, arm, _ = measuring
    for _ in range(TRIES):
        before = waits(installation, arm)
        with among(visitor, group):
            until_all_are_told(installation, visitor, group)
            beside = waits(installation, arm)
            assert "● connected" in told(visitor)["Good arm"]
        after = waits(installation, arm)
        print(f"{1e3 * before:.0f} ms before, {1e3 * beside:.0f} beside, {1e3 * after:.0f} after")
        bound = max(4 * max(before, after), 0.5)
        if beside < bound:
            break
    sent = set(arm.sent)
    installation.until(lambda: sent <= arm.confirmed)
    assert beside < bound
    assert set(arm.tones.values()) == {"taken"}


def until_all_are_told(installation, visitor, group) -> None:
    """Each vice is named on the page of instruments."""
    wanted = {v.name: v for v in group}

    def all_told() -> bool:
        time.sleep(0.4)
        lines = told(visitor)
        for name, vice in list(wanted.items()):
            if re.search(vice.state, lines[name]) and re.search(vice.words, lines[name]):
                wanted.pop(name)  # some come and go: once told is told
        return not wanted

    try:
        installation.until(all_told)
    except AssertionError:
        raise AssertionError({name: told(visitor)[name] for name in wanted}) from None


def test_what_was_confirmed_meanwhile_is_kept_once(installation, measuring):
    _, arm, good = measuring
    arm.pressing.clear()
    installation.until(lambda: arm.confirmed == set(arm.sent))
    assert sorted(n for (n,) in installation.ask(PRESSES, good)) == sorted(arm.confirmed)
    assert installation.ask("SELECT count(*) FROM readings WHERE instrument_id <> %s", good) == [(0,)]
