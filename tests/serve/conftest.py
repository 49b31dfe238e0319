"""An installation for each file of tests, and a part to bring in."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest
from installation import Installation

ROOT = Path(__file__).parent.parent.parent


@pytest.fixture(scope="module")
def installation():
    found = Installation(ROOT / "var" / f"serve-{os.getpid()}")
    yield found
    found.stop()


@pytest.fixture(scope="module")
def step(tmp_path_factory):
    path = tmp_path_factory.mktemp("cad") / "carrier.step"
    call = f"from zipplumb.demo.carrier import write_step; from pathlib import Path; write_step(Path({str(path)!r}))"
    subprocess.run([sys.executable, "-c", call], check=True, stdout=subprocess.DEVNULL)
    return path.read_bytes()
