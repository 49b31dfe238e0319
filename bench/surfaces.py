"""A scan of 100,000 points laid on a mesh, against trimesh's own ICP, in one run."""

from __future__ import annotations

import sys
import time
from pathlib import Path

import numpy as np
import trimesh
from scipy.spatial.transform import Rotation

sys.path[:0] = [str(Path(__file__).parent.parent / "tests")]

from outside.flange import flange, on_mesh  # noqa: E402

from zipplumb.core.alignment.surfaces import align_surfaces  # noqa: E402
from zipplumb.core.frames import Motion  # noqa: E402

COUNT = 100_000


def run() -> None:
    mesh, random = flange(), np.random.default_rng(8)
    points, at = trimesh.sample.sample_surface(mesh, COUNT, seed=8)
    points = points + mesh.face_normals[at] * random.normal(0, 0.03, (COUNT, 1))
    away = Motion(Rotation.from_rotvec(np.radians(10) * np.array([0.6, -0.48, 0.64])).as_matrix(), np.array([30.0, 0, 40]))
    world = away.points(points)
    begin = time.perf_counter()
    found = align_surfaces(world, on_mesh(mesh), Motion.identity(), 0.03)
    ours = time.perf_counter() - begin
    target = trimesh.sample.sample_surface(mesh, COUNT, seed=9)[0]  # it compares points with points
    begin = time.perf_counter()
    matrix, *_ = trimesh.registration.icp(world, target, threshold=1e-9, max_iterations=60, scale=False, reflection=False)
    theirs = time.perf_counter() - begin
    corners = mesh.vertices[[0, 48, -49, -1]]
    seen = away.points(corners)
    off = np.linalg.norm(found.part_from_world.points(seen) - corners, axis=1).max()
    other = np.linalg.norm(seen @ matrix[:3, :3].T + matrix[:3, 3] - corners, axis=1).max()
    print(f"Scan of {COUNT} points on a mesh, from 10° and 50 mm off")
    print(f"  ours {1e3 * ours:.0f} ms, corners {off:.4f} mm off; trimesh's ICP {1e3 * theirs:.0f} ms, {other:.4f} mm off: "
          f"{theirs / ours:.1f} × as fast, {other / off:.0f} × as close", flush=True)  # fmt: skip
