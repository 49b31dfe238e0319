"""Edges that are a row's: of an outline that is known to be somewhere, or of a plane."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..fitting import Placed
from ..frames import Indices, perpendicular_pair
from ..shapes import Plane
from .edges import Edges
from .faces import ALONG_FACE_RAD, lies_on
from .giving import OF_A_ROW, GivenPoints, evenly
from .sorting import with_the_others

NEAR_MM = 0.5  # edges of an outline lie so near to where it is thought to be
SIDES = 16  # ways round an outline, in each of which edges err alike


def near_outline(edges: Edges, outline: Any, inside: bool = True) -> Indices:
    """The edges of an outline in the world that is thought to be there: near to it, in its plane; with the material outside, or
    inside of it if not ``inside``."""
    face = Plane(outline.center, outline.normal)
    near = (np.abs(outline.distance(edges.points)) <= NEAR_MM) & (np.abs(face.distance(edges.points)) <= NEAR_MM)
    some = np.flatnonzero(near)
    each = edges.of(some)
    along = np.abs(each.inward @ face.normal) <= np.sin(ALONG_FACE_RAD)
    outward = np.einsum("ij,ij->i", each.inward, each.points - outline.center)
    some = some[along & ((outward > 0) == inside)]
    return some[with_the_others(outline.distance(edges.points[some]))]


def given(edges: Edges, outline: Any, inside: bool = True, most: int = OF_A_ROW) -> GivenPoints:
    """The points of an outline, at most so many, and how they err together.

    Notes
    -----
    An edge lies anywhere between two samples, and where passes run along a straight side, all of it shares that: to a sixteenth
    of all ways round edges are taken to err alike, uniformly by half a step (JCGM 100:2008, 4.3.7), and each by as much of its
    own.
    """
    mine = near_outline(edges, outline, inside)
    mine = evenly(mine, most)
    each = edges.of(mine)
    if not len(mine):
        return GivenPoints(each.points, each.lines)
    ways = Placed.of(outline).gradients(each.points)
    u, v = perpendicular_pair(outline.normal)
    sides = np.floor((np.arctan2(ways @ v, ways @ u) / (2 * np.pi) + 0.5 / SIDES) % 1.0 * SIDES).astype(np.int64)
    u_edge = each.steps / np.sqrt(12)
    return GivenPoints(each.points, each.lines, ways * u_edge[:, None], sides, float(np.sqrt(np.mean(u_edge**2))))


def given_in(edges: Edges, plane: Plane, most: int = OF_A_ROW) -> GivenPoints:
    """The edges of runs that lie in a plane: points of the face itself, for where along their run they end is in the plane."""
    mine = np.flatnonzero(lies_on(edges, plane))
    mine = mine[with_the_others(plane.distance(edges.points[mine]))]
    mine = evenly(mine, most)
    return GivenPoints(edges.points[mine], edges.lines[mine])
