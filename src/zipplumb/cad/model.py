"""What a CAD file gives: bodies, faces with their exact nominals, and a mesh to draw.

The packed form is what the browser's stage reads: a little-endian unsigned 32-bit length, that
many bytes of JSON (padded to a multiple of four), and the arrays one after another in the order
of the JSON's ``arrays`` list. docs/formats.md describes it.
"""

from __future__ import annotations

import json
import struct
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..core.spline_surface import SplineSurface
from .callouts import Callouts

NO_CALLOUTS = Callouts()


@dataclass(frozen=True)
class Body:
    index: int
    name: str
    faces: int


@dataclass(frozen=True)
class Face:
    """One face of a body.

    ``nominal`` is the surface's shape as data (see core/shape_codec; part frame, mm, rad) where it is a plane,
    cylinder, cone, sphere or torus, otherwise None; ``surface`` is the plain word for what it is. ``inside``: the
    material lies round it (None of a plane). ``box`` holds the least and greatest x, y, z. ``recognised``: the file writes
    it as another kind of surface.
    """

    index: int
    body: int
    surface: str
    nominal: dict | None
    area_mm2: float
    box: tuple[float, ...]
    inside: bool | None = None
    recognised: bool = False


@dataclass(frozen=True)
class Edge:
    """One edge of a body, or the whole outline of a flat face that it belongs to.

    ``nominal``: a line, circle, arc, ellipse or slot as data, or None; ``shape`` its name, or "curve". ``inside``: it
    is a cut-out; ``face``: the flat face that it bounds.
    """

    index: int
    body: int
    shape: str
    nominal: dict | None
    inside: bool | None = None
    face: int | None = None


@dataclass(frozen=True, eq=False)
class CadModel:
    """A read file.

    Attributes
    ----------
    units : str, the file's own length unit; everything here is mm
    positions, normals : (n, 3) float32, one block of vertices per face
    triangles : (m, 3) uint32
    face_triangles : (faces + 1,) uint32, where each face's triangles begin
    edge_points : (k, 3) float32, polylines of all edges
    edge_starts : (edges + 1,) uint32, where each polyline begins
    edge_bodies : (edges,) uint32
    missing : what of the file is not here, a sentence each
    edges : what the polylines are, in their order; none of a mesh
    splines : exact surfaces of free faces, by face
    callouts : tolerances that the file carries

    Edges, splines and callouts are not packed: the stage needs them not.
    """

    units: str
    bodies: tuple[Body, ...]
    faces: tuple[Face, ...]
    positions: NDArray[np.float32]
    normals: NDArray[np.float32]
    triangles: NDArray[np.uint32]
    face_triangles: NDArray[np.uint32]
    edge_points: NDArray[np.float32]
    edge_starts: NDArray[np.uint32]
    edge_bodies: NDArray[np.uint32]
    missing: tuple[str, ...] = ()
    edges: tuple[Edge, ...] = ()
    splines: Mapping[int, SplineSurface] = field(default_factory=dict)
    callouts: Callouts = NO_CALLOUTS

    ARRAYS = (
        ("positions", "<f4", 3),
        ("normals", "<f4", 3),
        ("triangles", "<u4", 3),
        ("face_triangles", "<u4", 1),
        ("edge_points", "<f4", 3),
        ("edge_starts", "<u4", 1),
        ("edge_bodies", "<u4", 1),
    )

    @classmethod
    def empty(cls) -> CadModel:
        """The model of a part without CAD."""
        arrays = {
            name: np.zeros(1 if name in ("face_triangles", "edge_starts") else (0, width) if width > 1 else 0, kind)
            for name, kind, width in cls.ARRAYS
        }
        return cls("mm", (), (), **arrays)  # type: ignore[arg-type]

    def pack(self) -> bytes:
        arrays = [np.ascontiguousarray(getattr(self, name), kind) for name, kind, _ in self.ARRAYS]
        head = {
            "units": self.units,
            "missing": list(self.missing),
            "bodies": [vars(b) for b in self.bodies],
            "faces": [vars(f) for f in self.faces],
            "arrays": [[name, kind[1:], a.size] for (name, kind, _), a in zip(self.ARRAYS, arrays, strict=True)],
        }
        text = json.dumps(head, separators=(",", ":")).encode()
        text += b" " * (-len(text) % 4)
        return struct.pack("<I", len(text)) + text + b"".join(a.tobytes() for a in arrays)

    @classmethod
    def unpack(cls, data: bytes) -> CadModel:
        (length,) = struct.unpack_from("<I", data)
        head = json.loads(data[4 : 4 + length])
        at, arrays = 4 + length, {}
        for (name, kind, width), (_, _, size) in zip(cls.ARRAYS, head["arrays"], strict=True):
            array = np.frombuffer(data, kind, size, at)
            arrays[name] = array.reshape(-1, width) if width > 1 else array
            at += array.nbytes
        bodies = tuple(Body(**b) for b in head["bodies"])
        faces = tuple(Face(**{**f, "box": tuple(f["box"])}) for f in head["faces"])
        return cls(head["units"], bodies, faces, missing=tuple(head.get("missing", ())), **arrays)  # type: ignore[arg-type]

    def corners_of(self, bodies: Collection[int] | None) -> NDArray:
        """Corners (n, 3) of all triangles of some bodies, mm; None: of all."""
        mine = [f.index for f in self.faces if bodies is None or f.body in bodies]
        each = [self.triangles[self.face_triangles[k] : self.face_triangles[k + 1]].ravel() for k in mine]
        return self.positions[np.unique(np.concatenate(each))].astype(float) if each else np.empty((0, 3))

    def triangles_of(self, bodies: Collection[int] | None) -> NDArray:
        """Corners (t, 3, 3) of the triangles of some bodies, mm; None: of all."""
        each = [self.mesh_of(f.index)[0] for f in self.faces if bodies is None or f.body in bodies]
        return np.concatenate(each) if each else np.empty((0, 3, 3))

    def mesh_of(self, face: int) -> tuple[NDArray, NDArray]:
        """Corners (t, 3, 3) and vertex normals (t, 3, 3) of one face's triangles, mm."""
        mine = self.triangles[self.face_triangles[face] : self.face_triangles[face + 1]]
        return self.positions[mine].astype(float), self.normals[mine].astype(float)
