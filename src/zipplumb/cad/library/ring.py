"""Tori that are written as free surfaces, which the CAD library's own recognition does not look for."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from OCP.BRepLProp import BRepLProp_SLProps
from OCP.BRepTools import BRepTools
from OCP.gp import gp_Ax3, gp_Dir, gp_Pnt, gp_Torus

from ...core.shapes import Torus

Array = NDArray[np.float64]
PLACES, SAME_CURVE = 9, 0.01  # along each way of a face; how alike the curvatures of a tube are


def ring_of(face, surface, corners: Array, within_mm: float) -> gp_Torus | None:
    """The torus that a free face is, recognised by its tube: one of the two curvatures is the same everywhere.

    ``corners`` (n, 3) of its triangles lie on the face as well, where the places along its ways may be few.
    """
    told = _local(face, surface)
    if told is None:
        return None
    points, normals, curvatures = told
    for bent in curvatures.T:
        mean = float(bent.mean())
        if abs(mean) < 1e-9 or np.ptp(bent) > SAME_CURVE * abs(mean):
            continue
        begin = _through(points + normals / mean, 1 / abs(mean))
        found = begin and _settled(begin, points)
        if (
            found
            and found.minor_radius < found.major_radius
            and max(np.abs(found.distance(p)).max(initial=0) for p in (points, corners)) <= within_mm
        ):
            axes = gp_Ax3(gp_Pnt(*found.center), gp_Dir(*found.normal))
            return gp_Torus(axes, float(found.major_radius), float(found.minor_radius))
    return None


def _local(face, surface) -> tuple[Array, Array, Array] | None:
    """Places (n, 3), normals (n, 3) and both curvatures (n, 2) of a face, or nothing where it has none somewhere."""
    u0, u1, v0, v1 = BRepTools.UVBounds_s(face)
    told = []
    for u in np.linspace(u0, u1, PLACES):
        for v in np.linspace(v0, v1, PLACES):
            local = BRepLProp_SLProps(surface, u, v, 2, 1e-9)
            if not local.IsCurvatureDefined():
                return None
            at, normal = local.Value(), local.Normal()
            told.append(
                (at.X(), at.Y(), at.Z(), normal.X(), normal.Y(), normal.Z(), local.MinCurvature(), local.MaxCurvature())
            )
    table = np.array(told)
    return table[:, :3], table[:, 3:6], table[:, 6:]


def _through(centers: Array, minor: float) -> Torus | None:
    """With its tube round the circle through some centers."""
    middle = centers.mean(axis=0)
    _, sizes, axes = np.linalg.svd(centers - middle, full_matrices=False)
    if sizes[1] < 1e-6 * max(1.0, sizes[0]):  # a tube that is straight, or one place: no ring
        return None
    flat = (centers - middle) @ axes[:2].T
    # the circle x² + y² = 2ax + 2by + c
    a, b, c = np.linalg.lstsq(np.column_stack([2 * flat, np.ones(len(flat))]), (flat**2).sum(axis=1), rcond=None)[0]
    major = float(np.sqrt(max(c + a * a + b * b, 0.0)))
    return Torus(middle + a * axes[0] + b * axes[1], axes[2], major, minor) if major > 0 else None


def _settled(begin: Torus, points: Array) -> Torus | None:
    """The nearest torus to some points."""
    from scipy.optimize import least_squares  # heavy, and seldom asked for

    u, v = np.linalg.svd(begin.normal[None])[2][1:]

    def at(p: Array) -> Torus:
        normal = begin.normal + p[3] * u + p[4] * v
        return Torus(
            begin.center + p[:3], normal / np.linalg.norm(normal), begin.major_radius + p[5], begin.minor_radius + p[6]
        )

    try:
        found = least_squares(lambda p: at(p).distance(points), np.zeros(7), x_scale=[1, 1, 1, 1e-2, 1e-2, 1, 1])
        return at(found.x)
    except (ValueError, np.linalg.LinAlgError):  # it ran to where there is no torus
        return None
