"""From bodies to the model that pages draw: meshes of faces, polylines of edges."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from OCP.Bnd import Bnd_Box
from OCP.BRep import BRep_Builder, BRep_Tool
from OCP.BRepBndLib import BRepBndLib
from OCP.BRepBuilderAPI import BRepBuilderAPI_NurbsConvert
from OCP.BRepMesh import BRepMesh_IncrementalMesh
from OCP.ShapeFix import ShapeFix_Face
from OCP.TopAbs import TopAbs_Orientation, TopAbs_ShapeEnum
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS, TopoDS_Compound, TopoDS_Shape

from ...core.spline_surface import SplineSurface
from ..formats import Unreadable
from ..model import Body, CadModel, Edge, Face
from .bodies import each
from .edges import edges_of
from .faces import described
from .free import spline_of
from .triangulation import arrays_of

MOST_POLES = 2_000_000  # of all free faces; of those beyond, the triangles have to do
Progress = Callable[[float, str], None]


def _deflection(shapes: list[TopoDS_Shape]) -> float:
    box = Bnd_Box()
    for shape in shapes:
        BRepBndLib.Add_s(shape, box)
    low, high = box.CornerMin(), box.CornerMax()
    return max(low.Distance(high) * 5e-4, 1e-3)


def _meshed(shapes: list[TopoDS_Shape], deflection: float) -> None:
    """All at once, on all cores."""
    whole, builder = TopoDS_Compound(), BRep_Builder()
    builder.MakeCompound(whole)
    for shape in shapes:
        builder.Add(whole, shape)
    BRepMesh_IncrementalMesh(whole, deflection, False, 0.25, True)


def drawn(units: str, bodies: list[tuple[str, TopoDS_Shape]], progress: Progress, missing: list[str]) -> CadModel:
    deflection = _deflection([shape for _, shape in bodies])
    out: dict[str, list] = {k: [] for k in ("pos", "nor", "tri", "edge")}
    faces: list[Face] = []
    edges: list[Edge] = []
    counts: list[int] = []
    kept: list[Body] = []
    splines: dict[int, SplineSurface] = {}
    base = poles = 0
    _meshed([shape for _, shape in bodies], deflection)
    for b, (name, shape) in enumerate(bodies):
        shaped = []
        for raw in each(shape, TopAbs_ShapeEnum.TopAbs_FACE):
            face = TopoDS.Face(raw)
            positions, normals, triangles = _face_mesh(face)
            if not len(triangles) or not np.all(np.isfinite(positions)):
                positions, normals, triangles = _healed_mesh(face, deflection)
            faces.append(described(face, len(faces), b, positions))
            shaped.append((face, faces[-1]))
            if faces[-1].nominal is None and poles < MOST_POLES and (spline := spline_of(face)) is not None:
                splines[faces[-1].index] = spline
                poles += spline.poles[..., 0].size
            out["pos"].append(positions)
            out["nor"].append(normals)
            out["tri"].append(triangles + base)
            counts.append(len(triangles))
            base += len(positions)
        for line, edge in edges_of(shape, shaped, deflection, len(edges), b):
            out["edge"].append(line)
            edges.append(edge)
        kept.append(Body(b, name, len(shaped)))
        progress(0.5 + 0.45 * (b + 1) / len(bodies), f"Drew {b + 1} of {len(bodies)} bodies")
    lines = out["edge"]
    undrawn = counts.count(0)
    if undrawn == len(counts):
        raise Unreadable("None of its faces can be drawn")
    if undrawn:
        missing = [*missing, f"{undrawn} of {len(counts)} faces cannot be drawn, and so not picked; they can be typed."]
    return CadModel(
        units,
        tuple(kept),
        tuple(faces),
        np.vstack(out["pos"]).astype(np.float32),
        np.vstack(out["nor"]).astype(np.float32),
        np.vstack(out["tri"]).astype(np.uint32),
        np.concatenate([[0], np.cumsum(counts)]).astype(np.uint32),
        np.vstack(lines).astype(np.float32) if lines else np.empty((0, 3), np.float32),
        np.concatenate([[0], np.cumsum([len(line) for line in lines])]).astype(np.uint32),
        np.array([edge.body for edge in edges], np.uint32),
        tuple(missing),
        tuple(edges),
        splines,
    )


def _healed_mesh(face, deflection: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The mesh of a face that could not be meshed as it is: mended, then as a spline; empty where neither helps."""
    for made in (_mended, _as_spline):
        try:
            another = made(face)
        except Exception:  # the library's own errors have no common kind
            continue
        BRepMesh_IncrementalMesh(another, deflection, False, 0.25, False)
        positions, normals, triangles = _face_mesh(another)
        if len(triangles) and np.all(np.isfinite(positions)):
            return positions, normals, triangles
    return np.empty((0, 3)), np.empty((0, 3)), np.empty((0, 3), int)


def _mended(face):
    mending = ShapeFix_Face(face)
    mending.Perform()
    return mending.Face()


def _as_spline(face):
    """A cone that reaches its apex is meshed so where it is not as itself."""
    return TopoDS.Face(next(each(BRepBuilderAPI_NurbsConvert(face, True).Shape(), TopAbs_ShapeEnum.TopAbs_FACE)))


def _face_mesh(face) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Vertices, outward normals and triangles of a face; empty where it could not be meshed."""
    location = TopLoc_Location()
    mesh = BRep_Tool.Triangulation_s(face, location)
    if mesh is None or mesh.NbTriangles() == 0:
        return np.empty((0, 3)), np.empty((0, 3)), np.empty((0, 3), int)
    positions, normals, triangles = arrays_of(mesh, location.Transformation())
    if face.Orientation() == TopAbs_Orientation.TopAbs_REVERSED:
        return positions, -normals, triangles[:, ::-1]
    return positions, normals, triangles
