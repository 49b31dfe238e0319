"""The hand: turns what it is told to do into a path of the tip, sample by sample.

Everything is in part coordinates, mm. A sample is where the tip's center is, which way the
probe points, and what is pressed at that moment.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ...core.frames import Array, unit
from .real_part import RealFace

CLEAR_MM = 22.0
TRAVEL_MM_S, APPROACH_MM_S, SWEEP_MM_S = 900.0, 140.0, 120.0
REST_S = 0.08


@dataclass(frozen=True, eq=False)
class Sample:
    tip: Array
    inward: Array
    press: tuple[str, bool] | None = None


class Hand:
    """Moves as a hand does: through the air, in, contact, take, out."""

    def __init__(self, tip_radius_mm: float, rate_hz: float, pace: float, random: np.random.Generator):
        self.radius, self.rate, self.pace, self.random = tip_radius_mm, rate_hz, pace, random
        self.tip = np.array([0.0, -400.0, 400.0])
        self.inward = unit([0.3, 1.0, -0.6])
        self.contact: tuple[Array, Array] | None = None

    def _glide(self, to: Array, inward: Array, speed: float) -> Iterator[Sample]:
        start, start_inward = self.tip, self.inward
        seconds = np.linalg.norm(to - start) / (speed * self.pace)
        steps = max(1, int(np.ceil(seconds * self.rate)))
        for k in range(1, steps + 1):
            share = k / steps
            easy = share * share * (3 - 2 * share)
            self.tip = start + easy * (to - start)
            mixed = start_inward + easy * (inward - start_inward)
            self.inward = unit(mixed) if np.linalg.norm(mixed) > 1e-6 else inward
            yield Sample(self.tip, self.inward)

    def rest(self, seconds: float = REST_S) -> Iterator[Sample]:
        for _ in range(max(1, int(seconds * self.rate / self.pace))):
            yield Sample(self.tip, self.inward)

    def press(self, name: str, down: bool = True) -> Iterator[Sample]:
        yield Sample(self.tip, self.inward, (name, down))

    def click(self, name: str) -> Iterator[Sample]:
        yield from self.press(name, True)
        yield from self.press(name, False)

    def _clearance(self, face: RealFace) -> float:
        return min(CLEAR_MM, 0.8 * face.radius) if face.kind == "cylinder" and face.inside else CLEAR_MM

    def go_touch(self, face: RealFace, near: Array, slip_mm: float = 0.0) -> Iterator[Sample]:
        """Into contact; ``slip_mm``: pressed into (or short of) the surface, as a clumsy hand does."""
        surface, outward = face.touch(near)
        center = surface + (self.radius + slip_mm) * outward
        self.contact = (center, outward)
        lean = unit(-outward + 0.35 * self.random.normal(size=3))
        clear = self._clearance(face)
        yield from self._glide(center + clear * outward + self.random.normal(0, 0.8, 3), lean, TRAVEL_MM_S)
        yield from self._glide(center, lean, APPROACH_MM_S)
        yield from self.rest()

    def go_off(self, face: RealFace, wrong: bool = False) -> Iterator[Sample]:
        if self.contact is None:
            return
        center, outward = self.contact
        away = -1.0 if wrong else 1.0
        yield from self._glide(center + away * self._clearance(face) * outward, self.inward, 2 * APPROACH_MM_S)
        yield from self.rest()

    def hits(self, face: RealFace, spots: list[Array], slip_mm: float = 0.0) -> Iterator[Sample]:
        for near in spots:
            yield from self.go_touch(face, near, slip_mm)
            yield from self.click("take")
            yield from self.rest(0.04)
            yield from self.go_off(face)

    def sweep(self, face: RealFace, spots: list[Array]) -> Iterator[Sample]:
        """In at the first spot, along the surface to the others with the button held, and off."""
        yield from self.go_touch(face, spots[0])
        yield from self.press("take", True)
        for start, end in pairwise(spots):
            length = np.linalg.norm(end - start)
            steps = max(1, int(length / (SWEEP_MM_S * self.pace) * self.rate))
            for k in range(1, steps + 1):
                surface, outward = face.touch(start + k / steps * (end - start))
                self.tip = surface + self.radius * outward
                self.contact = (self.tip, outward)
                yield Sample(self.tip, self.inward)
        yield from self.press("take", False)
        yield from self.go_off(face)
