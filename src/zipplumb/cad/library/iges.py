"""Reading IGES with OCCT. Only the child process imports this module."""

from __future__ import annotations

import re
from pathlib import Path

from OCP.BRep import BRep_Tool
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeSolid, BRepBuilderAPI_Sewing
from OCP.BRepLib import BRepLib
from OCP.IFSelect import IFSelect_ReturnStatus
from OCP.IGESCAFControl import IGESCAFControl_Reader
from OCP.TCollection import TCollection_ExtendedString
from OCP.TDocStd import TDocStd_Document
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopoDS import TopoDS, TopoDS_Shape

from ..formats import Unreadable
from ..model import CadModel
from .bodies import each, named_bodies
from .drawn import Progress, drawn

SEWN_WITHIN_MM = 0.01
SECTIONS = re.compile(rb"^.{72}([SGDPT]) *\d", re.MULTILINE)  # each line names its section in column 73
UNITS = {
    "IN": "in",
    "INCH": "in",
    "MM": "mm",
    "FT": "ft",
    "MI": "mi",
    "M": "m",
    "KM": "km",
    "MIL": "mil",
    "UM": "µm",
    "CM": "cm",
}


def read(path: Path, progress: Progress, units: str) -> CadModel:
    """Read, name, sew, mesh. Raises Unreadable.

    An IGES file mostly holds faces that nothing holds together: they are sewn, so that it is known where the material lies.
    """
    progress(0.05, "Reading the file")
    if _without_its_unit(path):
        raise Unreadable("It is IGES, but its global section is missing, which says the unit of its lengths")
    reader = IGESCAFControl_Reader()
    reader.SetNameMode(True)
    if reader.ReadFile(str(path)) != IFSelect_ReturnStatus.IFSelect_RetDone:
        raise Unreadable("It does not read as IGES")
    named = reader.IGESModel().GlobalSection().UnitName()
    word = named.ToCString().upper() if named is not None else "MM"
    progress(0.3, "Building the bodies")
    document = TDocStd_Document(TCollection_ExtendedString("zipplumb"))
    if not reader.Transfer(document):
        raise Unreadable("It is IGES, but nothing in it could be built")
    found = named_bodies(document)
    if not found:
        raise Unreadable("It is IGES, but holds no faces; it may have been cut off")
    progress(0.4, "Sewing the faces")
    bodies, missing = _sewn(found)
    progress(0.5, "Drawing the faces")
    return drawn(UNITS.get(word, word.lower()), bodies, progress, missing)


def _without_its_unit(path: Path) -> bool:
    """Its lines name their sections, and none is of the global one: the library would take inches then."""
    letters = set(SECTIONS.findall(path.read_bytes()))
    return {b"D", b"P"} <= letters and b"G" not in letters


def _sewn(found: list[tuple[str, TopoDS_Shape]]) -> tuple[list[tuple[str, TopoDS_Shape]], list[str]]:
    """Solids as they are; loose faces as bodies, closed where they close. The second: what is not known, in sentences."""
    solids = [(name, shape) for name, shape in found if shape.ShapeType() == TopAbs_ShapeEnum.TopAbs_SOLID]
    loose = [(name, shape) for name, shape in found if shape.ShapeType() != TopAbs_ShapeEnum.TopAbs_SOLID]
    if not loose:
        return solids, []
    sewing = BRepBuilderAPI_Sewing(SEWN_WITHIN_MM)
    for _, shape in loose:
        sewing.Add(shape)
    sewing.Perform()
    sewn = sewing.SewedShape()
    bodies, missing, open_faces = list(solids), [], 0
    shells = list(each(sewn, TopAbs_ShapeEnum.TopAbs_SHELL))
    for shell in shells:
        solid = _closed(shell)
        name = loose[0][0] if len(loose) == 1 else f"Body {len(bodies) + 1}"
        bodies.append((name, solid if solid is not None else shell))
        if solid is None:
            open_faces += sum(1 for _ in each(shell, TopAbs_ShapeEnum.TopAbs_FACE))
    in_shells = {hash(face) for shell in shells for face in each(shell, TopAbs_ShapeEnum.TopAbs_FACE)}
    single = [face for face in each(sewn, TopAbs_ShapeEnum.TopAbs_FACE) if hash(face) not in in_shells]
    bodies += [(f"Face {k + 1}", face) for k, face in enumerate(single)]
    open_faces += len(single)
    if open_faces:
        words = f"{open_faces} faces close no body, so that it is not known on which side of them the material lies"
        missing.append(f"{words}; look at each before it is measured.")
    return bodies, missing


def _closed(shell) -> TopoDS_Shape | None:
    """A solid, its faces turned out of the material; None of a shell that is open."""
    if not BRep_Tool.IsClosed_s(shell):
        return None
    solid = BRepBuilderAPI_MakeSolid(TopoDS.Shell(shell)).Solid()
    return solid if BRepLib.OrientClosedSolid_s(solid) else None
