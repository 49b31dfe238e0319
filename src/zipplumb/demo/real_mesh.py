"""The demo's parts as triangles, as they really are: what light falls on before the stand-in arm's scanner."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from ..cad import CadModel
from ..core.frames import Array
from ..devices.sim.real_part import RealFace

FINE_MM, COARSEST = 8.0, 400.0  # edges of triangles on what waves or is bent, and on what is as drawn
CHORD_MM, MOST_CUTS = 0.005, 24  # the middle of an edge may lie so far off the surface


def write_meshes(parts: Mapping[str, tuple[CadModel, list[dict]]], path: Path) -> None:
    """``parts``: by the fingerprint of its file, the CAD and the true faces of each. See ``devices.sim.light.Lit``."""
    packed: dict[str, Array] = {}
    for sha256, (model, faces) in parts.items():
        real = {face["index"]: RealFace.from_dict(face) for face in faces}
        packed[sha256] = np.concatenate([_real(model, real[face.index]) for face in model.faces]).astype(np.float32)
    np.savez_compressed(path, **packed)  # type: ignore[arg-type]


def _real(model: CadModel, face: RealFace) -> Array:
    """Triangles (t, 3, 3) of a face in the part."""
    import trimesh

    corners, _ = model.mesh_of(face.index)
    vertices, triangles = np.unique(corners.reshape(-1, 3), axis=0, return_inverse=True)
    size = FINE_MM if face.wave_mm or face.ripple else COARSEST
    vertices, triangles = trimesh.remesh.subdivide_to_size(vertices, triangles.reshape(-1, 3), size)
    return near_the_surface(face, face.touch_all(vertices)[triangles])


def near_the_surface(face: RealFace, triangles: Array) -> Array:
    """Triangles (t, 3, 3), cut in two across the edge whose middle lies farthest off the surface until none does.

    Those of an edge are not cut alike: between them gapes no more than what they may lie off.
    """
    done = []
    for _ in range(MOST_CUTS):
        middles = (triangles + np.roll(triangles, -1, axis=1)) / 2
        places = face.touch_all(middles.reshape(-1, 3)).reshape(-1, 3, 3)
        off = np.linalg.norm(places - middles, axis=2)
        worst = np.argmax(off, axis=1)
        each = np.arange(len(triangles))
        bad = off[each, worst] > CHORD_MM
        done.append(triangles[~bad])
        if not bad.any():
            break
        each, worst = each[bad], worst[bad]
        a, b, c = (triangles[each, (worst + k) % 3] for k in range(3))
        middle = places[each, worst]
        triangles = np.concatenate([np.stack([a, middle, c], axis=1), np.stack([middle, b, c], axis=1)])
    else:
        done.append(triangles)
    return np.concatenate(done)
