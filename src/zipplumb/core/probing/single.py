"""Points that a tip cannot touch by itself: on a surface whose lean is unknown, on an edge."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import FitError
from ..fitting import fit
from ..frames import Array, cross, unit
from ..shapes import Plane
from ..units import mm

THIN_DEG = 15.0  # smallest angle of a triangle that carries a normal
LOOSE_DEG = 2.0  # expanded uncertainty of a normal from which on it is doubted


@dataclass(frozen=True, eq=False)
class SurfacePoint:
    """A point on a surface.

    Attributes
    ----------
    position, normal : (3,) arrays; the normal points to the air
    u_normal_rad : standard uncertainty of the normal, about its worst axis
    u_mm : standard uncertainty of the position along the normal
    warnings : plain sentences
    """

    position: Array
    normal: Array
    u_normal_rad: float
    u_mm: float
    warnings: tuple[str, ...]


def surface_point(centers: Array, tip_radius_mm: float, toward: Array, u_hit_mm: float) -> SurfacePoint:
    """From three tip centers in a small triangle: its normal tells the lean, along it the tip comes off.

    Parameters
    ----------
    centers : (3, 3) tip centers
    toward : (3,) a direction to the air, as the tip went or the nominal says
    u_hit_mm : standard uncertainty of one hit

    Raises
    ------
    FitError
        Not three hits, or three on one line or one place.
    """
    centers = np.asarray(centers, float)
    if centers.shape != (3, 3):
        raise FitError(f"A surface point takes three hits; there are {len(centers)}.", "The hits are kept.", "Take three.")
    plane = fit("plane", centers, toward=np.asarray(toward, float), u_hits_mm=u_hit_mm)
    u_normal = max(plane.u("rx"), plane.u("ry"))
    normal = plane.shape.normal
    return SurfacePoint(
        plane.shape.point - tip_radius_mm * normal, normal, u_normal, plane.u("z"), _triangle_doubts(centers, u_normal)
    )


def _triangle_doubts(corners: Array, u_normal: float) -> tuple[str, ...]:
    sides = np.linalg.norm(corners - np.roll(corners, 1, axis=0), axis=1)
    a, b, c = np.sort(sides)
    angle = float(np.degrees(np.arccos(np.clip((b * b + c * c - a * a) / (2 * b * c), -1.0, 1.0))))
    height = 2 * float(np.linalg.norm(cross(corners[1] - corners[0], corners[2] - corners[0]))) / 2 / c
    loose, found = 2 * np.degrees(u_normal), []
    if angle < THIN_DEG or height < 0.15 * c:
        found.append(f"The triangle is flat: {mm(height, '.2g')} high over {mm(c, '.3g')}. Set the three hits more evenly.")
    if loose > LOOSE_DEG:
        found.append(
            f"The triangle is small: {mm(c, '.2g')} across, its normal is known to ±{loose:.1f}° only. Set the hits wider."
        )
    return tuple(found)


@dataclass(frozen=True, eq=False)
class EdgePoint:
    """``position`` (3,): on the edge, in the surface; ``outward`` (3,): where the edge faces, in the surface."""

    position: Array
    outward: Array
    warnings: tuple[str, ...]


def edge_point(center: Array, surface: Plane, outward: Array, tip_radius_mm: float) -> EdgePoint:
    """The point of an edge: where the flank that the tip touched meets a surface.

    Parameters
    ----------
    center : (3,) tip center at the flank
    surface : the face that the edge bounds, measured or nominal, normal to the air
    outward : (3,) a direction from the material to the tip: how it came or went, or the nominal's

    Notes
    -----
    A tip whose center lies below the surface touches the flank, one radius off. With its center
    above, it touches the edge itself, √(r² - h²) off as seen along the surface.

    Raises
    ------
    FitError
        A direction that stands upright on the surface, or a tip that passed above the edge.
    """
    center, outward = np.asarray(center, float), np.asarray(outward, float)
    across = outward - (outward @ surface.normal) * surface.normal
    if np.linalg.norm(across) < 0.2 * np.linalg.norm(outward):
        raise FitError(
            "The way the tip left stands upright on the surface, so it does not tell where the edge faces.",
            "The hit is kept.",
            "Pull off away from the edge, along the surface.",
        )
    across = unit(across)
    height = float(surface.distance(center[None])[0])
    if height >= tip_radius_mm:
        raise FitError(
            f"The tip's center was {mm(height, '.2f')} above the surface, so it passed over the edge.",
            "The hit is kept.",
            "Hold the tip lower, against the flank.",
        )
    off = tip_radius_mm
    warnings: tuple[str, ...] = ()
    if height > 0:
        off = float(np.sqrt(tip_radius_mm**2 - height**2))
        warnings = (f"The tip's center was {mm(height, '.2f')} above the surface: it touched the edge itself, burrs and all.",)
    return EdgePoint(center - height * surface.normal - off * across, across, warnings)
