"""The shop as the tracker and the radar really stand in it: what there is of parts, nests, and where they may stand."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from ..cad import CadModel
from ..core.alignment.reference_points import expansion_scale
from ..core.frames import Array, Motion
from . import bedplate, bedplate_real
from .carrier_real import PLACE

# centers of a 38.1 mm reflector, about the carrier
NESTS = (
    (-300.0, 900.0, 400.0), (1500.0, 900.0, 380.0), (1500.0, 2600.0, 620.0), (-300.0, 2500.0, 640.0), (600.0, 1700.0, 1100.0),
    (700.0, -200.0, 420.0),
)  # fmt: skip
REFERENCES = tuple(f"R{k}" for k in range(1, len(bedplate.REFERENCES) + 1))  # nests on the bedplate that nobody moves
BAR = {"Bar end 1": (900.0, 1400.0, 700.0), "Bar end 2": (1900.0, 1400.0, 700.0)}
# the tracker stands high, and looks over the bedplate's details; the radar before its fairing flange
TRACKER = (((3e-4, -2e-4, 0.0), (-2350.0, 2150.0, 2250.0)), ((-2e-4, 1e-4, 1.9), (3300.0, 1500.0, 2300.0)))
RADAR = (((1e-4, 2e-4, -1.2), (2000.0, 8736.0, 2050.0)),)
# the arm's one seat, on the bedplate's top near its aft end: where its base stands in the part, and how it is turned
ARM_AT, ARM_TURN = (-830.0, 340.0, bedplate.HIGH), (2e-3, -1e-3, -0.9)
NOISE = {"range_mm": 0.004, "range_per_m_mm": 0.0008, "angle_rad": 2.2e-6, "face_rad": 4e-6, "drift_mm_h": 0.004}


def write_shop(models: Mapping[str, tuple[CadModel, Path]], path: Path) -> None:
    """``models``: the carrier and the bedplate, with the files that they were read from."""
    carrier, bedplate = models["carrier"][0], models["bedplate"][0]
    stands = Motion.from_quaternion(PLACE["quaternion"], PLACE["translation_mm"])
    triangles = np.vstack([_placed(carrier, stands), bedplate_real.mesh(bedplate)])
    vertices, corner = np.unique(triangles.reshape(-1, 3).round(4), axis=0, return_inverse=True)
    on_bedplate, details = bedplate_real.nests_and_details()
    parts = {"carrier": stands, "bedplate": bedplate_real.WORLD_FROM_PART}
    shop = {
        "about": "The real shop of the demo. Only the stand-ins read this.",
        "stations": [_stand(*each) for each in TRACKER],
        "radar_stations": [_stand(*each) for each in RADAR],
        "nests": {f"Nest {k}": place for k, place in enumerate(NESTS, 1)} | BAR | on_bedplate,
        "details": details,
        "parts": {_sha256(file): _as_data(parts[name]) for name, (_, file) in models.items() if name in parts},
        "mesh": {"vertices": vertices.tolist(), "triangles": corner.reshape(-1, 3).tolist()},
        **NOISE, "temperature_c": bedplate_real.SHOP_C, "bar_mm": 1000.0,
    }  # fmt: skip
    path.write_text(json.dumps(shop))


def arm_stands(bedplate_file: Path) -> dict[str, dict]:
    """How the bedplate and its nests lie before the arm at its seat there."""
    warm = expansion_scale(bedplate_real.STEEL, bedplate_real.SHOP_C)
    at = bedplate_real.WORLD_FROM_PART.points(warm * np.array(ARM_AT))
    turned = _stand(ARM_TURN, tuple(at))
    base_from_world = Motion.from_quaternion(turned["quaternion"], turned["translation_mm"]).inverse()
    nests, _ = bedplate_real.nests_and_details()
    fixed = {name: base_from_world.points(np.array(at)).tolist() for name, at in nests.items() if name in REFERENCES}
    stand = {**_as_data(base_from_world @ bedplate_real.WORLD_FROM_PART), "scale": warm}
    return {_sha256(bedplate_file): {**stand, "temperature_c": bedplate_real.SHOP_C, "nests": fixed}}


def _placed(model: CadModel, stands: Motion) -> Array:
    corners = model.triangles_of(None)
    return stands.points(corners.reshape(-1, 3)).reshape(-1, 3, 3)


def _stand(turn: tuple[float, float, float], at: tuple[float, float, float]) -> dict:
    """Turned about the upright, and leaning a little."""
    turned = Rotation.from_euler("z", turn[2]) * Rotation.from_rotvec([turn[0], turn[1], 0.0])
    return {"quaternion": turned.as_quat()[[3, 0, 1, 2]].tolist(), "translation_mm": list(at)}


def _as_data(motion: Motion) -> dict:
    return {"quaternion": Rotation.from_matrix(motion.rotation).as_quat()[[3, 0, 1, 2]].tolist(),
            "translation_mm": motion.translation.tolist()}  # fmt: skip


def _sha256(file: Path) -> str:
    return hashlib.sha256(file.read_bytes()).hexdigest()
