"""Step by step: level, rotate, origin, in any order, each taking only what is still free.

The part's axes turn with the first two directions that are given, wherever they stand in the
order: the first takes two turns, the second the last one. Coordinates of origins are taken in
the turned axes, so their place in the order does not matter either; two for the same coordinate
are refused. Uncertainty goes through from the features (JCGM 100).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.spatial.transform import Rotation

from ..errors import AlignmentError
from ..features import Feature, axis_of, direction_of, spot_of
from ..frames import Array, Motion, cross, small_motion, unit
from ..shapes import Line, Plane
from ..uncertainty import propagate
from .aligned import Alignment
from .ledger import ledger_of_conditions

AXES = "XYZ"
Axis = Literal["+X", "-X", "+Y", "-Y", "+Z", "-Z"]
KEPT = "The measured features are kept."


@dataclass(frozen=True)
class AxisTurn:
    """Level or rotate: a feature's direction is laid along an axis.

    A plane's normal, an axis, or the way from one center to another.
    ``features`` : one with a direction, or two with centers; ``degrees``: turned on from there about
    the axis that was given first (a bolt circle clocked by one of its holes).
    """

    features: tuple[Feature, ...]
    axis: Axis
    degrees: float = 0.0


@dataclass(frozen=True)
class Origin:
    """A feature says where some coordinates are, here ``at_mm`` instead of zero."""

    feature: Feature
    coordinates: str = "XYZ"
    at_mm: tuple[float, float, float] = (0.0, 0.0, 0.0)


def align_steps(steps: Sequence[AxisTurn | Origin], onto: Motion | None = None) -> Alignment:
    """The coordinate system that the steps make, exactly; what no step gave stays as in the world.

    Parameters
    ----------
    onto : system_from_part, that the same steps make of the nominals; the part's coordinates then are
        the CAD's. Left out, they are the steps' own.

    Raises
    ------
    AlignmentError
        A step that the earlier ones leave nothing to hold, a direction along one that is held
        already, or a feature that has no such direction or place.

    Examples
    --------
    The top levels, a line along the edge turns, its end is the origin in X and Y:

    >>> from zipplumb.core.shapes import Line, Plane, Point
    >>> def known(name, shape):
    ...     return Feature.known(name, shape, Motion.identity(), 1e-6 * np.eye(6))
    >>> top = known("Top", Plane([5, 5, 40], [0, 0, 1]))
    >>> edge = known("Edge", Line([10, 0, 40], [0, 1, 0]))
    >>> corner = known("Corner", Point([10, 20, 40]))
    >>> steps = [AxisTurn((top,), "+Z"), AxisTurn((edge,), "+X"), Origin(corner, "XY"), Origin(top, "Z")]
    >>> align_steps(steps).part_from_world.points(np.array([[10.0, 120.0, 40.0]])).round(6).tolist()
    [[100.0, 0.0, 0.0]]
    """
    features = _features_of(steps)
    motion = pose_of(steps)

    def changed(*shapes) -> Array:
        return small_motion(_solved(steps, list(shapes)) @ motion.inverse())

    _, uncertainty = propagate(changed, features)
    rows, names = _conditions(steps, motion)
    if onto is not None:
        into = _told_in_part(onto)
        motion, uncertainty, rows = onto.inverse() @ motion, uncertainty.through(into), rows @ np.linalg.inv(into)
    ledger = ledger_of_conditions(rows, names, uncertainty.covariance)
    return Alignment(part_from_world=motion, uncertainty=uncertainty, ledger=ledger)


def pose_of(steps: Sequence[AxisTurn | Origin], onto: Motion | None = None) -> Motion:
    """part_from_world that the steps make, without its uncertainty; see ``align_steps``."""
    motion = _solved(steps, [f.shape for f in _features_of(steps)])
    return motion if onto is None else onto.inverse() @ motion


def _features_of(steps: Sequence[AxisTurn | Origin]) -> list[Feature]:
    return [f for s in steps for f in (s.features if isinstance(s, AxisTurn) else (s.feature,))]


def _told_in_part(system_from_part: Motion) -> Array:
    """(6, 6): transforms a small translation and rotation from the system's axes and origin to the part's."""
    turn, (x, y, z) = system_from_part.rotation.T, system_from_part.translation
    into = np.zeros((6, 6))
    into[:3, :3], into[3:, 3:] = turn, turn
    into[:3, 3:] = turn @ np.array([[0.0, z, -y], [-z, 0.0, x], [y, -x, 0.0]])
    return into


def align_without_cad(planes: Sequence[tuple[Feature, Axis]]) -> Alignment:
    """From measured planes and the axis that each stands for, with its sign, as chosen at the device.

    The first two turn the part, all of them say where their coordinate is zero; the same axis
    twice is refused.
    """
    steps: list[AxisTurn | Origin] = [AxisTurn((plane,), axis) for plane, axis in planes[:2]]
    return align_steps(steps + [Origin(plane, axis[1]) for plane, axis in planes])


def difference(actual: Motion, nominal: Motion) -> Array:
    """How an actual system stands in the nominal one: three slides (mm) and a rotation vector (rad), (6,).

    Both are given as part_from_world; zero where they are the same.
    """
    between = nominal @ actual.inverse()
    return np.concatenate([between.translation, Rotation.from_matrix(between.rotation).as_rotvec()])


def _solved(steps: Sequence[AxisTurn | Origin], shapes: list) -> Motion:
    turns: list[tuple[Array, Array, float]] = []
    origins: list[tuple[object, Origin]] = []
    left = list(shapes)
    for number, step in enumerate(steps, start=1):
        if isinstance(step, Origin):
            origins.append((left.pop(0), step))
            continue
        mine = [left.pop(0) for _ in step.features]
        direction, axis = _direction(mine, [f.name for f in step.features]), _axis(step.axis)
        if len(turns) == 2:
            raise AlignmentError(
                f"Step {number} has nothing left to turn: two directions hold all three turns.", KEPT, "Leave it out."
            )
        if turns:
            _across(number, turns[0], direction, axis)
        turns.append((direction, axis, step.degrees))
    turned = _turned(turns)
    return Motion(turned, _shift(turned, origins))


def _conditions(steps: Sequence[AxisTurn | Origin], motion: Motion) -> tuple[Array, list[str]]:
    """The motions (m, 6) that the steps forbid, and whose each is.

    The first turn forbids two, the second the last; an origin forbids a slide at the feature's own place.
    """
    rows: list[Array] = []
    names: list[str] = []
    first: Array | None = None
    for step in steps:
        if isinstance(step, Origin):
            shape = step.feature.shape
            place = motion.points(spot_of(shape))
            axes = [_row(shape, step, motion.rotation, AXES.index(letter))[0] for letter in step.coordinates]
            new = [np.concatenate([a, cross(place, a)]) for a in axes]
            name = step.feature.name
        else:
            axis = _axis(step.axis)
            turned = [first] if first is not None else [a for a in np.eye(3) if abs(a @ axis) < 0.5]
            new = [np.concatenate([np.zeros(3), a]) for a in turned]
            name, first = " and ".join(f.name for f in step.features), axis
        rows += new
        names += [name] * len(new)
    return np.array(rows).reshape(-1, 6), names


def _axis(word: str) -> Array:
    if len(word) != 2 or word[0] not in "+-" or word[1] not in AXES:
        raise AlignmentError(f"“{word}” is no axis.", KEPT, "Choose +X, -X, +Y, -Y, +Z or -Z.")
    return np.eye(3)[AXES.index(word[1])] * (1 if word[0] == "+" else -1)


def _direction(shapes: list, names: list[str]) -> Array:
    if len(shapes) == 2:
        way = spot_of(shapes[1]) - spot_of(shapes[0])
        if np.linalg.norm(way) < 1e-6:
            raise AlignmentError(f"{names[0]} and {names[1]} lie on one place.", KEPT, "Choose two apart from each other.")
        return unit(way)
    direction = direction_of(shapes[0])
    if direction is None:
        raise AlignmentError(f"{names[0]} has no direction.", KEPT, "Choose a plane, a line or an axis, or two centers.")
    return direction


def _across(number: int, first: tuple[Array, Array, float], direction: Array, axis: Array) -> None:
    if abs(axis @ first[1]) > 0.5:
        raise AlignmentError(f"Step {number} asks for the axis that is held already.", KEPT, "Choose one of the other two.")
    if np.linalg.norm(cross(first[0], direction)) < np.sin(np.radians(5)):
        raise AlignmentError(
            f"Step {number} runs along the direction that is held already, so no turn is left for it.",
            KEPT,
            "Choose one across it.",
        )


def _turned(turns: list[tuple[Array, Array, float]]) -> Array:
    """Rotation with the first direction exactly along its axis, and the second as near to its own as that leaves."""
    if not turns:
        return np.eye(3)
    (first, first_axis, _), *rest = turns
    if not rest:
        return shortest_turn(first, first_axis)
    second, second_axis, degrees = rest[0]
    second = unit(second - (second @ first) * first)
    actual = np.column_stack([first, second, cross(first, second)])
    if degrees:
        turn = np.radians(degrees)
        second_axis = np.cos(turn) * second_axis + np.sin(turn) * cross(first_axis, second_axis)
    nominal = np.column_stack([first_axis, second_axis, cross(first_axis, second_axis)])
    return nominal @ actual.T


def shortest_turn(start: Array, end: Array) -> Array:
    """The least rotation that takes one direction to another."""
    across, along = cross(start, end), float(start @ end)
    if along < -1 + 1e-12:
        side = unit(cross(start, np.eye(3)[int(np.argmin(np.abs(start)))]))
        return 2 * np.outer(side, side) - np.eye(3)
    x, y, z = across
    skew = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
    return np.eye(3) + skew + skew @ skew / (1 + along)


def _shift(turned: Array, origins: list) -> Array:
    """The slide that puts every given coordinate where it is wanted; planes and lines give only what they can.

    Solved together, so that three leaning planes meet in their corner.
    """
    rows, wanted, given = [], [], set()
    for shape, step in origins:
        for letter in step.coordinates:
            k = AXES.index(letter) if letter in AXES else -1
            if k < 0:
                raise AlignmentError(f"“{letter}” is no coordinate.", KEPT, "Choose among X, Y and Z.")
            if letter in given:
                raise AlignmentError(f"{letter} is given twice.", KEPT, f"Let one feature say where {letter} is.")
            row, value = _row(shape, step, turned, k)
            rows.append(row)
            wanted.append(value)
            given.add(letter)
    if not rows:
        return np.zeros(3)
    solved, *_ = np.linalg.lstsq(np.array(rows), np.array(wanted), rcond=None)
    return solved


def _row(shape, step: Origin, turned: Array, k: int) -> tuple[Array, float]:
    spot, axis = turned @ spot_of(shape), np.eye(3)[k]
    if isinstance(shape, Plane):
        normal = turned @ shape.normal
        if abs(normal[k]) < 0.5:
            raise AlignmentError(
                f"{step.feature.name} runs along {AXES[k]} and does not say where it is.", KEPT, "Choose another."
            )
        return normal, float(step.at_mm[k] * normal[k] - normal @ spot)
    line = axis_of(shape)
    if isinstance(line, Line) and abs((turned @ line.direction)[k]) > 0.87:
        raise AlignmentError(f"{step.feature.name} runs along {AXES[k]} and does not say where it is.", KEPT, "Choose another.")
    return axis, float(step.at_mm[k] - spot[k])
