"""The demo's parts as triangles, as they really are: what light falls on before the stand-in arm's scanner.

Where two faces meet they do so as they really are: a bore that is larger, or elsewhere, than drawn has its rim there.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

from ..cad import CadModel
from ..core.frames import Array, Indices
from ..devices.sim.real_part import RealFace

FINE_MM, COARSEST_MM = 8.0, 400.0  # edges of triangles on what waves or is bent, and on what is as drawn
CHORD_MM, FINEST_MM, MOST_CUTS = 0.005, 0.3, 48  # the middle of an edge may lie so far off the surface
MEET_ROUNDS, SAME_MM = 8, 1e-4
INNER = -1  # an edge of a triangle within its face


def write_meshes(parts: Mapping[str, tuple[CadModel, list[dict]]], path: Path) -> None:
    """``parts``: by the fingerprint of its file, the CAD and the true faces of each. See ``devices.sim.light.Lit``."""
    packed: dict[str, Array] = {}
    for sha256, (model, faces) in parts.items():
        real = {face["index"]: RealFace.from_dict(face) for face in faces}
        packed[sha256] = np.concatenate(real_triangles(model, real)).astype(np.float32)
    np.savez_compressed(path, **packed)  # type: ignore[arg-type]


def real_triangles(model: CadModel, real: Mapping[int, RealFace]) -> list[Array]:
    """Triangles (t, 3, 3) of each face in the part."""
    meshes = {face.index: _indexed(model.mesh_of(face.index)[0]) for face in model.faces}
    beyond = _beyond(meshes)
    return [near_the_surface(real[k], *mesh, beyond[k], real) for k, mesh in meshes.items()]


def _indexed(corners: Array) -> tuple[Array, Indices]:
    vertices, triangles = np.unique(corners.reshape(-1, 3), axis=0, return_inverse=True)
    return vertices, triangles.reshape(-1, 3)


def near_the_surface(
    face: RealFace,
    vertices: Array,
    triangles: Indices,
    beyond: Indices | None = None,
    real: Mapping[int, RealFace] | None = None,
) -> Array:
    """Triangles (t, 3, 3) on a real face, cut in two across the edge whose middle lies farthest off it until none does.

    ``vertices`` (n, 3) and ``triangles`` (t, 3): as drawn; ``beyond``: (t, 3) faces of ``real`` beyond the edge from each
    corner to the next, or INNER. Those of an edge are not cut alike: between them gapes no more than what they may lie off.
    """
    real = real or {}
    beyond = np.full(triangles.shape, INNER) if beyond is None else beyond
    size = FINE_MM if face.wave_mm or face.ripple else COARSEST_MM
    others = set(beyond.ravel().tolist()) - {INNER}
    corners = _on(face, vertices, [(real[k], _touching(triangles, beyond == k)) for k in others])
    shaped, done = corners[triangles], []
    for _ in range(MOST_CUTS):
        ends = np.roll(shaped, -1, axis=1)
        middles = ((shaped + ends) / 2).reshape(-1, 3)
        flat = beyond.ravel()
        places = _on(face, middles, [(real[k], np.flatnonzero(flat == k)) for k in others if k in flat])
        off = np.linalg.norm(places - middles, axis=1).reshape(-1, 3)
        long = np.linalg.norm(ends - shaped, axis=2)
        off += np.where(long > size, long, 0.0)
        worst, each = np.argmax(off, axis=1), np.arange(len(shaped))
        bad = (off[each, worst] > CHORD_MM) & (long[each, worst] > FINEST_MM)
        done.append(shaped[~bad])
        if not bad.any():
            break
        each, worst = each[bad], worst[bad]
        a, b, c = (shaped[each, (worst + k) % 3] for k in range(3))
        cut, next_, last = (beyond[each, (worst + k) % 3] for k in range(3))
        middle, inner = places.reshape(-1, 3, 3)[each, worst], np.full(len(each), INNER)
        shaped = np.concatenate([np.stack([a, middle, c], axis=1), np.stack([middle, b, c], axis=1)])
        beyond = np.concatenate([np.stack([cut, inner, last], axis=1), np.stack([cut, next_, inner], axis=1)])
    else:
        done.append(shaped)
    return np.concatenate(done)


def _on(face: RealFace, places: Array, shared: list[tuple[RealFace, Indices]]) -> Array:
    """Places (n, 3) laid on a face, and those that it shares with others on both: by turns, until they meet."""
    found = face.touch_all(places)
    some = np.unique(np.concatenate([k for _, k in shared])) if shared else np.empty(0, np.int64)
    for _ in range(MEET_ROUNDS if len(some) else 0):
        for other, k in shared:
            found[k] = other.touch_all(found[k])
        found[some] = face.touch_all(found[some])
    return found


def _touching(triangles: Indices, edges: Array) -> Indices:
    """The vertices at the ends of some edges (t, 3)."""
    return np.unique(np.concatenate([triangles[edges], np.roll(triangles, -1, axis=1)[edges]]))


def _beyond(meshes: Mapping[int, tuple[Array, Indices]]) -> dict[int, Indices]:
    """For each face, (t, 3) which other face lies beyond the edges of its triangles, from each corner to the next; or INNER."""
    rims = {k: _rim(triangles) for k, (_, triangles) in meshes.items()}
    middles = {k: vertices[rims[k]].mean(axis=1).reshape(-1, 3) for k, (vertices, _) in meshes.items()}
    whose = np.concatenate([np.full(len(each), k) for k, each in middles.items()])
    places = cKDTree(np.concatenate(list(middles.values())))
    found = {}
    for k, (_, triangles) in meshes.items():
        other = {}
        for edge, near in zip(rims[k].tolist(), places.query_ball_point(middles[k], SAME_MM), strict=True):
            other[tuple(edge)] = next((int(whose[n]) for n in near if whose[n] != k), INNER)
        found[k] = np.array([other.get(tuple(pair), INNER) for pair in _edges(triangles).tolist()], np.int64).reshape(-1, 3)
    return found


def _edges(triangles: Indices) -> Indices:
    """(3 t, 2) vertices of all edges, the lesser first."""
    return np.sort(np.stack([triangles.ravel(), np.roll(triangles, -1, axis=1).ravel()], axis=1), axis=1)


def _rim(triangles: Indices) -> Indices:
    """(m, 2) the edges that one triangle has alone."""
    count = Counter(map(tuple, _edges(triangles).tolist()))
    return np.array([edge for edge, times in count.items() if times == 1], np.int64).reshape(-1, 2)
