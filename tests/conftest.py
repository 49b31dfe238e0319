"""Which tests share a process, a database and the processes of the application, and what long ones cost."""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

ROOT = Path(__file__).parent.parent
VAR = ROOT / "var"
# Tests in a browser wait for the stand-in's hand most of the time: two lots of them, beside one another.
BROWSER = {name: k % 2 for k, name in enumerate((
    "test_every_kind", "test_carried_and_placed", "test_kit", "test_aligning", "test_first_slice", "test_made_of_features",
    "test_is_it_good", "test_on_the_model", "test_holding_on", "test_planning_pages", "test_accessible", "test_radar",
))}  # fmt: skip
PREPARE = """
import sys
from pathlib import Path
from zipplumb.demo.processes import Processes
from zipplumb.jobs import people
people.METHOD = "scrypt:1024:8:1"
processes = Processes(Path(sys.argv[1]), durable=False)
processes.prepare()
processes.stop()
"""  # in a process of its own, whose address of the database is kept nowhere
FIRST = ("e2e", "serve", "outside")  # the folders with the longest tests


def _lot(item: pytest.Item) -> str:
    """Tests of one lot run in one process, one after another: those of a file where they share what is made for it."""
    if "chromium" in item.fixturenames:  # type: ignore[attr-defined]
        return f"browser {BROWSER.get(item.path.stem, 0)}"
    made = item._fixtureinfo.name2fixturedefs  # type: ignore[attr-defined]
    shares = "stack" in made or any(one.scope in ("module", "class") for found in made.values() for one in found)
    return str(item.path) if shares else item.nodeid


def pytest_collection_modifyitems(config, items):
    """With several processes, what takes longest begins first, so that none is left to one process at the end."""
    if not hasattr(config, "workerinput"):
        return
    for item in items:
        item.add_marker(pytest.mark.xdist_group(_lot(item)))
    known = _durations()
    lots: dict[str, float] = {}
    for item in items:
        lots[_lot(item)] = lots.get(_lot(item), 0.0) + known.get(item.nodeid, 0.0)
    first = {folder: -k for k, folder in enumerate(reversed(FIRST), 1)}
    items.sort(key=lambda item: ("browser" not in _lot(item), -lots[_lot(item)], first.get(item.path.parent.name, 0)))


def pytest_terminal_summary(terminalreporter, config):
    """What each test and each lot took, kept for the next run to begin with the longest."""
    if hasattr(config, "workerinput") or not config.getoption("numprocesses", None):
        return
    took: dict[str, float] = {}
    for reports in terminalreporter.stats.values():
        for report in reports:
            if hasattr(report, "duration"):
                test, _, lot = report.nodeid.partition("@")
                for name in {test, lot or test}:
                    took[name] = took.get(name, 0.0) + report.duration
    if took:
        VAR.mkdir(exist_ok=True)
        (VAR / "durations.json").write_text(json.dumps({n: round(s, 2) for n, s in took.items()}, indent=0))


def _durations() -> dict[str, float]:
    """Of the last run, by test and by lot; empty on a fresh machine."""
    try:
        return json.loads((VAR / "durations.json").read_text())
    except (OSError, ValueError):
        return {}


@pytest.fixture
def random() -> np.random.Generator:
    return np.random.default_rng(20240607)


@pytest.fixture(scope="session")
def stack():
    """Everything prepared (database, demo data), nothing but the database started: copied from what was prepared once."""
    from zipplumb.demo.processes import Processes
    from zipplumb.jobs import people
    from zipplumb.store.cluster import Cluster

    people.METHOD = "scrypt:1024:8:1"  # tests/serve looks at what is used in life
    prepared, folder = _prepared(), VAR / f"test-{os.getpid()}"
    subprocess.run(["cp", "-a", prepared, folder], check=True)
    there, here = (Cluster(place / "postgres").home for place in (prepared, folder))
    if not here.exists():  # where another place than the folder holds the database
        subprocess.run(["cp", "-a", there, here], check=True)
    (here / "port").unlink()
    with Processes.for_a_while(folder, pace=6.0, started=False) as processes:
        yield processes


def _prepared() -> Path:
    """A stopped installation with the demo's data; made where the sources are others than those of the last."""
    from zipplumb.store.cluster import Cluster

    digest = hashlib.sha256()
    for path in sorted((ROOT / "src").rglob("*.py")):
        digest.update(path.read_bytes())
    prepared = VAR / f"prepared-{digest.hexdigest()[:16]}"
    VAR.mkdir(exist_ok=True)
    with (VAR / "preparing").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not prepared.exists():
            for old in VAR.glob("prepared-*"):
                _forget(old)
            making = VAR / "prepared-making"
            _forget(making)
            subprocess.run([sys.executable, "-c", PREPARE, making], check=True, stdout=subprocess.DEVNULL)
            homes = [Cluster(place / "postgres").home for place in (making, prepared)]
            making.rename(prepared)
            if not homes[1].exists():
                homes[0].rename(homes[1])
    return prepared


def _forget(folder: Path) -> None:
    from zipplumb.store.cluster import Cluster

    Cluster(folder / "postgres").destroy()
    shutil.rmtree(folder, ignore_errors=True)
