"""A small instrument for tests: presses at a steady pace, sent again until they are confirmed, as the protocol wants."""

from __future__ import annotations

import json
import socket
import threading
import time
from contextlib import suppress

from zipplumb.devices.protocol import encode


class FakeArm:
    """Listens on ``port``. ``sent`` and ``confirmed``: numbers of presses; ``confirmed_at``: when the newest was;
    ``waited``: s that each waited for its tone."""

    def __init__(self, per_s: float = 10.0, unanswered: int = 1_000_000):
        """``unanswered``: with so many presses it waits for a tone before it presses again."""
        self.server = socket.create_server(("127.0.0.1", 0))
        self.port = self.server.getsockname()[1]
        self.pause_s, self.unanswered = 1 / per_s, unanswered
        self.sent: dict[int, bytes] = {}
        self.confirmed: set[int] = set()
        self.tones: dict[int, str] = {}
        self.sent_at: dict[int, float] = {}
        self.waited: dict[int, float] = {}
        self.confirmed_at = 0.0
        self.pressing, self.over = threading.Event(), threading.Event()
        self.lock = threading.Lock()
        threading.Thread(target=self._serve, daemon=True).start()

    def close(self) -> None:
        self.over.set()
        self.server.close()

    def heard(self) -> str:
        ago = time.monotonic() - self.confirmed_at
        return f"{len(self.sent)} sent, {len(self.confirmed)} confirmed, the newest {ago:.1f} s ago"

    def until_all_confirmed(self, seconds: float) -> None:
        until = time.monotonic() + seconds
        while self.confirmed != set(self.sent) and time.monotonic() < until:
            time.sleep(0.05)

    def _serve(self) -> None:
        while not self.over.is_set():
            with suppress(OSError):
                link, _ = self.server.accept()
                with link:
                    self._talk(link)

    def _talk(self, link: socket.socket) -> None:
        hello = encode(t="hello", protocol=2, session="fake", kind="arm", model="fake", serial="1", rate_hz=100, axes=7)
        waiting = [self.sent[n] for n in sorted(set(self.sent) - self.confirmed)]
        link.sendall(hello + b"".join(waiting))
        lost = threading.Event()
        threading.Thread(target=self._hear, args=(link, lost), daemon=True).start()
        while not (self.over.is_set() or lost.is_set()):
            if self.pressing.is_set() and len(self.sent) - len(self.confirmed) < self.unanswered:
                number = len(self.sent) + 1
                self.sent[number] = encode(t="button", e=number, name="take", down=True, **self._pose(number))
                self.sent_at[number] = time.monotonic()
                link.sendall(self.sent[number] + encode(t="button", e=number, name="take", down=True, **self._pose(number)))
            else:
                link.sendall(encode(t="pose", **self._pose(0)))
            time.sleep(self.pause_s)

    @staticmethod
    def _pose(n: int) -> dict:
        """On a plane, spread over it."""
        place = [float(37 * n % 101), float(53 * n % 97), 243.0]
        return {"n": n, "at": time.time(), "p": place, "q": [1.0, 0.0, 0.0, 0.0]}

    def _hear(self, link: socket.socket, lost: threading.Event) -> None:
        with suppress(OSError, ValueError):
            for line in link.makefile("rb"):
                word = json.loads(line)
                if word.get("t") == "done":
                    self.confirmed.add(word["e"])
                    self.tones[word["e"]] = word["tone"]
                    self.confirmed_at = time.monotonic()
                    self.waited.setdefault(word["e"], self.confirmed_at - self.sent_at[word["e"]])
        lost.set()
