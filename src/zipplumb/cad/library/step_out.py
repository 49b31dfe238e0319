"""What a child process does to write a STEP file again with the tolerances in IN.callouts beside it (see ``ready``)."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

from ..callouts import Callouts

# the library gives the first length that it writes with a tolerance a bare metre, though it is in mm; and every round zone
# something of a run-out that is short of what it needs
WRONG = (
    (re.compile(rb"SI_UNIT\(\$,\.METRE\.\)"), b"SI_UNIT(.MILLI.,.METRE.)"),
    (re.compile(rb"^#\d+ = RUNOUT_ZONE_(DEFINITION\(#\d+,\(\)\)|ORIENTATION\(#\d+\));\r?\n", re.M), b""),
)


def main(tell: Callable[..., None], source: str, target: str) -> int:
    write(Path(source), Path(target), Callouts.from_json(Path(f"{source}.callouts").read_text()))
    return 0


def write(source: Path, target: Path, callouts: Callouts) -> None:
    """The bodies of a STEP file, in mm, with these tolerances, as AP242."""
    from OCP.IFSelect import IFSelect_ReturnStatus
    from OCP.Interface import Interface_Static
    from OCP.STEPCAFControl import STEPCAFControl_Reader, STEPCAFControl_Writer
    from OCP.STEPControl import STEPControl_StepModelType
    from OCP.TCollection import TCollection_ExtendedString
    from OCP.TDocStd import TDocStd_Document

    from .bodies import named_bodies
    from .semantic import put_callouts

    reader = STEPCAFControl_Reader()
    reader.SetNameMode(True)
    reader.SetColorMode(True)
    reader.SetGDTMode(False)  # what it carried before was taken over, or was not wanted
    document = TDocStd_Document(TCollection_ExtendedString("zipplumb"))
    if reader.ReadFile(str(source)) != IFSelect_ReturnStatus.IFSelect_RetDone or not reader.Transfer(document):
        raise SystemExit(2)
    put_callouts(document, named_bodies(document), callouts)
    writer = STEPCAFControl_Writer()
    Interface_Static.SetCVal_s("write.step.schema", "AP242DIS")
    Interface_Static.SetCVal_s("write.step.unit", "MM")
    writer.SetNameMode(True)
    writer.SetColorMode(True)
    writer.SetDimTolMode(True)
    if not writer.Transfer(document, STEPControl_StepModelType.STEPControl_AsIs):
        raise SystemExit(2)
    if writer.Write(str(target)) != IFSelect_ReturnStatus.IFSelect_RetDone:
        raise SystemExit(2)
    text = target.read_bytes()
    for wrong, right in WRONG:
        text = wrong.sub(right, text)
    target.write_bytes(text)
