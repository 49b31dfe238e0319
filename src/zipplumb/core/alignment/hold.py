"""One feature that holds the part in chosen directions, and the touches that it comes down to.

A center is a touch in each direction that it holds, a plane three along its normal, an axis two ends
across it, a surface point one along its normal (see ``touches``).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from ..errors import AlignmentError
from ..features import Feature, axis_line, axis_of, center_point, plane_of, point_of
from ..frames import Array, Motion, perpendicular_pair, unit
from ..shapes import Circle, Ellipse, Plane, Slot
from ..uncertainty import Source
from .touches import Touches

Letter = Literal["X", "Y", "Z", "own"]
LETTERS = {"X": np.array([1.0, 0, 0]), "Y": np.array([0, 1.0, 0]), "Z": np.array([0, 0, 1.0])}
KEPT = "The measured features are kept."
SEEN_MM = 100.0  # half reach of an axis or plane that has none of its own


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
        return _of_plane(hold, rough)
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


def _of_plane(hold: Hold, rough: Motion) -> list[tuple[Array, Array, Array]]:
    """Three places on the measured plane, or the one surface point."""
    normal = hold.nominal.normal
    for letter in hold.directions:
        if letter != "own" and abs(LETTERS[letter] @ normal) < 0.5:
            raise AlignmentError(f"{hold.name} faces across {letter}.", KEPT, "Let it hold along its own normal.")
    if point_of(hold.actual) is not None:
        place = center_point(hold.actual)
        return [(place, _foot(hold.nominal, rough.points(place)), normal)]
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
    return [(c, _foot(hold.nominal, rough.points(c)), normal) for c in corners]


def _foot(plane: Plane, place: Array) -> Array:
    return place - ((place - plane.point) @ plane.normal) * plane.normal


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
    feet = [nominal.point + ((rough.points(e) - nominal.point) @ nominal.direction) * nominal.direction for e in ends]
    return [(end, foot, d) for end, foot in zip(ends, feet, strict=True) for d in directions]
