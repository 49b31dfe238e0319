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
