"""Objects on the bench beside the part: a seat, a reference sphere, a bar with two seats. In the arm's frame, mm."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ...core.frames import Array, Motion
from ...core.stripes import Packed

FAN_RAD, RAYS = 0.14, 181
NEAR_MM, FAR_MM = 60.0, 160.0
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


def scanned(bench: Bench, base_from_scanner: Motion, random: np.random.Generator, noise_mm: float) -> Packed:
    """One line of light over the sphere, in the scanner's plane, with noise; the brighter the more squarely it is met."""
    center, radius = base_from_scanner.inverse().points(bench.sphere), bench.sphere_mm / 2
    fan = np.linspace(-FAN_RAD, FAN_RAD, RAYS)
    rays = np.column_stack([np.sin(fan), np.zeros(RAYS), np.cos(fan)])
    along = rays @ center
    inside = along**2 - (center @ center - radius**2)
    hit = inside > 0
    far = along[hit] - np.sqrt(inside[hit])
    seen = (far > NEAR_MM) & (far < FAR_MM)
    met = (far[:, None] * rays[hit])[seen]
    squarely = np.abs(np.einsum("ij,ij->i", rays[hit][seen], (met - center) / radius))
    places = met[:, [0, 2]] + random.normal(0, noise_mm, (len(met), 2))
    return np.column_stack([places, squarely]).astype(np.float32)
