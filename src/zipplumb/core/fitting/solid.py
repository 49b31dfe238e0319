"""Gaussian fits of sphere, cylinder, cone and torus.

How we know that the minimum is the global one: a sphere starts from the closed form of nearly
the same problem. For cylinder, cone and torus every axis direction of a half sphere is judged;
the descent from the best is believed where it leaves next to nothing (a shape that fits to a
thousandth of its size has no rival), and otherwise a denser half sphere and more descents
decide. tests/outside compares with brute force over many starts.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

import numpy as np

from .. import kernels
from ..errors import FitError
from ..frames import Array, Indices, unit
from .doubts import doubts_of_round
from .flat import linear_of, principal_axes
from .held import NOTHING, HeldParameters, word
from .placed import Placed, columns_of, names_of
from .result import FitResult
from .rivals import Meant, Valley, likeliest
from .starts import elsewhere, half_sphere

FEW = 48  # points that are enough to choose a valley
LOOK = 20  # steps by which a start shows what it is worth
FEW_SPARE, FEW_OF_SEVEN = 3, 5  # with no more hits to spare, other shapes of the kind may fit as well or better
ROUGHLY = (1e-8, 80)
THICK = 0.02  # rms by the spread in the direction in which they spread least
GOOD = 2e-3  # rms by size: so close a fit needs no second opinion
SPREAD_WORDS = {
    1: ("lie on one straight line", "Take hits off that line."),
    2: ("lie in one plane", "Take hits at different depths."),
}


LOOKS = ((half_sphere(40), 1), (half_sphere(200), 4), (half_sphere(400), 6))  # directions, and how many are followed


def thinned(points: Array, count: int = FEW) -> Array:
    """At most ``count`` points, evenly taken."""
    return np.ascontiguousarray(points[:: max(1, -(-len(points) // count))])


def fit_solid(
    kind: str,
    points: Array,
    held: HeldParameters,
    hint: Array | None = None,
    offset: float = 0.0,
    thorough: bool = True,
    meant: Meant | None = None,
) -> FitResult:
    """Gaussian fit.

    Parameters
    ----------
    hint : (3,) axis direction
        Where few hits allow several shapes, the one nearest to it; its sense is taken over.
    offset : distance from the shape at which the hits lie, mm
    thorough, meant : see ``fit``
    """
    center, spreads, axes = principal_axes(points)
    known = held.sizes or held.axis is not None or held.spot is not None
    if spreads[1] <= max(1e-9 * spreads[0], 1e-12) or (not known and spreads[2] <= max(1e-9 * spreads[0], 1e-12)):
        words, todo = SPREAD_WORDS[1 if spreads[1] <= max(1e-9 * spreads[0], 1e-12) else 2]
        raise FitError(f"The hits {words}, which leaves the {word(kind)} open.", "The hits are kept.", todo)
    rel = kernels.centered(points, center)
    spot = held.spot - center if held.spot is not None else None
    columns = columns_of(kind, held.names(kind))
    hint = unit(hint) if hint is not None else None
    best = _sphere_start(rel, spreads, axes, held, spot, offset) if kind == "sphere" else _best_axis(
        kind, rel, axes, held, spot, columns, hint, offset, GOOD * spreads[0] / np.sqrt(len(points))
    )  # fmt: skip
    found, rivals = Descent(rel, spreads, columns, offset), tuple[Placed, ...]()
    if best is not None:
        found.follow(_tidied(best, hint, held))
    if thorough and kind != "sphere" and held.axis is None and found.doubtful:
        for start in elsewhere(kind, thinned(rel), held, spot, offset):
            found.follow(start, ROUGHLY)
        if found.least is not None:
            found.follow(_tidied(found.least, hint, held))
        if found.few and found.valleys:
            meant = meant or (Meant() if hint is None else Meant.toward(hint))
            chosen, rivals = likeliest(found.valleys, meant, float(spreads[0]), center)
            found.settle_in(_tidied(chosen.placed, hint, held))
    placed, normal, rest = found.least, found.normal, found.rest
    if placed is None or np.abs(placed.sizes[0]) > 1e4 * spreads[0]:
        raise FitError(
            f"No {word(kind)} settled on these hits.", "The hits are kept.", "Take hits farther round, at more depths."
        )
    if not rest:
        raise FitError(
            "The shape did not settle on these hits.",
            "The hits are kept.",
            "Take hits farther apart, or all round, and try again.",
        )
    placed = Placed(kind, center + placed.origin, placed.axes, placed.sizes)
    return round_result(kind, placed, points, placed.residuals(points) - offset, columns, normal, found.bad, rivals)


def round_result(
    kind: str,
    placed: Placed,
    points: Array,
    residuals: Array,
    columns: Indices,
    normal: Array,
    badly: bool = False,
    rivals: Sequence[Placed] = (),
    **more,
) -> FitResult:
    """The result of a descent, with what is doubtful about it in words; ``badly``, ``rivals``: see ``doubts_of_round``."""
    covariance, sound = kernels.inverse(normal)
    if not sound:
        raise FitError(
            f"The hits leave part of the {word(kind)} undetermined.", "The hits are kept.", "Take hits farther round it."
        )
    return FitResult(
        kind, "gaussian", placed.shape(), residuals, names_of(kind, columns), covariance, placed.local, points,
        linear_of(placed, columns), placed=placed, doubts=partial(doubts_of_round, placed, badly=badly, rivals=rivals), **more,
    )  # fmt: skip


class Descent:
    """The least shape that descents from several starts have led to."""

    def __init__(self, points: Array, spreads: Array, columns: Indices, offset: float):
        self.points, self.spreads, self.columns, self.offset = points, spreads, columns, offset
        self.least: Placed | None = None
        self.normal, self.rest, self.cost = np.empty((0, 0)), False, np.inf
        self.valleys: list[Valley] = []

    def settle_in(self, start: Placed) -> None:
        """In the valley of this start, whatever else was found."""
        self.least, self.normal, self.rest, self.cost = None, np.empty((0, 0)), False, np.inf
        self.follow(start)

    def follow(self, start: Placed, how: tuple[float, int] = (1e-11, 200)) -> None:
        """``how``: see ``Placed.settled``. A converged result is preferred to one that is not, then the lower or equal one."""
        placed, normal, rest, cost = start.settled(self.points, self.columns, self.offset, *how)
        if not np.isfinite(cost) or not np.isfinite(placed.sizes).all():
            return
        if rest:
            self.valleys.append(Valley(placed, cost))
        if (rest, -cost) >= (self.rest, -self.cost * (1 + 1e-9)):
            self.least, self.normal, self.rest, self.cost = placed, normal, rest, cost

    @property
    def doubtful(self) -> bool:
        """It fits no better than another shape of its kind might, or too few hits are spare to tell."""
        return not self.rest or self.bad or self.few

    @property
    def few(self) -> bool:
        """Another shape of the kind may fit as well or better."""
        spare = FEW_OF_SEVEN if len(self.columns) == 7 else FEW_SPARE  # a torus has the most rivals
        return len(self.points) <= len(self.columns) + spare

    @property
    def bad(self) -> bool:
        """It leaves more than a shape of the right kind would, seen by the hits' reach and by how thick they lie."""
        return bool(np.sqrt(self.cost) > min(GOOD * float(np.linalg.norm(self.spreads)), THICK * float(self.spreads[2])))


def _sphere_start(rel: Array, spreads: Array, axes: Array, held: HeldParameters, spot: Array | None, offset: float) -> Placed:
    """The linear fit of |p|² = 2 c·p + d, in principal axes, where it is three quotients."""
    square, radius = np.einsum("ij,ij->i", rel, rel), held.sizes.get("radius")
    if spot is None:
        spot = axes.T @ ((axes @ (square @ rel)) / np.maximum(spreads, 1e-9 * spreads[0]) ** 2) / 2
    if radius is None:
        radius = float(np.sqrt(square.sum() / len(rel) + spot @ spot)) - offset
    return Placed("sphere", spot, np.eye(3), np.array([radius, 0.0]))


def _best_axis(kind, rel, axes, held: HeldParameters, spot, columns, hint, offset, good) -> Placed | None:
    few, best, lowest = thinned(rel), None, np.inf
    for look, (directions, count) in enumerate(LOOKS):
        if held.axis is not None:
            directions = held.axis[None]
        elif hint is not None:
            directions = np.vstack([hint, axes, directions])
        else:
            directions = np.vstack([axes, directions])
        *found, cost = kernels.search(
            kernels.CODES[kind], few, directions, count, columns, held.two_sizes(kind),
            NOTHING if spot is None else spot, NOTHING if hint is None else hint, offset, LOOK,
        )  # fmt: skip
        if cost < lowest:
            best, lowest = Placed(kind, *found), cost
        if held.axis is not None or np.sqrt(lowest / len(few)) < good or (look == 1 and len(few) <= len(columns) + 2):
            break
    return best


def _tidied(placed: Placed, hint: Array | None, held: HeldParameters) -> Placed:
    """The fitted shape with its origin at the centroid's foot and its axis in a defined sense."""
    kind, origin, axes, sizes = placed.kind, placed.origin, placed.axes, placed.sizes.copy()
    if kind in ("cylinder", "cone") and held.spot is None:
        along = float(-(origin @ axes[:, 2]))  # the mean of the points is the origin
        origin = origin + along * axes[:, 2]
        if kind == "cone":
            sizes[0] += along * np.tan(sizes[1])
            if sizes[0] < 0:  # the other nappe
                sizes = -sizes
    if kind != "cone":
        sizes[0] = abs(sizes[0])
    sense = hint if hint is not None else np.eye(3)[np.argmax(np.abs(axes[:, 2]))]
    backward = sizes[1] < 0 if kind == "cone" else axes[:, 2] @ sense < 0
    if backward:
        axes = axes * [1.0, -1.0, -1.0]
        if kind == "cone":
            sizes[1] = -sizes[1]
    return Placed(kind, origin, np.ascontiguousarray(axes), sizes)
