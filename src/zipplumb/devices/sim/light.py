"""The stand-in's line scanner: a fan of rays, and what comes back of them from what lies before the arm."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...core.frames import Array, Motion
from ...core.stripes import Packed
from .bench import Bench
from .stand import Stand

STEEPEST_DEG = 75.0  # of slant: beyond it nothing comes back
NOISE_MM = 0.02  # of what is met squarely
JUMP_MM, MIXED = 1.0, 0.5  # from one point of a line to the next, and how often light of both comes back as one
DULL, LOST_OF_DULL, NOISIER = 0.15, 0.6, 3.0  # the share of light that a dull place gives back, of points lost, of noise
DULL_BAND, DULL_AT = 0.08, 0.7  # of the part's length: how wide the band that reflects badly is, and where its middle is
Flags = NDArray[np.bool_]
TABLE_MM, CLAMP_MM = 150.0, (60.0, 40.0, 25.0)  # beyond the part on each side; two of them


@dataclass(frozen=True)
class LineScanner:
    """As its maker states: the clear range along the light, the width of the line in its middle, points a line."""

    nearest_mm: float = 70.0
    farthest_mm: float = 150.0
    width_mm: float = 70.0
    points: int = 512

    @cached_property
    def rays(self) -> Array:
        """(n, 3) of length 1, from the scanner's own place."""
        half = np.arctan(self.width_mm / (self.nearest_mm + self.farthest_mm))
        fan = np.linspace(-half, half, self.points)
        return np.column_stack([np.sin(fan), 0 * fan, np.cos(fan)])

    def line(self, lit: Lit, base_from_scanner: Motion, random: np.random.Generator) -> Packed:
        """One line of light (n, 3), its gaps as ``core.stripes`` has them; empty where nothing comes back."""
        start, ways = base_from_scanner.translation, base_from_scanner.vectors(self.rays)
        far, squarely, dull = lit.met(start, ways)
        away = far * self.rays[:, 2]
        seen: Flags = (away > self.nearest_mm) & (away < self.farthest_mm) & (squarely > np.cos(np.radians(STEEPEST_DEG)))
        seen = seen & ~(dull & (random.random(len(far)) < LOST_OF_DULL))
        if not seen.any():
            return np.empty((0, 3), np.float32)
        seen_far = np.where(seen, far, 0.0)
        # at a jump, light of both sides may come back as the last point before it, or as the first after it
        jumps = np.flatnonzero(seen[:-1] & seen[1:] & (np.abs(np.diff(seen_far)) > JUMP_MM))
        at = jumps[random.random(len(jumps)) < MIXED]
        one = at + (random.random(len(at)) < 0.5)
        other = 2 * at + 1 - one
        far = seen_far.copy()
        far[one] = seen_far[one] + random.random(len(at)) * (seen_far[other] - seen_far[one])
        noise = NOISE_MM / np.maximum(squarely, 0.1) * np.where(dull, NOISIER, 1.0)
        far = far + noise * random.normal(size=len(far))
        places = far[:, None] * self.rays[:, [0, 2]]
        brightness = np.clip(squarely * np.where(dull, DULL, 1.0), 0, 1)
        line = np.column_stack([places, brightness]).astype(np.float32)
        line[~seen] = np.nan
        first, last = np.flatnonzero(seen)[[0, -1]]
        line, gap = line[first : last + 1], ~seen[first : last + 1]
        return line[~(gap & np.roll(gap, 1))]  # one point of NaN for each gap


@dataclass(frozen=True, eq=False)
class Lit:
    """What light falls on: the real part where it stands, the table and two clamps that hold it, and the bench's sphere.

    ``triangles`` : (t, 3, 3) in the base's axes; ``dull`` : (t,) those that reflect badly
    """

    triangles: Array
    dull: Flags
    bench: Bench | None

    @classmethod
    def of(cls, part: Array, stand: Stand, bench: Bench | None) -> Lit:
        """``part``: (t, 3, 3) in its own coordinates."""
        if not len(part):  # nothing but what is on the bench
            return cls(np.empty((0, 3, 3)), np.empty(0, bool), bench)
        low, high = part.reshape(-1, 3).min(axis=0), part.reshape(-1, 3).max(axis=0)
        middle = part.mean(axis=1)[:, 0]
        band = np.abs(middle - low[0] - DULL_AT * (high[0] - low[0])) < DULL_BAND / 2 * (high[0] - low[0])
        whole = np.concatenate([part, *_round_about(low, high)])
        placed = stand.points(whole.reshape(-1, 3)).reshape(-1, 3, 3)
        return cls(placed, np.concatenate([band, np.zeros(len(whole) - len(part), bool)]), bench)

    @cached_property
    def mesh(self) -> Any:
        import trimesh

        count = len(self.triangles)
        return trimesh.Trimesh(self.triangles.reshape(-1, 3), np.arange(3 * count).reshape(-1, 3), process=False)

    def met(self, start: Array, ways: Array) -> tuple[Array, Array, Flags]:
        """For rays (n, 3): how far each goes (infinite where it meets nothing), the cosine of its slant, and whether what it
        meets is dull."""
        far, squarely = np.full(len(ways), np.inf), np.zeros(len(ways))
        dull = np.zeros(len(ways), bool)
        if len(self.triangles):
            self._meet_mesh(start, ways, far, squarely, dull)
        if self.bench is not None:
            _meet_sphere(self.bench, start, ways, far, squarely, dull)
        return far, squarely, dull

    def _meet_mesh(self, start: Array, ways: Array, far: Array, squarely: Array, dull: Flags) -> None:
        places, rays, triangles = self.mesh.ray.intersects_location(np.tile(start, (len(ways), 1)), ways, multiple_hits=False)
        far[rays] = np.linalg.norm(places - start, axis=1)
        squarely[rays] = np.abs(np.einsum("ij,ij->i", self.mesh.face_normals[triangles], ways[rays]))
        dull[rays] = self.dull[triangles]


def _meet_sphere(bench: Bench, start: Array, ways: Array, far: Array, squarely: Array, dull: Flags) -> None:
    """The rays that meet the sphere before anything else."""
    center, radius = np.array(bench.sphere) - start, bench.sphere_mm / 2
    along = ways @ center
    inside = along**2 - (center @ center - radius**2)
    hit = (inside > 0) & (along > 0)
    there = np.where(hit, along - np.sqrt(np.maximum(inside, 0)), np.inf)
    nearer = there < far
    far[nearer] = there[nearer]
    out = (there[nearer, None] * ways[nearer] - center) / radius
    squarely[nearer] = np.abs(np.einsum("ij,ij->i", out, ways[nearer]))
    dull[nearer] = False


def _round_about(low: Array, high: Array) -> list[Array]:
    """A table under what lies between two corners, and a clamp on it at either end."""
    x0, y0 = low[:2] - TABLE_MM
    x1, y1 = high[:2] + TABLE_MM
    corners = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])
    flat = np.column_stack([corners, np.full(4, low[2])])
    long, wide, tall = CLAMP_MM
    middle = (low[1] + high[1]) / 2
    ends = (low[0] - long, high[0])  # they touch it from outside, and leave its faces free
    corner, size = np.array([0.0, middle - wide / 2, low[2]]), np.array([long, wide, tall])
    boxes = [_box(corner + [x, 0, 0], corner + [x, 0, 0] + size) for x in ends]
    return [flat[[[0, 1, 2], [0, 2, 3]]], *boxes]


def _box(low: Array, high: Array) -> Array:
    import trimesh

    return np.asarray(trimesh.creation.box(bounds=[low, high]).triangles)
