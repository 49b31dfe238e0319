"""Where a plane cuts some faces of a part: the triangles say roughly where, the faces' exact surfaces where exactly."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import trimesh
from numpy.typing import NDArray

from ..core.errors import InputError
from ..core.sections import Section
from .model import CadModel
from .surfaces import Surfaces

Array = NDArray[np.float64]
STEP_MM, MOST_POINTS = 0.5, 400  # between the points of one face's curve
ROUNDS, MEETS_MM, SHORT_MM = 8, 0.02, 0.05
GRAZES = 0.05
BESIDE_MM = 1.7e-4  # corners of triangles often lie exactly in such a plane, and what cuts there is not clear


def cut(model: CadModel, faces: Sequence[int], point: Array, across: Array) -> list[Section]:
    """The curves along which a plane cuts some faces, the longest first; those of faces that meet are one.

    Raises
    ------
    InputError
        Where the plane meets none of them, or lies along one.
    """
    found: list[tuple[Array, Array]] = []
    for face in faces:
        corners, _ = model.mesh_of(face)
        mesh = trimesh.Trimesh(corners.reshape(-1, 3), np.arange(3 * len(corners)).reshape(-1, 3))
        path = mesh.section(plane_normal=across, plane_origin=point + BESIDE_MM * across)
        if path is None:
            continue
        surfaces = Surfaces(model, only=[face])
        lines = [np.asarray(entity.discrete(path.vertices)) for entity in path.entities]
        found += [_exact(surfaces, line, point, across) for line in lines if _length(line) > SHORT_MM]
    if not found:
        raise InputError("That plane does not cut the chosen faces.", "Nothing was planned.", "Move it, or choose other faces.")
    sections = [Section(points, normals, across) for points, normals in _joined(found)]
    return sorted(sections, key=lambda s: -s.length)


def _length(line: Array) -> float:
    return float(np.linalg.norm(np.diff(line, axis=0), axis=1).sum())


def _exact(surfaces: Surfaces, line: Array, point: Array, across: Array) -> tuple[Array, Array]:
    """Points and normals along a rough curve, each carried onto the surface within the plane."""
    along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    count = int(np.clip(np.ceil(along[-1] / STEP_MM), 4, MOST_POINTS))
    even = np.linspace(0, along[-1], count + 1)
    points = np.column_stack([np.interp(even, along, line[:, k]) for k in range(3)])
    points -= ((points - point) @ across)[:, None] * across
    for _ in range(ROUNDS):
        feet, normals = surfaces.nearest(points)
        inward = normals - (normals @ across)[:, None] * across
        square = np.einsum("ij,ij->i", inward, inward)
        if square.min() < GRAZES**2:
            raise InputError(
                "That plane lies along the surface in places.", "Nothing was planned.", "Turn it across the surface."
            )
        off = np.einsum("ij,ij->i", points - feet, normals)
        points = points - (off / square)[:, None] * inward
        if np.abs(off).max() < 1e-9:
            break
    return points, normals


def _joined(pieces: list[tuple[Array, Array]]) -> list[tuple[Array, Array]]:
    """Pieces whose ends meet, as one."""
    left, found = list(pieces), []
    while left:
        points, normals = left.pop(0)
        while True:
            ends = [(k, turned) for k in range(len(left)) for turned in (False, True)]
            near = next((e for e in ends if _gap(points[-1], left[e[0]][0], e[1]) < MEETS_MM), None)
            if near is None:
                near = next((e for e in ends if _gap(points[0], left[e[0]][0], e[1]) < MEETS_MM), None)
                if near is None:
                    break
                points, normals = points[::-1], normals[::-1]
            k, turned = near
            more = left.pop(k)
            step = -1 if turned else 1
            points, normals = np.vstack([points, more[0][::step]]), np.vstack([normals, more[1][::step]])
        found.append((points, normals))
    return found


def _gap(end: Array, points: Array, turned: bool) -> float:
    return float(np.linalg.norm(end - points[-1 if turned else 0]))
