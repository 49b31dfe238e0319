"""The hand: turns commands into a path of the tip, sample by sample.

Everything is in part coordinates, mm. A sample is where the tip's center is, which way the
probe points, and what is pressed at that moment.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from ...core.frames import Array, perpendicular_pair, unit
from .bench import Bench
from .real_part import RealFace
from .stand import Stand

CLEAR_MM, LEAST_CLEAR_MM = 22.0, 0.8
TRAVEL_MM_S, APPROACH_MM_S, SWEEP_MM_S = 900.0, 140.0, 120.0
REST_S = 0.08
SCAN_MM_S, SCAN_APART_MM, SCAN_LEAN_DEG = 60.0, 45.0, 35.0


@dataclass(frozen=True, eq=False)
class Sample:
    tip: Array
    inward: Array
    press: tuple[str, bool] | None = None
    roll_rad: float = 0.0


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
        return float(np.clip(0.8 * (face.room_mm - 2 * self.radius), LEAST_CLEAR_MM, CLEAR_MM))

    def go_touch(self, face: RealFace, near: Array, slip_mm: float = 0.0) -> Iterator[Sample]:
        """Into contact; ``slip_mm``: pressed into (or short of) the surface, as a clumsy hand does."""
        surface, outward = face.touch(near)
        center = surface + (self.radius + slip_mm) * outward
        self.contact = (center, outward)
        lean = unit(-outward + 0.35 * self.random.normal(size=3))
        clear = self._clearance(face)
        yield from self._glide(center + clear * outward + self.random.normal(0, min(0.8, 0.1 * clear), 3), lean, TRAVEL_MM_S)
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

    # ---- at the bench; everything of it is told in the arm's frame ------------------------

    def _lean(self, degrees: float, way: float, seat: Array) -> Array:
        """Where the probe points, leaning toward a way (rad): 0 away from the arm, + to its left."""
        away = unit(np.array([seat[0], seat[1], 0.0]))
        out = np.cos(way) * away + np.sin(way) * np.array([-away[1], away[0], 0.0])
        return -(np.cos(np.radians(degrees)) * np.array([0, 0, 1.0]) + np.sin(np.radians(degrees)) * out)

    def _above(self, place: Array, part: Stand, inward: Array, by: float = 60.0) -> Iterator[Sample]:
        yield from self._glide(part.points(place + [0, 0, by]), part.vectors(inward), TRAVEL_MM_S)

    def swing(self, seat: Array, part: Stand, way: int, how: str) -> Iterator[Sample]:
        """Into the seat, and with the button held from upright down to 45° and back; or a roll of the handle.

        ``part``: part_from_base. ``how``: swing, roll, or slip: the ball leaves its seat half way.
        """
        upright, tip = self._lean(3, 0, seat), part.points(seat)
        if np.linalg.norm(self.tip - tip) > 1e-6:
            yield from self._above(seat, part, upright)
        yield from self._glide(tip, part.vectors(upright), APPROACH_MM_S)
        yield from self.rest(0.2)
        yield from self.press("take", True)
        steps = max(120, int(3.2 * self.rate / self.pace))
        for k in range(1, steps + 1):
            share = k / steps
            degrees = 3 + 43 * np.sin(np.pi * share) if how != "roll" else 9.0
            inward = part.vectors(self._lean(degrees, way * 2 * np.pi / 3 + 0.08 * np.sin(5 * share), seat))
            out = (
                np.array([7.0, -4.0, 5.0]) * np.sin(np.pi * min(1.0, max(0.0, (share - 0.55) / 0.3))) if how == "slip" else 0.0
            )
            self.tip, self.inward = tip + part.vectors(np.zeros(3) + out), inward
            yield Sample(self.tip, inward, roll_rad=np.radians(110) / steps if how == "roll" else 0.0)
        yield from self.press("take", False)
        yield from self.rest()

    def round_sphere(self, bench: Bench, part: Stand, count: int) -> Iterator[Sample]:
        """Hits all round the sphere but its stem, the handle leaned and rolled differently."""
        center, far = np.array(bench.sphere), bench.sphere_mm / 2 + self.radius
        k = np.arange(count)
        height = -0.55 + 1.5 * (k + 0.5) / count
        turn = k * np.pi * (3 - np.sqrt(5))
        flat = np.sqrt(1 - np.minimum(height, 0.999) ** 2)
        normals = np.column_stack([flat * np.cos(turn), flat * np.sin(turn), np.minimum(height, 0.999)])
        for normal in normals:
            inward = -unit(unit(normal + [0, 0, 0.8]) + 0.25 * self.random.normal(size=3))
            roll = float(self.random.uniform(-0.5, 0.5))
            yield from self._glide(part.points(center + (far + 14) * normal), part.vectors(inward), TRAVEL_MM_S)
            yield Sample(self.tip, self.inward, roll_rad=roll)
            yield from self._glide(part.points(center + far * normal), part.vectors(inward), APPROACH_MM_S)
            yield from self.rest(0.04)
            yield from self.click("take")
            yield from self._glide(part.points(center + (far + 14) * normal), part.vectors(inward), 2 * APPROACH_MM_S)

    def scan_sphere(self, bench: Bench, part: Stand, offset: Array) -> Iterator[Sample]:
        """A scanner passed over the sphere from seven sides, the button held on each pass."""
        center = np.array(bench.sphere)
        for side in range(7):
            inward = self._lean(8.0 if side == 6 else 52.0, side * np.pi / 3, center)
            across = perpendicular_pair(inward)[0]
            # what is placed is the scanner's own place; it looks along the probe from 100 mm
            ends = [part.points(center - 100 * inward + s * 16 * across) for s in (-1, 1)]
            yield from self._glide(ends[0], part.vectors(inward), TRAVEL_MM_S)
            yield Sample(self.tip, self.inward, roll_rad=0.35 * (side % 3 - 1))
            yield from self.press("take", True)
            yield from self._glide(ends[1], part.vectors(inward), 20.0 / max(1.0, self.pace / 4))
            yield from self.press("take", False)

    def scan_face(
        self,
        face: RealFace,
        side: int,
        away_mm: float,
        lines_mm: float | None = None,
        about: tuple[Array, float] | None = None,
    ) -> Iterator[Sample]:
        """A scanner passed over a face, there and across, the button held on each pass.

        ``side``: 0 squarely, 1 to 4 leaning to one of four sides; ``away_mm``: the scanner's own place above the face;
        ``lines_mm``: from line to line; left out, as it comes at the hand's pace; ``about``: only so far round a place.
        """
        out = face.outward.mean(axis=0)
        out = unit(out) if np.linalg.norm(out) > 0.3 else np.array([0, 0, 1.0])  # into what closes round, from above
        spots = face.spots
        if about is not None:
            spots = spots[np.linalg.norm(spots - about[0], axis=1) < about[1]]
        yield from self.scan_over(spots, out, side, away_mm, lines_mm)

    def scan_over(self, spots: Array, out: Array, side: int, away_mm: float, lines_mm: float | None = None) -> Iterator[Sample]:
        """The same over some places (n, 3), looking against ``out``."""
        u, v = perpendicular_pair(out)
        turn = (side - 1) * np.pi / 2
        lean = np.radians(SCAN_LEAN_DEG) if side else 0.0
        back = np.cos(lean) * out + np.sin(lean) * (np.cos(turn) * u + np.sin(turn) * v)
        middle = spots.mean(axis=0)
        flat = (spots - middle) @ np.column_stack([u, v])
        _, axes = np.linalg.eigh(np.cov(flat.T) + 1e-9 * np.eye(2))
        for along, across in ((axes[:, 1], axes[:, 0]), (axes[:, 0], axes[:, 1])):
            reach, wide = flat @ along, flat @ across
            for at in np.linspace(wide.min(), wide.max(), int(np.ceil(np.ptp(wide) / SCAN_APART_MM)) + 1):
                ends = [
                    middle + (end * along + at * across) @ np.array([u, v]) + away_mm * back
                    for end in (reach.min(), reach.max())
                ]
                yield from self._glide(ends[0], -back, TRAVEL_MM_S)
                yield from self.press("take", True)
                yield from self._glide(ends[1], -back, SCAN_MM_S if lines_mm is None else lines_mm * self.rate / self.pace)
                yield from self.press("take", False)

    def poses_in_seat(self, seat: Array, part: Stand, count: int) -> Iterator[Sample]:
        """The ball in its seat, pressed once from every side."""
        yield from self._above(seat, part, self._lean(5, 0, seat))
        for k in range(count):
            inward = self._lean(8 + 34 * ((k * 0.618) % 1), 2 * np.pi * k / count, seat)
            yield from self._glide(part.points(seat), part.vectors(inward), APPROACH_MM_S)
            yield from self.rest(0.25)
            yield from self.click("take")

    def into_seat(self, seat: Array) -> Array:
        """Where the probe points while its ball is in a seat."""
        return self._lean(12, 0.3, seat)

    def poses_in_seats(self, seats: list[Array], part: Stand) -> Iterator[Sample]:
        """One press in each seat, with a way through the air between them."""
        for seat in seats:
            inward = self.into_seat(seat)
            yield from self._above(seat, part, inward)
            yield from self._glide(part.points(seat), part.vectors(inward), APPROACH_MM_S)
            yield from self.rest(0.15)
            yield from self.click("take")
            yield from self._above(seat, part, inward)
