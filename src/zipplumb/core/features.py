"""Feature: a shape with its uncertainty by source and its extent, whether measured, constructed or nominal."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from .fitting import FitResult
from .fitting.placed import MOVES
from .frames import Array, Motion, cross, perpendicular_pair
from .kernels import rotation
from .shapes import BaseShape, Cone, Line, Plane
from .uncertainty import STEP, Source, Uncertainty, exact

CORNERS = 64  # of what was read, kept to tell its extent
UNSAID = exact(0)
UNTURNED = np.eye(3)
TURNED = Rotation.from_rotvec(np.kron(STEP * np.eye(3), [[1.0], [-1.0]])).as_matrix()  # to the one and the other side
NUDGED = 256


def sizes_of(shape: Any) -> tuple[str, ...]:
    """Names of a shape's sizes."""
    return shape.sizes_


@dataclass(frozen=True, eq=False)
class Feature:
    """A shape, how it may differ from the truth, and how far it reaches.

    Attributes
    ----------
    local : Motion
        Axes in which it may be shifted and turned a little.
    uncertainty : Uncertainty
        Of shifts x y z (mm) and turns rx ry rz (rad) in ``local`` axes, then of its s sizes.
        A nominal feature is exact; left out, so is this.
    extent : (m, 3) points on the shape that bound what was read, or None
    """

    name: str
    shape: Any
    local: Motion = field(default_factory=Motion.identity)
    uncertainty: Uncertainty = UNSAID
    extent: Array | None = None

    def __post_init__(self):
        if self.uncertainty is UNSAID:
            object.__setattr__(self, "uncertainty", exact(6 + len(sizes_of(self.shape))))

    @classmethod
    def known(cls, name: str, shape: Any, local: Motion, covariance: Array, extent: Array | None = None) -> Feature:
        """With a covariance (6 + s, 6 + s) that is all its own."""
        return cls(name, shape, local, Uncertainty.of_covariance(Source("feature", name), covariance), extent)

    @classmethod
    def of_fit(cls, name: str, result: FitResult, u_hit_mm: float | None = None, whose: int | str | None = None) -> Feature:
        """From a fit; ``u_hit_mm`` instead of the residuals' own scatter where it is known.

        The source is the hits of ``whose`` (by default of its name). A 2D shape also carries the
        uncertainty of the plane that it lies in, from the hits of that plane.
        """
        source = Source("hits", name if whose is None else whose)
        spread = result.covariance if u_hit_mm is None else result.unit_covariance * u_hit_mm**2
        found = widened(result, Uncertainty.of_covariance(source, spread))
        plane = result.lies_in
        if plane is not None:
            same = plane.points is result.points
            carried = widening(plane, 6 + len(sizes_of(result.shape)))
            carried[:6] = carried_moves(plane.local, result.local) @ carried[:6]
            leaning = plane.unit_covariance * u_hit_mm**2 if same and u_hit_mm is not None else plane.covariance
            other = Source(source.what, f"plane of {source.whose}")
            found = found + Uncertainty.of_covariance(other, leaning).through(carried)
        return cls(name, result.shape, result.local, found, extent_of(result, result.shape, _as_fitted))

    @property
    def covariance(self) -> Array:
        """(6 + s, 6 + s) from all sources."""
        return self.uncertainty.covariance

    def moved(self, motion: Motion) -> Feature:
        extent = None if self.extent is None else motion.points(self.extent)
        return replace(self, shape=self.shape.moved(motion), local=motion @ self.local, extent=extent)

    def told_in(self, local: Motion) -> Feature:
        """The feature with its uncertainty expressed in other axes."""
        into = np.eye(self.uncertainty.size)
        into[:6, :6] = carried_moves(self.local, local)
        return replace(self, local=local, uncertainty=self.uncertainty.through(into))

    @property
    def nudged(self) -> tuple[tuple[Any, Any], ...]:
        """For each parameter, the shape a small step (STEP) to the one and to the other side: for central differences."""
        return _nudged(self)

    def in_system(self, motion: Motion, scale: float) -> Feature:
        """The feature scaled about the origin and then moved; the last result is cached."""
        kept: tuple[Motion, float, Feature] | None = self.__dict__.get("_in_system")
        if kept is None or kept[0] is not motion or kept[1] != scale:
            shape = self.shape if scale == 1.0 else self.shape.scaled(scale)
            local = Motion(self.local.rotation, scale * self.local.translation)
            extent = None if self.extent is None else motion.points(scale * self.extent)
            found = Feature(self.name, shape.moved(motion), motion @ local, self.uncertainty, extent)
            kept = motion, scale, found
            object.__setattr__(self, "_in_system", kept)
        return kept[2]

    @cached_property
    def from_origin(self) -> Array:
        """(6, 6): transforms a small translation and rotation in its own axes to one about the origin."""
        return carried_moves(self.local, Motion.identity())

    def stepped(self, step: Array) -> Any:
        """The shape after small shifts, turns and changes of size (6 + s,)."""
        turn, at = self.local.rotation, self.local.translation
        if step[3:6].any():
            turned = turn @ rotation(*step[3:6]) @ turn.T
            shape = self.shape.moved(Motion(turned, at - turned @ at + turn @ step[:3]))
        else:
            shape = self.shape.moved(Motion(UNTURNED, turn @ step[:3]))
        sizes = sizes_of(shape)
        return shape.resized(dict(zip(sizes, step[6:].tolist(), strict=True))) if sizes else shape

    def drawn(self, random: np.random.Generator) -> Any:
        """A shape drawn at random from what this one may be."""
        step = np.zeros(self.uncertainty.size)
        for term in self.uncertainty.by_source.values():
            step += term @ random.normal(size=term.shape[1])
        return self.stepped(step)


@lru_cache(NUDGED)
def _nudged(feature: Feature) -> tuple[tuple[Any, Any], ...]:
    """Kept of the features that were used last: one is judged in many ways, and rests in many rows."""
    shape, turn, at = feature.shape, feature.local.rotation, feature.local.translation
    turned = turn @ TURNED @ turn.T
    moved = at - turned @ at
    slides = [(shape.slid(by), shape.slid(-by)) for by in STEP * turn.T]
    turns = [tuple(shape.moved(Motion(turned[k], moved[k])) for k in (two, two + 1)) for two in (0, 2, 4)]
    sizes = [(shape.resized({name: STEP}), shape.resized({name: -STEP})) for name in sizes_of(shape)]
    return *slides, *turns, *sizes  # type: ignore[return-value]


def widening(result: FitResult, size: int | None = None) -> Array:
    """(size, k): six moves and the shape's sizes from the fit's free parameters, in the fit's own axes."""
    names = (*MOVES, *sizes_of(result.shape))
    into = np.zeros((size or len(names), len(result.parameters)))
    for k, parameter in enumerate(result.parameters):
        if isinstance(result.shape, Cone) and parameter == "radius":
            # a cone has no radius of its own: at the fit's origin it is a slide of the apex
            into[2, k] = -1 / np.tan(result.shape.half_angle)
        elif isinstance(result.shape, Cone) and parameter == "half_angle":
            height = np.linalg.norm(result.local.translation - result.shape.apex)
            into[names.index(parameter), k] = 1.0
            into[2, k] = height / (np.sin(result.shape.half_angle) * np.cos(result.shape.half_angle))
        else:
            into[names.index(parameter), k] = 1.0
    return into


def widened(result: FitResult, parameters: Uncertainty) -> Uncertainty:
    """Uncertainty over all six moves and the sizes, from that over the free parameters."""
    return parameters.through(widening(result))


def carried_moves(first: Motion, second: Motion) -> Array:
    """(6, 6): transforms a small translation and rotation from the first axes to the second."""
    turn = second.rotation.T @ first.rotation
    x, y, z = (first.rotation.T @ (second.translation - first.translation)).tolist()
    into = np.zeros((6, 6))
    into[:3, :3] = into[3:, 3:] = turn
    into[:3, 3:] = turn @ np.array([[0.0, z, -y], [-z, 0.0, x], [y, -x, 0.0]])
    return into


def center_covariance(feature: Feature) -> Array:
    """Covariance (3, 3) of a feature's center, in the feature's frame."""
    x, y, z = feature.local.inverse().points(spot_of(feature.shape))
    lever = np.array([[0.0, z, -y], [-z, 0.0, x], [y, -x, 0.0]])
    into = feature.local.rotation @ np.hstack([np.eye(3), lever])
    return into @ feature.covariance[:6, :6] @ into.T


def _as_fitted(result: FitResult, _: Any) -> Array:
    return result.points


def extent_of(result: FitResult, shape: Any, touched: Callable[[FitResult, Any], Array]) -> Array | None:
    """Where it was touched farthest apart: both ends along an axis, or corners (n, 3) on a plane; None of other shapes.

    ``shape``: that under the fitted one; ``touched``: the places on it.
    """
    axis = axis_of(shape)
    if axis is None and not isinstance(shape, Plane):
        return None
    points = touched(result, shape)
    if axis is not None:
        along = (points - axis.point) @ axis.direction
        return axis.point + np.outer([along.min(), along.max()], axis.direction)
    flat = points - np.outer(shape.distance(points), shape.normal)
    local = (flat - shape.point) @ result.local.rotation[:, :2]
    turn = np.arange(CORNERS) * 2 * np.pi / CORNERS
    farthest = np.argmax(np.column_stack([np.cos(turn), np.sin(turn)]) @ local.T, axis=1)
    return flat[np.unique(farthest)]


# ---- what a shape can stand for; nothing where there is no shape ------------------------------


def point_of(shape: Any) -> Array | None:
    """The point that a shape stands for: its center, where it has one."""
    return None if shape is None else shape.as_point


def stands_somewhere(shape_type: type[BaseShape]) -> bool:
    """Whether a shape of that type stands for one place: a center, or where a plane was touched."""
    return bool(shape_type.center_) or issubclass(shape_type, Plane)


def standing_place(shape: Any) -> Array:
    """The place that such a shape stands for."""
    plane = shape.as_plane
    return plane.point if plane is not None else center_point(shape)


def _there(found: Any, what: str) -> Any:
    if found is None:
        raise TypeError(f"the shape has no {what}")
    return found


def center_point(shape: Any) -> Array:
    """The center of a shape. Raises TypeError if it has none."""
    return _there(point_of(shape), "center")


def axis_line(shape: Any) -> Line:
    """The axis of a shape that surely has one."""
    return _there(axis_of(shape), "axis")


def own_direction(shape: Any) -> Array:
    """The direction of a shape that surely has one."""
    return _there(direction_of(shape), "direction")


def spot_of(shape: Any) -> Array:
    """Any place on, or in the middle of, a shape."""
    return shape.spot


def axis_of(shape: Any) -> Line | None:
    """The line that a shape stands for: itself, or its axis."""
    return None if shape is None else shape.as_line


def plane_of(shape: Any) -> Plane | None:
    """The plane of a planar shape; None of others."""
    return None if shape is None else shape.as_plane


def direction_of(shape: Any) -> Array | None:
    """An axis, or a plane's or outline's normal."""
    return None if shape is None else shape.direction_of_it


def ways_of(shape: Any) -> tuple[Array, ...]:
    """The directions of a shape, its axis or normal first, then its long one; none of what is no shape of a kind."""
    there = (shape.direction_of_it, shape.long_direction) if isinstance(shape, BaseShape) else ()
    return tuple(way for way in there if way is not None)


def radius_of(shape: Any) -> float | None:
    """Half the width of something round; 0 for a point."""
    return None if shape is None else shape.as_radius


def frame_of(shape: Any) -> Motion:
    """Axes on a shape: z its axis or normal, x its long direction where it has one."""
    z, x = direction_of(shape), shape.long_direction
    if z is None:
        return Motion(np.eye(3), spot_of(shape))
    u, v = perpendicular_pair(z) if x is None else (x, cross(z, x))
    return Motion.from_axes(u, v, z, spot_of(shape))


def differences(shape: Any, local: Motion) -> Array:
    """How a shape differs (6 + s,) from one whose ``frame_of`` is ``local``; sizes as they are."""
    turn, z, x = local.rotation, direction_of(shape), shape.long_direction
    found = ((spot_of(shape) - local.translation) @ turn).tolist()
    about_y, about_x, _ = (0.0, 0.0, 0.0) if z is None else (z @ turn).tolist()
    about_z = 0.0 if x is None else float(x @ turn[:, 1])
    return np.array([*found, -about_x, about_y, about_z, *(getattr(shape, name) for name in sizes_of(shape))], float)
