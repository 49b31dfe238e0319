"""Best fit with holds: features that hold the part in chosen directions.

Every feature becomes touches (see ``touches``): a center in each direction that it holds, a
plane three along its normal, an axis two ends across it, a surface point one along its normal.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from ..errors import AlignmentError
from ..features import Feature, axis_line, axis_of, center_point, plane_of, point_of
from ..frames import Array, Motion, perpendicular_pair, unit
from ..shapes import Circle, Ellipse, Plane, Slot
from ..uncertainty import Source, Uncertainty
from .aligned import Alignment
from .ledger import ledger_of
from .touches import Pose, Solved, Touches, solve

Letter = Literal["X", "Y", "Z", "own"]
LETTERS = {"X": np.array([1.0, 0, 0]), "Y": np.array([0, 1.0, 0]), "Z": np.array([0, 0, 1.0])}
KEPT = "The measured features are kept."
SEEN_MM = 100.0  # half reach of an axis or plane that has none of its own
SIGNS = 6  # axes whose two senses are all tried


@dataclass(frozen=True, eq=False)
class Hold:
    """A row of the alignment.

    Attributes
    ----------
    name : for the words
    nominal : shape in part coordinates; of a surface point the Plane through it
    actual : the measured shape, in the world; of a surface point a Point
    directions : in which it holds: "X", "Y", "Z" of the part, or "own": a plane along its normal,
        an axis across itself, a circle or slot square to its plane
    u_mm : standard uncertainty with which it holds, its weight; of a center also one for each direction
    level : 1 primary, 2 secondary, 3 tertiary
    reach : (m, 3) places on the actual shape, in the world, that bound what was touched of a plane
        or an axis
    facing : (3,) the outward normal as seen in the world, of a surface point, where it is known
    feature : ``actual`` with what is known of it, by source; left out, each touch is as uncertain as
        ``u_mm``, by itself
    nominal_terms : by source, how far (mm) the nominal moves out along its normal with one standard
        uncertainty of it: of a tip that could not be taken off
    """

    name: str
    nominal: Any
    actual: Any
    directions: tuple[Letter, ...]
    u_mm: float | tuple[float, ...] = 0.02
    level: int = 1
    reach: Array | None = None
    facing: Array | None = None
    feature: Feature | None = None
    nominal_terms: Mapping[Source, float] = field(default_factory=dict)


@dataclass(frozen=True, eq=False, kw_only=True)
class HoldsAlignment(Alignment):
    """``solved``: the touches that the holds came down to, and where they put the part."""

    solved: Solved


def align_holds(holds: Sequence[Hold], start: Motion | None = None, scale: float | None = 1.0) -> HoldsAlignment:
    """The part's place from features that hold it.

    Parameters
    ----------
    start : a rough part_from_world; by default one is found from the features themselves
    scale : of world lengths, held; None where it is free

    Raises
    ------
    AlignmentError
        No holds, a feature that cannot hold as asked, or an alignment that does not settle.
    """
    if not holds:
        raise AlignmentError("Nothing holds the part.", KEPT, "Choose features, and the directions in which they hold.")
    factor = 1.0 if scale is None else scale
    starts = [start] if start is not None else rough_motions(holds)
    best: Solved | None = None
    for rough in starts:
        touches = touches_of(holds, rough)
        pose = Pose(Motion(rough.rotation, rough.translation * factor), factor)
        try:
            found = solve(touches, pose, scale is None)
        except AlignmentError:
            continue
        if best is None or _cost(found) < _cost(best) * (1 - 1e-9) - 1e-12:
            best = found
    if best is None:
        raise AlignmentError("The alignment did not settle.", KEPT, "Look for a feature that was mistaken for another.")
    residuals = {h.name: best.linear.residuals[best.touches.row == k] for k, h in enumerate(holds)}
    return HoldsAlignment(
        part_from_world=best.pose.motion, uncertainty=_uncertainty(holds, best), scale=best.pose.scale,
        ledger=ledger_of(best, [h.name for h in holds]), residuals=residuals, solved=best,
    )  # fmt: skip


def _uncertainty(holds: Sequence[Hold], solved: Solved) -> Uncertainty:
    """Of the small motion at the part's origin: what each source does to the touches, through their gain."""
    answer = -solved.about_origin @ solved.gain
    total = Uncertainty(len(answer))
    for k, hold in enumerate(holds):
        mine = solved.touches.row == k
        total = total + _residuals(k, hold, solved, mine).through(answer[:, mine])
    return total


def _residuals(k: int, hold: Hold, solved: Solved, mine: Array) -> Uncertainty:
    """How the residuals of one hold's touches may differ, by source."""
    touches, count = solved.touches, int(mine.sum())
    if hold.feature is None:
        return Uncertainty(count, {Source("hold", f"{k + 1} {hold.name}"): np.diag(touches.u_mm[mine])})
    local = hold.feature.local
    x, y, z = local.inverse().points(touches.world[mine]).T
    levers = np.zeros((count, 3, 6))
    levers[:, [0, 1, 2], [0, 1, 2]] = 1.0
    levers[:, 0, 4], levers[:, 0, 5] = z, -y
    levers[:, 1, 3], levers[:, 1, 5] = -z, x
    levers[:, 2, 3], levers[:, 2, 4] = y, -x
    toward = touches.directions[mine] @ (solved.pose.scale * solved.pose.motion.rotation @ local.rotation)
    rows = np.zeros((count, hold.feature.uncertainty.size))
    rows[:, :6] = np.einsum("ni,nij->nj", toward, levers)
    found = hold.feature.uncertainty.through(rows)
    return found + Uncertainty(count, {s: np.full((count, 1), -u) for s, u in hold.nominal_terms.items()})


def _cost(solved: Solved) -> float:
    return float(np.sum((solved.linear.residuals / solved.touches.u_mm) ** 2))


# ---- features to touches ----------------------------------------------------------------------


def touches_of(holds: Sequence[Hold], rough: Motion) -> Touches:
    """All touches of the holds; ``rough`` tells which end of an actual axis belongs to which of the nominal."""
    rows: list[tuple[Array, Array, Array, float, int, int]] = []
    for k, hold in enumerate(holds):
        u, touches = np.asarray(hold.u_mm, float), _touches(hold, rough)
        if u.shape not in ((), (len(touches),)) or not np.all(np.isfinite(u) & (u > 0)):
            raise AlignmentError(f"{hold.name} holds with no uncertainty above zero.", KEPT, "Give one in mm.")
        each = np.broadcast_to(u, (len(touches),)).tolist()
        rows += [(*touch, u_mm, k, hold.level) for touch, u_mm in zip(touches, each, strict=True)]
    columns = [np.array(column) for column in zip(*rows, strict=True)]
    return Touches(*columns)


def _touches(hold: Hold, rough: Motion) -> list[tuple[Array, Array, Array]]:
    nominal = hold.nominal
    if plane_of(nominal) is not None:
        return _of_plane(hold)
    if axis_of(nominal) is not None:
        return _of_axis(hold, rough)
    if point_of(nominal) is None or point_of(hold.actual) is None:
        raise AlignmentError(f"{hold.name} has no center to hold by.", KEPT, "Choose a feature with a center.")
    found = []
    for letter in hold.directions:
        if letter == "own" and not isinstance(nominal, Circle | Slot | Ellipse):
            raise AlignmentError(f"{hold.name} has no direction of its own.", KEPT, "Hold it in X, Y or Z.")
        direction = nominal.normal if letter == "own" else LETTERS[letter]
        found.append((center_point(hold.actual), center_point(nominal), direction))
    return found


def _of_plane(hold: Hold) -> list[tuple[Array, Array, Array]]:
    """Three places on the measured plane, or the one surface point."""
    normal = hold.nominal.normal
    for letter in hold.directions:
        if letter != "own" and abs(LETTERS[letter] @ normal) < 0.5:
            raise AlignmentError(f"{hold.name} faces across {letter}.", KEPT, "Let it hold along its own normal.")
    if point_of(hold.actual) is not None:
        return [(center_point(hold.actual), hold.nominal.point, normal)]
    actual: Plane = hold.actual
    u, v = perpendicular_pair(actual.normal)
    reach = SEEN_MM * np.sqrt(2)
    if hold.reach is not None and len(hold.reach) > 2:
        rel = hold.reach - hold.reach.mean(axis=0)
        flat = rel - np.outer(rel @ actual.normal, actual.normal)
        _, spreads, axes = np.linalg.svd(flat, full_matrices=False)
        a, b = (axes[k] * spreads[k] / np.sqrt(len(flat)) for k in (0, 1))
    else:
        a, b = u * reach / np.sqrt(2), v * reach / np.sqrt(2)
    # three places with the same middle and the same spread as what was touched
    corners = [actual.point + np.sqrt(2) * (np.cos(t) * a + np.sin(t) * b) for t in np.radians([90, 210, 330])]
    return [(c, hold.nominal.point, normal) for c in corners]


def _of_axis(hold: Hold, rough: Motion) -> list[tuple[Array, Array, Array]]:
    """The two ends of the measured axis, each held across the nominal one."""
    nominal, actual = axis_line(hold.nominal), axis_of(hold.actual)
    if actual is None:
        raise AlignmentError(f"{hold.name} was measured as something without an axis.", KEPT, "Choose another feature.")
    if hold.reach is not None and len(hold.reach) > 1:
        along = (hold.reach - actual.point) @ actual.direction
        low, high = float(along.min()), float(along.max())
    else:
        low, high = -SEEN_MM, SEEN_MM
    across = perpendicular_pair(nominal.direction)
    if "own" in hold.directions:
        directions = list(across)
    else:
        directions = []
        for letter in hold.directions:
            seen = LETTERS[letter] - (LETTERS[letter] @ nominal.direction) * nominal.direction
            if np.linalg.norm(seen) < 0.5:
                raise AlignmentError(
                    f"{hold.name} runs along {letter} and cannot hold it.", KEPT, "Choose a direction across it."
                )
            directions.append(unit(seen))
    ends = [actual.point + t * actual.direction for t in (low, high)]
    return [(end, nominal.point, d) for end in ends for d in directions]


# ---- a rough start ----------------------------------------------------------------------------


def rough_motions(holds: Sequence[Hold]) -> list[Motion]:
    """Rough places of the part, the likeliest first: centers upon centers, normals and axes upon theirs.

    Nothing tells the sense of an axis, so both are tried.
    Source of the rotation: the singular values of G. Wahba's problem, SIAM Review 7 (1965).
    """
    centers = [(point_of(h.actual), point_of(h.nominal)) for h in holds if point_of(h.actual) is not None]
    paired = [(a, n) for (a, n) in centers if n is not None]
    facing = [(h.actual.normal, h.nominal.normal) for h in holds if isinstance(h.actual, Plane)]
    facing += [(unit(h.facing), h.nominal.normal) for h in holds if h.facing is not None]
    axes = [(axis_line(h.actual).direction, axis_line(h.nominal).direction) for h in holds if _has_axes(h)]
    places = paired + [(axis_line(h.actual).point, axis_line(h.nominal).point) for h in holds if _has_axes(h)]
    places += [(h.actual.point, h.nominal.point) for h in holds if isinstance(h.actual, Plane)]
    places += [
        (point_of(h.actual), h.nominal.point) for h in holds if isinstance(h.nominal, Plane) and point_of(h.actual) is not None
    ]
    found: list[tuple[float, Motion]] = []
    for signs in itertools.product((1.0, -1.0), repeat=min(len(axes), SIGNS)):
        turned = [(s * a, n) for s, (a, n) in zip(signs, axes, strict=False)]
        found.append(_turned(paired, facing + turned, places))
    found.sort(key=lambda pair: -pair[0])
    return [motion for _, motion in found[:8]]


def _has_axes(hold: Hold) -> bool:
    return axis_of(hold.actual) is not None and axis_of(hold.nominal) is not None and not isinstance(hold.nominal, Plane)


def _turned(paired, directions, places) -> tuple[float, Motion]:
    sum_ = np.zeros((3, 3))
    if len(paired) > 1:
        actual, nominal = np.array([p[0] for p in paired]), np.array([p[1] for p in paired])
        rel_a, rel_n = actual - actual.mean(axis=0), nominal - nominal.mean(axis=0)
        size = max(float(np.linalg.norm(rel_n)), 1e-9)
        sum_ += rel_n.T @ rel_a / size**2 * len(paired)
    for actual, nominal in directions:
        sum_ += np.outer(nominal, actual)
    u, values, vt = np.linalg.svd(sum_)
    sign = float(np.sign(np.linalg.det(u) * np.linalg.det(vt))) or 1.0
    turn = (u * [1.0, 1.0, sign]) @ vt
    score = float(values @ [1.0, 1.0, sign])
    shift = np.mean([n - turn @ a for a, n in places], axis=0) if places else np.zeros(3)
    return score, Motion(turn, shift)
