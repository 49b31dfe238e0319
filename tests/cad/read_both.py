"""Read CAD files twice, bare and by us: ``python read_both.py FILE…`` prints a line of JSON for each, in one process;
with ``-`` the files are named on standard input, and the bare reading is left out.

Ours is what the child process runs (``zipplumb.cad.apart.child``), without its limits. The bare one is the CAD library's own
reader, or trimesh's.
"""

import gzip
import json
import sys
import tempfile
from dataclasses import asdict
from importlib import import_module
from pathlib import Path

import numpy as np
import trimesh
from OCP.BRep import BRep_Tool
from OCP.BRepMesh import BRepMesh_IncrementalMesh
from OCP.IGESControl import IGESControl_Reader
from OCP.STEPControl import STEPControl_Reader
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp_Explorer
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS

from zipplumb.cad.formats import Unreadable, format_of
from zipplumb.jobs.plan.alike import alike, things

READERS = {"step": STEPControl_Reader, "iges": IGESControl_Reader}


def bare(path: Path, module: str) -> dict:
    """``faces`` (or triangles), ``box``, as the library alone reads them."""
    if module == "mesh":
        mesh = trimesh.load_mesh(path)
        mesh.update_faces(mesh.nondegenerate_faces())
        return {"faces": len(mesh.faces), "box": mesh.bounds.ravel().tolist()}
    reader = READERS[module]()
    reader.ReadFile(str(path))
    reader.TransferRoots()
    shape, count, corners = reader.OneShape(), 0, []
    if shape is None or shape.IsNull():
        return {"faces": 0, "box": [0.0] * 6}
    BRepMesh_IncrementalMesh(shape, 1e-3, True, 0.25, True)
    faces = TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_FACE)
    while faces.More():  # points and curves that bound no face are no part of it
        count += 1
        place = TopLoc_Location()
        mesh = BRep_Tool.Triangulation_s(TopoDS.Face(faces.Current()), place)
        if mesh is not None and mesh.NbNodes():
            nodes = np.array([mesh.Node(k + 1).Transformed(place.Transformation()).Coord() for k in range(mesh.NbNodes())])
            corners += [nodes.min(axis=0), nodes.max(axis=0)]
        faces.Next()
    box = [*np.min(corners, axis=0).tolist(), *np.max(corners, axis=0).tolist()] if corners else [0.0] * 6
    return {"faces": count, "box": box}


def ours(path: Path, module: str) -> dict:
    try:
        model = import_module(f"zipplumb.cad.library.{module}").read(path, lambda share, words: None, "mm")
    except Unreadable as refused:
        return {"refused": str(refused)}
    boxes = np.array([f.box for f in model.faces])
    return {
        "faces": len(model.triangles) if module == "mesh" else len(model.faces),
        "box": [*boxes[:, :3].min(axis=0).tolist(), *boxes[:, 3:].max(axis=0).tolist()],
        "exact": all(f.nominal or f.index in model.splines for f in model.faces),
        "missing": model.missing,
        "nominals": [f.nominal for f in model.faces],
        "picked": picked([asdict(f) for f in model.faces]),
    }


def picked(faces: list[dict]) -> str:
    """Why one of the faces cannot be picked, and what is like it found; "" where nothing is in the way."""
    try:
        things(faces)
        for face in faces[:: max(1, len(faces) // 30)]:
            alike(faces, face["index"])
    except Exception as error:  # whatever it is, the file is told by it
        return f"{type(error).__name__}: {error}"
    return ""


def alone(path: Path, folder: str) -> Path:
    """Unpacked, in a folder where nothing else is: an assembly is not read together with the files it names."""
    packed = path.suffix == ".gz"
    plain = Path(folder) / (path.stem if packed else path.name)
    plain.write_bytes(gzip.decompress(path.read_bytes()) if packed else path.read_bytes())
    return plain


if __name__ == "__main__":
    import os

    out = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)  # the library writes its own messages to standard output
    asked = sys.argv[1] == "-"
    for name in map(str.strip, sys.stdin) if asked else sys.argv[1:]:
        with tempfile.TemporaryDirectory() as folder:
            path = alone(Path(name), folder)
            known = format_of(path, path.name)
            module = known.module if known else "unknown"
            both = {"ours": ours(path, module), **({} if asked else {"bare": bare(path, module)})} if known else {}
            print(json.dumps({"file": name, "module": module, **both}), file=out, flush=True)
    os._exit(0)  # no way out through the library's own threads
