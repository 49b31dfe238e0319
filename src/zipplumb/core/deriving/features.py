"""Features that constructions are made of, and how their uncertainty goes through.

Source: JCGM 100 (GUM), linear propagation. The derivatives are central differences over the
parameters of each feature's own fit, in its own local axes, so that every construction has its
uncertainty without a formula of its own.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ..fitting import FitResult
from ..fitting.descent import MOVES, small_rotation
from ..frames import Array, Motion
from ..shapes import Circle, Cone, Cylinder, Ellipse, Line, Plane, Point, Slot, Sphere, Torus

STEP = 1e-5


@dataclass(frozen=True, eq=False)
class Feature:
    """A shape with the covariance of its parameters (shifts, turns, sizes) in local axes.

    A nominal feature has no parameters: it is exact.
    """

    name: str
    shape: Any
    local: Motion = field(default_factory=Motion.identity)
    parameters: tuple[str, ...] = ()
    covariance: Array = field(default_factory=lambda: np.empty((0, 0)))

    @classmethod
    def of_fit(cls, name: str, result: FitResult, u_hit_mm: float | None = None) -> Feature:
        """From a fit; ``u_hit_mm`` instead of the residuals' own scatter where it is known."""
        covariance = result.covariance if u_hit_mm is None else result.unit_covariance * u_hit_mm**2
        return cls(name, result.shape, result.local, result.parameters, covariance)

    def moved(self, motion: Motion) -> Feature:
        return replace(self, shape=self.shape.moved(motion), local=motion @ self.local)

    def changed(self, parameter: str, by: float) -> Any:
        """The shape with one parameter changed a little."""
        if parameter not in MOVES:
            return _resized(self.shape, parameter, by)
        step = np.zeros(6)
        step[MOVES.index(parameter)] = by
        small = Motion(small_rotation(*step[3:]), step[:3])
        return self.shape.moved(self.local @ small @ self.local.inverse())


def _resized(shape: Any, parameter: str, by: float) -> Any:
    if isinstance(shape, Cone) and parameter == "radius":  # at the fit's origin: the apex gives way
        return replace(shape, apex=shape.apex - shape.direction * by / np.tan(shape.half_angle))
    return replace(shape, **{parameter: getattr(shape, parameter) + by})


def propagate(function: Callable[..., Array], features: Sequence[Feature]) -> tuple[Array, Array]:
    """Values (k,) of ``function(*shapes)`` and their covariance (k, k)."""
    shapes = [f.shape for f in features]
    values = np.atleast_1d(np.asarray(function(*shapes), float))
    covariance = np.zeros((len(values), len(values)))
    for i, feature in enumerate(features):
        columns = []
        for parameter in feature.parameters:
            ends = []
            for by in (STEP, -STEP):
                changed = [*shapes[:i], feature.changed(parameter, by), *shapes[i + 1 :]]
                ends.append(np.atleast_1d(np.asarray(function(*changed), float)))
            columns.append((ends[0] - ends[1]) / (2 * STEP))
        if columns:
            jacobian = np.column_stack(columns)
            covariance += jacobian @ feature.covariance @ jacobian.T
    return values, covariance


# ---- what a shape can stand for -------------------------------------------------------------


def point_of(shape: Any) -> Array | None:
    """The point that a shape stands for: its center, where it has one."""
    if isinstance(shape, Point):
        return shape.position
    return shape.center if isinstance(shape, Sphere | Circle | Ellipse | Slot | Torus) else None


def axis_of(shape: Any) -> Line | None:
    """The line that a shape stands for: itself, or its axis."""
    if isinstance(shape, Line):
        return shape
    if isinstance(shape, Cylinder):
        return Line(shape.point, shape.direction)
    if isinstance(shape, Cone):
        return Line(shape.apex, shape.direction)
    return None


def plane_of(shape: Any) -> Plane | None:
    """The plane that a shape stands for."""
    return shape if isinstance(shape, Plane) else None


def direction_of(shape: Any) -> Array | None:
    """An axis, or a plane's or outline's normal."""
    axis = axis_of(shape)
    if axis is not None:
        return axis.direction
    return getattr(shape, "normal", None)
