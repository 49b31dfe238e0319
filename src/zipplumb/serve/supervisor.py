"""Supervisor of processes: each is forked from one that has all modules loaded, so that it starts at once.

A process that ends is started again; when the supervisor ends, however, its processes end with it.
"""

from __future__ import annotations

import ctypes
import json
import logging
import os
import signal
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

log = logging.getLogger(__name__)
LOOK_S = 0.05
AGAIN_S, LONGEST_S = 0.1, 5.0  # before an ended one is started again: longer where it ends again and again
LIVED_S = 3.0
STOP_S = 6.0
PR_SET_PDEATHSIG = 1


class Supervisor:
    """``programs`` by name: what each process does. ``logs``: a folder; ``pids``: a file that names the processes."""

    def __init__(self, programs: dict[str, Callable[[], object]], logs: Path | None = None, pids: Path | None = None):
        self.programs, self.logs, self.pids = programs, logs, pids
        self.running: dict[int, str] = {}
        self.began: dict[str, float] = {}
        self.waits: dict[str, float] = {}
        self.due: dict[str, float] = {}
        self.stopping = False

    def run(self) -> int:
        """Until told to stop. The only thread of its process: it forks."""
        for told in (signal.SIGTERM, signal.SIGINT):
            signal.signal(told, self._told)
        for name in self.programs:
            self._start(name)
        while not self.stopping:
            self._bury()
            now = time.monotonic()
            for name in [n for n, at in self.due.items() if at <= now]:
                del self.due[name]
                self._start(name)
            time.sleep(LOOK_S)
        self._stop()
        return 0

    def _told(self, *_) -> None:
        self.stopping = True

    def _start(self, name: str) -> None:
        parent = os.getpid()
        pid = os.fork()
        if pid == 0:
            self._become(name, parent)
        self.running[pid] = name
        self.began[name] = time.monotonic()
        self._tell()

    def _become(self, name: str, parent: int) -> None:
        code = 1
        try:
            os.setsid()
            ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
            if os.getppid() != parent:  # it ended meanwhile
                os._exit(1)
            for told in (signal.SIGTERM, signal.SIGINT):
                signal.signal(told, signal.SIG_DFL)
            if self.logs is not None:
                log_file = os.open(self.logs / f"{name}.log", os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o640)
                os.dup2(log_file, 1)
                os.dup2(log_file, 2)
            self.programs[name]()
            code = 0
        except Exception:
            logging.getLogger(__name__).exception("%s ended", name)
        finally:
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(code)

    def _bury(self) -> None:
        while self.running:
            pid, status = os.waitpid(-1, os.WNOHANG)
            if pid == 0:
                return
            name = self.running.pop(pid, None)
            if name is None:
                continue
            lived = time.monotonic() - self.began[name]
            wait = AGAIN_S if lived > LIVED_S else min(2 * self.waits.get(name, AGAIN_S / 2), LONGEST_S)
            self.waits[name], self.due[name] = wait, time.monotonic() + wait
            log.warning("%s had ended (%s) and is started again", name, os.waitstatus_to_exitcode(status))
            self._tell()

    def _tell(self) -> None:
        if self.pids is not None:
            told = {name: pid for pid, name in self.running.items()} | {"supervisor": os.getpid()}
            new = self.pids.with_suffix(".new")
            new.write_text(json.dumps(told))
            new.replace(self.pids)

    def _stop(self) -> None:
        for pid in self.running:
            _signalled(pid, signal.SIGTERM)
        until = time.monotonic() + STOP_S
        while self.running and time.monotonic() < until:
            self._bury()
            time.sleep(LOOK_S)
        for pid in self.running:
            _signalled(pid, signal.SIGKILL)
        if self.pids is not None:
            self.pids.unlink(missing_ok=True)


def _signalled(pid: int, what: signal.Signals) -> None:
    with suppress(ProcessLookupError):
        os.killpg(pid, what)
