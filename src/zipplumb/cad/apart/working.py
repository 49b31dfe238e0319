"""Work with the CAD library in a process of its own, with limits: it may crash or run out of memory, and harms nobody."""

from __future__ import annotations

import json
import os
import selectors
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO

LEAST_S, S_PER_MB = 60.0, 10.0  # a hundred times what ordinary files take


@dataclass(frozen=True)
class Limits:
    seconds: float = 300.0
    memory_mb: int = 8000

    @classmethod
    def of_file(cls, path: Path) -> Limits:
        """A small file that runs on is wrong, or made to hold others up: time by its size, with a slow machine in mind."""
        megabytes = path.stat().st_size / 2**20
        return cls(seconds=min(cls.seconds, LEAST_S + S_PER_MB * megabytes))


@dataclass
class Work:
    """A task under way, until its deadline (of ``time.monotonic``). ``code``: how it ended; None while it runs, and where
    it is not known. ``pid``: None until its first message."""

    steps: BinaryIO
    deadline: float
    pid: int | None = None
    code: int | None = None

    def words(self) -> Iterator[dict[str, Any]]:
        """Messages of the child process until it exits. Raises TimeoutError at the deadline."""
        while word := self.word():
            yield word

    def word(self) -> dict[str, Any]:
        """Its next; empty where it has ended, with all of its kind, and tells no more. Raises TimeoutError."""
        with selectors.DefaultSelector() as selector:
            selector.register(self.steps, selectors.EVENT_READ)
            if not selector.select(timeout=max(0.0, self.deadline - time.monotonic())):
                raise TimeoutError
        word = json.loads(self.steps.readline() or "{}")
        self.pid, self.code = word.get("pid", self.pid), word.get("code", self.code)
        return word


@dataclass
class _Ready:
    """The process that has the library loaded, begun when it is first wanted; of this process and not of one it forked from."""

    lock: threading.Lock = field(default_factory=threading.Lock)
    process: subprocess.Popen | None = None
    door: socket.socket | None = None
    owner: int = 0

    def ask(self, word: dict[str, Any], *ends: int) -> None:
        text = json.dumps(word).encode()
        with self.lock:
            with suppress(OSError):  # it had ended by itself
                if self.door is not None and self.owner == os.getpid():
                    socket.send_fds(self.door, [text], ends)
                    return
            self._begin()
            assert self.door is not None
            socket.send_fds(self.door, [text], ends)

    def _begin(self) -> None:
        if self.door is not None:
            self.door.close()
        if self.process is not None and self.owner == os.getpid():
            self.process.wait()
        self.door, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with there:
            command = [sys.executable, "-m", f"{__package__}.ready"]
            nowhere = subprocess.DEVNULL
            self.process = subprocess.Popen(
                command, stdin=there.fileno(), stdout=nowhere, stderr=nowhere, cwd="/", env=BARE, start_new_session=True
            )
        self.owner = os.getpid()


ENDING_S = 10.0
BARE = {"PATH": os.defpath, "LANG": "C.UTF-8"}  # no secrets
READY = _Ready()


@contextmanager
def working(task: str, limits: Limits, folder: Path, *arguments: str) -> Iterator[Work]:
    """A task of ``ready`` under way in a folder of its own; on leaving it has ended, or is ended."""
    told = {
        "task": task, "folder": str(folder), "memory_mb": limits.memory_mb, "seconds": max(1, round(limits.seconds)),
        "arguments": arguments,
    }  # fmt: skip
    work = _begun(told, time.monotonic() + limits.seconds)
    with work.steps:
        try:
            yield work
        finally:
            if work.code is None and work.pid is not None:
                READY.ask({"end": work.pid})
                work.deadline = time.monotonic() + ENDING_S
                with suppress(TimeoutError):
                    for _ in work.words():
                        pass


def _begun(told: dict[str, Any], deadline: float) -> Work:
    """Asked for once more where the one that was ready ended, of idleness, at that very moment."""
    work = Work(_asked(told), deadline)
    with suppress(TimeoutError):
        if not work.word():
            work.steps.close()
            return Work(_asked(told), deadline)
    return work


def _asked(told: dict[str, Any]) -> BinaryIO:
    steps, end = os.pipe()
    try:
        READY.ask(told, end)
    finally:
        os.close(end)
    return os.fdopen(steps, "rb", buffering=0)
