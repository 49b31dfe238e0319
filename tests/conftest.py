"""One database, and one set of processes, for all tests that need them."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pytest

ROOT = Path(__file__).parent.parent


@pytest.fixture
def random() -> np.random.Generator:
    return np.random.default_rng(20240607)


@pytest.fixture(scope="session")
def stack():
    """Everything prepared (database, demo data), nothing but the database started."""
    from zipplumb.demo.processes import Processes

    with Processes.for_a_while(ROOT / "var" / f"test-{os.getpid()}", pace=6.0, started=False) as processes:
        yield processes
