"""Reading STEP with OCCT. Only the child process imports this module."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from OCP.IFSelect import IFSelect_ReturnStatus
from OCP.OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher, Sequence_TCollection_AsciiString
from OCP.STEPCAFControl import STEPCAFControl_Reader
from OCP.TCollection import TCollection_ExtendedString
from OCP.TDocStd import TDocStd_Document
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS_Shape

from .bodies import each, named_bodies
from .drawn import Progress, drawn
from .formats import Unreadable
from .model import CadModel
from .semantic import callouts_of
from .step_tokens import no_number

UNITS = {"millimetre": "mm", "mm": "mm", "inch": "in", "metre": "m", "m": "m", "centimetre": "cm", "foot": "ft"}
_FACES = ("StepShape_AdvancedFace", "StepShape_FaceSurface")


def read(path: Path, progress: Progress, units: str) -> CadModel:
    """Read, name, mesh. Raises Unreadable; what of the file is not in the model, the model says."""
    progress(0.05, "Reading the file")
    if wrong := no_number(path.read_bytes()):
        raise Unreadable(f"It holds “{wrong[:20]}” where a number belongs")
    reader = STEPCAFControl_Reader()
    reader.SetNameMode(True)
    reader.SetGDTMode(True)
    if reader.ReadFile(str(path)) != IFSelect_ReturnStatus.IFSelect_RetDone:
        raise Unreadable("It does not read as STEP")
    units = _units(reader)  # its own word goes before what a person says
    progress(0.3, "Building the bodies")
    document = TDocStd_Document(TCollection_ExtendedString("zipplumb"))
    if not reader.Transfer(document):
        raise Unreadable("It is STEP, but nothing in it could be built")
    bodies = named_bodies(document)
    missing = _lost(reader, bodies)
    if not bodies:
        raise Unreadable("It is STEP, but holds no body with faces; it may have been cut off")
    progress(0.5, "Drawing the faces")
    return replace(drawn(units, bodies, progress, missing), callouts=callouts_of(document, bodies))


def _lost(reader: STEPCAFControl_Reader, bodies: list[tuple[str, TopoDS_Shape]]) -> list[str]:
    """What the file has and the library did not build, or what the file does against its standard; a sentence each."""
    session = reader.Reader().WS()
    model = session.Model()
    told = sum(model.Value(k).DynamicType().Name() in _FACES for k in range(1, model.NbEntities() + 1))
    built = IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher()
    for _, shape in bodies:
        for face in each(shape, TopAbs_ShapeEnum.TopAbs_FACE):
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
