"""How the real bedplate differs from its CAD, and what only the stand-in knows of its details and their screws."""

from __future__ import annotations

import hashlib
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from ..cad import CadModel
from ..core.alignment.reference_points import expansion_scale
from ..core.frames import Array, Motion, unit
from ..devices.sim.real_part import Ripple
from ..jobs.hand import touchable_faces
from . import bedplate

STEEL, SHOP_C = "carbon steel", 23.4
WORLD_FROM_PART = Motion(Rotation.from_euler("z", 0.35).as_matrix(), np.array([-1000.0, 3900.0, 150.0]))
OFF_MM, OFF_RAD = 2.0, 3e-3  # by which details lie off at first
FLANGE = Ripple(wave_mm=0.4, length_x_mm=700.0, length_z_mm=640.0, middle_z_mm=float(np.mean(bedplate.FLANGE_Z)))
FINE_MM = 10.0  # triangles of the flange
# faces that lie off, by which way they face and where: outward, mm, and leaning about the part's axes, rad
OFF = (
    ((0.0, 1.0, 0.0), bedplate.WIDTH / 2, 0.06, (2e-5, 0.0, 5e-5)),
    ((1.0, 0.0, 0.0), bedplate.STOP[0] - bedplate.LENGTH / 2, -0.04, (0.0, 1e-4, 0.0)),
)
# of the bearing seats, aft and forward: how far off their axes lie along Y and Z, and by how much they are wider
BORES_OFF = ((0.03, -0.02, 0.018), (-0.02, 0.04, 0.012))
AXES = {"+X": (1.0, 0, 0), "+Y": (0.0, 1, 0), "+Z": (0.0, 0, 1)}


def nests_and_details() -> tuple[dict[str, list[float]], dict[str, Any]]:
    """Where nests really are in the world, and the details that carry some of them: warm, a little off, and not yet placed."""
    random = np.random.default_rng(31)
    warm = expansion_scale(STEEL, SHOP_C)
    nests = {f"R{k}": _world(np.array(at) + random.normal(0, 0.01, 3), warm) for k, at in enumerate(bedplate.REFERENCES, 1)}
    details = {}
    for detail in bedplate.MOVABLE:
        places = np.array(list(detail.targets.values()))
        about = places.mean(axis=0)
        turn = Rotation.from_rotvec(random.uniform(-OFF_RAD, OFF_RAD, 3)).as_matrix()
        off = random.uniform(-OFF_MM, OFF_MM, 3)
        lies = Motion(turn, about + off - turn @ about)
        nests |= {name: _world(lies.points(at), warm) for name, at in zip(detail.targets, places, strict=True)}
        details[detail.name] = {
            "nests": list(detail.targets),
            "adjusters": [
                {
                    "name": name, "place": _world(np.array(place), warm).tolist(),
                    "direction": WORLD_FROM_PART.vectors(np.array(AXES[up])).tolist(),
                    "mm_per_turn": pitch * random.uniform(0.92, 1.08), "play_mm": random.uniform(0.02, 0.08),
                }
                for name, place, up, pitch in detail.adjusters
            ],
        }  # fmt: skip
    return {name: np.asarray(at).tolist() for name, at in nests.items()}, details


def mesh(model: CadModel) -> Array:
    """The real bedplate and its details as they were drawn: triangles (t, 3, 3) in the world."""
    warm = expansion_scale(STEEL, SHOP_C)
    faces = [_real_face(model, face.index) for face in model.faces]
    return _world(np.vstack(faces), warm)


def _real_face(model: CadModel, face: int) -> Array:
    corners, _ = model.mesh_of(face)
    if face in model.splines:
        vertices, triangles = _fine(corners)
        feet, normals = model.splines[face].nearest(vertices)
        return np.asarray((feet + flange_off(feet)[:, None] * normals)[triangles])
    if fault := _lies_off(model.faces[face].nominal or {}):
        way, off, lean = fault
        middle = corners.reshape(-1, 3).mean(axis=0)
        return corners + off * np.array(way) + np.cross(lean, corners - middle)
    return corners


def flange_off(places: Array) -> Array:
    """(n,) how far the real fairing flange lies outside, at places (n, 3) of the part."""
    return FLANGE.off(places)


def truth(model: CadModel, step: Path) -> dict[str, list[dict]]:
    """Its faces for who touches them, as they would be at 20 °C, by the fingerprint of its file."""
    faces = touchable_faces(model)
    for face in faces:
        nominal = model.faces[face["index"]].nominal or {}
        if "spline" in face:
            face["ripple"] = asdict(FLANGE)
        elif fault := _lies_off(nominal):
            way, off, lean = fault
            middle = model.mesh_of(face["index"])[0].reshape(-1, 3).mean(axis=0)
            face |= {"point": (middle + off * np.array(way)).tolist(), "axis": unit(np.add(way, np.cross(lean, way))).tolist()}
        elif nominal.get("shape") == "cylinder" and 2 * nominal["radius"] == bedplate.SEAT_BORE:
            y, z, wider = BORES_OFF[int(np.mean(face["spots"], axis=0)[0] > 0)]
            face |= {"point": np.add(nominal["point"], (0.0, y, z)).tolist(), "radius": nominal["radius"] + wider / 2}
    return {hashlib.sha256(step.read_bytes()).hexdigest(): faces}


def _lies_off(nominal: dict) -> tuple[tuple[float, ...], float, tuple[float, ...]] | None:
    """The deviation of a face: which way it faces, how far off, and how it leans."""
    for way, at, off, lean in OFF:
        flat = nominal.get("shape") == "plane" and np.allclose(nominal["normal"], way)
        if flat and abs(np.dot(nominal["point"], way) - at) < 1:
            return way, off, lean
    return None


def _fine(corners: Array) -> tuple[Array, Any]:
    """Vertices and triangles of a face, these small."""
    import trimesh

    vertices, faces = np.unique(corners.reshape(-1, 3), axis=0, return_inverse=True)
    vertices, faces = trimesh.remesh.subdivide_to_size(vertices, faces.reshape(-1, 3), FINE_MM)
    mesh = trimesh.Trimesh(vertices, faces)
    return np.asarray(mesh.vertices), mesh.faces


def _world(at: Array, warm: float) -> Array:
    return WORLD_FROM_PART.points(warm * at)
