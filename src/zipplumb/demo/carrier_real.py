"""The bearing carrier as it really is: what the stand-in knows and the application never reads."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from pathlib import Path

import numpy as np

from ..cad import CadModel
from ..core.frames import unit
from ..jobs.hand import touchable_faces
from . import carrier

# the library says (0.312, -0.204, 186.450) and 6.000 mm of the first; the real one differs a little
PROBES = (
    {"name": "6 mm ruby ball", "offset_mm": (0.3135, -0.2052, 186.4512), "tip_radius_mm": 3.0005},
    {"name": "25 mm steel ball", "offset_mm": (0.218, 0.164, 142.387), "tip_radius_mm": 12.5012},
    {"name": "3 mm long ball", "offset_mm": (-0.142, 0.231, 236.118), "tip_radius_mm": 1.4996},
    {"name": "Line scanner", "offset_mm": (1.21, 61.04, 96.37), "tip_radius_mm": 0.0, "scanner": True,
     "lean_rad": (0.008, -0.014, 0.011)},
    {"name": "38.1 mm nest ball", "offset_mm": (0.0872, -0.0631, 121.3044), "tip_radius_mm": 19.0496},
)  # fmt: skip
NOISE_RAD, ECCENTRICITY_RAD = 7e-6, 8e-7
BENCH = {
    "seat": (560.0, 420.0, 40.0), "bore_mm": 20.0, "sphere": (760.0, 330.0, 150.0), "sphere_mm": 25.4002,
    "bar": ((420.0, 560.0, 30.0), (920.0, 560.0, 30.0)), "bar_mm": 500.0,
}  # fmt: skip
PLACE = {"quaternion": [0.8525, 0.0923, -0.1105, 0.5026], "translation_mm": [612.4, -388.7, 145.2]}


def _plane(nominal, normal, at, true_offset=0.0, tilt=(0.0, 0.0, 0.0), wave=0.0):
    """An error for the plane with this nominal normal and height along it."""
    same = nominal["shape"] == "plane" and np.allclose(nominal["normal"], normal, atol=1e-6)
    height = np.dot(nominal["point"], normal)
    if not same or abs(height - at) > 1e-3:
        return None
    true_normal = unit(np.array(normal, float) + np.cross(tilt, normal))
    return {"point": (np.array(nominal["point"]) + true_offset * np.array(normal)).tolist(), "axis": true_normal.tolist(),
            "wave_mm": wave}  # fmt: skip


def _hole(nominal, x, y, shift=(0.0, 0.0), bigger=0.0, wave=0.004):
    upright = nominal["shape"] == "cylinder" and abs(nominal["direction"][2]) > 0.99
    if not upright or abs(nominal["point"][0] - x) > 1 or abs(nominal["point"][1] - y) > 1:
        return None
    point = np.array(nominal["point"]) + np.array([*shift, 0.0])
    return {"point": point.tolist(), "radius": nominal["radius"] + bigger / 2, "wave_mm": wave}


def _along_y(nominal, diameter, bigger, shift=(0.0, 0.0, 0.0), tilt=(0.0, 0.0, 0.0), wave=0.0):
    along = nominal["shape"] == "cylinder" and abs(nominal["direction"][1]) > 0.99
    if not along or abs(2 * nominal["radius"] - diameter) > 1e-6:
        return None
    return {
        "point": (np.array(nominal["point"]) + shift).tolist(),
        "axis": unit(np.array(nominal["direction"], float) + tilt).tolist(),
        "radius": (diameter + bigger) / 2,
        "wave_mm": wave,
    }


def error_of(nominal: dict) -> dict:
    """How one real face differs from its nominal; nothing for a face that is as drawn."""
    small = np.radians
    tries = (
        _plane(nominal, (0, 0, 1), carrier.FOOT, 0.0, (0.0, 0.0, 0.0), 0.012),
        _plane(nominal, (0, -1, 0), carrier.WIDTH / 2, 0.0, (small(0.02), 0.0, small(0.012)), 0.006),
        _plane(nominal, (-1, 0, 0), carrier.LENGTH / 2, 0.0, (0.0, small(0.015), small(0.03)), 0.006),
        _plane(nominal, (1, 0, 0), carrier.LENGTH / 2, 0.082, (0.0, 0.0, small(0.01))),
        _plane(nominal, (0, 1, 0), carrier.BODY_WIDTH / 2, 0.061, (small(0.008), 0.0, 0.0)),
        _plane(nominal, (0, -1, 0), carrier.BODY_WIDTH / 2 + carrier.SPIGOT_OUT, -0.018),
        _along_y(nominal, carrier.BORE, 0.024, (0.03, 0.0, -0.02), (0.0002, 0.0, 0.0001), 0.006),
        _along_y(nominal, carrier.SPIGOT, -0.031, (0.03, 0.0, -0.02), wave=0.008),
        _hole(nominal, carrier.BOLT_X, carrier.BOLT_Y, (0.34, -0.21), 0.02),
        _hole(nominal, -carrier.BOLT_X, -carrier.BOLT_Y, (0.02, 0.01), 0.14),
    )
    return next((found for found in tries if found), {})


def true_faces(model: CadModel, error: Callable[[dict], dict]) -> list[dict]:
    """The faces of a part as they really are."""
    faces = touchable_faces(model)
    for face in faces:
        nominal = model.faces[face["index"]].nominal
        if nominal:
            face.update(error(nominal))
    return faces


def truth(model: CadModel, step: Path) -> dict[str, list[dict]]:
    """Its true faces, by the fingerprint of its file."""
    return {hashlib.sha256(step.read_bytes()).hexdigest(): true_faces(model, error_of)}


def write_truth(
    own: dict[str, list[dict]], path: Path, others: dict[str, list[dict]] | None = None, stands: dict[str, dict] | None = None
) -> None:
    """Write what the stand-in needs: the arm's true tip, where the part stands, and its true faces.

    ``own``: those of the carrier, by the fingerprint of its file; ``others``: of other parts; ``stands``: where they stand, of
    those that do not lie where the carrier does.
    """
    ((sha256, faces),) = own.items()
    truth = {
        "about": "The real part and arm of the demo. Only the stand-in reads this.",
        "sha256": sha256,
        "probes": PROBES,
        "noise_rad": NOISE_RAD,
        "eccentricity_rad": ECCENTRICITY_RAD,
        "bench": BENCH,
        "temperature_c": 20.6,
        "world_from_part": PLACE,
        "faces": faces,
        "others": others or {},
        "stands": stands or {},
    }
    path.write_text(json.dumps(truth))
