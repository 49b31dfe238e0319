"""Distances between features."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from ..errors import DeriveError
from ..frames import Array, cross
from ..shapes import Plane


@dataclass(frozen=True, eq=False)
class PlaneDistance:
    """The distance of two nearly parallel planes.

    Attributes
    ----------
    foot, middle : (3,) arrays
        Ends of the perpendicular: on the first plane, and the second plane's middle.
    perpendicular_mm : its length
    middles_mm : distance of the two middles, longer wherever they are not opposite
    vector : (3,) array from ``foot`` to ``middle``; its parts are the components along the axes
    parallel_rad : how far the planes are from parallel
    """

    foot: Array
    middle: Array
    perpendicular_mm: float
    middles_mm: float
    vector: Array
    parallel_rad: float


def plane_distance(first: Plane, second: Plane) -> PlaneDistance:
    """Perpendicular to the first plane, up to the middle of the second.

    Raises DeriveError for planes more than 10° from parallel, where one number says nothing.
    """
    crossed = cross(first.normal, second.normal)
    parallel = math.atan2(math.sqrt(crossed @ crossed), abs(first.normal @ second.normal))
    if parallel > np.radians(10):
        raise DeriveError(
            f"The planes are {np.degrees(parallel):.1f}° from parallel, so they have no one distance.",
            "Both planes are kept.",
            "Choose two planes that face each other, or ask for their angle.",
        )
    apart = second.point - first.point
    length = float(apart @ first.normal)
    foot = second.point - length * first.normal
    return PlaneDistance(
        foot,
        second.point,
        abs(length),
        math.sqrt(apart @ apart),
        second.point - foot,
        parallel,
    )
