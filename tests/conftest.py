"""Which tests share a process, a database and the processes of the application, and what long ones cost."""

from __future__ import annotations

import fcntl
import gc
import hashlib
import json
import os
import shutil
import subprocess
import sys
import threading
from collections import Counter
from pathlib import Path

import hypothesis
import numpy as np
import pytest

hypothesis.settings.register_profile("any machine", deadline=None)  # how fast one is proves nothing
hypothesis.settings.load_profile("any machine")
ROOT = Path(__file__).parent.parent
VAR = ROOT / "var"
ALONE = ("core", "outside")  # where tests share nothing
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


def lot_of(nodeid: str) -> str:
    """Tests of one lot run in one process: half of those in a browser, those of a file, or each by itself."""
    path = Path(nodeid.split("::")[0])
    if path.parent.name == "e2e":
        return "browser, a to e" if path.stem < "test_f" else "browser, f to z"
    return nodeid if path.parent.name in ALONE else str(path)


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config, log):
    from xdist.scheduler import LoadScopeScheduling

    class ByLots(LoadScopeScheduling):
        def _split_scope(self, nodeid: str) -> str:
            return lot_of(nodeid)

    config.option.loadscopereorder = False
    return ByLots(config, log)


def pytest_collection_modifyitems(config, items):
    """With several processes, the lots that take longest begin first, so that none is left to one process at the end.

    Before those in a browser each process has a long one that needs no database: it is being prepared meanwhile.
    """
    if not hasattr(config, "workerinput"):
        return
    known = _durations()
    lots = sorted({lot_of(item.nodeid) for item in items}, key=lambda lot: (-known.get(lot, 0.0), lot))
    alone = [lot for lot in lots if Path(lot.split("::")[0]).parent.name in ALONE][: config.workerinput["workercount"]]
    lots.sort(key=lambda lot: (lot not in alone, not lot.startswith("browser")))
    place = {lot: k for k, lot in enumerate(lots)}
    items.sort(key=lambda item: place[lot_of(item.nodeid)])


def pytest_collection_finish(session):
    """What was collected stays to the end: it need not be looked through for what may go."""
    gc.collect()
    gc.freeze()


def pytest_sessionfinish(session):
    gc.unfreeze()


def pytest_sessionstart(session):
    """The database is prepared by the process that has nothing to do but to wait for the others."""
    if session.config.getoption("numprocesses", None) and not hasattr(session.config, "workerinput"):
        threading.Thread(target=_prepared, daemon=True).start()


def pytest_terminal_summary(terminalreporter, config):
    """What each lot took, kept for the next run to begin with the longest, and told by folder."""
    if hasattr(config, "workerinput") or not config.getoption("numprocesses", None):
        return
    lots: Counter[str] = Counter()
    folders: Counter[str] = Counter()
    for reports in terminalreporter.stats.values():
        for report in reports:
            if hasattr(report, "duration"):
                lots[lot_of(report.nodeid)] += report.duration
                folders[Path(report.nodeid.split("::")[0]).parent.name] += report.duration
    if lots:
        VAR.mkdir(exist_ok=True)
        (VAR / "durations.json").write_text(json.dumps({n: round(s, 1) for n, s in lots.items() if s > 1}, indent=0))
        told = ", ".join(f"{folder} {seconds:.0f} s" for folder, seconds in folders.most_common())
        terminalreporter.write_line(f"Of all processes together: {told}")


def _durations() -> dict[str, float]:
    """Of the last run here, by lot; on a fresh machine those that were kept with the tests."""
    for path in (VAR / "durations.json", ROOT / "tests" / "durations.json"):
        try:
            return json.loads(path.read_text())
        except (OSError, ValueError):
            continue
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
