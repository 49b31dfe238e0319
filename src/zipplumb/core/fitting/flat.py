"""Point, line and plane by orthogonal regression, in closed form.

Source: K. Pearson, "On lines and planes of closest fit", Phil. Mag. 2 (1901).
"""

from __future__ import annotations

from functools import partial

import numpy as np

from .. import kernels
from ..errors import FitError
from ..frames import Array, Indices, Motion, cross, perpendicular_pair, unit
from ..shapes import Line, Plane, Point
from .doubts import doubts_of_flat
from .held import NOTHING, HeldParameters
from .placed import MOVES, Placed
from .result import FitResult

THIN = 1e-9  # spread, relative to the longest, below which points count as one line
TWO_ZEROS = np.zeros(2)
COLUMNS = {
    names: np.array([MOVES.index(name) for name in names], np.int64)
    for names in (("z", "rx", "ry"), ("rx", "ry"), ("z", "ry"), ("ry",), ("z",), ())
}


def principal_axes(points: Array, about: Array | None = None) -> tuple[Array, Array, Array]:
    """Center, spreads (3,) falling, and axes (3, 3) as right-handed rows; ``about`` replaces the mean."""
    return kernels.principal(points, NOTHING if about is None else about)


def _one_place(spreads: Array) -> None:
    if spreads[0] <= 1e-12:
        raise FitError("The hits all lie on one place.", "The hits are kept.", "Take a hit farther along.")


def fit_point(points: Array) -> FitResult:
    """The middle of hits on one place. Residuals are distances (not signed)."""
    center = points.mean(axis=0)

    def linear(some: Array) -> tuple[Array, Array, Array]:
        each = np.broadcast_to(np.eye(3), (len(some), 3, 3))
        return some - center, -each, each

    residuals = np.linalg.norm(points - center, axis=1)
    return FitResult(
        "point", "gaussian", Point(center), residuals, ("x", "y", "z"),
        np.eye(3) / len(points), Motion(np.eye(3), center), points, linear, per_point=3,
    )  # fmt: skip


def signed_toward(direction: Array, toward: Array | None) -> float:
    """+1 or -1: the sense that lies to the side of ``toward``, or makes the greatest component positive."""
    against = float(direction @ toward) if toward is not None else max(direction.tolist(), key=abs)
    return -1.0 if against < 0 else 1.0


def fit_plane(points: Array, held: HeldParameters, toward: Array | None = None) -> FitResult:
    """Gaussian plane. Parameters: shift ``z`` along the normal (mm), turns ``rx``, ``ry`` (rad).

    ``toward``: a direction to whose side the normal is turned; left out, its greatest component
    is positive: the order of the points must not choose the side.
    """
    center, spreads, axes = principal_axes(points, held.spot)
    if held.axis is None:
        if spreads[1] <= max(THIN * spreads[0], 1e-12):
            raise FitError(
                "The hits lie on one line, so any plane through it would fit.",
                "The hits are kept.",
                "Take a hit well off that line.",
            )
        u, v, normal = axes
    else:
        normal = held.axis
        u, v = perpendicular_pair(normal)
    backward = signed_toward(normal, toward) < 0
    if backward:
        u, v, normal = v, u, -normal
    placed = Placed("plane", center, np.array([u, v, normal]).T, TWO_ZEROS)
    return _flat_result("plane", placed, points, held, held.axis is not None, spreads, backward)


def _flat_result(
    kind: str, placed: Placed, points: Array, held: HeldParameters, aimed: bool, spreads: Array, swapped: bool = False
) -> FitResult:
    """The result for a plane, or for a line seen in its plane: then z runs across the line, y along the plane's normal.

    ``aimed``: its direction is held; ``swapped``: x runs along the second principal axis. In
    principal axes through the middle the normal matrix is diagonal, and so it is through a given
    point where only the turns are free.
    """
    turns = () if aimed else ("rx", "ry") if kind == "plane" else ("ry",)
    names = turns if held.spot is not None else ("z", *turns)
    x, y = spreads[1::-1] if swapped else spreads[:2]
    variances = {"z": 1 / len(points), "rx": 1 / (y * y) if "rx" in names else 0.0, "ry": 1 / (x * x) if turns else 0.0}
    covariance = np.zeros((len(names), len(names)))
    for k, name in enumerate(names):
        covariance[k, k] = variances[name]
    shape = Plane(placed.origin, placed.axes[:, 2]) if kind == "plane" else Line(placed.origin, placed.axes[:, 0])
    return FitResult(
        kind, "gaussian", shape, placed.residuals(points), names, covariance, placed.local, points,
        linear_of(placed, COLUMNS[names]), lies_in=held.lies_in, doubts=partial(doubts_of_flat, spreads=spreads),
    )  # fmt: skip


def linear_of(placed: Placed, columns: Indices):
    """The linearised residuals of a placed shape, as FitResult wants them."""

    def linear(some: Array) -> tuple[Array, Array, Array]:
        rows = placed.rows(some, columns)
        return placed.residuals(some)[:, None], rows[:, None, :], placed.gradients(some)[:, None, :]

    return linear


def fit_line(points: Array, held: HeldParameters, toward: Array | None = None) -> FitResult:
    """Gaussian line: in space, or seen in a plane where one is given (residuals then have a sign)."""
    if held.axis is not None:
        return _line_in_plane(points, held, toward)
    center, spreads, axes = principal_axes(points, held.spot)
    _one_place(spreads)
    if held.along is None:
        direction, u, v = axes
    else:
        direction = held.along
        u, v = perpendicular_pair(direction)
    if signed_toward(direction, toward) < 0:
        direction, u, v = -direction, v, u
    moves = [] if held.spot is not None else ["x", "y"]
    moves += [] if held.along is not None else ["rx", "ry"]

    def linear(some: Array) -> tuple[Array, Array, Array]:
        rel = some - center
        along, pulls = rel @ direction, np.broadcast_to([u, v], (len(some), 2, 3))
        every = np.zeros((len(some), 2, 4))  # of x, y, rx, ry
        every[:, 0, 0], every[:, 1, 1] = -1.0, -1.0
        every[:, 1, 2], every[:, 0, 3] = along, -along
        chosen = [("x", "y", "rx", "ry").index(m) for m in moves]
        return np.stack([rel @ u, rel @ v], axis=1), every[:, :, chosen], pulls

    along = (points - center) @ direction
    unit_variances = {"x": 1 / len(points), "y": 1 / len(points), "rx": 1 / (along @ along), "ry": 1 / (along @ along)}
    covariance = np.diag([unit_variances[m] for m in moves])
    if held.spot is None and held.along is not None:
        center = center + direction * float(along.mean())
    parts = points - center
    return FitResult(
        "line", "gaussian", Line(center, direction), np.hypot(parts @ u, parts @ v), tuple(moves), covariance,
        Motion.from_axes(u, v, direction, center), points, linear,
        doubts=partial(doubts_of_flat, spreads=spreads), per_point=2,
    )  # fmt: skip


def _line_in_plane(points: Array, held: HeldParameters, toward: Array | None) -> FitResult:
    """Parameters: shift ``z`` across the line in its plane (mm), turn ``ry`` about the plane's normal (rad)."""
    assert held.axis is not None  # a line lies in a plane
    normal = held.axis
    middle = points.mean(axis=0) if held.plane is None else held.plane.point
    flat = points - np.outer((points - middle) @ normal, normal)
    center, spreads, axes = principal_axes(flat, held.spot)
    _one_place(spreads)
    direction = axes[0] if held.along is None else held.along
    direction = unit(direction - (direction @ normal) * normal)
    across = cross(direction, normal)
    if signed_toward(across, toward) < 0:
        direction, across = -direction, -across
    y = cross(across, direction)
    placed = Placed("plane", center, np.column_stack([direction, y, across]), TWO_ZEROS)
    return _flat_result("line", placed, points, held, held.along is not None, spreads)
