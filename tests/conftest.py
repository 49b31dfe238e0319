"""One database, and one set of processes, for all tests that need them."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pytest

ROOT = Path(__file__).parent.parent


SHARED = {"e2e": "browser", "devices": "database", "jobs": "database", "web": "database", "store": "database", "serve": "serve"}


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config, log):
    """With several processes, what shares the browser, or the database, stays in one of them.

    The devices' tests run loops of their own, which the browser's would disturb.
    """
    from xdist.scheduler import LoadScopeScheduling

    class ByRoom(LoadScopeScheduling):
        def _split_scope(self, nodeid: str) -> str:
            return SHARED.get(nodeid.split("/")[1], nodeid)

    return ByRoom(config, log)


LONGEST = "what_is_stated_holds", "bolt_circle_hold", "scanners_place_hold", "the_u_that_is_expected"


def pytest_collection_modifyitems(config, items):
    """With several processes, the longest that share nothing begin first, so that none is left to one process at the end."""
    if hasattr(config, "workerinput"):
        items.sort(key=lambda item: not any(words in item.name for words in LONGEST))


@pytest.fixture
def random() -> np.random.Generator:
    return np.random.default_rng(20240607)


@pytest.fixture(scope="session")
def stack():
    """Everything prepared (database, demo data), nothing but the database started."""
    from zipplumb.demo.processes import Processes
    from zipplumb.jobs import people

    people.METHOD = "scrypt:1024:8:1"  # tests/serve looks at what is used in life
    with Processes.for_a_while(ROOT / "var" / f"test-{os.getpid()}", pace=6.0, started=False) as processes:
        yield processes
