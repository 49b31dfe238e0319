"""Places on the edges of a part: where an edge faces at a place of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ...core.frames import Array, unit
from ...core.shape_codec import shape_from_data
from ...core.shapes import Arc, Circle, Line

NEAR_MM = 0.01
SQUARE = 1e-6


def place_on_edge(edge: Mapping[str, Any], faces: Sequence[Mapping[str, Any]], point: Array) -> tuple[Array, Array] | None:
    """The place of an edge nearest to a point, and where the edge faces there, out of the material: each (3,).

    None where that is not known: a straight edge faces as the flat flank beside it does, a round one outward of its hole.
    """
    nominal = edge["nominal"]
    shape = shape_from_data(nominal) if nominal else None
    if isinstance(shape, Circle | Arc):
        across = point - shape.center
        across = across - (across @ shape.normal) * shape.normal
        if np.linalg.norm(across) < NEAR_MM:
            return None
        out = unit(across)
        return shape.center + shape.radius * out, -out if edge["inside"] else out
    if not isinstance(shape, Line):
        return None
    at = shape.point + ((point - shape.point) @ shape.direction) * shape.direction
    for face in faces:
        flank = face["nominal"]
        if face["index"] == edge["face"] or not flank or flank["shape"] != "plane":
            continue
        normal, low, high = np.array(flank["normal"]), np.array(face["box"][:3]), np.array(face["box"][3:])
        lies = abs((at - flank["point"]) @ normal) < NEAR_MM and abs(normal @ shape.direction) < SQUARE
        if lies and np.all(at >= low - NEAR_MM) and np.all(at <= high + NEAR_MM):
            return at, normal
    return None
