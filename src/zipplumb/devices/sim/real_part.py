"""The part as it really is. Only the stand-in knows it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ...core.frames import Array, unit
from ...core.shape_codec import shape_from_data
from ...core.spline_surface import SplineSurface

FEET, STEP_MM = 4, 1e-4
BESIDE = 0.05
CLEAR_MM = 6.0  # a hand does not touch nearer to an edge than this, where there is room


@dataclass(frozen=True)
class Ripple:
    """How a free face waves along X and Z of the part: from crest to trough, how long, and the Z of its middle, mm."""

    wave_mm: float
    length_x_mm: float
    length_z_mm: float
    middle_z_mm: float

    def off(self, places: Array) -> Array:
        """(n,) how far the face lies outside what is drawn, at places (n, 3)."""
        x, _, z = places.T
        up = np.cos(2 * np.pi * (z - self.middle_z_mm) / self.length_z_mm)
        return np.asarray(self.wave_mm / 2 * np.sin(2 * np.pi * x / self.length_x_mm) * up)


@dataclass(frozen=True, eq=False)
class RealFace:
    """A face: its true shape, how it waves, and where a hand may touch it.

    ``spots`` (m, 3) and ``outward`` (m, 3) lie on the nominal face, part coordinates, mm. ``shape``: of another than a
    plane or a cylinder, where it is known; an outline stands for the wall along its normal. ``spline``: of a free face,
    from which the real one lies off by ``off_mm``, and waves by ``ripple``. ``room_mm``: the air before it, to what faces it.
    """

    index: int
    kind: str
    point: Array
    axis: Array
    radius: float
    inside: bool
    wave_mm: float
    spots: Array
    outward: Array
    room_mm: float = np.inf
    shape: Any = None
    spline: SplineSurface | None = None
    off_mm: float = 0.0
    ripple: Ripple | None = None

    @classmethod
    def from_dict(cls, raw: dict) -> RealFace:
        arrays = {k: np.array(raw[k], float).reshape(-1, 3) for k in ("spots", "outward")}
        vectors = {k: np.array(raw.get(k) or (0, 0, 1), float) for k in ("point", "axis")}
        return cls(
            raw["index"], raw["kind"], radius=raw.get("radius", 0.0), inside=raw.get("inside", False),
            wave_mm=raw.get("wave_mm", 0.0), shape=shape_from_data(raw["shape"]) if "shape" in raw else None,
            room_mm=raw.get("room_mm", np.inf), off_mm=raw.get("off_mm", 0.0),
            spline=SplineSurface.from_data(raw["spline"]) if "spline" in raw else None,
            ripple=Ripple(**raw["ripple"]) if "ripple" in raw else None, **arrays, **vectors,
        )  # fmt: skip

    @property
    def seen_as(self) -> str:
        """Rough description of a face as seen by a person: size and location along the part's own axes."""
        middle = self.spots.mean(axis=0)
        where = ", ".join(f"{axis} {round(value)}" for axis, value in zip("XYZ", middle.tolist(), strict=True))
        if self.kind == "plane":
            k = int(np.argmax(np.abs(self.axis)))
            return f"flat, facing {'−' if self.axis[k] < 0 else '+'}{'XYZ'[k]}, at {where}"
        if self.kind == "cylinder":
            return f"{'hole' if self.inside else 'round'} ⌀{2 * self.radius:.0f}, at {where}"
        return f"{'curved' if self.shape is None else type(self.shape).__name__.lower()}, at {where}"

    def touch(self, near: Array) -> tuple[Array, Array]:
        """The true surface point and outward normal nearest to a nominal one."""
        places, normals = self._touched(near[None])
        return places[0], normals[0]

    def touch_all(self, near: Array) -> Array:
        """The true surface points (n, 3) nearest to nominal ones."""
        return self._touched(near)[0]

    def _touched(self, near: Array) -> tuple[Array, Array]:
        """Those, and the ways out (n, 3) there."""
        if self.kind == "plane":
            return self._on_plane(near)
        if self.kind == "cylinder":
            return self._on_cylinder(near)
        if self.shape is not None:
            return self._on_shape(near)
        if self.spline is not None:
            return self._on_spline(self.spline, near)
        nearest = np.argmin(np.linalg.norm(self.spots[None] - near[:, None], axis=2), axis=1)
        return near, self.outward[nearest]

    def _on_plane(self, near: Array) -> tuple[Array, Array]:
        normal = unit(self.axis)
        wave = self.wave_mm / 2 * np.sin(near[:, 0] / 45.0) * np.cos(near[:, 1] / 60.0 + near[:, 2] / 50.0)
        return near - ((near - self.point) @ normal - wave)[:, None] * normal, np.tile(normal, (len(near), 1))

    def _on_cylinder(self, near: Array) -> tuple[Array, Array]:
        axis = unit(self.axis)
        rel = near - self.point
        along = (rel @ axis)[:, None] * axis
        radial = unit(rel - along)
        u = unit(np.cross(axis, np.eye(3)[np.argmin(np.abs(axis))]))
        angle = np.arctan2(radial @ np.cross(axis, u), radial @ u)
        radius = self.radius + self.wave_mm / 2 * np.cos(2 * angle)
        return self.point + along + radius[:, None] * radial, -radial if self.inside else radial

    def _on_spline(self, spline: SplineSurface, near: Array) -> tuple[Array, Array]:
        feet, normals = spline.nearest(near)
        off = self.off_mm if self.ripple is None else self.off_mm + self.ripple.off(feet)[:, None]
        return feet + off * normals, normals

    def how_near(self, place: Array) -> float:
        """How far a place is from it, mm: from the surface, and a little of how far it is from where it can be touched."""
        foot, _ = self.touch(place)
        return float(np.linalg.norm(foot - place) + BESIDE * self.beside(place))

    def beside(self, place: Array) -> float:
        """How far a place is from the nearest that can be touched, mm."""
        return float(np.linalg.norm(self.spots - place, axis=1).min()) if len(self.spots) else np.inf

    def _on_shape(self, near: Array) -> tuple[Array, Array]:
        way = np.asarray(getattr(self.shape, "major_direction", np.zeros(3)))  # told by outlines alone
        flat, up = np.eye(3), 0.0 * near
        if way.any():
            normal = self.shape.normal
            flat = flat - np.outer(normal, normal)
            up = ((near - self.shape.center) @ normal)[:, None] * normal
        place, out = near - up, 0.0 * near
        steps = STEP_MM * flat
        for _ in range(FEET):
            ahead, behind = (
                np.stack([self.shape.distance(place + sign * step) for step in steps], axis=1) for sign in (1, -1)
            )  # fmt: skip
            out = unit((ahead - behind) @ flat)
            place = place - self.shape.distance(place)[:, None] * out
        return place + up, -out if self.inside else out

    def spread(self, count: int, random: np.random.Generator) -> list[int]:
        """Spots far from one another, as a careful hand chooses them."""
        chosen = [int(random.integers(len(self.spots)))]
        gap = np.linalg.norm(self.spots - self.spots[chosen[0]], axis=1)
        while len(chosen) < min(count, len(self.spots)):
            chosen.append(int(np.argmax(gap)))
            gap = np.minimum(gap, np.linalg.norm(self.spots - self.spots[chosen[-1]], axis=1))
        return self._in_order(chosen)

    def _in_order(self, chosen: list[int]) -> list[int]:
        """Round the axis, or each to its nearest neighbour."""
        if self.kind == "cylinder":
            u = unit(np.cross(self.axis, np.eye(3)[np.argmin(np.abs(self.axis))]))
            rel = self.spots[chosen] - self.point
            angle = np.arctan2(rel @ np.cross(unit(self.axis), u), rel @ u)
            return [chosen[k] for k in np.argsort(angle)]
        order, rest = [chosen[0]], chosen[1:]
        while rest:
            gaps = [np.linalg.norm(self.spots[k] - self.spots[order[-1]]) for k in rest]
            order.append(rest.pop(int(np.argmin(gaps))))
        return order
