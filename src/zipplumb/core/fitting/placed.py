"""A shape as the fits see it: where it stands, and its sizes."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np

from .. import kernels
from ..frames import Array, Indices, Motion, cross
from ..kernels import basis
from ..shapes import Circle, Cone, Cylinder, Ellipse, Plane, Slot, Sphere, Torus

MOVES = ("x", "y", "z", "rx", "ry", "rz")


@dataclass(frozen=True)
class FitFreedom:
    """``moves``: the rigid steps that change a shape; ``sizes``: names; ``flat``: a 2D shape."""

    moves: tuple[str, ...]
    sizes: tuple[str, ...] = ()
    flat: bool = False


FREEDOM = {
    "plane": FitFreedom(("z", "rx", "ry")),
    "circle": FitFreedom(("x", "y"), ("radius",), flat=True),
    "ellipse": FitFreedom(("x", "y", "rz"), ("semi_major", "semi_minor"), flat=True),
    "round_slot": FitFreedom(("x", "y", "rz"), ("length", "width"), flat=True),
    "square_slot": FitFreedom(("x", "y", "rz"), ("length", "width"), flat=True),
    "sphere": FitFreedom(("x", "y", "z"), ("radius",)),
    "cylinder": FitFreedom(("x", "y", "rx", "ry"), ("radius",)),
    "cone": FitFreedom(("x", "y", "rx", "ry"), ("radius", "half_angle")),
    "torus": FitFreedom(("x", "y", "z", "rx", "ry"), ("major_radius", "minor_radius")),
}


@cache
def columns_of(kind: str, held: frozenset[str] = frozenset()) -> Indices:
    """Numbers of the free parameters: 0 to 5 for the moves, 6 and 7 for the sizes."""
    free = [MOVES.index(m) for m in FREEDOM[kind].moves if m not in held]
    return np.array(free + [6 + k for k, s in enumerate(FREEDOM[kind].sizes) if s not in held], np.int64)


def names_of(kind: str, columns: Indices) -> tuple[str, ...]:
    """Names of parameters given by their numbers."""
    return tuple(MOVES[c] if c < 6 else FREEDOM[kind].sizes[c - 6] for c in columns.tolist())


@dataclass(frozen=True, eq=False)
class Placed:
    """``origin`` (3,), ``axes`` (3, 3) as columns, ``sizes`` (2,), the second unused where there is one."""

    kind: str
    origin: Array
    axes: Array
    sizes: Array

    @classmethod
    def of(cls, shape: Any) -> Placed:
        """A plane, or a shape with sizes, as the fits see it."""
        if isinstance(shape, Plane):
            return cls("plane", shape.point, basis(shape.normal), np.zeros(2))
        if isinstance(shape, Circle):
            return cls("circle", shape.center, basis(shape.normal), np.array([shape.radius, 0.0]))
        if isinstance(shape, Sphere):
            return cls("sphere", shape.center, np.eye(3), np.array([shape.radius, 0.0]))
        if isinstance(shape, Cylinder):
            return cls("cylinder", shape.point, basis(shape.direction), np.array([shape.radius, 0.0]))
        if isinstance(shape, Cone):
            return cls("cone", shape.apex, basis(shape.direction), np.array([0.0, shape.half_angle]))
        if isinstance(shape, Torus):
            return cls("torus", shape.center, basis(shape.normal), np.array([shape.major_radius, shape.minor_radius]))
        long = shape.major_direction if isinstance(shape, Ellipse) else shape.direction
        axes = np.ascontiguousarray(np.array([long, cross(shape.normal, long), shape.normal]).T)
        if isinstance(shape, Ellipse):
            return cls("ellipse", shape.center, axes, np.array([shape.semi_major, shape.semi_minor]))
        return cls(f"{shape.ends}_slot", shape.center, axes, np.array([shape.length, shape.width]))

    @property
    def local(self) -> Motion:
        """World from the shape's own axes."""
        return Motion(self.axes, self.origin)

    def _numbers(self) -> tuple[Array, Array, Array]:
        return self.origin, np.ascontiguousarray(self.axes), self.sizes

    def residuals(self, points: Array) -> Array:
        """Signed distances (n,)."""
        return kernels.signed_distances(kernels.CODES[self.kind], points, *self._numbers())

    def rows(self, points: Array, columns: Indices) -> Array:
        """Derivatives (n, k) of the distances by some parameters."""
        return kernels.jacobian_rows(kernels.CODES[self.kind], points, *self._numbers(), columns)

    def gradients(self, points: Array) -> Array:
        """Derivatives (n, 3) of the distances by the points."""
        return kernels.gradients(kernels.CODES[self.kind], points, *self._numbers())

    def stepped(self, step: Array, columns: Indices) -> Placed:
        """After a small shift and turn in its own axes and a change of its sizes."""
        return Placed(self.kind, *kernels.stepped(*self._numbers(), step, columns))

    def settled(
        self, points: Array, columns: Indices, offset: float = 0.0, loose: float = 1e-11, iterations: int = 200
    ) -> tuple[Placed, Array, bool, float]:
        """The least-squares shape near this one, its normal matrix, whether it came to rest, and its sum of squares."""
        code = kernels.CODES[self.kind]
        *found, cost, normal, rest = kernels.descend(code, points, *self._numbers(), columns, offset, loose, iterations)
        return Placed(self.kind, *found), normal, rest, cost

    def shape(self) -> Any:
        """The shape, with the sense of its axis as it is."""
        origin, x, _, z = self.origin, *self.axes.T
        first, second = (float(s) for s in self.sizes)
        if self.kind == "plane":
            return Plane(origin, z)
        if self.kind == "circle":
            return Circle(origin, z, first)
        if self.kind == "sphere":
            return Sphere(origin, first)
        if self.kind == "cylinder":
            return Cylinder(origin, z, first)
        if self.kind == "cone":
            return Cone(origin - z * first / np.tan(second), z, second)
        if self.kind == "torus":
            return Torus(origin, z, first, second)
        if self.kind == "ellipse":
            return Ellipse(origin, z, x, first, second)
        return Slot(origin, z, x, first, second, "round" if self.kind == "round_slot" else "square")
