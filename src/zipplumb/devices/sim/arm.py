"""The stand-in arm as a process: streams poses, and does what its control port asks.

``zip-plumb sim --real real.json --port 7301 --control 7302``
"""

from __future__ import annotations

import asyncio
import json
import logging
import time
import uuid
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from ...core.frames import Motion, perpendicular_pair, unit
from ..protocol import VERSION, encode
from .hand import Hand, Sample
from .real_part import RealFace

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Truth:
    """What only the stand-in knows. ``offset_mm`` is the true tip in the last axis."""

    offset_mm: tuple[float, float, float]
    tip_radius_mm: float
    noise_mm: float
    temperature_c: float
    world_from_part: Motion
    faces: dict[int, RealFace]
    sha256: str

    @classmethod
    def read(cls, path: Path) -> Truth:
        raw = json.loads(path.read_text())
        motion = Motion.from_quaternion(raw["world_from_part"]["quaternion"], raw["world_from_part"]["translation_mm"])
        return cls(
            tuple(raw["offset_mm"]), raw["tip_radius_mm"], raw["noise_mm"], raw["temperature_c"], motion,
            _faces(raw["faces"]), raw["sha256"],
        )  # fmt: skip


def _faces(raw: list[dict]) -> dict[int, RealFace]:
    return {f["index"]: RealFace.from_dict(f) for f in raw}


class SimulatedArm:
    """Serves one link at a time, and any number of hands on the control port."""

    def __init__(self, truth: Truth, rate_hz: float = 100.0, pace: float = 1.0, seed: int = 7):
        self.truth, self.rate = truth, rate_hz
        self.random = np.random.default_rng(seed)
        self.session = uuid.uuid4().hex
        self.faces, self.part = truth.faces, truth.sha256
        self.hand = Hand(truth.tip_radius_mm, rate_hz, pace, self.random)
        self.todo: list[Iterator[Sample]] = []
        self.last_face: RealFace | None = None
        self.plugged = True
        self.send_nan = False
        self.n = self.presses = 0
        self.unanswered: dict[int, bytes] = {}
        self.link: asyncio.StreamWriter | None = None

    # ---- what the link sees -------------------------------------------------------------

    async def serve_link(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        if not self.plugged:
            writer.close()
            return
        if self.link is not None:
            self.link.close()
        self.link = writer
        writer.write(
            encode(t="hello", protocol=VERSION, session=self.session, kind="arm", model="Stand-in arm, 7 axes",
                   serial="SIM-0001", rate_hz=self.rate)
        )  # fmt: skip
        writer.write(encode(t="state", temperature_c=self.truth.temperature_c))
        for message in self.unanswered.values():
            writer.write(message)
        try:
            while line := await reader.readline():
                answer = json.loads(line)
                if answer.get("t") == "done":
                    self.unanswered.pop(answer["e"], None)
        except (ConnectionError, ValueError):
            pass
        finally:
            if self.link is writer:
                self.link = None
            writer.close()

    def _pose(self, sample: Sample) -> dict:
        """The last axis for a tip: the probe points along its own z, rolled as it comes."""
        inward = unit(sample.inward)
        u, v = perpendicular_pair(inward)
        part_from_axis = np.column_stack([u, v, inward])
        rotation = self.truth.world_from_part.rotation @ part_from_axis
        tip = self.truth.world_from_part.points(sample.tip)
        place = tip - rotation @ np.array(self.truth.offset_mm) + self.random.normal(0, self.truth.noise_mm, 3)
        return {"n": self.n, "at": round(time.time(), 4), "p": [round(float(x), 5) for x in place], "q": _quaternion(rotation)}

    async def stream(self) -> None:
        due = time.perf_counter()
        while True:
            due += 1 / self.rate
            await asyncio.sleep(max(0.0, due - time.perf_counter()))
            self.n += 1
            sample = self._next()
            pose = self._pose(sample)
            if self.send_nan:
                pose["p"][0], self.send_nan = float("nan"), False
            messages = [encode(t="pose", **pose)]
            if sample.press:
                self.presses += 1
                name, down = sample.press
                message = encode(t="button", e=self.presses, name=name, down=down, **pose)
                self.unanswered[self.presses] = message
                messages.append(message)
            if self.n % int(5 * self.rate) == 0:
                messages.append(encode(t="state", temperature_c=self.truth.temperature_c))
            self._send(messages)

    def _send(self, messages: list[bytes]) -> None:
        if self.link is None or not self.plugged:
            return
        try:
            self.link.write(b"".join(messages))
        except ConnectionError:
            self.link = None

    def _next(self) -> Sample:
        while self.todo:
            sample = next(self.todo[0], None)
            if sample is not None:
                return sample
            self.todo.pop(0)
        return Sample(self.hand.tip, self.hand.inward)

    # ---- what the hand is told ----------------------------------------------------------

    async def serve_control(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while line := await reader.readline():
                try:
                    self._told(json.loads(line))
                    answer: dict = {"ok": True}
                except (KeyError, ValueError, TypeError, IndexError) as error:
                    answer = {"ok": False, "why": f"The stand-in cannot do that: {error}"}
                answer |= {"busy": len(self.todo), "plugged": self.plugged, "part": self.part}
                writer.write((json.dumps(answer) + "\n").encode())
                await writer.drain()
        except ConnectionError:
            pass
        finally:
            writer.close()

    def _told(self, order: dict) -> None:
        do = order["do"]
        if do == "ask":
            return
        if do in ("unplug", "plug"):
            self.plugged = do == "plug"
            if not self.plugged and self.link is not None:
                self.link.close()
                self.link = None
        elif do == "part":
            self.part = order["sha256"]
            self.faces = self.truth.faces if self.part == self.truth.sha256 else _faces(order["faces"])
        elif do == "nan":
            self.send_nan = True
        elif do == "stop":
            self.todo.clear()
        elif do == "click":
            self.todo.append(self.hand.click(order["button"]))
        elif do == "pull_off":
            if self.last_face is not None:
                self.todo.append(self.hand.go_off(self.last_face, order.get("wrong", False)))
        else:
            self._touch(do, order)

    def _touch(self, do: str, order: dict) -> None:
        face = self.faces[int(order["face"])]
        self.last_face = face
        if do == "touch_at":
            self.todo.append(self.hand.hits(face, [np.array(order["point"], float)]))
            return
        spots = [face.spots[k] for k in face.spread(int(order.get("hits", 4)), self.random)]
        if not spots:
            raise ValueError("that face is too small to touch")
        if do == "touch":
            self.todo.append(self.hand.hits(face, spots))
        elif do == "clumsy":
            self.todo.append(self.hand.hits(face, spots[:1], slip_mm=0.6))
        elif do == "sweep":
            self.todo.append(self.hand.sweep(face, spots))
        else:
            raise ValueError(f"“{do}” is not known")


def _quaternion(rotation: np.ndarray) -> list[float]:
    x, y, z, w = Rotation.from_matrix(rotation).as_quat()
    return [round(float(v), 9) for v in (w, x, y, z)]


async def run(truth: Truth, port: int, control_port: int, rate_hz: float, pace: float) -> None:
    """Serve until cancelled, on loopback only."""
    arm = SimulatedArm(truth, rate_hz, pace)
    await asyncio.start_server(arm.serve_link, "127.0.0.1", port)
    await asyncio.start_server(arm.serve_control, "127.0.0.1", control_port)
    await arm.stream()
