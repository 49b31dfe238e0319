"""A person in front of the application: a real browser, and the stand-in's hand."""

from __future__ import annotations

import json
import time
from contextlib import contextmanager

import pytest
from carrier_bench import TECHNICIAN, CarrierBench
from person import Person, launched
from playwright.sync_api import sync_playwright
from sqlalchemy import select

from zipplumb.jobs.kit import stations
from zipplumb.store.database import transaction
from zipplumb.store.models import Instrument, Job, Part, Station


@pytest.fixture(scope="session")
def running(stack):
    """The product and the arm; an instrument that nobody uses costs as much as one that is used."""
    stack.start("sim", "serve")
    stack.wait_for_web()
    return stack


@pytest.fixture(scope="module")
def tracker(running):
    with stand_in(running, "tracker"):
        yield


@pytest.fixture(scope="module")
def radar(running):
    with stand_in(running, "radar"):
        yield


@contextmanager
def stand_in(running, kind):
    """Of that kind, and the link has heard it; afterwards it is away."""
    port = running.sims[kind][0]
    running.start(f"sim-{kind}")
    end = time.monotonic() + 60
    while not is_connected(port):
        assert time.monotonic() < end, f"the {kind} is not heard"
        time.sleep(0.1)
    yield
    running.stop_children(f"sim-{kind}")


def is_connected(port) -> bool:
    with transaction() as session:
        return session.scalars(select(Instrument).filter_by(port=port)).first().connected


@pytest.hookimpl(trylast=True)
def pytest_runtest_teardown(item, nextitem):
    """After the last of them what comes then has the machine to itself."""
    if nextitem is not None and nextitem.path.parent != item.path.parent and "stack" in item.funcargs:
        item.funcargs["stack"].stop_children()


@pytest.fixture(scope="module")
def chromium():
    """For a file: what drives it keeps a loop of its own, which loops of other tests in the same process do not stand."""
    with sync_playwright() as playwright:
        browser = launched(playwright)
        yield browser
        browser.close()


@pytest.fixture
def tamsin(chromium, running):
    person = Person(chromium, running)
    yield person
    person.context.close()
    assert person.complaints == []


@pytest.fixture(scope="session")
def truth(running):
    """What only the stand-in knows: for comparing, never for the application."""
    return json.loads((running.folder / "real.json").read_text())


@pytest.fixture
def bench(tamsin, running):
    """Makes benches; the instruments go back to where they stood."""
    stood = {}

    def make(name, kind="Workshop arm", like=None):
        """``like``: a job of the same part."""
        with transaction() as session:
            instrument = session.query(Instrument).filter_by(name=kind).one()
            job = session.get(Station, instrument.station_id).job_id if instrument.station_id else running.job
            stood[instrument.id] = job
            part = session.get(Job, like or running.job).part_id
            faces = session.get(Part, part).faces
            number = instrument.id
        return CarrierBench(tamsin, name, part, number, faces)

    yield make
    for number, job in stood.items():
        stations.bring(TECHNICIAN, job, number, unmoved=True)
