"""Starting everything, keeping it running, and stopping it: the database, the stand-ins, and the product itself."""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO

from ..core.errors import InputError
from ..devices.sim.arm import MESHES
from ..store.cluster import Cluster, free_port, held_port
from ..store.schema import upgrade
from . import bedplate_real, bracket_real, carrier_real, shop_real
from .real_mesh import write_meshes
from .seed import seed_job, seed_people_and_kit
from .seed_bedplate import seed_bedplate
from .seed_bracket import seed_bracket
from .seed_fairing import seed_fairing
from .seed_inspected import seed_inspected
from .seed_scan import seed_scan
from .seed_series import PIECES, seed_series

START_S, SAY_S = 300.0, 15.0  # a start on a busy machine; after so long it is said what is waited for
LOOK_S = 0.2
SIMS = {"arm": ("sim", "real.json"), "tracker": ("sim-tracker", "shop.json"), "radar": ("sim-radar", "shop.json")}
PARTS = {"carrier": "bearing-carrier.step", "bracket": "sensor-bracket.step", "bedplate": "bedplate.step"}
REAL = {"carrier": carrier_real.truth, "bracket": bracket_real.truth, "bedplate": bedplate_real.truth}
MADE = (*PARTS.values(), "real.json", "shop.json", MESHES)
LOCK = "lock"
STOPS = (signal.SIGINT, signal.SIGTERM)


def _digest_of_sources() -> str:
    """Fingerprint of all sources that the parts' files are made from."""
    package = Path(__file__).parent.parent
    digest = hashlib.sha256()
    for path in sorted(p for room in ("core", "cad", "demo", "devices", "jobs") for p in (package / room).rglob("*.py")):
        digest.update(path.read_bytes())
    return digest.hexdigest()[:16]


def _make_part_files(folder: Path) -> None:
    from ..cad import CadModel, read_cad

    steps = {name: folder / file for name, file in PARTS.items()}

    def made(name: str) -> CadModel:
        # in a process of its own: the CAD library talks on standard output
        call = f"from zipplumb.demo.{name} import write_step; from pathlib import Path; write_step(Path({str(steps[name])!r}))"
        subprocess.run([sys.executable, "-c", call], check=True, stdout=subprocess.DEVNULL)
        return read_cad(steps[name])

    with ThreadPoolExecutor() as at_once:  # each waits for processes
        models = {name: (model, steps[name]) for name, model in zip(steps, at_once.map(made, steps), strict=True)}
    real = {name: truth(*models[name]) for name, truth in REAL.items()}
    stands = shop_real.arm_stands(models["bedplate"][1])
    carrier_real.write_truth(real["carrier"], folder / "real.json", real["bracket"] | real["bedplate"], stands)
    write_meshes({sha256: (models[name][0], faces) for name in REAL for sha256, faces in real[name].items()}, folder / MESHES)
    shop_real.write_shop(models, folder / "shop.json")


class Processes:
    """One set of processes with its own database, under one folder."""

    def __init__(
        self, folder: Path, web_port: int | None = None, pace: float = 1.0, web_workers: int = 1, durable: bool = True
    ):
        self.folder, self.pace, self.web_workers = folder, pace, web_workers
        self.web_port = web_port or free_port()
        self._held = [held_port() for _ in range(2 * len(SIMS))]
        ports = [held.getsockname()[1] for held in self._held]
        self.sims = dict(zip(SIMS, zip(ports[::2], ports[1::2], strict=True), strict=True))
        self.cluster = Cluster(folder / "postgres", durable)
        self.children: dict[str, subprocess.Popen] = {}
        self.job: int | None = None

    @classmethod
    @contextmanager
    def for_a_while(cls, folder: Path, pace: float, started: bool = True, durable: bool = False) -> Iterator[Processes]:
        """Prepared, and started where wanted; afterwards stopped, and nothing is left. ``durable``: as in real use."""
        processes = cls(folder, pace=pace, durable=durable)
        try:
            processes.prepare()
            if started:
                processes.start()
                processes.wait_for_web()
            yield processes
        finally:
            processes.stop()
            processes.cluster.destroy()
            shutil.rmtree(folder, ignore_errors=True)

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.web_port}"

    def prepare(self) -> None:
        """Database, schema, CAD, truth and demo data; quick when all is there."""
        self.folder.mkdir(parents=True, exist_ok=True)
        os.environ["ZIPPLUMB_DATABASE"] = self.cluster.start()
        os.environ["ZIPPLUMB_SECRET"] = self._secret()
        os.environ["ZIPPLUMB_SIM_CONTROL"] = ",".join(f"{port}:{control}" for port, control in self.sims.values())
        upgrade()
        self._part_files()
        instruments = seed_people_and_kit({kind: port for kind, (port, _) in self.sims.items()})
        self.job = seed_job(self.folder / PARTS["carrier"], instruments["arm"])
        self.bracket_job = seed_bracket(self.folder / PARTS["bracket"])
        self.bedplate_job = seed_bedplate(self.folder / PARTS["bedplate"], instruments["tracker"])
        self.fairing_job = seed_fairing(self.bedplate_job, instruments["radar"])
        self.arm = instruments["arm"]

    def seed_scan(self) -> int:
        """A job with a scan in it, which takes some seconds to make. Returns its id."""
        assert self.job is not None
        return seed_scan(self.folder, self.bracket_job, self.arm, self.job)

    def seed_inspected(self) -> int:
        """A job that is finished, with a report. Returns its id."""
        assert self.job is not None
        return seed_inspected(self.folder, self.job, self.arm, home=self.job)

    def seed_series(self, count: int = PIECES) -> list[int]:
        """A job of so many pieces, all measured. Returns them."""
        assert self.job is not None
        return seed_series(self.folder, self.job, self.arm, self.job, count)

    def _secret(self) -> str:
        path = self.folder / "secret"
        if not path.exists():
            path.touch(mode=0o600)
            path.write_text(secrets.token_hex(32))
        return path.read_text()

    def _part_files(self) -> None:
        """CAD and truth, from where they were made last, if all that makes them is as it was."""
        if all((self.folder / name).exists() for name in MADE):
            return
        made = self.folder.parent / f"made-{_digest_of_sources()}"
        for old in set(self.folder.parent.glob("made-*")) - {made}:
            shutil.rmtree(old, ignore_errors=True)
        if not made.exists():
            with tempfile.TemporaryDirectory(dir=self.folder.parent, prefix="making-") as making:
                _make_part_files(Path(making))
                with suppress(OSError):  # another one was there first
                    Path(making).rename(made)
                    Path(making).mkdir()  # which is cleaned up
        for name in MADE:
            shutil.copyfile(made / name, self.folder / name)

    def _commands(self) -> dict[str, list[str]]:
        here = [sys.executable, "-m", "zipplumb.cli"]
        sims = {
            name: [*here, "sim", kind, "--real", str(self.folder / file), "--port", str(self.sims[kind][0]),
                   "--control", str(self.sims[kind][1]), "--pace", str(self.pace)]
            for kind, (name, file) in SIMS.items()
        }  # fmt: skip
        product = [
            *here, "serve", "all", "--port", str(self.web_port), "--web", str(self.web_workers), "--workers", "1",
            "--logs", str(self.folder), "--pids", str(self.pids),
        ]  # fmt: skip
        return {**sims, "serve": product}

    @property
    def pids(self) -> Path:
        return self.folder / "pids.json"

    def start(self, *names: str) -> None:
        """Start the processes of such names, or all. Raises KeyError for one that is not there."""
        commands = self._commands()
        for name, command in {name: commands[name] for name in names or commands}.items():
            if name not in self.children:
                log = (self.folder / f"{name}.log").open("ab")
                self.children[name] = subprocess.Popen(
                    command, stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True
                )

    def pid_of(self, name: str, seconds: float = 20.0) -> int:
        """The process id of a stand-in, of serve, or of a process of the product: web-1, link, worker-1."""
        if name in self.children:
            return self.children[name].pid
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            with suppress(OSError, ValueError):
                if pid := json.loads(self.pids.read_text()).get(name):
                    return pid
            time.sleep(0.02)
        raise RuntimeError(f"{name} does not run; see the logs in {self.folder}")

    def kill(self, name: str) -> None:
        """End one process at once, as a crash would. What supervises it starts it again."""
        os.kill(self.pid_of(name), signal.SIGKILL)
        if name in self.children:
            self.children[name].wait()

    def mend(self) -> list[str]:
        """Start again what has ended by itself; their names."""
        ended = [name for name, child in self.children.items() if child.poll() is not None]
        for name in ended:
            self.children.pop(name)
        if ended:
            self.start(*ended)
        if not self.cluster.answers():
            self.cluster.start()
            ended.append("database")
        return ended

    def wait_for_web(self, seconds: float = START_S, say: Callable[[str], None] = lambda words: None) -> None:
        """Until its pages answer; what takes long is said."""
        import urllib.request

        began, said = time.monotonic(), 0
        while (waited := time.monotonic() - began) < seconds:
            try:
                urllib.request.urlopen(f"{self.url}/sign-in", timeout=2)
                return
            except OSError:
                time.sleep(0.1)
            if waited > SAY_S * (said + 1):
                said += 1
                say(f"Waiting for the pages to answer, {waited:.0f} s so far; the machine is busy.")
        raise InputError(
            f"The pages did not answer within {seconds:.0f} s.", "The data is kept.",
            f"Look at {self._logs()}, or start it again when the machine is less busy.",
        )  # fmt: skip

    def _logs(self) -> str:
        """Those that are there."""
        return " and ".join(str(path) for path in sorted(self.folder.glob("*.log")) if path.stat().st_size) or str(self.folder)

    def stop(self) -> None:
        """Stop everything that this object started."""
        self.stop_children()
        self.cluster.stop()
        for held in self._held:
            held.close()

    def stop_children(self, *names: str) -> None:
        """Stop the processes of such names, or all but the database."""
        stopped = [self.children.pop(name) for name in names or tuple(self.children) if name in self.children]
        for child in stopped:
            if child.poll() is None:
                os.killpg(child.pid, signal.SIGTERM)
        for child in stopped:
            try:
                child.wait(timeout=6)
            except subprocess.TimeoutExpired:
                os.killpg(child.pid, signal.SIGKILL)
                child.wait()


def run_demo(folder: Path, port: int | None, fresh: bool, pace: float) -> int:
    """Serve the demo until Ctrl-C."""
    for wanted in STOPS:  # also where a shell started us with them ignored
        signal.signal(wanted, _stop_once)
    lock = _only_one(folder)
    if port is not None and _taken(port):
        raise InputError(f"Port {port} is taken by another program.", "Nothing was started.", "Choose another with --port.")
    if fresh:
        Cluster(folder / "postgres").destroy()
        for path in folder.iterdir():
            if path.name != LOCK:
                shutil.rmtree(path) if path.is_dir() else path.unlink()
    processes = Processes(folder, port, pace)
    try:
        print("Preparing the database and the demo data …", flush=True)
        processes.prepare()
        processes.seed_scan()
        processes.seed_series()
        processes.seed_inspected()
        processes.start()
        processes.wait_for_web(say=lambda words: print(words, flush=True))
        _greet(processes)
        while True:
            time.sleep(LOOK_S)
            for name in processes.mend():
                print(f"{name} had ended and was started again (logs: {folder})", flush=True)
    except KeyboardInterrupt:
        print("\nStopping …", flush=True)
        return 0
    except OSError as error:
        raise InputError(
            f"{error.filename or folder} could not be written: {error.strerror}.", "What was there is kept.",
            "Make room, or give another --folder.",
        ) from error  # fmt: skip
    finally:
        processes.stop()
        lock.close()


def _stop_once(*_: object) -> None:
    """One is enough: stopping is not stopped, and whoever is impatient cannot cut it off before it began."""
    for wanted in STOPS:
        signal.signal(wanted, signal.SIG_IGN)
    raise KeyboardInterrupt


def _only_one(folder: Path) -> IO[str]:
    """Hold the folder for ourselves; the lock goes with the process, however it ends."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        lock = (folder / LOCK).open("w")
    except OSError as error:
        raise InputError(
            f"{folder} cannot be written to: {error.strerror}.", "Nothing was started.", "Give another --folder, or make room."
        ) from error
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        raise InputError(
            f"The demo is running already on {folder}.",
            "It was left alone.",
            "Stop it with Ctrl-C first, or give another --folder.",
        ) from None
    return lock


def _taken(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        return probe.connect_ex(("127.0.0.1", port)) == 0


def _greet(processes: Processes) -> None:
    from .seed import PASSWORD, PEOPLE

    print(f"\n  Zip Plumb is at {processes.url}\n")
    for login, name, role in PEOPLE:
        print(f"    {login:8} {PASSWORD}    {name}, {role}")
    print("\n  Ctrl-C stops everything. The data stays; ./run demo --fresh begins again.\n", flush=True)
