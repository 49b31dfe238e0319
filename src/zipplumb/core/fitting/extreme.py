"""Minimum zone, inscribed, circumscribed and tangent shapes.

All are linear programmes in the small step of a shape that lies close already: residuals
change linearly with the step, so "the largest residual becomes least" is a linear
objective with linear constraints. The programme is solved again from where it led until
nothing changes. It holds only the hits that have been extreme so far, and grows by those that
a trial shows to be; a million hits need a few dozen rows.
Source: G. T. Anthony, H. M. Anthony, B. Bittner et al., "Reference software for finding
Chebyshev best-fit geometric elements", Precision Engineering 19 (1996).

How we know that it is the global optimum:

* circumscribed circle and sphere: the largest distance from a center is a convex function of it.
* plane zone and tangent plane: seen from the shape found, the zone's height over all leaning
  planes is convex (a sum of support functions), so no other leaning by t is narrower by more
  than the factor cos t, and a far leaning zone holds the hits' extent. Hits as thick as wide
  (the corners of a cube) have no such order: there every face and, up to ``EXACT`` corners, every
  pair of edges of their hull is tried, between which the least width must be
  (Houle and Toussaint, "Computing the width of a set", IEEE PAMI 10 (1988)).
* line in space and circumscribed cylinder: distances seen along the axis found are convex in the
  leaning line, and true to the factor cos t.
* round zones and inscribed shapes: the programme is exact but for the curvature of the distances,
  of the order of form² / size, so hits round the whole shape leave one optimum. Descents from
  shaken starts back that up, and tests/outside compares with brute force, short arcs too.
"""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from ..errors import FitError
from ..frames import Array, Indices, cross, perpendicular_pair
from ..shapes import Line
from .flat import linear_of
from .held import HeldParameters
from .placed import FREEDOM, Placed, columns_of, names_of
from .programme import least
from .result import FitResult

ROUNDS = 80
SHAKES = 4
THICK = 0.05  # form by width above which hits make no flat layer
RUNAWAY = 1.5  # times the Gaussian size
BEARS = 1e-4  # of the form, within which a hit bears the shape
NO_GAIN = 1e-13  # mm
SAME = 0.5  # of a step's gain, within which it comes to what is known
NONE_BINDS = np.empty(0, np.int64)
Bearing = frozenset[tuple[int, int]]  # hits, and on which border of a zone
EXACT = 60  # corners of a hull whose pairs of edges are all tried


def fit_extreme(gaussian: FitResult, criterion: str, held: HeldParameters) -> FitResult:
    """From the Gaussian result to the shape with the wanted extreme property.

    Such a shape rests on a few hits only, and is as uncertain as these make it (see ``FitResult.bearing``).
    """
    kind, points = gaussian.kind, gaussian.points
    if kind == "line":
        return _line_extreme(gaussian, criterion, held)
    model = "circle" if kind == "arc" else kind
    sizes = np.array([getattr(gaussian.shape, name) for name in FREEDOM[model].sizes] + [0.0, 0.0])[:2]
    start = Placed(model, gaussian.local.translation, gaussian.local.rotation, sizes)
    columns = columns_of(model, held.names(model))
    if model == "plane":
        points_wide = np.sort(np.ptp(start.local.inverse().points(points), axis=0))
        starts = _hull_starts(start, points, columns) if gaussian.form > THICK * points_wide[1] else [start]
    else:
        starts = _shaken(start, points, columns)
    placed = extreme(criterion, starts, points, columns)
    if criterion == "inscribed" and placed.sizes[0] > RUNAWAY * sizes[0]:
        raise FitError(
            f"The hits do not close round the {kind}, so the largest one inside them has no end.",
            "The hits are kept.",
            "Take hits all round it.",
        )
    shape = replace(gaussian.shape, **_changed(model, placed))
    return _resting(gaussian, criterion, placed, shape, columns)


def _changed(model: str, placed: Placed) -> dict:
    made = placed.shape()
    return {name: getattr(made, name) for name in vars(made)}


def _resting(gaussian: FitResult, criterion: str, placed: Placed, shape, columns: Indices, **more) -> FitResult:
    names, residuals = names_of(placed.kind, columns), placed.residuals(gaussian.points)
    borne, answers = _borne(criterion, placed, residuals, gaussian.points, columns)
    # what no bearing hit answers for (a circle on two hits, across them) is known as well as one hit is
    loose = _unanswered(answers)
    values = {"residuals": residuals, "local": placed.local, "linear": linear_of(placed, columns)}
    return replace(
        gaussian, criterion=criterion, shape=shape, parameters=names, unit_covariance=answers @ answers.T + loose,
        gaussian=gaussian, bearing=(borne, answers), **(values | more),
    )  # fmt: skip


def _borne(criterion: str, placed: Placed, residuals: Array, points: Array, columns: Indices) -> tuple[Indices, Array]:
    """The hits (b,) that a shape rests on, and how its parameters answer (k, b) when they move out.

    They stay where they are: on the shape, or on the zone's borders, whose width is one unknown more.
    """
    near = BEARS * max(float(np.ptp(residuals)), 1e-9)
    high, low = residuals >= residuals.max() - near, residuals <= residuals.min() + near
    if criterion == "inscribed":
        high[:] = False
    elif criterion != "chebyshev":
        low[:] = False
    borne = np.flatnonzero(high | low)
    rows = placed.rows(points[borne], columns)
    if criterion == "chebyshev":
        rows = np.column_stack([rows, np.where(high[borne], -1.0, 1.0)])
    return borne.astype(np.int64), np.asarray(-np.linalg.pinv(rows, rcond=1e-6)[: len(columns)], float)


def _unanswered(answers: Array) -> Array:
    """(k, k) onto the directions of the parameters that no bearing hit answers for."""
    left, strengths, _ = np.linalg.svd(answers, full_matrices=True)
    rank = int((strengths > 1e-6 * max(strengths.max(initial=0.0), 1e-12)).sum())
    return left[:, rank:] @ left[:, rank:].T


def _line_extreme(gaussian: FitResult, criterion: str, held: HeldParameters) -> FitResult:
    points = gaussian.points
    local = gaussian.local
    if gaussian.per_point == 1:  # in its plane: a plane that may only turn about the projection's normal
        start = Placed("plane", local.translation, local.rotation, np.zeros(2))
        columns = np.array([2] if held.along is not None else [2, 4], np.int64)
        placed = extreme(criterion, [start], points, columns)
        return _resting(gaussian, criterion, placed, Line(placed.origin, placed.axes[:, 0]), columns)
    if criterion == "tangent":
        raise FitError("A line in space has no outside.", "The hits are kept.", "Give the plane that the line is to lie in.")
    start = Placed("cylinder", local.translation, local.rotation, np.array([gaussian.residuals.max(), 0.0]))
    columns = columns_of("cylinder", held.names("cylinder") - {"z"})
    placed = extreme("circumscribed", [start], points, columns)
    line = Line(placed.origin, placed.axes[:, 2])
    return _resting(gaussian, criterion, placed, line, columns[:-1], residuals=line.distance(points))


def _shaken(start: Placed, points: Array, columns: Indices) -> list[Placed]:
    """The start, and some moved by about the form."""
    random, reach = np.random.default_rng(1), float(np.ptp(start.residuals(points)))
    size = float(np.linalg.norm(points.std(axis=0)))
    scale = np.array([reach if c < 3 else reach / size if c < 6 else 0.0 for c in columns])
    return [start] + [start.stepped(scale * random.normal(size=len(scale)), columns) for _ in range(SHAKES - 1)]


def _hull_starts(start: Placed, points: Array, columns: Indices) -> list[Placed]:
    """Planes along the faces, and across the pairs of edges, of the hits' convex hull."""
    if len(columns) < 3:
        return [start]
    try:
        hull = ConvexHull(points)
    except QhullError:
        return [start]
    corners, normals = points[hull.vertices], [hull.equations[:, :3]]
    if len(corners) <= EXACT:
        edges = {tuple(sorted(pair)) for s in hull.simplices for pair in itertools.combinations(s, 2)}
        along = np.array([points[b] - points[a] for a, b in edges])
        first, second = np.triu_indices(len(along), 1)
        crossed = cross(along[first], along[second])
        length = np.linalg.norm(crossed, axis=1)
        sound = length > 1e-9 * length.max()
        normals.append(crossed[sound] / length[sound, None])
    every = np.vstack(normals)
    widths = np.ptp(corners @ every.T, axis=0)
    senses = np.sign(every @ start.axes[:, 2] + 1e-12)
    best = [every[k] * senses[k] for k in np.argsort(widths)[:6]]
    return [start] + [Placed("plane", start.origin, np.column_stack([*perpendicular_pair(n), n]), start.sizes) for n in best]


def extreme(criterion: str, starts: list[Placed], points: Array, columns: Indices) -> Placed:
    """The best of the shapes with the wanted extreme property that the starts lead to."""
    known: dict[Bearing, tuple[Placed, float]] = {}
    settled = [_settle(criterion, start, points, columns, known) for start in starts]
    placed, _ = min(settled, key=lambda found: found[1])
    return _touching(criterion, placed, points)


def _settle(
    criterion: str, placed: Placed, points: Array, columns: Indices, known: dict[Bearing, tuple[Placed, float]]
) -> tuple[Placed, float]:
    """The shape that a start leads to, and its value.

    ``known``: where other starts led, by the hits that bear the shape there; these hits lead a further start to the same.
    """
    residuals = placed.residuals(points)
    trust = 4 * (float(np.ptp(residuals)) or 1e-9)
    value, mean = _value(criterion, placed, residuals), points.mean(axis=0)[None]
    work = np.union1d(_extremes(residuals, columns), [hit for bearing in known for hit, _ in bearing]).astype(np.int64)
    borne: Bearing = frozenset()
    for _ in range(ROUNDS):
        rows, toward = placed.rows(points[work], columns), placed.rows(mean, columns)[0]
        step, promised, binding = _programme(criterion, residuals[work], rows, toward, trust, columns)
        if step is None or promised < NO_GAIN:
            break
        trial = placed.stepped(step, columns)
        trial_residuals = trial.residuals(points)
        trial_value = _value(criterion, trial, trial_residuals)
        before = len(work)
        borne = frozenset((int(work[k % before]), int(k) // before) for k in binding)
        work = np.union1d(work, _extremes(trial_residuals, columns))
        if trial_value < value - 1e-14:
            gain = value - trial_value
            placed, residuals, value, trust = trial, trial_residuals, trial_value, 2 * trust
            if len(borne) >= len(columns) and borne in known and value < known[borne][1] + SAME * gain:
                return known[borne]
            if gain < 1e-12 and len(work) == before:
                break
        elif len(work) == before:
            trust /= 4
            if trust < 1e-12:
                break
    known.setdefault(borne, (placed, value))
    return placed, value


def _extremes(residuals: Array, columns: Indices) -> Indices:
    """The hits that are likeliest to bear the shape."""
    count = min(len(residuals), 6 * len(columns))
    if len(residuals) <= 2 * count:
        return np.arange(len(residuals))
    return np.union1d(np.argpartition(residuals, count)[:count], np.argpartition(-residuals, count)[:count])


def _value(criterion: str, placed: Placed, residuals: Array) -> float:
    """The objective to be minimised: the width of the zone, or the distance to the points that bound the shape."""
    if criterion == "chebyshev":
        return float(np.ptp(residuals))
    if criterion == "circumscribed":
        return float(placed.sizes[0] + residuals.max())
    if criterion == "inscribed":
        return float(-(placed.sizes[0] + residuals.min()))
    return float(residuals.max() - residuals.mean())


def _programme(
    criterion: str, residuals: Array, rows: Array, mean_row: Array, trust: float, columns: Indices
) -> tuple[Array | None, float, Indices]:
    """The best small step of the linearised problem, every residual changing by ``trust`` at most, the gain it promises, and
    the limits that bind it (one for each residual; of a zone first those above, then those below)."""
    n, k = rows.shape
    high = trust / np.maximum(np.abs(rows).max(axis=0), 1e-300)
    low = -high
    size = k - 1 if columns[-1] == 6 else None
    if criterion == "chebyshev":  # least t with |r + J s| <= t
        cost = np.append(np.zeros(k), 1.0)
        above = np.column_stack([np.concatenate([rows, -rows]), np.full(2 * n, -1.0)])
        limit = np.concatenate([-residuals, residuals])
        low, high = np.append(low, 0.0), np.append(high, np.inf)
    elif criterion in ("circumscribed", "inscribed"):  # least or greatest radius with all on one side
        sign = 1.0 if criterion == "circumscribed" else -1.0
        cost = np.zeros(k)
        if size is None:
            return None, 0.0, NONE_BINDS
        cost[size] = sign
        above, limit = sign * rows, -sign * residuals
        low[size], high[size] = -np.inf, np.inf
    else:  # tangent: all hits on or under the plane, as near to it as can be
        cost, above, limit = -mean_row, rows, -residuals
        low[0], high[0] = -np.inf, np.inf
    found = least(cost, above, limit, low, high)
    if found is None:
        return None, 0.0, NONE_BINDS
    before = {
        "chebyshev": float(np.ptp(residuals)) / 2,
        "circumscribed": float(residuals.max()),
        "inscribed": -float(residuals.min()),
    }
    return found.x[:k], before.get(criterion, np.inf) - float(cost @ found.x), found.binding


def _touching(criterion: str, placed: Placed, points: Array) -> Placed:
    """The last touch: the size (or height) that makes the wanted property exact."""
    residuals = placed.residuals(points)
    by = residuals.max()
    if criterion == "chebyshev":
        by = (residuals.max() + residuals.min()) / 2
    elif criterion == "inscribed":
        by = residuals.min()
    if placed.kind == "plane":
        return replace(placed, origin=placed.origin + by * placed.axes[:, 2])
    return replace(placed, sizes=placed.sizes + np.array([by, 0.0]))
