"""Reading and meshing with OCCT. Only the child process imports this module."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import numpy as np
from OCP.Bnd import Bnd_Box
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Curve, BRepAdaptor_Surface
from OCP.BRepBndLib import BRepBndLib
from OCP.BRepGProp import BRepGProp, BRepGProp_Face
from OCP.BRepMesh import BRepMesh_IncrementalMesh
from OCP.BRepTools import BRepTools
from OCP.GCPnts import GCPnts_TangentialDeflection
from OCP.GeomAbs import GeomAbs_SurfaceType as Surface
from OCP.gp import gp_Pnt, gp_Vec
from OCP.GProp import GProp_GProps
from OCP.IFSelect import IFSelect_ReturnStatus
from OCP.OCP.collections import (
    IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher,
    Sequence_TCollection_AsciiString,
    Sequence_TDF_Label,
)
from OCP.ShapeFix import ShapeFix_Face
from OCP.STEPCAFControl import STEPCAFControl_Reader
from OCP.TCollection import TCollection_ExtendedString
from OCP.TDataStd import TDataStd_Name
from OCP.TDF import TDF_Label
from OCP.TDocStd import TDocStd_Document
from OCP.TopAbs import TopAbs_Orientation, TopAbs_ShapeEnum
from OCP.TopExp import TopExp, TopExp_Explorer
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS, TopoDS_Shape
from OCP.XCAFDoc import XCAFDoc_DocumentTool, XCAFDoc_ShapeTool

from .model import Body, CadModel, Face

WORDS = {
    Surface.GeomAbs_Plane: "plane",
    Surface.GeomAbs_Cylinder: "cylinder",
    Surface.GeomAbs_Cone: "cone",
    Surface.GeomAbs_Sphere: "sphere",
    Surface.GeomAbs_Torus: "torus",
}
UNITS = {"millimetre": "mm", "mm": "mm", "inch": "in", "metre": "m", "m": "m", "centimetre": "cm", "foot": "ft"}
Progress = Callable[[float, str], None]


_FACES = ("StepShape_AdvancedFace", "StepShape_FaceSurface")
# outside of texts: a word for no number, or more than 10^15 mm
_NO_NUMBER = re.compile(
    rb"[(,]\s*([-+]?(?:NAN|INF|1\.#IND|1\.#QNAN)\b[^,)]*|[-+]?[0-9.]+[Ee]\+?(?:1[6-9]|[2-9][0-9]|[0-9]{3,}))", re.I
)


class Unreadable(Exception):
    """The file is no STEP file that holds a body; the message is one sentence."""


def _each(shape: TopoDS_Shape, kind: TopAbs_ShapeEnum):
    explorer = TopExp_Explorer(shape, kind)
    while explorer.More():
        yield explorer.Current()
        explorer.Next()


def read(path: Path, progress: Progress) -> CadModel:
    """Read, name, mesh. Raises Unreadable; what of the file is not in the model, the model says."""
    progress(0.05, "Reading the file")
    _only_numbers(path)
    reader = STEPCAFControl_Reader()
    reader.SetNameMode(True)
    if reader.ReadFile(str(path)) != IFSelect_ReturnStatus.IFSelect_RetDone:
        raise Unreadable("It does not read as STEP")
    units = _units(reader)
    progress(0.3, "Building the bodies")
    document = TDocStd_Document(TCollection_ExtendedString("zipplumb"))
    if not reader.Transfer(document):
        raise Unreadable("It is STEP, but nothing in it could be built")
    bodies = _named_bodies(document)
    missing = _lost(reader, bodies)
    if not bodies:
        raise Unreadable("It is STEP, but holds no body with faces; it may have been cut off")
    progress(0.5, "Drawing the faces")
    return _meshed(units, bodies, progress, missing)


def _only_numbers(path: Path) -> None:
    """Numbers that are none, or beyond all parts, make the library run for ever."""
    if found := _NO_NUMBER.search(path.read_bytes()):
        raise Unreadable(f"It holds “{found[1].decode(errors='replace')[:20]}” where a number belongs")


def _lost(reader: STEPCAFControl_Reader, bodies: list[tuple[str, TopoDS_Shape]]) -> list[str]:
    """What the file has and the library did not build, or what the file does against its standard; a sentence each."""
    session = reader.Reader().WS()
    model = session.Model()
    told = sum(model.Value(k).DynamicType().Name() in _FACES for k in range(1, model.NbEntities() + 1))
    built = IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher()
    for _, shape in bodies:
        for face in _each(shape, TopAbs_ShapeEnum.TopAbs_FACE):
            built.Add(face.Located(TopLoc_Location()))
    found = []
    if built.Extent() < told:
        found.append(f"{told - built.Extent()} of the file's {told} faces could not be built; they are not here.")
    checks, faults = session.ModelCheckList(True), []
    checks.Start()
    while checks.More():
        if checks.Value().HasFailed():
            faults.append(checks.Number())
        checks.Next()
    if faults:
        where = ", ".join(f"#{model.IdentLabel(model.Value(n))}" for n in faults if n)[:60]
        at = f" at {where}" if where else ""
        found.append(f"The file breaks its standard in {len(faults)} places{at}; what is there may be wrong.")
    return found


def _units(reader: STEPCAFControl_Reader) -> str:
    lengths, angles, solids = (Sequence_TCollection_AsciiString() for _ in range(3))
    reader.Reader().FileUnits(lengths, angles, solids)
    if lengths.Length() == 0:
        raise Unreadable("It names no unit of length")
    word = lengths.Value(1).ToCString().lower()
    return UNITS.get(word, word)


def _named_bodies(document: TDocStd_Document) -> list[tuple[str, TopoDS_Shape]]:
    tool = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    labels = Sequence_TDF_Label()
    tool.GetFreeShapes(labels)
    found: list[tuple[str, TopoDS_Shape]] = []
    for label in (labels.Value(i + 1) for i in range(labels.Length())):
        _collect(label, TopLoc_Location(), "", found)
    return found


def _collect(label, location: TopLoc_Location, name: str, found: list) -> None:
    own = _name(label) or name
    if XCAFDoc_ShapeTool.IsReference_s(label):
        inner = TDF_Label()
        XCAFDoc_ShapeTool.GetReferredShape_s(label, inner)
        moved = location.Multiplied(XCAFDoc_ShapeTool.GetLocation_s(label))
        _collect(inner, moved, own, found)
        return
    if XCAFDoc_ShapeTool.IsAssembly_s(label):
        parts = Sequence_TDF_Label()
        XCAFDoc_ShapeTool.GetComponents_s(label, parts, False)
        for part in (parts.Value(i + 1) for i in range(parts.Length())):
            _collect(part, location, own, found)
        return
    shape = XCAFDoc_ShapeTool.GetShape_s(label).Moved(location)
    solids = list(_each(shape, TopAbs_ShapeEnum.TopAbs_SOLID)) or list(_each(shape, TopAbs_ShapeEnum.TopAbs_SHELL))
    solids = solids or ([shape] if any(_each(shape, TopAbs_ShapeEnum.TopAbs_FACE)) else [])
    for k, solid in enumerate(solids):
        found.append((f"{own or 'Body'} {k + 1}" if len(solids) > 1 else own or f"Body {len(found) + 1}", solid))


def _name(label) -> str:
    attribute = TDataStd_Name()
    if label.FindAttribute(TDataStd_Name.GetID_s(), attribute):
        return attribute.Get().ToExtString().strip()
    return ""


def _deflection(shapes: list[TopoDS_Shape]) -> float:
    box = Bnd_Box()
    for shape in shapes:
        BRepBndLib.Add_s(shape, box)
    low, high = box.CornerMin(), box.CornerMax()
    return max(low.Distance(high) * 5e-4, 1e-3)


def _meshed(units: str, bodies: list[tuple[str, TopoDS_Shape]], progress: Progress, missing: list[str]) -> CadModel:
    deflection = _deflection([shape for _, shape in bodies])
    out: dict[str, list] = {k: [] for k in ("pos", "nor", "tri", "edge", "edge_body")}
    faces: list[Face] = []
    counts: list[int] = []
    kept: list[Body] = []
    base = 0
    for b, (name, shape) in enumerate(bodies):
        BRepMesh_IncrementalMesh(shape, deflection, False, 0.25, True)
        before = len(faces)
        for raw in _each(shape, TopAbs_ShapeEnum.TopAbs_FACE):
            face = TopoDS.Face(raw)
            positions, normals, triangles = _face_mesh(face)
            if not len(triangles) or not np.all(np.isfinite(positions)):
                positions, normals, triangles = _healed_mesh(face, deflection)
            faces.append(_described(face, len(faces), b, positions))
            out["pos"].append(positions)
            out["nor"].append(normals)
            out["tri"].append(triangles + base)
            counts.append(len(triangles))
            base += len(positions)
        for line in _edges(shape, deflection):
            out["edge"].append(line)
            out["edge_body"].append(b)
        kept.append(Body(b, name, len(faces) - before))
        progress(0.5 + 0.45 * (b + 1) / len(bodies), f"Drew {b + 1} of {len(bodies)} bodies")
    lines = out["edge"]
    undrawn = counts.count(0)
    if undrawn == len(counts):
        raise Unreadable("It is STEP, but none of its faces can be drawn")
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
        np.array(out["edge_body"], np.uint32),
        tuple(missing),
    )


def _healed_mesh(face, deflection: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Of a face that could not be meshed as it is: mended, and tried again; empty where that does not help."""
    mending = ShapeFix_Face(face)
    mending.Perform()
    BRepMesh_IncrementalMesh(mending.Face(), deflection, False, 0.25, False)
    positions, normals, triangles = _face_mesh(mending.Face())
    if not np.all(np.isfinite(positions)):
        return np.empty((0, 3)), np.empty((0, 3)), np.empty((0, 3), int)
    return positions, normals, triangles


def _face_mesh(face) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Vertices, outward normals and triangles of a face; empty where it could not be meshed."""
    location = TopLoc_Location()
    mesh = BRep_Tool.Triangulation_s(face, location)
    if mesh is None or mesh.NbTriangles() == 0:
        return np.empty((0, 3)), np.empty((0, 3)), np.empty((0, 3), int)
    mesh.ComputeNormals()
    move = location.Transformation()
    reverse = face.Orientation() == TopAbs_Orientation.TopAbs_REVERSED
    positions, normals = [], []
    for i in range(1, mesh.NbNodes() + 1):
        node = mesh.Node(i).Transformed(move)
        normal = mesh.Normal(i).Transformed(move)
        positions.append((node.X(), node.Y(), node.Z()))
        normals.append((normal.X(), normal.Y(), normal.Z()))
    triangles = np.array([mesh.Triangle(i).Get() for i in range(1, mesh.NbTriangles() + 1)], int) - 1
    if reverse:
        return np.array(positions), -np.array(normals), triangles[:, ::-1]
    return np.array(positions), np.array(normals), triangles


def _described(face, index: int, body: int, positions: np.ndarray) -> Face:
    surface = BRepAdaptor_Surface(face, True)
    word = WORDS.get(surface.GetType(), "free surface")
    properties = GProp_GProps()
    BRepGProp.SurfaceProperties_s(face, properties)
    low, high = (positions.min(axis=0), positions.max(axis=0)) if len(positions) else (np.zeros(3), np.zeros(3))
    box = tuple(float(v) for v in (*low, *high))
    nominal, inside = _nominal(face, surface, word)
    return Face(index, body, word, nominal, abs(properties.Mass()), box, inside)


def _nominal(face, surface, word: str) -> tuple[dict | None, bool | None]:
    """The shape of a face as data, and whether the material lies round it."""
    if word not in _SHAPES:
        return None, None
    u0, u1, v0, v1 = BRepTools.UVBounds_s(face)
    at, outward = gp_Pnt(), gp_Vec()
    BRepGProp_Face(face).Normal((u0 + u1) / 2, (v0 + v1) / 2, at, outward)
    normal = _numbers(outward)
    if not np.linalg.norm(normal) > 0:
        return None, None
    normal /= np.linalg.norm(normal)
    point = _numbers(at)
    if word == "plane":
        return {"shape": "plane", "point": _clean(point), "normal": _clean(normal)}, None
    return _SHAPES[word](surface, point, normal)


def _numbers(place) -> np.ndarray:
    return np.array([place.X(), place.Y(), place.Z()])


def _cylinder(surface, point: np.ndarray, normal: np.ndarray) -> tuple[dict, bool]:
    tube = surface.Cylinder()
    start, direction = _numbers(tube.Axis().Location()), _numbers(tube.Axis().Direction())
    middle = start + ((point - start) @ direction) * direction
    shape = {"shape": "cylinder", "point": _clean(middle), "direction": _clean(direction), "radius": tube.Radius()}
    return shape, bool(normal @ (point - middle) < 0)


def _cone(surface, point: np.ndarray, normal: np.ndarray) -> tuple[dict, bool]:
    cone = surface.Cone()
    apex, direction = _numbers(cone.Apex()), _numbers(cone.Axis().Direction())
    if (point - apex) @ direction < 0:
        direction = -direction
    across = (point - apex) - ((point - apex) @ direction) * direction
    shape = {"shape": "cone", "apex": _clean(apex), "direction": _clean(direction), "half_angle": abs(cone.SemiAngle())}
    return shape, bool(normal @ across < 0)


def _sphere(surface, point: np.ndarray, normal: np.ndarray) -> tuple[dict, bool]:
    ball = surface.Sphere()
    center = _numbers(ball.Location())
    return {"shape": "sphere", "center": _clean(center), "radius": ball.Radius()}, bool(normal @ (point - center) < 0)


def _torus(surface, point: np.ndarray, normal: np.ndarray) -> tuple[dict, bool]:
    ring = surface.Torus()
    center, axis = _numbers(ring.Location()), _numbers(ring.Axis().Direction())
    flat = (point - center) - ((point - center) @ axis) * axis
    tube = center + ring.MajorRadius() * flat / max(float(np.linalg.norm(flat)), 1e-12)
    shape = {
        "shape": "torus", "center": _clean(center), "normal": _clean(axis), "major_radius": ring.MajorRadius(),
        "minor_radius": ring.MinorRadius(),
    }  # fmt: skip
    return shape, bool(normal @ (point - tube) < 0)


_SHAPES = {"plane": None, "cylinder": _cylinder, "cone": _cone, "sphere": _sphere, "torus": _torus}


def _clean(vector: np.ndarray) -> list[float]:
    return [0.0 if abs(v) < 1e-12 else float(v) for v in vector]


def _edges(shape: TopoDS_Shape, deflection: float):
    """Every edge once, as a polyline."""
    unique = IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher()
    TopExp.MapShapes_s(shape, TopAbs_ShapeEnum.TopAbs_EDGE, unique)
    for k in range(1, unique.Extent() + 1):
        edge = TopoDS.Edge(unique.FindKey(k))
        if BRep_Tool.Degenerated_s(edge):
            continue
        points = GCPnts_TangentialDeflection(BRepAdaptor_Curve(edge), 0.1, deflection)
        yield np.array([(p.X(), p.Y(), p.Z()) for p in (points.Value(i + 1) for i in range(points.NbPoints()))])
