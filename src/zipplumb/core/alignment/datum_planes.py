"""Three datum planes: primary, secondary, tertiary.

Source of the rule: ISO 5459 and ASME Y14.5 (datum reference frame). The primary holds two
turns and one slide, the secondary only the turn and the slide left over, the tertiary only
the last slide. A plane with a fixed direction that best fits its hits runs through their
middle, so the secondary and tertiary give their middles and not their own tilt.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from ..errors import AlignmentError
from ..features import Feature
from ..frames import Array, Motion, cross, small_motion, unit
from ..shapes import Plane
from ..uncertainty import Uncertainty, exact, propagate
from .aligned import Alignment, Squareness
from .ledger import HoldLedger, ledger_of_conditions

Solver = Callable[..., Motion]
NEARLY_PARALLEL = np.sin(np.radians(5.0))


def _system(primary: Array, secondary: Array) -> Array:
    """Axes as columns: the primary's normal, what is left of the secondary's, and across."""
    first = unit(primary)
    left = secondary - (secondary @ first) * first
    if np.linalg.norm(left) < NEARLY_PARALLEL * np.linalg.norm(secondary):
        raise AlignmentError(
            "The secondary plane is nearly parallel to the primary, so nothing is left for it to hold.",
            "The measured planes are kept.",
            "Choose a secondary plane across the primary.",
        )
    second = unit(left)
    return np.column_stack([first, second, cross(first, second)])


def align_datum_planes(
    nominal: Sequence[Plane],
    actual_world: Sequence[Plane],
    hits_world: Sequence[Array] | None = None,
    letters: Sequence[str] = ("A", "B", "C"),
    features: Sequence[Feature] | None = None,
) -> Alignment:
    """The part's coordinate system from three measured planes.

    Parameters
    ----------
    nominal : planes in part coordinates, normals out of the material
    actual_world : the same planes as measured; ``point`` is the middle of their hits
    hits_world : (n, 3) hits of each plane, whose reach tells angles as lengths
    letters : names for the words
    features : the same planes with what is known of them; left out, they are taken as exact

    Raises
    ------
    AlignmentError
        Planes nearly parallel, so that a freedom stays loose.
    """
    solve = _solver(nominal)
    part_from_world = solve(*actual_world)
    uncertainty = exact(6) if features is None else _pose_uncertainty(solve, part_from_world, features)
    squareness = _squareness(nominal, actual_world, hits_world, letters)
    middles = part_from_world.points([p.point for p in actual_world])
    ledger = _ledger(nominal, middles, letters, uncertainty.covariance)
    return Alignment(part_from_world=part_from_world, uncertainty=uncertainty, ledger=ledger, squareness=squareness)


def _solver(nominal: Sequence[Plane]) -> Solver:
    """The motion part_from_world of three measured planes. What only the nominal ones tell is worked out once."""
    nominal_axes = _system(nominal[0].normal, nominal[1].normal)
    normals = np.array([plane.normal for plane in nominal])
    spread = float(np.linalg.det(normals))
    if abs(spread) < NEARLY_PARALLEL:
        raise AlignmentError(
            "The three planes do not meet in one corner: one slide stays loose.",
            "The measured planes are kept.",
            "Choose a tertiary plane across the other two.",
        )
    corner, into = np.array([plane.normal @ plane.point for plane in nominal]), np.linalg.inv(normals)

    def solve(*actual: Plane) -> Motion:
        first, second, third = (plane.normal for plane in actual)
        rotation = nominal_axes @ _system(first, second).T
        if spread * float(cross(first, second) @ third) < 0:
            raise AlignmentError(
                "The measured planes are a mirror image of the nominal ones, so one of them has its side wrong.",
                "The hits are kept.",
                "Open the datum planes, look at the side each was touched from, and turn the wrong one.",
            )
        middles = np.array([plane.point for plane in actual]) @ rotation.T
        return Motion(rotation, into @ (corner - (normals * middles).sum(axis=1)))

    return solve


def _pose_uncertainty(solve: Solver, part_from_world: Motion, features: Sequence[Feature]) -> Uncertainty:
    """Uncertainty of the pose, propagated from the planes (JCGM 100)."""
    world_from_part = part_from_world.inverse()
    return propagate(lambda *planes: small_motion(solve(*planes) @ world_from_part), features)[1]


def _squareness(nominal, actual, hits, letters) -> tuple[Squareness, ...]:
    rows = []
    for i, j in ((0, 1), (0, 2), (1, 2)):
        turned = _angle(actual[i].normal, actual[j].normal) - _angle(nominal[i].normal, nominal[j].normal)
        leaning = unit(actual[i].normal - (actual[i].normal @ actual[j].normal) * actual[j].normal)
        reach = float(np.ptp(hits[j] @ leaning)) if hits is not None else 0.0
        rows.append(Squareness(letters[i], letters[j], turned, abs(np.sin(turned)) * reach, letters[j]))
    return tuple(rows)


def _angle(a: Array, b: Array) -> float:
    return float(np.arctan2(np.linalg.norm(cross(a, b)), a @ b))


def _ledger(nominal: Sequence[Plane], middles: Array, letters: Sequence[str], covariance: Array) -> HoldLedger:
    """The primary holds its slide and two turns, the secondary a slide and the turn left over, the tertiary a slide."""
    axes = _system(nominal[0].normal, nominal[1].normal).T
    slides = [np.concatenate([n.normal, cross(p, n.normal)]) for n, p in zip(nominal, middles, strict=True)]
    turns = [np.concatenate([np.zeros(3), axes[k]]) for k in (1, 2, 0)]
    rows = np.array([slides[0], turns[0], turns[1], slides[1], turns[2], slides[2]])
    return ledger_of_conditions(rows, [letters[k] for k in (0, 0, 0, 1, 1, 2)], covariance)
