"""Reading STEP with OCCT. Only the child process imports this module."""

from __future__ import annotations

import re
import tempfile
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

from ..formats import Unreadable
from ..model import CadModel
from .bodies import each, named_bodies
from .drawn import Progress, drawn
from .semantic import callouts_of
from .step_tokens import no_number, plainly

UNITS = {"millimetre": "mm", "mm": "mm", "inch": "in", "metre": "m", "m": "m", "centimetre": "cm", "foot": "ft"}
UNNAMED_UNIT = "The file names no unit of length, and was read in mm; look at a size that is known before it is used."
_OTHER_FILE = re.compile(rb"DOCUMENT_FILE\s*\(\s*'([^']+)'")
_FACES = re.compile(rb"=\s*(?:ADVANCED_FACE|FACE_SURFACE)\s*\(")


def read(path: Path, progress: Progress, units: str) -> CadModel:
    """Read, name, mesh. Raises Unreadable; what of the file is not in the model, the model says."""
    progress(0.05, "Reading the file")
    data = path.read_bytes()
    if wrong := no_number(data):
        raise Unreadable(f"It holds “{wrong[:20]}” where a number belongs")
    reader = STEPCAFControl_Reader()
    reader.SetNameMode(True)
    reader.SetGDTMode(True)
    if not _begun(reader, path, data):
        raise Unreadable("It does not read as STEP")
    said = _units(reader)  # its own word goes before what a person says
    progress(0.3, "Building the bodies")
    document = TDocStd_Document(TCollection_ExtendedString("zipplumb"))
    if not reader.Transfer(document):
        raise Unreadable("It is STEP, but nothing in it could be built")
    bodies = named_bodies(document)
    missing = _lost(reader, bodies, data)
    if not said and missing:
        raise Unreadable("It names no unit of length, and is not whole")
    if not said:
        missing.append(UNNAMED_UNIT)
    if not bodies:
        raise Unreadable(_without_bodies(data))
    progress(0.5, "Drawing the faces")
    return replace(drawn(said or "mm", bodies, progress, missing), callouts=callouts_of(document, bodies))


def _begun(reader: STEPCAFControl_Reader, path: Path, data: bytes) -> bool:
    plain = plainly(data)
    if plain is data:
        return reader.ReadFile(str(path)) == IFSelect_ReturnStatus.IFSelect_RetDone
    with tempfile.NamedTemporaryFile(suffix=".stp") as copy:
        copy.write(plain)
        copy.flush()
        return reader.ReadFile(copy.name) == IFSelect_ReturnStatus.IFSelect_RetDone


def _without_bodies(data: bytes) -> str:
    """An assembly may only name the files in which its parts are."""
    named = dict.fromkeys(name.decode(errors="replace") for name in _OTHER_FILE.findall(data))
    if not named:
        return "It is STEP, but holds no body with faces; it may have been cut off"
    files = ", ".join(list(named)[:3]) + (", …" if len(named) > 3 else "")
    return f"It holds no body itself, but names the files that do ({files}); bring in these, or the assembly as one file"


def _lost(reader: STEPCAFControl_Reader, bodies: list[tuple[str, TopoDS_Shape]], data: bytes) -> list[str]:
    """Sentences about parts of the file that the library did not build, and about violations of the standard."""
    session = reader.Reader().WS()
    model = session.Model()
    told = len(_FACES.findall(data))
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
    """The unit of length that the file names; "" where it names none."""
    lengths, angles, solids = (Sequence_TCollection_AsciiString() for _ in range(3))
    reader.Reader().FileUnits(lengths, angles, solids)
    if lengths.Length() == 0:
        return ""
    word = lengths.Value(1).ToCString().lower()
    return UNITS.get(word, word)
