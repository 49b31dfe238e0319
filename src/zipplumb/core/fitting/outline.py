"""Gaussian fits of 2D shapes: circle, arc, ellipse and slots, in a projection plane.

The plane is given (nominal or measured), or fitted to the same hits; small turns of it change
the outline in second order only, so the two fits are independent and the plane's own
uncertainty stays with the result (``lies_in``).

How we know that the minimum is the global one: a circle and an ellipse start from the closed
form of nearly the same problem; slots from boxes in every direction round the hits, of which
the descent with the least squares is kept.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from .. import kernels
from ..errors import FitError
from ..frames import Array, Indices
from ..shapes import Arc
from .flat import fit_plane, principal_axes
from .held import FREE, NOTHING, HeldParameters, word
from .placed import Placed, columns_of
from .result import FitResult
from .solid import GOOD, LOOK, round_result, thinned

UPRIGHT, FLAT = np.eye(3), np.array([1.0, 1.0, 0.0])
ANGLES = np.linspace(0, np.pi, 24, endpoint=False)


def fit_outline(kind: str, points: Array, held: HeldParameters, toward: Array | None = None, offset: float = 0.0) -> FitResult:
    """Gaussian fit of a 2D shape; residuals lie in its plane. ``toward``: the side of its normal."""
    model = "circle" if kind == "arc" else kind
    center, frame, lies_in = _projection(kind, points, held, toward)
    flat = kernels.laid_flat(points, center, frame)
    if model != "circle":  # whose own start tells it
        _, spreads, _ = principal_axes(thinned(flat))
        if spreads[1] <= max(1e-9 * spreads[0], 1e-12):
            raise _straight(kind)
    columns = columns_of(model, held.names(model))
    best = _start(model, flat, held, center, frame, columns, offset)
    unsettled = FitError(f"No {word(kind)} settled on these hits.", "The hits are kept.", "Take hits all round the edge.")
    if best is None:
        raise unsettled
    settled, normal, rest, _ = best.settled(flat, columns, offset)
    if not rest:
        raise unsettled
    if kind == "ellipse" and settled.sizes[0] < settled.sizes[1]:  # the longer half axis comes first
        x, y, z = settled.axes.T
        turned = Placed(model, settled.origin, np.ascontiguousarray(np.array([y, -x, z]).T), settled.sizes[::-1].copy())
        settled, normal, _, _ = turned.settled(flat, columns, offset)
    placed = Placed(model, center + frame @ settled.origin, frame @ settled.axes, np.abs(settled.sizes))
    result = round_result(model, placed, points, placed.residuals(points) - offset, columns, normal, lies_in=lies_in)
    return _as_arc(result) if kind == "arc" else result


def _straight(kind: str) -> FitError:
    words = f"The hits lie on one straight line, which is no {word(kind)}."
    return FitError(words, "The hits are kept.", "Take hits round the edge.")


def _projection(kind: str, points: Array, held: HeldParameters, toward: Array | None) -> tuple[Array, Array, FitResult | None]:
    """Middle of the hits in the plane, its axes as columns, and the plane's fit where there is one."""
    if held.axis is None:
        try:
            plane = fit_plane(points, HeldParameters(), toward)
        except FitError:
            raise _straight(kind) from None
        return plane.local.translation, np.ascontiguousarray(plane.local.rotation), plane
    center = kernels.middle(points)
    within = held.plane.point if held.plane is not None else held.spot
    if within is not None:
        center = center - ((center - within) @ held.axis) * held.axis
    return center, kernels.basis(held.axis), held.lies_in


def _start(
    kind: str, flat: Array, held: HeldParameters, center: Array, frame: Array, columns: Indices, offset: float
) -> Placed | None:
    spot = frame.T @ (held.spot - center) * FLAT if held.spot is not None else NOTHING
    if kind == "circle":
        return _circle(flat, held, spot, offset)
    few, known = thinned(flat), held.two_sizes(kind)
    if kind == "ellipse" and held is FREE and not offset and (direct := _ellipse(flat)) is not None:
        look = kernels.descend(5, few, direct.origin, direct.axes, direct.sizes, columns, offset, 1e-6, LOOK)
        if np.sqrt(look[3] / len(few)) < GOOD * direct.sizes.max():
            return Placed(kind, *look[:3])
    angles = ANGLES
    if held.along is not None:
        x, y, _ = frame.T @ held.along
        angles = np.array([np.arctan2(y, x)])
    for count in (3, len(ANGLES)):
        *found, cost = kernels.search_boxes(kernels.CODES[kind], few, angles, count, columns, known, spot, offset, LOOK)
        if np.sqrt(cost / len(few)) < GOOD * found[2].max():
            break
    return Placed(kind, *found) if np.isfinite(cost) else None


def _circle(flat: Array, held: HeldParameters, spot: Array, offset: float) -> Placed:
    a, b, radius = kernels.kasa(flat[:, 0], flat[:, 1])
    if radius == np.inf:
        raise _straight("circle")
    if held.spot is not None:
        a, b, radius = *spot[:2], float(np.hypot(*(flat - spot)[:, :2].T).mean())
    radius = held.sizes.get("radius", radius - offset)
    return Placed("circle", np.array([a, b, 0.0]), UPRIGHT, np.array([radius, 0.0]))


def _ellipse(flat: Array) -> Placed | None:
    """Direct least squares of an ellipse.

    Source: Halir and Flusser, "Numerically stable direct least squares fitting of ellipses"
    (WSCG 1998).
    """
    size = np.abs(flat[:, :2]).max()
    x, y = flat[:, 0] / size, flat[:, 1] / size
    d1, d2 = np.column_stack([x * x, x * y, y * y]), np.column_stack([x, y, np.ones_like(x)])
    s1, s2, s3 = d1.T @ d1, d1.T @ d2, d2.T @ d2
    t = -np.linalg.solve(s3, s2.T)
    m = s1 + s2 @ t
    m = np.array([m[2] / 2, -m[1], m[0] / 2])
    _, vectors = np.linalg.eig(m)
    vectors = np.real(vectors)
    condition = 4 * vectors[0] * vectors[2] - vectors[1] ** 2
    if not np.any(condition > 0):
        return None
    first = vectors[:, np.argmax(condition > 0)]
    a, b, c = first
    d, e, f = t @ first
    x0, y0 = np.linalg.solve([[2 * a, b], [b, 2 * c]], [-d, -e])
    level = -(f + (d * x0 + e * y0) / 2)
    values, axes = np.linalg.eigh(np.array([[a, b / 2], [b / 2, c]]) / level)
    if np.any(values <= 0):
        return None
    turned = np.eye(3)
    turned[:2, :2] = axes if np.linalg.det(axes) > 0 else axes * [1, -1]
    return Placed("ellipse", np.array([x0 * size, y0 * size, 0.0]), turned, size / np.sqrt(values))


def _as_arc(result: FitResult) -> FitResult:
    """The part of the circle that was touched: from its first hit round to its last."""
    circle, local = result.shape, result.local.inverse().points(result.points)
    angles = np.sort(np.arctan2(local[:, 1], local[:, 0]))
    gaps = np.append(np.diff(angles), angles[0] + 2 * np.pi - angles[-1])
    start = angles[(int(np.argmax(gaps)) + 1) % len(angles)]
    x, y, _ = result.local.rotation.T
    begin = np.cos(start) * x + np.sin(start) * y
    arc = Arc(circle.center, circle.normal, circle.radius, begin, float(2 * np.pi - gaps.max()))
    return replace(result, kind="arc", shape=arc)
