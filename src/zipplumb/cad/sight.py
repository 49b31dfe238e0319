"""Occlusion: the faces of a part between one place and others."""

from __future__ import annotations

import numpy as np
import trimesh
from numpy.typing import NDArray

Array = NDArray[np.float64]
CLEAR_MM = 1.0  # nearer to the place that is looked at than this nothing counts as between


class Sight:
    """Lines of sight among triangles (t, 3, 3): which are cut. Rays by embree, on a tree of boxes."""

    def __init__(self, triangles: Array):
        faces = np.arange(3 * len(triangles)).reshape(-1, 3)
        self.mesh = trimesh.Trimesh(triangles.reshape(-1, 3), faces, process=False)

    def cut(self, stand: Array, places: Array) -> NDArray[np.bool_]:
        """(n,) whether something is between ``stand`` (3,) and each of ``places`` (n, 3)."""
        ways = places - stand
        far = np.linalg.norm(ways, axis=1)
        cut = np.zeros(len(places), bool)
        if not len(self.mesh.faces) or not len(places):
            return cut
        beams = ways / np.maximum(far, 1e-9)[:, None]
        met, which, _ = self.mesh.ray.intersects_location(np.tile(stand, (len(places), 1)), beams, multiple_hits=False)
        cut[which] = np.linalg.norm(met - stand, axis=1) < far[which] - CLEAR_MM
        return cut
