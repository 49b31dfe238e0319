"""How the real bedplate differs from its CAD, and what only the stand-in knows of its details and their screws."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from ..core.alignment.reference_points import expansion_scale
from ..core.frames import Array, Motion
from . import bedplate

STEEL, SHOP_C = "carbon steel", 23.4
WORLD_FROM_PART = Motion(Rotation.from_euler("z", 0.35).as_matrix(), np.array([-1000.0, 3900.0, 150.0]))
OFF_MM, OFF_RAD = 2.0, 3e-3  # by which details lie off at first
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


def _world(at: Array, warm: float) -> Array:
    return WORLD_FROM_PART.points(warm * at)
