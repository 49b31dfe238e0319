"""Classification of edges: line, circle, arc, ellipse, and the closed outline that an edge belongs to."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepTools import BRepTools
from OCP.GCPnts import GCPnts_TangentialDeflection
from OCP.GeomAbs import GeomAbs_CurveType as Curve
from OCP.gp import gp_Circ, gp_Elips
from OCP.OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher
from OCP.ShapeAnalysis import ShapeAnalysis_CanonicalRecognition
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp
from OCP.TopoDS import TopoDS, TopoDS_Shape

from ..model import Edge, Face
from .bodies import each
from .faces import WITHIN_MM, clean, numbers

SAME_MM, SAME_RAD = 1e-3, 1e-6
ANGLE_RAD = 0.1  # between two chords of a curve, at most
WHOLE = 2 * np.pi - 1e-6


def edges_of(
    shape: TopoDS_Shape, faces: Sequence[tuple[Any, Face]], deflection: float, first: int, body: int
) -> Iterator[tuple[np.ndarray, Edge]]:
    """Each edge of a body once: its polyline and its classification. ``faces``: the body's, with what they are."""
    unique = IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher()
    TopExp.MapShapes_s(shape, TopAbs_ShapeEnum.TopAbs_EDGE, unique)
    edges = {k: TopoDS.Edge(unique.FindKey(k)) for k in range(1, unique.Extent() + 1)}
    curves = {k: BRepAdaptor_Curve(edge) for k, edge in edges.items() if not BRep_Tool.Degenerated_s(edge)}
    own = {k: _shape(edges[k], curve) for k, curve in curves.items()}
    outlines = _outlines(unique, own, faces)
    curved = [(face, told.inside) for face, told in faces if told.inside is not None]
    hollow = {unique.FindIndex(e): inside for face, inside in curved for e in each(face, TopAbs_ShapeEnum.TopAbs_EDGE)}
    for number, (k, curve) in enumerate(curves.items(), start=first):
        nominal, inside, on = outlines.get(k, (own[k], None, None))
        inside = hollow.get(k) if inside is None else inside
        line = _polyline(curve, deflection)
        yield line, Edge(number, body, nominal["shape"] if nominal else "curve", nominal, inside, on)


def _polyline(curve: BRepAdaptor_Curve, deflection: float) -> np.ndarray:
    """Points (n, 3) along a curve, their chords no farther from it than ``deflection``."""
    kind, begin, end = curve.GetType(), curve.FirstParameter(), curve.LastParameter()
    if kind == Curve.GeomAbs_Line:
        return np.array([numbers(curve.Value(begin)), numbers(curve.Value(end))])
    if kind == Curve.GeomAbs_Circle:
        circle = curve.Circle()
        center = numbers(circle.Location())
        along, across = numbers(circle.XAxis().Direction()), numbers(circle.YAxis().Direction())
        step = min(ANGLE_RAD, 2 * np.arccos(max(0.0, 1 - deflection / circle.Radius())))
        at = np.linspace(begin, end, int(np.ceil((end - begin) / step)) + 1)[:, None]
        return center + circle.Radius() * (np.cos(at) * along + np.sin(at) * across)
    points = GCPnts_TangentialDeflection(curve, ANGLE_RAD, deflection)
    return np.array([numbers(points.Value(i + 1)) for i in range(points.NbPoints())])


def _shape(edge, curve: BRepAdaptor_Curve) -> dict[str, Any] | None:
    """The shape of an edge as data, also where it is written as a spline; None of a free curve."""
    found = _curve(curve)
    return found if found is not None or curve.GetType() != Curve.GeomAbs_BSplineCurve else _recognised(edge, curve)


def _recognised(edge, curve: BRepAdaptor_Curve) -> dict[str, Any] | None:
    """The shape of a whole circle or ellipse that is written as a spline."""
    begin, end = curve.Value(curve.FirstParameter()), curve.Value(curve.LastParameter())
    analysis = ShapeAnalysis_CanonicalRecognition(edge)
    circle, ellipse = gp_Circ(), gp_Elips()
    if begin.Distance(end) > SAME_MM:
        return None
    if analysis.IsCircle(WITHIN_MM, circle):
        return _circle(circle)
    analysis.ClearStatus()
    return _ellipse(ellipse) if analysis.IsEllipse(WITHIN_MM, ellipse) else None


def _circle(circle) -> dict[str, Any]:
    return {
        "shape": "circle", "center": clean(numbers(circle.Location())), "normal": clean(numbers(circle.Axis().Direction())),
        "radius": circle.Radius(),
    }  # fmt: skip


def _ellipse(ellipse) -> dict[str, Any]:
    return {
        "shape": "ellipse", "center": clean(numbers(ellipse.Location())),
        "normal": clean(numbers(ellipse.Axis().Direction())),
        "major_direction": clean(numbers(ellipse.XAxis().Direction())), "semi_major": ellipse.MajorRadius(),
        "semi_minor": ellipse.MinorRadius(),
    }  # fmt: skip


def _curve(curve: BRepAdaptor_Curve) -> dict[str, Any] | None:
    """The shape of a curve as data; None of a free one."""
    kind, begin, end = curve.GetType(), curve.FirstParameter(), curve.LastParameter()
    if kind == Curve.GeomAbs_Line:
        a, b = numbers(curve.Value(begin)), numbers(curve.Value(end))
        if np.linalg.norm(b - a) < SAME_MM:
            return None
        return {"shape": "line", "point": clean((a + b) / 2), "direction": clean((b - a) / np.linalg.norm(b - a))}
    if kind == Curve.GeomAbs_Circle:
        circle = curve.Circle()
        whole, center = _circle(circle), numbers(circle.Location())
        if end - begin > WHOLE:
            return whole
        start = (numbers(curve.Value(begin)) - center) / circle.Radius()
        return {**whole, "shape": "arc", "start": clean(start), "span_rad": end - begin}
    if kind == Curve.GeomAbs_Ellipse and end - begin > WHOLE:
        return _ellipse(curve.Ellipse())
    return None


def _outlines(unique, own: dict[int, dict | None], faces: Sequence[tuple[Any, Face]]) -> dict[int, tuple]:
    """For each edge of a flat face: the shape of the whole outline (or its own), whether it is a cut-out, and the face."""
    found: dict[int, tuple] = {}
    for face, told in faces:
        if told.surface != "plane" or told.nominal is None:
            continue
        normal = np.array(told.nominal["normal"])
        outer = BRepTools.OuterWire_s(face)
        for wire in each(face, TopAbs_ShapeEnum.TopAbs_WIRE):
            inside = not wire.IsSame(outer)
            keys = [unique.FindIndex(edge) for edge in each(wire, TopAbs_ShapeEnum.TopAbs_EDGE)]
            parts = [own.get(k) for k in keys]
            whole = _outline([p for p in parts if p is not None], normal, inside) if all(parts) else None
            for k, part in zip(keys, parts, strict=True):
                shape = whole or part
                if shape is not None and (k not in found or (whole and not found[k][3])):
                    turned = {**shape, "normal": clean(normal)} if "normal" in shape and shape["shape"] != "arc" else shape
                    found[k] = turned, inside if whole or shape["shape"] in ("circle", "ellipse") else None, told.index, whole
    return {k: told[:3] for k, told in found.items()}


def _outline(parts: list[dict], normal: np.ndarray, inside: bool) -> dict[str, Any] | None:
    """The outline formed by a closed loop of edges: a circle of arcs, a round slot of lines and arcs, a square slot of four
    lines."""
    lines = [p for p in parts if p["shape"] == "line"]
    arcs = [p for p in parts if p["shape"] == "arc"]
    if len(parts) == 1:
        return parts[0] if parts[0]["shape"] in ("circle", "ellipse") else None
    if not lines and len(arcs) == len(parts):
        same = all(np.allclose(a["center"], arcs[0]["center"], atol=SAME_MM) for a in arcs)
        same = same and np.ptp([a["radius"] for a in arcs]) < SAME_MM and sum(a["span_rad"] for a in arcs) > WHOLE
        whole = {name: arcs[0][name] for name in ("center", "normal", "radius")}
        return {"shape": "circle", **whole} if same else None
    if len(lines) == 2 and len(arcs) >= 2:
        return _round_slot(lines, arcs, normal)
    return _square_slot(lines, normal) if inside and len(lines) == 4 and len(parts) == 4 else None


def _round_slot(lines: list[dict], arcs: list[dict], normal: np.ndarray) -> dict[str, Any] | None:
    along = np.array(lines[0]["direction"])
    centers = np.array([a["center"] for a in arcs])
    low, high = centers[np.argmin(centers @ along)], centers[np.argmax(centers @ along)]
    radius, apart = arcs[0]["radius"], float(np.linalg.norm(high - low))
    ends = np.minimum(np.linalg.norm(centers - low, axis=1), np.linalg.norm(centers - high, axis=1))
    if np.ptp([a["radius"] for a in arcs]) > SAME_MM or ends.max() > SAME_MM or apart < SAME_MM:
        return None
    if (
        np.linalg.norm(np.cross(along, lines[1]["direction"])) > SAME_RAD
        or np.linalg.norm(np.cross(along, high - low)) > SAME_MM
    ):
        return None
    return _slot((low + high) / 2, normal, along, apart + 2 * radius, 2 * radius, "round")


def _square_slot(lines: list[dict], normal: np.ndarray) -> dict[str, Any] | None:
    along = np.array(lines[0]["direction"])
    across = np.cross(normal, along)
    turned = [abs(np.array(p["direction"]) @ along) for p in lines]
    sides = [np.array(p["point"]) for p, t in zip(lines, turned, strict=True) if t > 1 - SAME_RAD]
    ends = [np.array(p["point"]) for p, t in zip(lines, turned, strict=True) if t < SAME_RAD]
    if len(sides) != 2 or len(ends) != 2:
        return None
    width, length = abs((sides[1] - sides[0]) @ across), abs((ends[1] - ends[0]) @ along)
    if length < width:
        along, length, width = across, width, length
    return _slot((sides[0] + sides[1]) / 2, normal, along, float(length), float(width), "square")


def _slot(center, normal, direction, length: float, width: float, ends: str) -> dict[str, Any]:
    return {
        "shape": "slot", "center": clean(center), "normal": clean(normal), "direction": clean(direction), "length": length,
        "width": width, "ends": ends,
    }  # fmt: skip
