"""How far every point of a scan lies off the CAD, exactly, against libigl's nearest points on the mesh; 10 million too."""

from __future__ import annotations

import resource
import time
from dataclasses import replace

import igl
import numpy as np
from measure import best
from scans import bracket_model, scanned

from zipplumb.cad import CadModel
from zipplumb.cad.blocks import Blocks
from zipplumb.cad.near import FacesNear
from zipplumb.core.cloud.deviating import DeviationWork
from zipplumb.core.cloud.light import seen
from zipplumb.core.cloud.working import CloudWork
from zipplumb.core.frames import Motion

SPLIT = 3  # times each triangle into four
TIMES = (1, 3, 10)


def run() -> None:
    model = bracket_model()
    chunks = scanned(model)
    still = Motion.identity()
    points = np.vstack([seen(chunk, still, still).points for chunk in chunks])
    model = finer(model)
    faces = FacesNear(model, None)
    faces(np.repeat(points[:50_000], 10, axis=0), 0.5)  # loops are compiled, blocks and trees are made
    surfaces = faces.surfaces
    begin = time.perf_counter()
    Blocks.of(surfaces.corners, surfaces.triangles, surfaces.face_of)
    made = time.perf_counter() - begin
    ours = best(lambda: surfaces.nearest_faces(points), 3)
    tree = igl.AABB()
    tree.init(surfaces.corners, surfaces.triangles)
    theirs = best(lambda: tree.squared_distance(surfaces.corners, surfaces.triangles, points), 3)
    of = f"{len(points)} points on a part of {len(surfaces.triangles)} triangles"
    print(f"Feet of {of}, exact: {ours:.2f} s; libigl's nearest points on the triangles {theirs:.2f} s: ", end="")
    print(f"{theirs / ours:.1f} × as fast (blocks of space made once: {made:.2f} s)")
    work = DeviationWork(CloudWork({1: still}, {1: still}), still, 1.0, 0.5)
    for times in TIMES:
        begin = time.perf_counter()
        found = work.run((chunk for _ in range(times) for chunk in chunks), times * len(chunks), faces)
        took = time.perf_counter() - begin
        most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        told = f"{took:.1f} s, {1e6 * took / found.read:.2f} s a million, {len(found.places)} places"
        print(f"  a map of {found.read} points: {told}; {most:.0f} MB at most")


def finer(model: CadModel) -> CadModel:
    """The same part of more triangles."""
    corners = model.positions[model.triangles]
    for _ in range(SPLIT):
        a, b, c = np.moveaxis(corners, 1, 0)
        ab, bc, ca = (a + b) / 2, (b + c) / 2, (c + a) / 2
        corners = np.stack([a, ab, ca, ab, b, bc, ca, bc, c, ab, bc, ca], axis=1).reshape(-1, 3, 3)
    return replace(
        model, positions=corners.reshape(-1, 3), normals=np.zeros((3 * len(corners), 3), np.float32),
        triangles=np.arange(3 * len(corners), dtype=np.uint32).reshape(-1, 3),
        face_triangles=(model.face_triangles * 4**SPLIT).astype(np.uint32),
    )  # fmt: skip
