"""Objects on the bench beside the part: a seat, a reference sphere, a bar with two seats. In the arm's frame, mm."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ...core.frames import Array

CONE_DEG = 45.0
NEST_BALL_MM = 38.1  # published: a 1.5-inch reflector


@dataclass(frozen=True)
class Bench:
    """``seat``: middle of the rim of a bore (diameter ``bore_mm``), or the apex of a cone where that is 0.

    ``bar``: both ends' cone apexes; ``bar_mm`` is what its certificate says of the balls' centers.
    """

    seat: tuple[float, float, float]
    bore_mm: float
    sphere: tuple[float, float, float]
    sphere_mm: float
    bar: tuple[tuple[float, float, float], tuple[float, float, float]]
    bar_mm: float

    def seat_center(self, ball_radius: float) -> Array:
        """Where a ball's center comes to rest. Raises ValueError for one that falls through."""
        if self.bore_mm > 0 and ball_radius > self.bore_mm / 2:
            return np.array(self.seat) + [0, 0, np.sqrt(ball_radius**2 - (self.bore_mm / 2) ** 2)]
        return _in_cone(np.array(self.seat) - [0, 0, 20.0], ball_radius)  # the cone at the bore's bottom

    def end_center(self, k: int, ball_radius: float) -> Array:
        return _in_cone(np.array(self.bar[k]), ball_radius)

    def with_sphere_moved(self) -> Bench:
        x, y, z = self.sphere
        return replace(self, sphere=(x + 0.35, y - 0.2, z))


def center_in_nest(place: Array, ball_radius: float) -> Array:
    """Where a ball's center comes to rest in a nest, computed from that of a 38.1 mm one."""
    return place - [0, 0, (NEST_BALL_MM / 2 - ball_radius) / np.sin(np.radians(CONE_DEG))]


def _in_cone(apex: Array, ball_radius: float) -> Array:
    return apex + [0, 0, ball_radius / np.sin(np.radians(CONE_DEG))]
