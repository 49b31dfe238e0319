"""A million points of light worked out and given to 40 planned rows, against libigl's nearest points on the same mesh."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import igl
import numpy as np
from measure import best
from scipy.spatial.transform import Rotation

from zipplumb.cad import CadModel, read_cad
from zipplumb.cad.blocks import Blocks
from zipplumb.cad.near import FacesNear
from zipplumb.cad.surfaces import Surfaces
from zipplumb.core.alignment.anywhere import Samples, anywhere
from zipplumb.core.alignment.surfaces import align_surfaces
from zipplumb.core.cloud.cells import Cells, cells_of, together
from zipplumb.core.cloud.edges import Edges, edges_of
from zipplumb.core.cloud.faces import flattest
from zipplumb.core.cloud.growing import surfaces_at
from zipplumb.core.cloud.light import Chunk, seen
from zipplumb.core.cloud.openings import openings
from zipplumb.core.cloud.points import CloudPoints
from zipplumb.core.cloud.sorting import sorted_out
from zipplumb.core.cloud.working import CloudWork, SortingWork
from zipplumb.core.fitting import fit
from zipplumb.core.frames import Motion, perpendicular_pair
from zipplumb.core.stripes import packed
from zipplumb.devices.sim.light import LineScanner, Lit
from zipplumb.devices.sim.stand import Stand

LAID, FORM_MM = 100_000, 0.02
POINTS, ROWS, A_CHUNK, AWAY_MM, APART_MM, STEP_MM = 1_000_000, 40, 170, 110.0, 50.0, 2.1
QUIET = {"check": True, "stdout": subprocess.DEVNULL}


def bracket_model() -> CadModel:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "bracket.step"
        write = f"from zipplumb.demo.bracket import write_step; from pathlib import Path; write_step(Path({str(path)!r}))"
        subprocess.run([sys.executable, "-c", write], **QUIET)
        return read_cad(path)


def run() -> None:
    model = bracket_model()
    chunks = scanned(model)
    still = Motion.identity()
    shapes = {face.index: face.nominal["shape"] for face in model.faces if face.nominal}
    large = sorted(shapes, key=lambda k: -model.faces[k].area_mm2)[:ROWS]
    work, sorting = CloudWork({1: still}, {1: still}), SortingWork(still, {face: face for face in large})
    faces = FacesNear(model, set(large))
    surfaces = Surfaces(model)
    surfaces.nearest(np.zeros((1, 3)))
    sorting.run(work.run(chunks, len(chunks)).points, faces)  # loops are compiled, trees are made

    begin = time.perf_counter()
    found = work.run(chunks, len(chunks))
    given = sorting.run(found.points, faces)
    worked = time.perf_counter() - begin
    begin = time.perf_counter()
    fitted = [fit(shapes[face], mine.points) for face, mine in given.items() if len(mine.lines) > 50]
    fits = time.perf_counter() - begin
    print(f"A scan of {found.read} points, on {len(large)} planned rows")
    print(f"  into {found.cells} cells, each given to a face: {worked:.2f} s; {len(fitted)} rows fitted: {fits:.2f} s")

    points = np.vstack([seen(chunk, still, still).points for chunk in chunks])
    begin = time.perf_counter()
    edges = Edges.together(edges_of(chunk, still, still) for chunk in chunks)
    sought = time.perf_counter() - begin
    face = flattest(edges)
    assert face is not None
    count = len(openings(edges, face))  # its fits are compiled
    at_once = best(lambda: openings(edges, face), 3)
    print(f"  {len(edges)} edges: {sought:.2f} s; {count} holes and slots of its flattest face: {at_once:.2f} s")
    _laid(CloudPoints.of_cells(_cells(chunks), 1.0), surfaces)
    corners, triangles = model.positions.astype(float), model.triangles.astype(np.int64)
    tree = igl.AABB()
    tree.init(corners, triangles)
    theirs = best(lambda: tree.squared_distance(corners, triangles, points), 1)
    print(f"  libigl's nearest points of all {len(points)}: {theirs:.2f} s: {theirs / worked:.1f} × as fast as that alone")
    cells = _cells(chunks)
    normals, _ = cells.normals()
    begin = time.perf_counter()
    Blocks.of(surfaces.corners, surfaces.triangles, surfaces.face_of)
    print(f"  blocks of space about the part, made once: {time.perf_counter() - begin:.2f} s; with them:")
    for what, places, out in (("cells", cells.points, normals), ("points", points, np.tile([0.0, 0, 1], (len(points), 1)))):
        ours = best(lambda p=places, n=out: sorted_out(p, n, faces, sorting.wanted, sorting.rule), 2)
        alone = best(lambda p=places: tree.squared_distance(corners, triangles, p), 1)
        print(f"  {len(places)} {what} sorted, with edges and exact feet: {ours:.2f} s; libigl's nearest points of them "
              f"{alone:.2f} s: {alone / ours:.1f} × as fast")  # fmt: skip


def _cells(chunks: list[Chunk]) -> Cells:
    still = Motion.identity()
    cells = together(cells_of(seen(chunk, still, still), 1.0) for chunk in chunks)
    assert cells is not None
    return cells


def _laid(cloud: CloudPoints, surfaces: Surfaces) -> None:
    """A hundred thousand points laid on the CAD, from no start and from a rough one; and what is there where one points."""
    random = np.random.default_rng(8)
    lies = Motion(Rotation.random(random_state=random).as_matrix(), random.uniform(-2000, 2000, 3))
    sure = np.flatnonzero(np.isfinite(cloud.normals[:, 0]))
    some = sure[np.sort(random.permutation(len(sure))[:LAID])]
    points, normals = lies.points(cloud.points[some]), lies.vectors(cloud.normals[some])
    part = Samples(*surfaces.spread(20_000))
    scene = Samples(points, normals)
    (found,) = anywhere(scene, part, surfaces.nearest, FORM_MM)  # its loops are compiled
    begin = time.perf_counter()
    (found,) = anywhere(scene, part, surfaces.nearest, FORM_MM)
    laid = align_surfaces(points, surfaces.nearest, found.part_from_world, FORM_MM)
    from_none = time.perf_counter() - begin
    start = Motion(Rotation.from_rotvec([0.02, -0.03, 0.02]).as_matrix(), np.array([3.0, -4, 2])) @ lies.inverse()
    from_rough = best(lambda: align_surfaces(points, surfaces.nearest, start, FORM_MM), 3)
    off = np.linalg.norm((laid.part_from_world @ lies).points(part.points) - part.points, axis=1).max()
    print(f"  {len(points)} of them laid on the CAD: from no start {from_none:.2f} s, {off:.4f} mm off at most; ", end="")
    print(f"from 4 mm and 2 degrees off {from_rough:.2f} s")
    places = cloud.points[sure[random.permutation(len(sure))[:20]]]
    each = best(lambda: [surfaces_at(cloud, place) for place in places], 1) / len(places)
    print(f"  what is there where one points, among {len(cloud)}: {each:.2f} s")


def scanned(model: CadModel) -> list[Chunk]:
    """Passes over the part, squarely and leaning, until there are as many points."""
    random = np.random.default_rng(5)
    lit = Lit.of(np.concatenate([model.mesh_of(face.index)[0] for face in model.faces]), Stand(Motion.identity()), None)
    scanner, lines, poses = LineScanner(), [], []
    low, high = model.positions.min(axis=0), model.positions.max(axis=0)
    middle, half = (low + high) / 2, (high - low) / 2
    count = 0
    for lean in range(100):
        back = np.array([0.6 * np.cos(2.4 * lean), 0.6 * np.sin(2.4 * lean), 1.0]) if lean else np.array([0, 0, 1.0])
        back = back / np.linalg.norm(back)
        u, _ = perpendicular_pair(back)
        turned = np.column_stack([u, np.cross(-back, u), -back])
        quaternion = Rotation.from_matrix(turned).as_quat(scalar_first=True)
        for x in np.arange(-half[0], half[0] + APART_MM, APART_MM):
            for y in np.arange(-half[1], half[1], STEP_MM):
                at = middle + [x, y, 0.0] + AWAY_MM * back
                line = scanner.line(lit, Motion(turned, at), random)
                if not len(line):
                    continue
                lines.append(line)
                poses.append([*at, *quaternion])
                count += len(line)
                if count >= POINTS:
                    return _chunks(lines, np.array(poses))
    return _chunks(lines, np.array(poses))


def _chunks(lines: list, poses: np.ndarray) -> list[Chunk]:
    found = []
    for first in range(0, len(lines), A_CHUNK):
        some = slice(first, first + A_CHUNK)
        data, counts = packed(lines[some])
        found.append(Chunk(poses[some], data, counts, np.zeros(len(counts), bool), 1, 1, first))
    return found
