"""Where the stand-in's hand touches a row that is planned from an edge: the face in which its outline lies, and the walls
that go down from it."""

from __future__ import annotations

import numpy as np

from ..cad import CadModel
from ..core.frames import Array
from ..core.probing.next_place import places_in_order
from ..core.shape_codec import shape_from_data
from ..core.spots import spots_on

NEAR_MM, NEAR_SHARE = 0.05, 0.05  # of an outline off its wall: exactly known, and known by triangles, of its size
STEEP, LEVEL = 0.5, 0.999  # cosine between the normals of the outline's plane and of a wall, at most; of its own face, at least


def places_on_walls(model: CadModel, outline: Array, flat: Array | None, count: int) -> Array:
    """So many places (count, 3), or none, spread along an outline and each on the wall there.

    Parameters
    ----------
    outline : (n, 3) along it
    flat : (3,) the normal of the plane in which it lies; None of one that is not known
    """
    near_mm = NEAR_SHARE * float(np.linalg.norm(np.ptp(outline, axis=0)))
    best = np.zeros(len(outline), int)  # of each place, how much of the outline the wall there goes along
    chosen = np.full((len(outline), 3), np.nan)
    for face in model.faces:
        low, high = np.array(face.box[:3]) - NEAR_MM, np.array(face.box[3:]) + NEAR_MM
        beside = np.flatnonzero(np.all((outline >= low) & (outline <= high), axis=1))
        if not len(beside):
            continue
        corners, normals = model.mesh_of(face.index)
        if face.nominal is not None:
            beside = beside[np.abs(shape_from_data(face.nominal).distance(outline[beside])) < NEAR_MM]
        else:
            off = np.linalg.norm(outline[beside][:, None] - corners.reshape(-1, 3)[None], axis=2).min(axis=1)
            beside = beside[off < near_mm]
        spots, outward = spots_on(corners, normals, seed=face.index)
        if flat is not None and len(spots):
            spots = spots[np.abs(outward @ flat) < STEEP]
        beside = beside[best[beside] < len(beside)]  # where two meet, it is the longer one
        if len(beside) and len(spots):
            best[beside] = len(beside)
            chosen[beside] = spots[np.linalg.norm(outline[beside][:, None] - spots[None], axis=2).argmin(axis=1)]
    there = chosen[best > 0]
    if len(there):
        there = there[np.sort(np.unique(there, axis=0, return_index=True)[1])]
    return np.asarray(there[np.linspace(0, len(there), count, endpoint=False).astype(int)] if len(there) else there)


def places_on_its_face(model: CadModel, outline: Array, flat: Array | None, count: int) -> Array:
    """So many places (count, 3), or none, on the flat face in which an outline lies."""
    if flat is None or not count:
        return np.empty((0, 3))
    for face in model.faces:
        if face.surface != "plane" or face.nominal is None:
            continue
        plane = shape_from_data(face.nominal)
        box = np.array(face.box).reshape(2, 3) + np.array([[-NEAR_MM], [NEAR_MM]])
        lies_in = abs(plane.normal @ flat) > LEVEL and abs(float(plane.distance(outline[:1])[0])) < NEAR_MM
        if lies_in and np.all((outline[0] >= box[0]) & (outline[0] <= box[1])):
            spots, _ = spots_on(*model.mesh_of(face.index), seed=face.index)
            return places_in_order(None, spots, count)
    return np.empty((0, 3))
