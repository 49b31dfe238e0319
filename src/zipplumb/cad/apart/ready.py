"""A process that has the CAD library loaded, and forks another for each file: ``python -m zipplumb.cad.apart.ready``.

Loading the library takes two seconds, reading a small file a tenth of one. Who begins it (see
``apart``) holds the other end of its standard input, a socket: a word asks for a task, with the
end of a pipe on which it reports its steps, or for its end. It ends when nothing was asked for a
while, or with the process that began it; its children end with it.
"""

from __future__ import annotations

import ctypes
import gc
import json
import os
import selectors
import signal
import socket
from collections.abc import Callable
from importlib import import_module

from ..library import step_out
from . import child

IDLE_S = 120.0
LONGEST = 65536  # bytes of a word
DIES_WITH_PARENT = 1  # PR_SET_PDEATHSIG, prctl(2)
TASKS: dict[str, Callable[..., int]] = {"read": child.main, "write": step_out.main}
LOADED = ("OCP", "..library.step", "..library.iges", "..library.mesh")


class Ready:
    """Forks, looks after and ends its children."""

    def __init__(self, asked: socket.socket):
        self.asked, self.prctl, self.pid = asked, ctypes.CDLL(None).prctl, os.getpid()
        self.running: dict[int, tuple[int, int]] = {}  # by what tells its end: the child, and where its steps are told
        self.selector = selectors.DefaultSelector()
        self.selector.register(asked, selectors.EVENT_READ)

    def serve(self) -> None:
        while events := self.selector.select(None if self.running else IDLE_S):
            for key, _ in events:
                if key.fd != self.asked.fileno():
                    self._ended(key.fd)
                elif not self._heard():
                    return

    def _heard(self) -> bool:
        """Carry out what is asked. False where nobody will ask any more."""
        word, ends, _, _ = socket.recv_fds(self.asked, LONGEST, 1)
        if not word:
            return False
        told = json.loads(word)
        if "end" in told:
            for pid, _ in self.running.values():
                if pid == told["end"]:
                    os.kill(pid, signal.SIGKILL)
            return True
        (steps,) = ends
        if (pid := os.fork()) == 0:
            self._become(steps, **told)
        watched = os.pidfd_open(pid)
        self.running[watched] = pid, steps
        self.selector.register(watched, selectors.EVENT_READ)
        return True

    def _ended(self, watched: int) -> None:
        pid, steps = self.running.pop(watched)
        self.selector.unregister(watched)
        _, status = os.waitpid(pid, 0)
        child.tell(steps, code=os.waitstatus_to_exitcode(status))
        os.close(steps)
        os.close(watched)

    def _become(self, steps: int, task: str, folder: str, memory_mb: int, seconds: int, arguments: list[str]) -> None:
        """In the child: a home of its own that goes with it, its limits, its task, and no way out through the library's own
        threads and finalisers: what was to be written is written."""
        code = 1
        try:
            child.tell(steps, pid=os.getpid())
            self.prctl(DIES_WITH_PARENT, signal.SIGKILL)
            if os.getppid() != self.pid:  # it ended meanwhile
                return
            self.asked.close()
            for _, others in self.running.values():
                os.close(others)
            os.chdir(folder)
            os.environ.update(HOME=folder, TMPDIR=folder)
            child.limit(memory_mb, seconds)
            code = TASKS[task](lambda **what: child.tell(steps, **what), *arguments)
        finally:
            os._exit(code)


if __name__ == "__main__":
    for name in LOADED:
        import_module(name, __package__)
    gc.freeze()  # what is loaded stays shared with every child
    Ready(socket.socket(fileno=os.dup(0))).serve()
    os._exit(0)
