"""Gaussian fits of everything that needs a descent: round, conical, flat outlines.

How we know that the minimum is the global one: for circle, sphere and ellipse the start is
the closed form of nearly the same problem. For cylinder, cone and torus every axis direction
of a half sphere is judged; the descent from the best is believed where it leaves next to
nothing (a shape that fits to a thousandth of its size has no rival), and otherwise a denser
half sphere and more descents decide.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from ..errors import FitError
from ..frames import Array, Motion, perpendicular_pair, unit
from ..shapes import Circle, Cone, Cylinder, Ellipse, Plane, Slot, Sphere, Torus
from .descent import Free, Placed, descend
from .flat import principal_axes
from .models import MODELS
from .result import FitResult, unit_covariance
from .starts import (
    axis_starts,
    circle_start,
    directions_of,
    ellipse_start,
    slot_starts,
    sphere_start,
    thinned,
)  # fmt: skip

MANY = 500  # points that are enough to tell an arc
LOOK = 20  # steps by which a start shows what it is worth
GOOD = 2e-3  # rms by size: so close a fit needs no second opinion
SIZE_NAMES = {"radius", "semi_major", "semi_minor", "length", "width", "half_angle", "major_radius", "minor_radius"}
SPREAD_WORDS = {
    1: ("lie on one straight line", "Take hits off that line."),
    2: ("lie in one plane", "Take hits at different depths."),
}


def fit_solid(kind: str, points: Array, fixed: Mapping[str, Any], hint: Array | None = None) -> FitResult:
    """Gaussian fit of one of MODELS except the plane.

    Parameters
    ----------
    fixed : sizes by their names; ``direction`` (or ``normal``) of the axis; for shapes in a
        projection plane ``normal``, or ``plane``, a Plane in which the shape is to lie.
    hint : (3,) axis direction
        Where few hits allow several shapes, the one nearest to it; its sense is taken over.
    """
    model = MODELS[kind]
    center, spreads, axes = principal_axes(points)
    least_flat = 1 if model.flat else 2
    if spreads[least_flat] <= max(1e-9 * spreads[0], 1e-12) and not (least_flat == 2 and fixed):
        words, todo = SPREAD_WORDS[least_flat]
        raise FitError(f"The hits {words}, which leaves the {_word(kind)} open.", "The hits are kept.", todo)
    if model.flat:
        return _fit_flat(kind, points, fixed, center, axes)
    return _fit_spatial(kind, points, fixed, hint, center, spreads, axes)


def _word(kind: str) -> str:
    return kind.replace("_", " ")


def _with_sizes(kind: str, placed: Placed, fixed: Mapping[str, Any]) -> Placed:
    sizes = placed.sizes.copy()
    for k, name in enumerate(MODELS[kind].sizes):
        if name in fixed:
            sizes[k] = float(fixed[name])
    return Placed(placed.origin, placed.axes, sizes)


def _lowest(kind: str, starts: list[Placed], points: Array, free: Free, hint: Array | None = None) -> Placed | None:
    """The lowest minimum that the starts lead to; among equals the one along ``hint``."""
    best, best_cost, best_turn = None, np.inf, -1.0
    for start in starts:
        try:
            placed, residuals, _ = descend(MODELS[kind], start, points, free, loose=1e-6, iterations=LOOK)
        except FitError:
            continue
        cost = float(residuals @ residuals)
        turn = abs(float(placed.axes[:, 2] @ hint)) if hint is not None else 0.0
        equal = max(cost, best_cost) < 1e-12 * len(points)
        if not np.isfinite(cost) or not np.all(np.isfinite(placed.sizes)):
            continue
        if (turn > best_turn) if equal else (cost < best_cost):
            best, best_cost, best_turn = placed, cost, turn
    return best


def _fit_spatial(kind, points, fixed, hint, center, spreads, axes) -> FitResult:
    model = MODELS[kind]
    rel = points - center
    given = fixed.get("direction", fixed.get("normal"))
    held = frozenset(fixed) | (frozenset({"rx", "ry"}) if given is not None else frozenset())
    free = Free.of(model, held)
    few = thinned(rel)
    hint = unit(hint) if hint is not None else None
    if kind == "sphere":
        best = _lowest(kind, [_with_sizes(kind, sphere_start(rel), fixed)], few, free)
    else:
        best = None
        for dense, count in ((False, 1), (True, 4)):
            directions = directions_of(axes, dense, given)
            if hint is not None and given is None:
                directions = np.vstack([hint, directions])
            starts = [_with_sizes(kind, s, fixed) for s in axis_starts(kind, few, directions, count)]
            best = _lowest(kind, starts if best is None else [best, *starts], few, free, hint)
            if best is not None and len(few) > len(free.moves) + len(free.sizes) + 2:
                rms = np.sqrt(np.mean(model.distance(best.local(few), best.sizes)[0] ** 2))
                if rms < GOOD * spreads[0] / np.sqrt(len(points)):
                    break
    if best is None or np.abs(best.sizes[0]) > 1e4 * spreads[0]:
        raise FitError(
            f"No {_word(kind)} settled on these hits.", "The hits are kept.", "Take hits farther round, at more depths."
        )
    placed, residuals, jacobian = descend(model, _tidied(kind, best, hint), rel, free)
    return _result(kind, placed, center, residuals, jacobian, free, rel)


def _tidied(kind: str, placed: Placed, hint: Array | None) -> Placed:
    """The same shape with its origin beside the middle of the hits and its axis in a fixed sense."""
    sizes = placed.sizes.copy()
    origin, axes = placed.origin, placed.axes
    if kind in ("cylinder", "cone"):
        along = float(-(origin @ axes[:, 2]))  # the mean of the points is the origin
        origin = origin + along * axes[:, 2]
        if kind == "cone":
            sizes[0] += along * np.tan(sizes[1])
            if sizes[0] < 0:  # the other nappe
                sizes[0], sizes[1] = -sizes[0], -sizes[1]
    sizes[0] = sizes[0] if kind == "cone" else abs(sizes[0])
    sense = hint if hint is not None else np.eye(3)[np.argmax(np.abs(axes[:, 2]))]
    backward = sizes[1] < 0 if kind == "cone" else axes[:, 2] @ sense < 0
    if backward:
        axes = axes * [1.0, -1.0, -1.0]
        if kind == "cone":
            sizes[1] = -sizes[1]
    return Placed(origin, axes, sizes)


def _fit_flat(kind, points, fixed, center, axes) -> FitResult:
    model = MODELS[kind]
    plane = fixed.get("plane")
    normal = plane.normal if isinstance(plane, Plane) else fixed.get("normal")
    if normal is None:
        u, v, normal = axes
    else:
        normal = unit(normal)
        u, v = perpendicular_pair(normal)
    if isinstance(plane, Plane):
        center = center - plane.distance(center[None])[0] * normal
    frame = np.column_stack([u, v, normal])
    flat = (points - center) @ frame
    flat[:, 2] = 0.0
    _, spread, _ = np.linalg.svd(flat[:, :2] - flat[:, :2].mean(axis=0), full_matrices=False)
    if spread[-1] <= max(1e-9 * spread[0], 1e-12):
        raise FitError(
            f"The hits lie on one straight line, which is no {_word(kind)}.", "The hits are kept.", "Take hits round the edge."
        )
    free = Free.of(model, frozenset(fixed))
    if kind == "circle":
        starts = [circle_start(flat)]
    elif kind == "ellipse":
        starts = [s for s in (ellipse_start(flat),) if s is not None] + slot_ellipses(flat)
    else:
        starts = slot_starts(flat)
    best = _lowest(kind, [_with_sizes(kind, s, fixed) for s in starts], flat, free)
    if best is None:
        raise FitError(f"No {_word(kind)} settled on these hits.", "The hits are kept.", "Take hits all round the edge.")
    placed, residuals, jacobian = descend(model, best, flat, free)
    local = Placed(center + frame @ placed.origin, frame @ placed.axes, np.abs(placed.sizes))
    return _result(kind, local, np.zeros(3), residuals, jacobian, free, points)


def slot_ellipses(flat: Array) -> list[Placed]:
    """A few ellipses in boxes round the points, for hits that have no direct solution."""
    return [Placed(s.origin, s.axes, s.sizes / 2) for s in slot_starts(flat)[::3]]


def _result(kind: str, placed: Placed, center: Array, residuals: Array, transposed: Array, free: Free, rel: Array) -> FitResult:
    jacobian = transposed.T
    covariance = unit_covariance(jacobian)
    if covariance is None:
        raise FitError(
            f"The hits leave part of the {_word(kind)} undetermined.", "The hits are kept.", "Take hits farther round it."
        )
    origin = center + placed.origin
    shape = shaped(kind, Placed(origin, placed.axes, placed.sizes))
    result = FitResult(
        kind, "gaussian", shape, residuals, free.names(MODELS[kind]), jacobian, covariance, Motion(placed.axes, origin)
    )
    if kind in ("circle", "cylinder", "cone"):
        local = placed.local(rel if len(rel) <= MANY else rel[:: len(rel) // MANY])
        warnings = _arc_warning(np.arctan2(local[1], local[0]), result.u("radius") if result.spare > 0 else np.nan)
        object.__setattr__(result, "warnings", warnings)
    return result


def shaped(kind: str, placed: Placed):
    """The shape of a kind where ``placed`` puts it."""
    origin, sizes = placed.origin, [float(s) for s in placed.sizes]
    x, y, z = placed.axes.T
    if kind == "circle":
        return Circle(origin, z, sizes[0])
    if kind == "sphere":
        return Sphere(origin, sizes[0])
    if kind == "cylinder":
        return Cylinder(origin, z, sizes[0])
    if kind == "cone":
        return Cone(origin - z * sizes[0] / np.tan(sizes[1]), z, sizes[1])
    if kind == "torus":
        return Torus(origin, z, sizes[0], sizes[1])
    if kind == "ellipse":
        return Ellipse(origin, z, x, *sizes) if sizes[0] >= sizes[1] else Ellipse(origin, z, y, sizes[1], sizes[0])
    return Slot(origin, z, x, sizes[0], sizes[1], "round" if kind == "round_slot" else "square")


def _arc_warning(angles: Array, u_radius: float) -> tuple[str, ...]:
    """A sentence where the hits span so little of the round that the radius is doubtful."""
    ordered = np.sort(angles)
    gaps = np.append(np.diff(ordered), ordered[0] + 2 * np.pi - ordered[-1])
    span = np.degrees(2 * np.pi - gaps.max())
    if span >= 90:
        return ()
    known = f"; the radius is known to ±{2 * u_radius:.2g} mm only" if np.isfinite(u_radius) else ""
    return (f"The hits span {span:.0f}° of the round{known}.",)
