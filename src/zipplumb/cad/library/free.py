"""The exact surface of a free face, from the CAD library."""

from __future__ import annotations

import numpy as np
from OCP.BRep import BRep_Tool
from OCP.BRepTools import BRepTools
from OCP.Geom import Geom_BSplineSurface, Geom_RectangularTrimmedSurface
from OCP.GeomConvert import GeomConvert
from OCP.TopAbs import TopAbs_Orientation

from ...core.spline_surface import SplineSurface


def spline_of(face) -> SplineSurface | None:
    """The spline of a face, cut to the face where possible; None where the library finds none."""
    whole = BRep_Tool.Surface_s(face)
    try:
        surface = _cut(whole, face) or GeomConvert.SurfaceToBSplineSurface_s(whole)
    except Exception:  # whatever the library throws at a face that it cannot convert
        return None
    if surface.IsUPeriodic():
        surface.SetUNotPeriodic()
    if surface.IsVPeriodic():
        surface.SetVNotPeriodic()
    knots = np.array(list(surface.UKnotSequence())), np.array(list(surface.VKnotSequence()))
    outward = -1.0 if face.Orientation() == TopAbs_Orientation.TopAbs_REVERSED else 1.0
    poles = _poles(surface)
    if not all(np.isfinite(each).all() for each in (*knots, poles)):
        return None
    return SplineSurface((surface.UDegree(), surface.VDegree()), knots, poles, outward)


def _cut(whole, face) -> Geom_BSplineSurface | None:
    """The spline cut to the face; None for a closed spline, which is not cut across the place where it closes."""
    try:
        return GeomConvert.SurfaceToBSplineSurface_s(Geom_RectangularTrimmedSurface(whole, *BRepTools.UVBounds_s(face)))
    except Exception:  # the library's own errors have no common kind
        return None


def _poles(surface: Geom_BSplineSurface) -> np.ndarray:
    """(n, m, 4) homogeneous."""
    count = surface.NbUPoles(), surface.NbVPoles()
    found = np.empty((*count, 4))
    for i in range(count[0]):
        for j in range(count[1]):
            pole, weight = surface.Pole(i + 1, j + 1), surface.Weight(i + 1, j + 1)
            found[i, j] = weight * pole.X(), weight * pole.Y(), weight * pole.Z(), weight
    return found
