"""Which things of a part are alike: from one hole, all of the same size, direction and depth."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import Any

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from ...core.features import axis_of, center_point, direction_of, point_of, sizes_of
from ...core.frames import Array, perpendicular_pair
from ...core.shape_codec import shape_from_data

SAME_MM, SAME_RAD, SAME_SHARE = 1e-3, 1e-6, 1e-4
NOTHING_ON = ("", "plane")  # a face of no shape, or a flat one, is by itself
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
    same = [f for f in faces if f["nominal"] and all(f[name] == picked[name] for name in ("surface", "inside"))]
    same = [f for f in same if f["nominal"]["shape"] == picked["nominal"]["shape"]]
    same = [f for f in same if (bodies is None or f["body"] in bodies) and _may_be(f, picked)]
    every = things(same)
    wanted = next((t for t in every if any(f["index"] == index for f in t)), None)
    if wanted is None:
        return []
    told = _told(wanted)
    found = [t for t in every if len(t) == len(wanted) and _same(told, _told(t))]
    return [tuple(f["index"] for f in thing) for thing in _in_order(found, wanted)]


def alike_edges(edges: Sequence[Face], faces: Sequence[Face], index: int, bodies: Collection[int] | None = None) -> list[int]:
    """An edge of each outline that is alike the one with edge ``index``, that one first: as large, on a face that faces so.

    Outlines without a center, straight edges say, are by themselves.
    """
    picked = next(edge for edge in edges if edge["index"] == index)
    told = _outline(picked, faces)
    if told is None:
        return [index]
    found: dict[tuple[float, ...], list[Face]] = {}
    for edge in (picked, *edges):
        if any(edge[name] != picked[name] for name in ("shape", "inside")) or (
            bodies is not None and edge["body"] not in bodies
        ):
            continue
        other = _outline(edge, faces)
        if other is not None and all(np.allclose(a, b, atol=SAME_MM) for a, b in zip(told[1:], other[1:], strict=True)):
            center = other[0]
            found.setdefault(tuple(np.round(center, 2)), [{**edge, "box": [*center, *center]}])
    things = list(found.values())
    return [thing[0]["index"] for thing in _in_order(things, things[0])]


def _outline(edge: Face, faces: Sequence[Face]) -> tuple[Array, Array, Array, Array] | None:
    """Its center, sizes, where its face faces, and its long way, either sense of which is the same; None without a center."""
    shape = shape_from_data(edge["nominal"]) if edge["nominal"] else None
    center, flank = point_of(shape), faces[edge["face"]]["nominal"] if edge["face"] is not None else None
    if shape is None or center is None or not flank or flank["shape"] != "plane":
        return None
    long = shape.long_direction
    along = np.zeros((3, 3)) if long is None else np.outer(long, long)
    return center, _sizes(shape), np.array(flank["normal"], float), along


def _may_be(face: Face, picked: Face) -> bool:
    """Candidates with the same numbers, so that of thousands of faces only a few are compared with each other."""
    return _as_large(face, picked) and (
        picked["surface"] != "plane" or abs(face["area_mm2"] - picked["area_mm2"]) < SAME_SHARE * picked["area_mm2"]
    )


def _as_large(one: Face, picked: Face) -> bool:
    """The sizes in the nominals of two of one kind are the same."""
    sizes = ((name, value) for name, value in (one["nominal"] or {}).items() if isinstance(value, float | int))
    return all(abs(value - picked["nominal"][name]) < SAME_MM for name, value in sizes)


def things(faces: Sequence[Face]) -> list[list[Face]]:
    """Faces that lie on one surface, and touch, together; others by themselves."""
    by_sort: dict[tuple[Any, str], list[int]] = {}
    for place, face in enumerate(faces):
        if (shape := (face["nominal"] or {}).get("shape", "")) not in NOTHING_ON:
            by_sort.setdefault((face["body"], shape), []).append(place)
    pairs = [pair for places in by_sort.values() for pair in _continuing(faces, places)]
    touch = coo_array((np.ones(len(pairs)), np.array(pairs, int).reshape(-1, 2).T), shape=(len(faces), len(faces)))
    found: dict[int, list[Face]] = {}
    for face, of in zip(faces, connected_components(touch, directed=False)[1].tolist(), strict=True):
        found.setdefault(of, []).append(face)
    return [sorted(t, key=lambda f: f["index"]) for t in sorted(found.values(), key=lambda t: min(f["index"] for f in t))]


def _continuing(faces: Sequence[Face], places: Sequence[int]) -> list[tuple[int, int]]:
    """Pairs of faces of one kind of shape that continue one another; only those are compared whose boxes touch."""
    boxes = np.array([faces[p]["box"] for p in places])
    low, high = boxes[:, :3] - SAME_MM, boxes[:, 3:]
    found = []
    for k in range(1, len(places)):
        near = np.flatnonzero(np.all((low[:k] <= high[k]) & (high[:k] >= low[k]), axis=1))
        found += [(places[n], places[k]) for n in near.tolist() if _continue(faces[places[n]], faces[places[k]])]
    return found


def _continue(one: Face, other: Face) -> bool:
    first, second = shape_from_data(one["nominal"]), shape_from_data(other["nominal"])
    if not np.allclose(_sizes(first), _sizes(second), atol=SAME_MM):
        return False
    way, other_way = direction_of(first), direction_of(second)
    if way is not None and other_way is not None and np.linalg.norm(np.cross(way, other_way)) > SAME_RAD:
        return False
    a, b = axis_of(first), axis_of(second)
    if a is not None and b is not None:
        return bool(np.linalg.norm(np.cross(b.point - a.point, a.direction)) < SAME_MM)
    if point_of(first) is None or point_of(second) is None:
        return False
    return bool(np.linalg.norm(center_point(first) - center_point(second)) < SAME_MM)


def _sizes(shape: Any) -> Array:
    return np.array([getattr(shape, name) for name in sizes_of(shape)])


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
