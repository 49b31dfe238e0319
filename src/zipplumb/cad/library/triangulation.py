"""The triangles of a face as arrays, without asking the library for each node: it writes them in its open binary form."""

from __future__ import annotations

import io

import numpy as np
from OCP.BinTools import BinTools, BinTools_FormatVersion
from OCP.BRep import BRep_Builder
from OCP.gp import gp_Trsf
from OCP.Poly import Poly_Triangulation
from OCP.TopoDS import TopoDS_Face

VERSION = BinTools_FormatVersion.BinTools_FormatVersion_VERSION_4
BEGIN = b"\nTriangulations 1\n"


def arrays_of(mesh: Poly_Triangulation, move: gp_Trsf) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Nodes (n, 3), normals (n, 3) and triangles (t, 3) of a mesh, moved.

    Notes
    -----
    Source: the library's BinTools_ShapeSet::WriteTriangulation, version 4: counts of nodes and triangles (int32), whether
    there are parameters and normals (a byte each), the deflection (float64); nodes (float64), parameters (float64),
    triangles (int32, from 1), normals (float32).
    """
    mesh.ComputeNormals()
    bare = TopoDS_Face()
    BRep_Builder().MakeFace(bare, mesh)  # with no surface and no edges, the file holds little else
    written = io.BytesIO()
    BinTools.Write_s(bare, written, True, True, VERSION)
    data = written.getvalue()
    at = data.index(BEGIN) + len(BEGIN)
    nodes, triangles = (int(v) for v in np.frombuffer(data, "<i4", 2, at))
    has_parameters, has_normals = data[at + 8], data[at + 9]
    if (nodes, triangles, has_normals) != (mesh.NbNodes(), mesh.NbTriangles(), 1):
        raise RuntimeError("the library writes its triangles in another way")
    begin = at + 10 + 8
    places = np.frombuffer(data, "<f8", 3 * nodes, begin).reshape(-1, 3)
    begin += places.nbytes + 16 * nodes * has_parameters
    corners = np.frombuffer(data, "<i4", 3 * triangles, begin).reshape(-1, 3)
    normals = np.frombuffer(data, "<f4", 3 * nodes, begin + corners.nbytes).reshape(-1, 3).astype(float)
    matrix = np.array([[move.Value(i, j) for j in range(1, 5)] for i in range(1, 4)])
    turned = normals @ (matrix[:, :3] / np.cbrt(np.linalg.det(matrix[:, :3]))).T
    return places @ matrix[:, :3].T + matrix[:, 3], turned, corners.astype(int) - 1
