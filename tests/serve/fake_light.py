"""A small scanning arm for tests: pass after pass with its button held, lines of light between press and release."""

from __future__ import annotations

import base64
import itertools
import socket
import threading
import time

import numpy as np
from fake_arm import FakeArm

from zipplumb.devices.protocol import VERSION, encode

LINES, POINTS, LINE_S, ALIVE_S = 8, 80, 0.02, 0.1


class FakeLight(FakeArm):
    """``lines``: all that were sent; ``whole``: those of passes that were confirmed to their end on one and the same link."""

    def __init__(self) -> None:
        self.n = itertools.count(1)
        self.lines: set[int] = set()
        self.whole: set[int] = set()
        self.finishing = threading.Event()
        super().__init__()

    def _talk(self, link: socket.socket) -> None:
        about = {"kind": "arm", "model": "fake light", "serial": "2", "rate_hz": 50, "axes": 7}
        waiting = [self.sent[e] for e in sorted(set(self.sent) - self.confirmed)]
        link.sendall(encode(t="hello", protocol=VERSION, session="fake light", **about) + b"".join(waiting))
        lost = threading.Event()
        threading.Thread(target=self._hear, args=(link, lost), daemon=True).start()
        while not (self.over.is_set() or lost.is_set()):
            if self.finishing.is_set():
                self.finishing.clear()
                self._press(link, "finish", True)
            elif self.pressing.is_set():
                self._pass(link, lost)
            self._wait(link, lost)

    def _pass(self, link: socket.socket, lost: threading.Event) -> None:
        self._press(link, "take", True)
        mine = set()
        for _ in range(LINES):
            here = self._here()
            mine.add(here["n"])
            self.lines.add(here["n"])
            link.sendall(encode(t="pose", **here) + encode(t="stripe", packed=_line(here["n"]), **here))
            time.sleep(LINE_S)
        up = self._press(link, "take", False)
        self._wait(link, lost)
        if up in self.confirmed and not lost.is_set():
            self.whole |= mine

    def _press(self, link: socket.socket, name: str, down: bool) -> int:
        number = len(self.sent) + 1
        self.sent[number] = encode(t="button", e=number, name=name, down=down, **self._here())
        self.sent_at[number] = time.monotonic()
        link.sendall(self.sent[number])
        return number

    def _wait(self, link: socket.socket, lost: threading.Event) -> None:
        """For every tone, but at least a moment."""
        while not (self.over.is_set() or lost.is_set()):
            link.sendall(encode(t="pose", **self._here()))
            time.sleep(ALIVE_S)
            if self.confirmed == set(self.sent):
                break

    def _here(self) -> dict:
        n = next(self.n)
        return {"n": n, "at": time.time(), "p": [0.0, float(0.5 * n % 300), 170.0], "q": [0.0, 1.0, 0.0, 0.0]}


def _line(n: int) -> str:
    """Across a plane, with a little noise."""
    away = 110 + np.random.default_rng(n).normal(0, 0.02, POINTS)
    line = np.column_stack([np.linspace(-30, 30, POINTS), away, np.ones(POINTS)])
    return base64.b64encode(line.astype("<f4").tobytes()).decode()
