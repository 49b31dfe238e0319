"""PLY (the polygon file format of Stanford University, 1.0): vertices, with normals or faces that tell them."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from .blocks import BLOCK, Array, Block, Opened, bad, in_unit, must_say_unit

FACING = ("nx", "ny", "nz")
BRIGHT = ("intensity", "scalar_intensity", "reflectance", "quality")
COLOR = ("red", "green", "blue")


def opened(path: Path, unit_mm: float) -> Opened:
    """Vertices; what is no number is left out."""
    from plyfile import PlyData, PlyParseError

    must_say_unit(unit_mm)
    try:
        try:
            data = PlyData.read(str(path), mmap="r", known_list_len={"face": {"vertex_indices": 3, "vertex_index": 3}})
        except (PlyParseError, KeyError, ValueError):
            data = PlyData.read(str(path), mmap="r")
    except (PlyParseError, ValueError, KeyError, UnicodeDecodeError, EOFError) as error:
        raise bad(f"It begins as a PLY file and is no sound one ({error}).") from error
    if "vertex" not in data or not {"x", "y", "z"} <= {p.name for p in data["vertex"].properties}:
        raise bad("This PLY file has no vertices with x, y and z.")
    vertices = data["vertex"]
    names = {p.name for p in vertices.properties}
    faces = data["face"] if "face" in data and not set(FACING) <= names else None
    normals = None if faces is None or not len(faces) else _normals(vertices, faces)
    return Opened(len(vertices), _blocks(vertices, names, normals, unit_mm))


def _blocks(vertices: Any, names: set[str], normals: Array | None, unit_mm: float) -> Iterator[Block]:
    bright = next((name for name in BRIGHT if name in names), "")
    for first in range(0, len(vertices), BLOCK):
        some = vertices.data[first : first + BLOCK]
        points = unit_mm * np.column_stack([some[name].astype(float) for name in "xyz"])
        good = np.isfinite(points).all(axis=1)
        told = np.column_stack([some[n].astype(float) for n in FACING]) if set(FACING) <= names else None
        if normals is not None:
            told = normals[first : first + BLOCK]
        shine = some[bright].astype(float) if bright else None
        if shine is None and set(COLOR) <= names:
            shine = np.mean([some[name].astype(float) for name in COLOR], axis=0)
        yield Block(points[good], None if shine is None else in_unit(shine[good]), None if told is None else told[good])


def _normals(vertices: Any, faces: Any) -> Array | None:
    """Of each vertex the mean of its faces', by their areas."""
    name = next((p.name for p in faces.properties if p.name in ("vertex_indices", "vertex_index")), "")
    if not name:
        return None
    corners = faces[name]
    if corners.dtype == object:  # faces of any number of corners: their first three tell how they lie
        corners = np.array([face[:3] for face in corners if len(face) > 2])
    corners = corners[:, :3].astype(np.int64)
    if len(corners) == 0 or corners.min() < 0 or corners.max() >= len(vertices):
        raise bad("A face of this PLY file names a vertex that is not there.")
    points = np.column_stack([vertices[n].astype(float) for n in "xyz"])
    a, b, c = points[corners].transpose(1, 0, 2)
    across, found = np.cross(b - a, c - a), np.zeros_like(points)
    for k in range(3):
        for axis in range(3):
            found[:, axis] += np.bincount(corners[:, k], across[:, axis], len(points))
    return found
