"""Which things of a part are alike: from one hole, all of the same size, direction and depth."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import Any

import numpy as np

from ...core.features import axis_line, center_point, sizes_of
from ...core.frames import Array, perpendicular_pair
from ...core.shape_codec import shape_from_data

SAME_MM, SAME_RAD, SAME_SHARE = 1e-3, 1e-6, 1e-4
Face = Mapping[str, Any]


def alike(faces: Sequence[Face], index: int, bodies: Collection[int] | None = None) -> list[tuple[int, ...]]:
    """The faces of each thing that is alike the one with face ``index``, which comes first.

    Faces that continue one another (the two halves of a bore) are one thing. Alike is what is only somewhere else:
    of the same kind, sizes, direction, extent and area, the material on the same side.

    Parameters
    ----------
    faces : of a part, as read from its CAD
    bodies : those that count; None for all
    """
    picked = faces[index]
    if picked["nominal"] is None:
        return []
    same = [f for f in faces if all(f[name] == picked[name] for name in ("surface", "inside")) and f["nominal"]]
    same = [f for f in same if (bodies is None or f["body"] in bodies) and _may_be(f, picked)]
    every = things(same)
    wanted = next((t for t in every if any(f["index"] == index for f in t)), None)
    if wanted is None:
        return []
    told = _told(wanted)
    found = [t for t in every if len(t) == len(wanted) and _same(told, _told(t))]
    return [tuple(f["index"] for f in thing) for thing in _in_order(found, wanted)]


def _may_be(face: Face, picked: Face) -> bool:
    """Of the same numbers, so that of thousands of faces only a few are compared with each other."""
    return all(
        abs(value - picked["nominal"][name]) < SAME_MM
        for name, value in face["nominal"].items()
        if isinstance(value, float | int)
    ) and (picked["surface"] != "plane" or abs(face["area_mm2"] - picked["area_mm2"]) < SAME_SHARE * picked["area_mm2"])


def things(faces: Sequence[Face]) -> list[list[Face]]:
    """Faces that lie on one surface, and touch, together."""
    found: list[list[Face]] = []
    for face in faces:
        mine = [t for t in found if t[0]["body"] == face["body"] and any(_continue(face, f) for f in t)]
        found = [t for t in found if t not in mine]
        found.append([f for t in mine for f in t] + [face])
    return [sorted(t, key=lambda f: f["index"]) for t in sorted(found, key=lambda t: t[0]["index"])]


def _continue(one: Face, other: Face) -> bool:
    low, high = np.maximum(one["box"][:3], other["box"][:3]), np.minimum(one["box"][3:], other["box"][3:])
    if np.any(low > high + SAME_MM):
        return False
    first, second = shape_from_data(one["nominal"]), shape_from_data(other["nominal"])
    if not np.allclose(_sizes(first), _sizes(second), atol=SAME_MM):
        return False
    a, b = _axis(first), _axis(second)
    if a is None or b is None:
        return one["surface"] == "sphere" and bool(np.linalg.norm(center_point(first) - center_point(second)) < SAME_MM)
    apart = np.linalg.norm(np.cross(b[0] - a[0], a[1]))
    return bool(apart < SAME_MM and np.linalg.norm(np.cross(a[1], b[1])) < SAME_RAD)


def _sizes(shape: Any) -> Array:
    return np.array([getattr(shape, name) for name in sizes_of(shape)])


def _axis(shape: Any) -> tuple[Array, Array] | None:
    """A place on its axis and its direction; None of a ball. A plane continues nothing."""
    if hasattr(shape, "normal") and not hasattr(shape, "major_radius"):
        return None
    axis = axis_line(shape)
    return None if axis is None else (axis.point, axis.direction)


def _told(thing: Sequence[Face]) -> tuple[Array, Array | None, Array, float, float]:
    """Sizes, direction, extent, area; and what a turned direction counts: much where it says which way a plane faces."""
    shape = shape_from_data(thing[0]["nominal"])
    boxes = np.array([f["box"] for f in thing])
    direction = getattr(shape, "direction", getattr(shape, "normal", None))
    extent, area = boxes[:, 3:].max(axis=0) - boxes[:, :3].min(axis=0), sum(f["area_mm2"] for f in thing)
    return _sizes(shape), direction, extent, area, 1.0 if thing[0]["surface"] == "plane" else 0.0


def _same(one: tuple, other: tuple) -> bool:
    if (one[1] is None) != (other[1] is None):
        return False
    if one[1] is not None and min(np.linalg.norm(one[1] - other[1]), one[4] + np.linalg.norm(one[1] + other[1])) > SAME_RAD:
        return False
    drawn = 2e-3 * float(np.max(one[2]))  # extents are of what is drawn, in triangles
    sizes = np.allclose(one[0], other[0], atol=SAME_MM) and np.allclose(one[2], other[2], atol=drawn)
    return bool(sizes and abs(one[3] - other[3]) < SAME_SHARE * one[3])


def _in_order(things: list[list[Face]], first: list[Face]) -> list[list[Face]]:
    """The first, then round where they lie on a circle, else along where they reach farthest."""
    at = np.array([(np.min([f["box"][:3] for f in t], axis=0) + np.max([f["box"][3:] for f in t], axis=0)) / 2 for t in things])
    start, flat = things.index(first), at - at.mean(axis=0)
    far = np.linalg.norm(flat, axis=1)
    if len(things) > 2 and np.ptp(far) < 1e-3 * far.max():
        direction = getattr(shape_from_data(first[0]["nominal"]), "direction", None)
        u, v = perpendicular_pair(direction) if direction is not None else np.linalg.svd(flat)[2][:2]
        angles = np.arctan2(flat @ v, flat @ u)
        order = np.argsort(np.round((angles - angles[start]) % (2 * np.pi), 6) % round(2 * np.pi, 6))
    else:
        along = np.linalg.svd(flat)[2][0]
        along = along if along[np.argmax(np.abs(along))] > 0 else -along
        order = np.argsort(np.round(flat @ along, 3), kind="stable")
        order = np.array([start, *(k for k in order if k != start)])
    return [things[k] for k in order]
