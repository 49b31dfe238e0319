"""Reading a STEP file against OCCT's bare read and mesh of the same file."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

from measure import best, row

from zipplumb.cad import read_cad

BARE = """
import sys
from OCP.STEPControl import STEPControl_Reader
from OCP.BRepMesh import BRepMesh_IncrementalMesh
reader = STEPControl_Reader()
reader.ReadFile(sys.argv[1])
reader.TransferRoots()
BRepMesh_IncrementalMesh(reader.OneShape(), 0.3, False, 0.25, True)
"""
ASSEMBLY = """
import sys
from OCP.BRep import BRep_Builder
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
from OCP.BRepBuilderAPI import BRepBuilderAPI_Transform
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt, gp_Trsf, gp_Vec
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
from OCP.TopoDS import TopoDS_Compound
plate = BRepPrimAPI_MakeBox(60.0, 40.0, 8.0).Shape()
for x, y in ((8, 8), (52, 8), (8, 32), (52, 32)):
    hole = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, -1), gp_Dir(0, 0, 1)), 4.0, 10.0).Shape()
    plate = BRepAlgoAPI_Cut(plate, hole).Shape()
whole, builder = TopoDS_Compound(), BRep_Builder()
builder.MakeCompound(whole)
for k in range(int(sys.argv[2])):
    moved = gp_Trsf()
    moved.SetTranslation(gp_Vec(70.0 * (k % 40), 50.0 * (k // 40), 0))
    builder.Add(whole, BRepBuilderAPI_Transform(plate, moved, True).Shape())
writer = STEPControl_Writer()
writer.Transfer(whole, STEPControl_StepModelType.STEPControl_AsIs)
writer.Write(sys.argv[1])
"""
BODIES = 300
QUIET = {"check": True, "stdout": subprocess.DEVNULL}


def run() -> None:
    print("Import, each in a process of its own")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "carrier.step"
        write = f"from zipplumb.demo.carrier import write_step; from pathlib import Path; write_step(Path({str(path)!r}))"
        subprocess.run([sys.executable, "-c", write], **QUIET)
        ours = best(lambda: read_cad(path), 3)
        bare = best(lambda: subprocess.run([sys.executable, "-c", BARE, str(path)], **QUIET), 3)
        row("bearing carrier, 20 faces", ours, bare, "the bare read and mesh")
        path = Path(folder) / "assembly.step"
        subprocess.run([sys.executable, "-c", ASSEMBLY, str(path), str(BODIES)], **QUIET)
        model = read_cad(path)
        ours = best(lambda: read_cad(path), 1)
        bare = best(lambda: subprocess.run([sys.executable, "-c", BARE, str(path)], **QUIET), 1)
        told = f"{len(model.bodies)} bodies, {len(model.faces)} faces, {len(model.triangles)} triangles"
        row(told, ours, bare, "the bare read and mesh")
