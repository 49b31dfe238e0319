"""Flat faces of a scan, by where runs of its light end."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..fitting import fit
from ..frames import unit
from ..shapes import Plane
from .edges import Edges

ON_FACE_MM, ALONG_FACE_RAD = 0.3, 0.15  # runs that are on a face
FEWEST = 12  # edges of a face
LOOKED_AT, DRAWS = 4000, 400  # edges, and planes through three of them, among which the flattest is sought
Flags = NDArray[np.bool_]


def lies_on(edges: Edges, face: Plane) -> Flags:
    """(n,) which edges end runs along a plane."""
    flat = np.abs(face.distance(edges.points)) <= ON_FACE_MM
    return np.asarray(flat & (np.abs(edges.inward @ face.normal) <= np.sin(ALONG_FACE_RAD)))


def flattest(edges: Edges) -> Plane | None:
    """The plane along which most runs of light end, its normal to the scanner; None where no three tell one.

    Notes
    -----
    M. Fischler, R. Bolles, "Random sample consensus", Comm. ACM 24 (1981): planes through three edges each, drawn at random but
    each time alike; then the plane of all that lie on the best.
    """
    if len(edges) < FEWEST:
        return None
    random = np.random.default_rng(0)
    looked = edges.of(random.permutation(len(edges))[:LOOKED_AT])
    threes = looked.points[random.integers(len(looked), size=(DRAWS, 3))]
    normals = np.cross(threes[:, 1] - threes[:, 0], threes[:, 2] - threes[:, 0])
    wide = np.linalg.norm(normals, axis=1) > 1.0
    best, face = FEWEST - 1, None
    for point, normal in zip(threes[wide, 0], unit(normals[wide]), strict=True):
        plane = Plane(point, normal)
        on_it = int(np.count_nonzero(lies_on(looked, plane)))
        if on_it > best:
            best, face = on_it, plane
    if face is None:
        return None
    mine = edges.of(np.flatnonzero(lies_on(edges, face)))
    found = fit("plane", mine.points, toward=-mine.ways.mean(axis=0)).shape
    return Plane(found.point, found.normal)


def facing(edges: Edges, plane: Plane) -> Plane:
    """The plane, its normal to where the light came from."""
    lit = edges.ways[lies_on(edges, plane)]
    return plane.flipped() if len(lit) and float(lit.mean(axis=0) @ plane.normal) > 0 else plane
