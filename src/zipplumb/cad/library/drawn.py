"""From bodies to the model that pages draw: meshes of faces, polylines of edges."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import partial

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
from .shared_out import shared_out
from .triangulation import arrays_of

FACES_A_PROCESS = 300  # that another process is worth it
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


@dataclass
class _Drawn:
    """Some bodies, one after another: their faces and edges counted from 0, their places one block each.

    ``meshes``: positions, normals and triangles of each face; ``counts``: faces of each body.
    """

    faces: list[Face] = field(default_factory=list)
    edges: list[Edge] = field(default_factory=list)
    lines: list[np.ndarray] = field(default_factory=list)
    meshes: list[tuple[np.ndarray, np.ndarray, np.ndarray]] = field(default_factory=list)
    counts: list[int] = field(default_factory=list)
    splines: dict[int, SplineSurface] = field(default_factory=dict)

    def add(self, other: _Drawn) -> None:
        first, edges = len(self.faces), len(self.edges)
        self.faces += [replace(face, index=face.index + first) for face in other.faces]
        for edge in other.edges:
            on = None if edge.face is None else edge.face + first
            self.edges.append(replace(edge, index=edge.index + edges, face=on))
        self.lines += other.lines
        self.meshes += other.meshes
        self.counts += other.counts
        self.splines |= {face + first: spline for face, spline in other.splines.items()}


def drawn(units: str, bodies: list[tuple[str, TopoDS_Shape]], progress: Progress, missing: list[str]) -> CadModel:
    deflection = _deflection([shape for _, shape in bodies])
    sizes = [sum(1 for _ in each(shape, TopAbs_ShapeEnum.TopAbs_FACE)) for _, shape in bodies]
    whole = _Drawn()
    for some in shared_out(partial(_some, bodies, deflection, progress), sizes, FACES_A_PROCESS):
        whole.add(some)
    counts = [len(triangles) for _, _, triangles in whole.meshes]
    undrawn = counts.count(0)
    if undrawn == len(counts):
        raise Unreadable("None of its faces can be drawn")
    if undrawn:
        missing = [*missing, f"{undrawn} of {len(counts)} faces cannot be drawn, and so not picked; they can be typed."]
    base = np.cumsum([0, *(len(positions) for positions, _, _ in whole.meshes)])
    positions, normals, triangles = zip(*whole.meshes, strict=True)
    lines = whole.lines
    return CadModel(
        units,
        tuple(Body(b, name, count) for b, ((name, _), count) in enumerate(zip(bodies, whole.counts, strict=True))),
        tuple(whole.faces),
        np.vstack(positions).astype(np.float32),
        np.vstack(normals).astype(np.float32),
        np.vstack([each + first for each, first in zip(triangles, base, strict=False)]).astype(np.uint32),
        np.concatenate([[0], np.cumsum(counts)]).astype(np.uint32),
        np.vstack(lines).astype(np.float32) if lines else np.empty((0, 3), np.float32),
        np.concatenate([[0], np.cumsum([len(line) for line in lines])]).astype(np.uint32),
        np.array([edge.body for edge in whole.edges], np.uint32),
        tuple(missing),
        tuple(whole.edges),
        _fewest_poles(whole.splines),
    )


def _some(bodies: list[tuple[str, TopoDS_Shape]], deflection: float, progress: Progress, run: range) -> _Drawn:
    """Some of the bodies; how far it is is told by whoever has the first of them."""
    found, poles = _Drawn(), 0
    _meshed([bodies[b][1] for b in run], deflection)
    for done, b in enumerate(run, start=1):
        shape, shaped = bodies[b][1], []
        for raw in each(shape, TopAbs_ShapeEnum.TopAbs_FACE):
            face = TopoDS.Face(raw)
            mesh = _face_mesh(face)
            if not len(mesh[2]) or not np.all(np.isfinite(mesh[0])):
                mesh = _healed_mesh(face, deflection)
            found.faces.append(described(face, len(found.faces), b, mesh[0]))
            shaped.append((face, found.faces[-1]))
            if found.faces[-1].nominal is None and poles < MOST_POLES and (spline := spline_of(face)) is not None:
                found.splines[found.faces[-1].index] = spline
                poles += spline.poles[..., 0].size
            found.meshes.append(mesh)
        for line, edge in edges_of(shape, shaped, deflection, len(found.edges), b):
            found.lines.append(line)
            found.edges.append(edge)
        found.counts.append(len(shaped))
        if run.start == 0:
            share = done / len(run)
            progress(0.5 + 0.45 * share, f"Drew {round(share * len(bodies))} of {len(bodies)} bodies")
    return found


def _fewest_poles(splines: dict[int, SplineSurface]) -> dict[int, SplineSurface]:
    """The first of them, until they have as many poles as are kept."""
    poles = np.cumsum([0, *(spline.poles[..., 0].size for spline in splines.values())])
    return {face: spline for (face, spline), before in zip(splines.items(), poles, strict=False) if before < MOST_POLES}


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
