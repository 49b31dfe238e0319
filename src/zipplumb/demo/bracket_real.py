"""The sensor bracket as it really is: what the stand-in knows and the application never reads."""

from __future__ import annotations

import hashlib
from pathlib import Path

import numpy as np

from ..cad import CadModel
from ..core.frames import unit
from . import bracket
from .carrier_real import true_faces

BORE_SHIFT, BORE_BIGGER, BOSS_BIGGER = (0.06, -0.04), 0.024, -0.036
CONE_WIDER_RAD, BALL_BIGGER, TUBE_BIGGER = 0.0012, 0.03, 0.024
SLOT_WIDER, ELLIPSE_LONGER, CRADLE_WIDER = 0.04, 0.05, 0.06
WAVE_OFF_MM = 0.07  # how far the wavy edge stands out of what is drawn
BOLT_SHIFT = (0.31, -0.22)  # of the first
SIDE_TILT_RAD = 0.0003
UPRIGHT = 0.999


def error_of(nominal: dict) -> dict:
    """How one real face differs from its nominal; nothing for a face that is as drawn."""
    shape = nominal["shape"]
    if shape == "cone":
        return {"shape": {**nominal, "half_angle": nominal["half_angle"] + CONE_WIDER_RAD}}
    if shape == "sphere":
        return {"shape": {**nominal, "radius": nominal["radius"] + BALL_BIGGER / 2}}
    if shape == "torus":
        return {"shape": {**nominal, "minor_radius": nominal["minor_radius"] + TUBE_BIGGER / 2}}
    if shape == "plane":
        return _plane(nominal)
    return _cylinder(nominal) if shape == "cylinder" else {}


def _cylinder(nominal: dict) -> dict:
    point, diameter = np.array(nominal["point"]), 2 * nominal["radius"]
    near = lambda x, y: np.hypot(point[0] - x, point[1] - y) < 1.0  # noqa: E731
    if near(*bracket.BORE[1:]):
        return {"point": (point + [*BORE_SHIFT, 0]).tolist(), "radius": (diameter + BORE_BIGGER) / 2}
    if near(*bracket.BOSS[1:]):
        return {"radius": (diameter + BOSS_BIGGER) / 2}
    if abs(diameter - bracket.ROUND_SLOT[1]) < 1e-6:
        return {"radius": (diameter + SLOT_WIDER) / 2}
    if abs(diameter - 2 * bracket.CRADLE_RADIUS) < 1e-6:
        return {"radius": (diameter + CRADLE_WIDER) / 2}
    if near(bracket.CIRCLE[1] + bracket.CIRCLE[0] / 2, bracket.CIRCLE[2]):
        return {"point": (point + [*BOLT_SHIFT, 0]).tolist()}
    return {}


def _plane(nominal: dict) -> dict:
    point, normal = np.array(nominal["point"]), np.array(nominal["normal"])
    if normal[1] < -UPRIGHT and abs(point[1] + bracket.WIDTH / 2) < 1e-6:  # the side: not quite square
        return {"axis": unit(normal + [SIDE_TILT_RAD, 0, 0]).tolist()}
    _, width, x, y = bracket.ROUND_SLOT
    if abs(normal[1]) > UPRIGHT and abs(abs(point[1] - y) - width / 2) < 1e-6 and abs(point[0] - x) < bracket.ROUND_SLOT[0]:
        return {"point": (point - SLOT_WIDER / 2 * normal).tolist()}
    return {}


def _wall(face: dict) -> dict:
    """The wavy edge; and the wall of the elliptical opening, which is none of the shapes of a face, given by its outline."""
    long, short, x, y = bracket.ELLIPSE
    spots = np.array(face["spots"])
    if face["kind"] == "free" and len(spots) and spots[:, 1].min() > bracket.WIDTH / 2 - max(map(max, bracket.WAVE_DEEP)) - 1:
        return {**face, "off_mm": WAVE_OFF_MM}
    if face["kind"] != "free" or not len(spots) or np.hypot(*(spots.mean(axis=0)[:2] - [x, y])) > 3:
        return face
    outline = {
        "shape": "ellipse", "center": [x, y, 0.0], "normal": [0, 0, 1], "major_direction": [1, 0, 0],
        "semi_major": (long + ELLIPSE_LONGER) / 2, "semi_minor": short / 2,
    }  # fmt: skip
    return {**face, "kind": "shape", "shape": outline, "inside": True}


def truth(model: CadModel, step: Path) -> dict[str, list[dict]]:
    """Its true faces, by the fingerprint of its file."""
    return {hashlib.sha256(step.read_bytes()).hexdigest(): [_wall(face) for face in true_faces(model, error_of)]}
