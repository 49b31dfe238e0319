"""Three datum planes: primary, secondary, tertiary.

Source of the rule: ISO 5459 and ASME Y14.5 (datum reference frame). The primary holds two
turns and one slide, the secondary only the turn and the slide left over, the tertiary only
the last slide. A plane with a fixed direction that best fits its hits runs through their
middle, so the secondary and tertiary give their middles and not their own tilt.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..errors import AlignmentError
from ..frames import Array, Motion, unit
from ..shapes import Plane

NEARLY_PARALLEL = np.sin(np.radians(5.0))


@dataclass(frozen=True)
class Squareness:
    """How far two planes are from the angle that the nominal has between them.

    ``error_rad`` is actual minus nominal, of the angle between the outward normals;
    ``over_mm`` is what it makes over the reach of the hits of the plane that gives way, in the
    direction in which it leans; 0 where the hits are not given.
    """

    first: str
    second: str
    error_rad: float
    over_mm: float
    went_to: str


@dataclass(frozen=True, eq=False)
class Alignment:
    """A solved coordinate system.

    Attributes
    ----------
    part_from_world : Motion
    covariance : (6, 6) array
        Of a small slide (mm) and turn (rad) of the part at its origin, along and about its axes.
    squareness : how far the real planes are from the nominal's angles
    held : (freedom, by which) pairs, in words of the part
    holds, spare : int, of six freedoms how many are held and how many holds are more than needed
    """

    part_from_world: Motion
    covariance: Array
    squareness: tuple[Squareness, ...]
    held: tuple[tuple[str, str], ...]
    holds: int
    spare: int

    def u_along(self, point_part: Array, direction_part: Array) -> float:
        """Standard uncertainty (mm) of where the alignment puts a point, along a direction."""
        lever = np.concatenate([direction_part, np.cross(point_part, direction_part)])
        return float(np.sqrt(lever @ self.covariance @ lever))


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
    return np.column_stack([first, second, np.cross(first, second)])


def align_datum_planes(
    nominal: Sequence[Plane],
    actual_world: Sequence[Plane],
    hits_world: Sequence[Array] | None = None,
    letters: Sequence[str] = ("A", "B", "C"),
    locals_world: Sequence[Motion] | None = None,
    covariances: Sequence[Array] | None = None,
) -> Alignment:
    """The part's coordinate system from three measured planes.

    Parameters
    ----------
    nominal : planes in part coordinates, normals out of the material
    actual_world : the same planes as measured; ``point`` is the middle of their hits
    hits_world : (n, 3) hits of each plane, whose reach tells angles as lengths
    letters : names for the words
    locals_world, covariances : of each plane's offset (mm) and tilts about its u and v (rad)
        As a plane's fit gives them; left out, the planes are taken as exact.

    Raises
    ------
    AlignmentError
        Planes nearly parallel, so that a freedom stays loose.
    """
    part_from_world = _solve(nominal, actual_world)
    covariance = np.zeros((6, 6))
    if locals_world is not None and covariances is not None:
        covariance = _pose_covariance(nominal, actual_world, part_from_world, locals_world, covariances)
    squareness = _squareness(nominal, actual_world, hits_world, letters)
    return Alignment(part_from_world, covariance, squareness, _held(nominal, letters), 6, 0)


def _solve(nominal: Sequence[Plane], actual_world: Sequence[Plane]) -> Motion:
    nominal_axes = _system(nominal[0].normal, nominal[1].normal)
    actual_axes = _system(actual_world[0].normal, actual_world[1].normal)
    rotation = nominal_axes @ actual_axes.T
    normals = np.array([plane.normal for plane in nominal])
    if abs(np.linalg.det(normals)) < NEARLY_PARALLEL:
        raise AlignmentError(
            "The three planes do not meet in one corner: one slide stays loose.",
            "The measured planes are kept.",
            "Choose a tertiary plane across the other two.",
        )
    if np.linalg.det(normals) * np.linalg.det([plane.normal for plane in actual_world]) < 0:
        raise AlignmentError(
            "The measured planes are a mirror image of the nominal ones, so one of them has its side wrong.",
            "The hits are kept.",
            "Open the datum planes, look at the side each was touched from, and turn the wrong one.",
        )
    wanted = np.array([n.normal @ n.point for n in nominal])
    middles = np.array([n.normal @ (rotation @ a.point) for n, a in zip(nominal, actual_world, strict=True)])
    translation = np.linalg.solve(normals, wanted - middles)
    return Motion(rotation, translation)


def _pose_covariance(nominal, actual, part_from_world, locals_world, covariances) -> Array:
    """Linear propagation (JCGM 100) from the nine parameters of the planes to six of the pose."""
    spread, change, step = np.zeros((9, 9)), np.empty((6, 9)), 1e-6
    for i, (local, covariance) in enumerate(zip(locals_world, covariances, strict=True)):
        spread[3 * i : 3 * i + 3, 3 * i : 3 * i + 3] = covariance
        u, v, w = local.rotation.T
        plane = actual[i]
        leaning = [
            Plane(plane.point + step * w, plane.normal),
            *(Plane(plane.point, plane.normal + step * np.cross(axis, plane.normal)) for axis in (u, v)),
        ]
        for k, other in enumerate(leaning):
            moved = _solve(nominal, [*actual[:i], other, *actual[i + 1 :]]) @ part_from_world.inverse()
            turn = (moved.rotation - moved.rotation.T)[[2, 0, 1], [1, 2, 0]] / 2
            change[:, 3 * i + k] = np.concatenate([moved.translation, turn]) / step
    return change @ spread @ change.T


def _squareness(nominal, actual, hits, letters) -> tuple[Squareness, ...]:
    rows = []
    for i, j in ((0, 1), (0, 2), (1, 2)):
        turned = _angle(actual[i].normal, actual[j].normal) - _angle(nominal[i].normal, nominal[j].normal)
        leaning = unit(actual[i].normal - (actual[i].normal @ actual[j].normal) * actual[j].normal)
        reach = float(np.ptp(hits[j] @ leaning)) if hits is not None else 0.0
        rows.append(Squareness(letters[i], letters[j], turned, abs(np.sin(turned)) * reach, letters[j]))
    return tuple(rows)


def _angle(a: Array, b: Array) -> float:
    return float(np.arctan2(np.linalg.norm(np.cross(a, b)), a @ b))


def _axis_word(direction: Array) -> str:
    k = int(np.argmax(np.abs(direction)))
    return "XYZ"[k] if abs(direction[k]) > 0.999 else "its normal"


def _held(nominal, letters) -> tuple[tuple[str, str], ...]:
    axes = _system(nominal[0].normal, nominal[1].normal)
    words = [_axis_word(axes[:, k]) for k in range(3)]
    return (
        (f"slide along {words[0]}", letters[0]),
        (f"turn about {words[1]}", letters[0]),
        (f"turn about {words[2]}", letters[0]),
        (f"slide along {words[1]}", letters[1]),
        (f"turn about {words[0]}", letters[1]),
        (f"slide along {words[2]}", letters[2]),
    )
