"""Classification of faces: analytic shape (also when stored as a spline), size, and side of the material."""

from __future__ import annotations

import numpy as np
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.BRepGProp import BRepGProp, BRepGProp_Face
from OCP.BRepTools import BRepTools
from OCP.GeomAbs import GeomAbs_SurfaceType as Surface
from OCP.gp import gp_Cone, gp_Cylinder, gp_Pln, gp_Pnt, gp_Sphere, gp_Vec
from OCP.GProp import GProp_GProps
from OCP.ShapeAnalysis import ShapeAnalysis_CanonicalRecognition

from ..model import Face
from .ring import ring_of

WORDS = {
    Surface.GeomAbs_Plane: "plane",
    Surface.GeomAbs_Cylinder: "cylinder",
    Surface.GeomAbs_Cone: "cone",
    Surface.GeomAbs_Sphere: "sphere",
    Surface.GeomAbs_Torus: "torus",
}
WITHIN_MM = 0.001


def described(face, index: int, body: int, positions: np.ndarray) -> Face:
    surface = BRepAdaptor_Surface(face, True)
    word = WORDS.get(surface.GetType(), "free surface")
    recognised = word not in _SHAPES
    if recognised:
        word, surface = _recognised(face, surface, positions)
        recognised = word in _SHAPES
    properties = GProp_GProps()
    BRepGProp.SurfaceProperties_s(face, properties)
    low, high = (positions.min(axis=0), positions.max(axis=0)) if len(positions) else (np.zeros(3), np.zeros(3))
    box = tuple(float(v) for v in (*low, *high))
    nominal, inside = _nominal(face, surface, word)
    return Face(index, body, word, nominal, abs(properties.Mass()), box, inside, recognised)


class _As:
    """A recognised surface, asked as the library's own are."""

    def __init__(self, word: str, found):
        setattr(self, word.capitalize(), lambda: found)


def _recognised(face, surface, positions: np.ndarray) -> tuple[str, object]:
    """The simpler analytic surface of a face stored as a spline, an extrusion or a revolution; the face itself if there is
    none."""
    analysis = ShapeAnalysis_CanonicalRecognition(face)
    tries = (
        ("plane", gp_Pln(), analysis.IsPlane), ("cylinder", gp_Cylinder(), analysis.IsCylinder),
        ("cone", gp_Cone(), analysis.IsCone), ("sphere", gp_Sphere(), analysis.IsSphere),
    )  # fmt: skip
    for word, shape, is_so in tries:
        analysis.ClearStatus()
        if is_so(WITHIN_MM, shape):
            return word, _As(word, shape)
    ring = ring_of(face, surface, positions, WITHIN_MM)
    return ("free surface", surface) if ring is None else ("torus", _As("torus", ring))


def _nominal(face, surface, word: str) -> tuple[dict | None, bool | None]:
    """The shape of a face as data, and whether the material lies round it."""
    if word not in _SHAPES:
        return None, None
    u0, u1, v0, v1 = BRepTools.UVBounds_s(face)
    at, outward = gp_Pnt(), gp_Vec()
    BRepGProp_Face(face).Normal((u0 + u1) / 2, (v0 + v1) / 2, at, outward)
    normal = numbers(outward)
    if not np.linalg.norm(normal) > 0:
        return None, None
    normal /= np.linalg.norm(normal)
    point = numbers(at)
    if word == "plane":
        return {"shape": "plane", "point": clean(point), "normal": clean(normal)}, None
    return _SHAPES[word](surface, point, normal)


def numbers(place) -> np.ndarray:
    return np.array([place.X(), place.Y(), place.Z()])


def _cylinder(surface, point: np.ndarray, normal: np.ndarray) -> tuple[dict, bool]:
    tube = surface.Cylinder()
    start, direction = numbers(tube.Axis().Location()), numbers(tube.Axis().Direction())
    middle = start + ((point - start) @ direction) * direction
    shape = {"shape": "cylinder", "point": clean(middle), "direction": clean(direction), "radius": tube.Radius()}
    return shape, bool(normal @ (point - middle) < 0)


def _cone(surface, point: np.ndarray, normal: np.ndarray) -> tuple[dict, bool]:
    cone = surface.Cone()
    apex, direction = numbers(cone.Apex()), numbers(cone.Axis().Direction())
    if (point - apex) @ direction < 0:
        direction = -direction
    across = (point - apex) - ((point - apex) @ direction) * direction
    shape = {"shape": "cone", "apex": clean(apex), "direction": clean(direction), "half_angle": abs(cone.SemiAngle())}
    return shape, bool(normal @ across < 0)


def _sphere(surface, point: np.ndarray, normal: np.ndarray) -> tuple[dict, bool]:
    ball = surface.Sphere()
    center = numbers(ball.Location())
    return {"shape": "sphere", "center": clean(center), "radius": ball.Radius()}, bool(normal @ (point - center) < 0)


def _torus(surface, point: np.ndarray, normal: np.ndarray) -> tuple[dict, bool]:
    ring = surface.Torus()
    center, axis = numbers(ring.Location()), numbers(ring.Axis().Direction())
    flat = (point - center) - ((point - center) @ axis) * axis
    tube = center + ring.MajorRadius() * flat / max(float(np.linalg.norm(flat)), 1e-12)
    shape = {
        "shape": "torus", "center": clean(center), "normal": clean(axis), "major_radius": ring.MajorRadius(),
        "minor_radius": ring.MinorRadius(),
    }  # fmt: skip
    return shape, bool(normal @ (point - tube) < 0)


_SHAPES = {"plane": None, "cylinder": _cylinder, "cone": _cone, "sphere": _sphere, "torus": _torus}


def clean(vector: np.ndarray) -> list[float]:
    return [0.0 if -1e-12 < v < 1e-12 else v for v in vector.tolist()]
