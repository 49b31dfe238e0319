"""One database, and one set of processes, for all tests that need them."""

from __future__ import annotations

import os
import shutil
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

    folder = ROOT / "var" / f"test-{os.getpid()}"
    processes = Processes(folder, pace=6.0)
    try:
        processes.prepare()
        yield processes
    finally:
        processes.stop()
        processes.cluster.destroy()
        shutil.rmtree(folder, ignore_errors=True)
