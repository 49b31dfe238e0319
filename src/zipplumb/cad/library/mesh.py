"""Reading meshes: STL, PLY, OBJ. Only the child process imports this module."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path

import numpy as np
import trimesh

from ...core.units import MM_PER_INCH
from ..formats import Unreadable, format_of
from ..model import Body, CadModel, Face

MM = {"mm": 1.0, "in": MM_PER_INCH, "m": 1000.0}
CORNER_ZERO = re.compile(rb"^f[ \t](?:[^\r\n]*[ \t])?0+(?=[/ \t\r\n]|\Z)", re.MULTILINE)
SAID = re.compile(rb"^element face (\d+)\s*$", re.MULTILINE)
HEADER_BYTES = 1 << 16
FOLD_RAD = np.radians(30.0)  # an edge that is drawn


def read(path: Path, progress: Callable[[float, str], None], units: str) -> CadModel:
    """Read a mesh whose lengths are in ``units``. It has one face a body: places on it can be picked. Raises Unreadable."""
    progress(0.05, "Reading the file")
    known = format_of(path, path.name)
    if known is not None and known.name == "OBJ" and CORNER_ZERO.search(path.read_bytes()):
        raise Unreadable("A face of it names corner 0, and an OBJ file counts its corners from 1")
    try:
        loaded = trimesh.load_scene(path, file_type=known.name.lower() if known else None, skip_materials=True)
    except Exception as error:  # whatever a foreign file does to the reader
        raise Unreadable(f"It does not read as {known.name if known else 'a mesh'}") from error
    meshes = {str(name): mesh for name, mesh in loaded.geometry.items() if isinstance(mesh, trimesh.Trimesh)}
    lost = sum(int(np.count_nonzero(~_usable(mesh))) for mesh in meshes.values())
    bodies = [("" if name == path.name else name, _clean(mesh, units)) for name, mesh in meshes.items()]
    bodies = [(name, mesh) for name, mesh in bodies if len(mesh.faces)]
    if not bodies:
        raise Unreadable("It holds no triangles; it may have been cut off")
    progress(0.5, "Drawing the mesh")
    read_in = sum(len(mesh.faces) for mesh in meshes.values())
    missing = _fewer_than_said(path, read_in)
    missing += [f"{lost} triangles have corners that are no places, or beyond all parts; they are not here."] if lost else []
    gaps = sum(not mesh.is_watertight for _, mesh in bodies)
    if gaps:
        missing.append("The mesh has holes, or edges that do not meet. Where it is whole it is used as it is.")
    if any(mesh.is_watertight and mesh.volume < 0 for _, mesh in bodies):
        for _, mesh in bodies:
            if mesh.is_watertight and mesh.volume < 0:
                mesh.invert()
        missing.append("Its triangles faced into the material; they were turned round.")
    return _model(bodies, units, tuple(missing))


def _fewer_than_said(path: Path, read_in: int) -> list[str]:
    """A sentence where a PLY file has fewer faces than its header says."""
    with path.open("rb") as file:
        head = file.read(HEADER_BYTES).split(b"end_header")[0]
    said = SAID.search(head) if head.startswith(b"ply") else None
    if said is None or int(said[1]) <= read_in:
        return []
    return [f"The file says that it has {int(said[1])} faces, and {read_in} are in it: it may have been cut off."]


def _usable(mesh: trimesh.Trimesh) -> np.ndarray:
    """For each triangle, whether its corners are finite."""
    near = np.asarray(np.all(np.isfinite(mesh.vertices) & (np.abs(mesh.vertices) < 1e9), axis=1))
    return np.asarray(near[mesh.faces].all(axis=1))


def _clean(mesh: trimesh.Trimesh, units: str) -> trimesh.Trimesh:
    mesh.update_faces(_usable(mesh))
    mesh.update_faces(mesh.nondegenerate_faces())
    mesh.remove_unreferenced_vertices()
    mesh.merge_vertices()
    mesh.apply_scale(MM[units])
    return mesh


def _model(bodies: list[tuple[str, trimesh.Trimesh]], units: str, missing: tuple[str, ...]) -> CadModel:
    faces, starts, base = [], [0], 0
    positions, normals, triangles, lines, of_body = [], [], [], [], []
    for k, (_, mesh) in enumerate(bodies):
        box = tuple(float(v) for v in mesh.bounds.ravel())
        faces.append(Face(k, k, "mesh", None, float(mesh.area), box))
        corners = mesh.triangles.reshape(-1, 3)  # each triangle with its own, so that folds stay crisp
        positions.append(corners)
        normals.append(np.repeat(mesh.face_normals, 3, axis=0))
        triangles.append(np.arange(len(corners)).reshape(-1, 3) + base)
        base += len(corners)
        starts.append(starts[-1] + len(mesh.faces))
        folds = mesh.face_adjacency_edges[mesh.face_adjacency_angles > FOLD_RAD]
        lines.append(mesh.vertices[folds].reshape(-1, 3))
        of_body += [k] * len(folds)
    drawn = np.vstack(lines)
    return CadModel(
        units,
        tuple(Body(k, name or f"Body {k + 1}", 1) for k, (name, _) in enumerate(bodies)),
        tuple(faces),
        np.vstack(positions).astype(np.float32),
        np.vstack(normals).astype(np.float32),
        np.vstack(triangles).astype(np.uint32),
        np.array(starts, np.uint32),
        drawn.astype(np.float32),
        np.arange(0, len(drawn) + 1, 2, dtype=np.uint32),
        np.array(of_body, np.uint32),
        missing,
    )
