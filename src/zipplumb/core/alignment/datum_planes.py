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
    ``over_mm`` is what it makes over the extent of the plane that gives way.
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
    squareness : how far the real planes are from the nominal's angles
    held : (freedom, by which) pairs, in words of the part
    holds, spare : int, of six freedoms how many are held and how many holds are more than needed
    """

    part_from_world: Motion
    squareness: tuple[Squareness, ...]
    held: tuple[tuple[str, str], ...]
    holds: int
    spare: int


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
    extents_mm: Sequence[float] = (0.0, 0.0, 0.0),
    letters: Sequence[str] = ("A", "B", "C"),
) -> Alignment:
    """The part's coordinate system from three measured planes.

    Parameters
    ----------
    nominal : planes in part coordinates, normals out of the material
    actual_world : the same planes as measured; ``point`` is the middle of their hits
    extents_mm : how far the hits of each plane reach, to tell angles as lengths
    letters : names for the words

    Raises
    ------
    AlignmentError
        Planes nearly parallel, so that a freedom stays loose.
    """
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
    part_from_world = Motion(rotation, translation)
    return Alignment(part_from_world, _squareness(nominal, actual_world, extents_mm, letters), _held(nominal, letters), 6, 0)


def _squareness(nominal, actual, extents, letters) -> tuple[Squareness, ...]:
    rows = []
    for i, j in ((0, 1), (0, 2), (1, 2)):
        turned = _angle(actual[i].normal, actual[j].normal) - _angle(nominal[i].normal, nominal[j].normal)
        rows.append(Squareness(letters[i], letters[j], turned, abs(np.sin(turned)) * extents[j], letters[j]))
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
