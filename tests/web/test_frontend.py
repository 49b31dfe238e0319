"""The scripts of the pages on their own, by Node's runner."""

from __future__ import annotations

import subprocess
from pathlib import Path

FRONTEND = Path(__file__).parents[2] / "frontend"


def test_scripts_alone():
    tests = sorted((FRONTEND / "tests").glob("*.test.js"))
    ran = subprocess.run(["node", "--test", *map(str, tests)], cwd=FRONTEND.parent, capture_output=True, text=True, timeout=120)
    assert ran.returncode == 0, ran.stdout + ran.stderr
