"""The parametrisation of a shape for fitting: origin, axes, sizes, and its free parameters."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from typing import Any, Literal

import numpy as np

from .. import kernels
from ..frames import Array, Indices, Motion, cross
from ..kernels import basis
from ..shapes import Circle, Cone, Cylinder, Ellipse, Plane, Slot, Sphere, Torus

MOVES = ("x", "y", "z", "rx", "ry", "rz")


@dataclass(frozen=True)
class FitFreedom:
    """How a kind of shape is fitted.

    ``moves``: the rigid steps that change it; ``sizes``: its sizes, of which a cone's radius is that at the fit's origin;
    ``flat``: a 2D shape; ``at``, ``across``, ``along``: the fields of the shape that are the origin and the axes z and x of
    the fit; ``make``: the shape of these (origin, z, x and two sizes).
    """

    moves: tuple[str, ...]
    sizes: tuple[str, ...]
    at: str
    across: str
    make: Callable[[Array, Array, Array, float, float], Any]
    along: str = ""
    flat: bool = False

    def placed(self, shape: Any) -> tuple[Array, Array, Array]:
        """Origin (3,), axes (3, 3) as columns, and sizes (2,) of a shape."""
        sizes = [getattr(shape, name, 0.0) for name in self.sizes]
        return getattr(shape, self.at), self._axes(shape), np.array((sizes + [0.0, 0.0])[:2])

    def _axes(self, shape: Any) -> Array:
        if not self.across:
            return np.eye(3)
        z = getattr(shape, self.across)
        if not self.along:
            return basis(z)
        x = getattr(shape, self.along)
        return np.ascontiguousarray(np.array([x, cross(z, x), z]).T)


def _slot(ends: Literal["round", "square"]) -> FitFreedom:
    sizes, moves = ("length", "width"), ("x", "y", "rz")
    return FitFreedom(
        moves, sizes, "center", "normal", lambda o, z, x, a, b: Slot(o, z, x, a, b, ends), along="direction", flat=True
    )


FREEDOM = {
    "plane": FitFreedom(("z", "rx", "ry"), (), "point", "normal", lambda o, z, *_: Plane(o, z)),
    "circle": FitFreedom(("x", "y"), ("radius",), "center", "normal", lambda o, z, x, r, _: Circle(o, z, r), flat=True),
    "ellipse": FitFreedom(
        ("x", "y", "rz"), ("semi_major", "semi_minor"), "center", "normal", Ellipse, along="major_direction", flat=True
    ),
    "round_slot": _slot("round"),
    "square_slot": _slot("square"),
    "sphere": FitFreedom(("x", "y", "z"), ("radius",), "center", "", lambda o, z, x, r, _: Sphere(o, r)),
    "cylinder": FitFreedom(("x", "y", "rx", "ry"), ("radius",), "point", "direction", lambda o, z, x, r, _: Cylinder(o, z, r)),
    "cone": FitFreedom(
        ("x", "y", "rx", "ry"), ("radius", "half_angle"), "apex", "direction",
        lambda o, z, x, r, half: Cone(o - z * r / np.tan(half), z, half),
    ),
    "torus": FitFreedom(
        ("x", "y", "z", "rx", "ry"), ("major_radius", "minor_radius"), "center", "normal",
        lambda o, z, x, ring, tube: Torus(o, z, ring, tube),
    ),
}  # fmt: skip


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
        kind = shape.fits_as
        return cls(kind, *FREEDOM[kind].placed(shape))

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
        x, _, z = self.axes.T
        first, second = self.sizes.tolist()
        return FREEDOM[self.kind].make(self.origin, z, x, first, second)
