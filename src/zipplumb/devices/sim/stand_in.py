"""Common base of the stand-ins: one link at a time, any number of hands on the control port, a stream of samples."""

from __future__ import annotations

import asyncio
import json
import time
import uuid
from collections.abc import Iterator

import numpy as np

from ..protocol import VERSION, encode
from .hand import Hand, Sample

STATE_S, ALIVE_S = 5.0, 0.4
LATE_S = 0.2  # so far behind on a busy machine, it goes on from now: a hand makes up for nothing
AT_REST = 5  # samples of which one is told while nobody moves it
LONGEST_ORDER = 64 << 20  # bytes: a part of thousands of faces


class StandIn:
    """An instrument that is none. A kind of it says what a sample looks like and which commands its hand takes."""

    kind, model, serial, axes = "arm", "Stand-in", "SIM-0000", 0

    def __init__(self, hand: Hand, rate_hz: float, random: np.random.Generator, temperature_c: float = 20.0):
        self.hand, self.rate, self.random, self.temperature_c = hand, rate_hz, random, temperature_c
        self.session = uuid.uuid4().hex
        self.todo: list[Iterator[Sample]] = []
        self.plugged = True
        self.send_nan = False
        self.down = self.following = False
        self.n = self.presses = 0
        self.looking: int | None = None
        self.unanswered: dict[int, bytes] = {}
        self.link: asyncio.StreamWriter | None = None
        self.served = False
        self.news: list[bytes] = []

    # ---- what a kind says ---------------------------------------------------------------

    def sample(self, sample: Sample) -> dict | None:
        """Where the instrument believes it is; None where it sees nothing."""
        raise NotImplementedError

    def greeting(self) -> list[bytes]:
        """Messages after every connect, behind the hello."""
        return [encode(t="state", temperature_c=self.temperature_c)]

    def told(self, do: str, order: dict) -> dict | None:
        """An order that only this kind knows, and what is answered beside. Raises ValueError, KeyError, … for one that makes
        no sense."""
        raise ValueError(f"“{do}” is not known")

    def look(self, asked: dict) -> str:
        """Do what the link asks by itself; why it does not, or ""."""
        return "it measures only where a hand takes it"

    def about(self) -> dict:
        """More of its answer to every order."""
        return {}

    # ---- what the link sees -------------------------------------------------------------

    async def serve_link(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        if not self.plugged:
            writer.close()
            return
        if self.link is not None:
            self.link.close()
        self.link, self.served = writer, True
        writer.write(
            encode(t="hello", protocol=VERSION, session=self.session, kind=self.kind, model=self.model,
                   serial=self.serial, rate_hz=self.rate, axes=self.axes)
        )  # fmt: skip
        for message in (*self.greeting(), *self.unanswered.values()):
            writer.write(message)
        try:
            while line := await reader.readline():
                answer = json.loads(line)
                if answer.get("t") == "done":
                    self.unanswered.pop(answer["e"], None)
                elif answer.get("t") == "look":
                    why = self.look(answer)
                    writer.write(encode(t="answer", o=answer["o"], ok=not why, why=why))
        except (ConnectionError, ValueError, KeyError, TypeError):
            pass
        finally:
            if self.link is writer:
                self.link = None
            writer.close()

    async def stream(self) -> None:
        due = time.perf_counter()
        while True:
            resting = not self.todo and not self.down
            on = AT_REST - self.n % AT_REST if resting else 1
            self.n += on - 1
            due = max(due, time.perf_counter() - LATE_S) + on / self.rate
            await asyncio.sleep(max(0.0, due - time.perf_counter()))
            self._send(self.tick())

    def tick(self) -> list[bytes]:
        """One sample on: what is to be sent."""
        self.n += 1
        sample = self._next()
        self.following = self.down and sample.press is None
        seen = self.sample(sample)
        messages, self.news = self.news, []
        if seen is not None:
            head = {"n": self.n, "at": round(time.time(), 4), **seen}
            if self.send_nan:
                head |= {"p": [float("nan"), 0.0, 0.0]}
                self.send_nan = False
            messages.append(encode(t="pose", **head))
            if sample.press:
                self.presses += 1
                name, down = sample.press
                self.down = down and name == "take"
                mine = {"look": self.looking} if self.looking is not None and name == "take" else {}
                message = encode(t="button", e=self.presses, name=name, down=down, **mine, **head)
                self.unanswered[self.presses] = message
                messages.append(message)
            messages += self.more(head)
        elif self.n % max(1, int(ALIVE_S * self.rate)) == 0:
            messages += self.alive()
        if self.n % int(STATE_S * self.rate) == 0:
            messages += self.greeting()
        return messages

    def alive(self) -> list[bytes]:
        """The heartbeat while nothing is seen, so that the link is not taken for lost."""
        return []

    def more(self, head: dict) -> list[bytes]:
        """Additional fields of a sample."""
        return []

    def _send(self, messages: list[bytes]) -> None:
        if self.link is None or not self.plugged:
            return
        try:
            self.link.write(b"".join(messages))
        except ConnectionError:
            self.link = None

    def _next(self) -> Sample:
        while self.todo and not (self.following and self.deaf):
            sample = next(self.todo[0], None)
            if sample is not None:
                return sample
            self.todo.pop(0)
        return Sample(self.hand.tip, self.hand.inward)

    @property
    def deaf(self) -> bool:
        """The link was lost by itself: a hand that follows a surface hears no more tone, and stays until it does."""
        return self.plugged and self.served and self.link is None

    # ---- what the hand is told ----------------------------------------------------------

    async def serve_control(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while line := await reader.readline():
                try:
                    answer: dict = {"ok": True, **(self._carry_out(json.loads(line)) or {})}
                except (KeyError, ValueError, TypeError, IndexError) as error:
                    answer = {"ok": False, "why": f"The stand-in cannot do that: {error}"}
                answer |= {"busy": len(self.todo), "plugged": self.plugged, **self.about()}
                writer.write((json.dumps(answer) + "\n").encode())
                await writer.drain()
        except ConnectionError:
            pass
        finally:
            writer.close()

    def _carry_out(self, order: dict) -> dict | None:
        do = order["do"]
        if do == "ask":
            return None
        if do in ("unplug", "plug"):
            self.plugged = do == "plug"
            if not self.plugged and self.link is not None:
                self.link.close()
                self.link = None
        elif do == "nan":
            self.send_nan = True
        elif do == "stop":
            self.todo.clear()
            if self.down:  # nobody stops with the button held
                self.todo.append(self.hand.press("take", False))
        elif do == "click":
            self.todo.append(self.hand.click(order["button"]))
        elif do == "temperature":
            self.temperature_c = float(order["c"])
            self.news += self.greeting()
        else:
            return self.told(do, order)
        return None


async def serve(stand_in: StandIn, port: int, control_port: int) -> None:
    """Until cancelled, on loopback only."""
    await asyncio.start_server(stand_in.serve_link, "127.0.0.1", port)
    await asyncio.start_server(stand_in.serve_control, "127.0.0.1", control_port, limit=LONGEST_ORDER)
    await stand_in.stream()
