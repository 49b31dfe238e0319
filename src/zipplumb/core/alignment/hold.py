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
from ..features import Feature, axis_line, axis_of, center_point, own_direction, plane_of, point_of
from ..frames import Array, Indices, Motion, perpendicular_pair, unit
from ..shapes import Circle, Ellipse, Plane, Slot
from ..uncertainty import Source
from .touches import Touches

Letter = Literal["X", "Y", "Z", "own"]
AXES: tuple[Letter, ...] = ("X", "Y", "Z")
LETTERS = {"X": np.array([1.0, 0, 0]), "Y": np.array([0, 1.0, 0]), "Z": np.array([0, 0, 1.0])}
KEPT = "The measured features are kept."
ALONG = 0.5  # of a direction, that makes a hold
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


def may_hold(nominal: Any) -> tuple[Letter, ...]:
    """The directions in which a nominal shape can hold the part; none where it has no place of its own."""
    if plane_of(nominal) is not None:
        return (*(letter for letter in AXES if abs(LETTERS[letter] @ nominal.normal) >= ALONG), "own")
    if axis_of(nominal) is not None:
        direction = axis_line(nominal).direction
        return (*(letter for letter in AXES if _across(direction, letter) >= ALONG), "own")
    if point_of(nominal) is None:
        return ()
    return (*AXES, "own") if isinstance(nominal, Circle | Slot | Ellipse) else AXES


def ways_of(nominal: Any) -> dict[Letter, Array]:
    """The directions in which a nominal shape may hold, by name: along what, (3,) of the part; its own way, the normal or the
    axis."""
    return {letter: own_direction(nominal) if letter == "own" else LETTERS[letter] for letter in may_hold(nominal)}


def place_of(nominal: Any) -> Array:
    """Where on the part a nominal shape that may hold lies, (3,)."""
    plane = plane_of(nominal)
    if plane is not None:
        return np.asarray(plane.point)
    return np.asarray(axis_line(nominal).point if axis_of(nominal) is not None else center_point(nominal))


def _across(direction: Array, letter: str) -> float:
    """How much of an axis' direction lies across a line."""
    return float(np.linalg.norm(LETTERS[letter] - (LETTERS[letter] @ direction) * direction))


@dataclass(frozen=True, eq=False)
class Laid:
    """All touches of some holds, but for where on the nominal each of k of them lies.

    ``base`` (k, 3) a place on the nominal; ``free`` (k, 3, 3): projects on that in which the nominal goes on and holds
    nothing: nothing of a center, a plane's own directions, an axis.
    """

    world: Array
    base: Array
    free: Array
    directions: Array
    u_mm: Array
    row: Indices
    level: Indices

    def touches(self, rough: Motion) -> Touches:
        """``rough`` tells where on its nominal each lies, and which end of an axis is which."""
        part = self.base + np.einsum("kij,kj->ki", self.free, rough.points(self.world) - self.base)
        return Touches(self.world, part, self.directions, self.u_mm, self.row, self.level)


Row = tuple[Array, Array, Array, Array]  # a place in the world, one on the nominal, what is free there, a direction


def laid(holds: Sequence[Hold]) -> Laid:
    """All touches of the holds. Raises AlignmentError where a hold cannot be as it is asked."""
    rows: list[tuple[Array, Array, Array, Array, float, int, int]] = []
    for k, hold in enumerate(holds):
        u, touches = np.asarray(hold.u_mm, float), _rows(hold)
        if u.shape not in ((), (len(touches),)) or not np.all(np.isfinite(u) & (u > 0)):
            raise AlignmentError(f"{hold.name} holds with no uncertainty above zero.", KEPT, "Give one in mm.")
        each = np.broadcast_to(u, (len(touches),)).tolist()
        rows += [(*touch, u_mm, k, hold.level) for touch, u_mm in zip(touches, each, strict=True)]
    columns = [np.array(column) for column in zip(*rows, strict=True)]
    return Laid(*columns)


def touches_of(holds: Sequence[Hold], rough: Motion) -> Touches:
    """All touches of the holds, near a rough part_from_world."""
    return laid(holds).touches(rough)


def _rows(hold: Hold) -> list[Row]:
    nominal, may = hold.nominal, may_hold(hold.nominal)
    if plane_of(nominal) is not None:
        return _of_plane(hold, may)
    if axis_of(nominal) is not None:
        return _of_axis(hold, may)
    if point_of(nominal) is None or point_of(hold.actual) is None:
        raise AlignmentError(f"{hold.name} has no center to hold by.", KEPT, "Choose a feature with a center.")
    if any(letter not in may for letter in hold.directions):
        raise AlignmentError(f"{hold.name} has no direction of its own.", KEPT, "Hold it in X, Y or Z.")
    place, base = center_point(hold.actual), center_point(nominal)
    ways = [nominal.normal if letter == "own" else LETTERS[letter] for letter in hold.directions]
    return [(place, base, np.zeros((3, 3)), way) for way in ways]


def _of_plane(hold: Hold, may: Sequence[Letter]) -> list[Row]:
    """Three places on the measured plane, or the one surface point."""
    normal = hold.nominal.normal
    for letter in hold.directions:
        if letter not in may:
            raise AlignmentError(f"{hold.name} faces across {letter}.", KEPT, "Let it hold along its own normal.")
    base, free = hold.nominal.point, np.eye(3) - np.outer(normal, normal)
    if point_of(hold.actual) is not None:
        return [(center_point(hold.actual), base, free, normal)]
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
    return [(corner, base, free, normal) for corner in corners]


def _of_axis(hold: Hold, may: Sequence[Letter]) -> list[Row]:
    """The two ends of the measured axis, each held across the nominal one."""
    nominal, actual = axis_line(hold.nominal), axis_of(hold.actual)
    if actual is None:
        raise AlignmentError(f"{hold.name} was measured as something without an axis.", KEPT, "Choose another feature.")
    if hold.reach is not None and len(hold.reach) > 1:
        along = (hold.reach - actual.point) @ actual.direction
        low, high = float(along.min()), float(along.max())
    else:
        low, high = -SEEN_MM, SEEN_MM
    directions = list(perpendicular_pair(nominal.direction)) if "own" in hold.directions else []
    for letter in hold.directions if not directions else ():
        if letter not in may:
            raise AlignmentError(f"{hold.name} runs along {letter} and cannot hold it.", KEPT, "Choose a direction across it.")
        directions.append(unit(LETTERS[letter] - (LETTERS[letter] @ nominal.direction) * nominal.direction))
    ends = [actual.point + t * actual.direction for t in (low, high)]
    free = np.outer(nominal.direction, nominal.direction)
    return [(end, nominal.point, free, d) for end in ends for d in directions]
