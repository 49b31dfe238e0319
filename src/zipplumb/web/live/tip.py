"""Where the tip is, as pages show it at every tick: in the part, from the nominal, from the next target, from its place."""

from __future__ import annotations

import math

import numpy as np

from ...core.cloud.head import BORDER, Held, held_at
from ...core.frames import Array
from ...core.sheet import StationPose, Untied
from ...core.units import Units, length_text
from ...jobs.measure.ahead import ahead_of
from ...jobs.place import placement
from ...jobs.state.results import JobResults

HELD: dict[Held, str] = {"near": "Near", "right": "Right", "far": "Far", "nothing": "Nothing comes back"}
AT_TARGET_MM = 2.0  # from where one touches
SMALL_SHARE = 0.2  # of the way to a target, that is not worth a word


def told_of_tip(state: JobResults, stands: StationPose | Untied, word: dict) -> tuple[dict, Array]:
    """The live message to pages about the current tip, and the position of the tip.

    Parameters
    ----------
    stands : the station that it is read from
    word : the tip in the instrument's axes, as the link sends it

    Returns
    -------
    the message, and the tip (3,), mm: in the part, in the world while nothing is aligned; NaN where the station is not tied
    """
    if isinstance(stands, Untied):  # what is read there has no place yet
        words = f"{state.kit.stations[stands.id].name} is not tied: no place yet"
        return {"aligned": False, "text": words}, np.full(3, np.nan)
    world = stands.world_from_station.points([word["tip"], word.get("axis", word["tip"])])
    alignment = state.alignment
    tip, axis = alignment.points(world) if alignment else world
    message = {
        "aligned": bool(alignment),
        "tip": [round(float(v), 3) for v in tip],
        "axis": [round(float(v), 1) for v in axis],
        "radius": word.get("radius"),
        "text": _tip_text(tip, state.job.units),
    }
    if word.get("light"):
        message["light"] = _light_told(word["light"], state.job.units)
    if alignment:
        message |= _from_nominal(state, tip, word.get("radius")) | _from_target(state, tip)
        u_mm = placement.u_of_watching(state, stands, np.array(word["tip"], float), tip)
        if (missing := placement.missing(state, tip, word.get("radius"), u_mm)) is not None:
            message["place"] = {**placement.told(state, missing), "at": word.get("at")}
    return message, tip


def _tip_text(tip, units: Units) -> str:
    return "  ".join(f"{axis} {length_text(float(v), units):>9}" for axis, v in zip("XYZ", tip, strict=True))


def _light_told(light: tuple[float | None, float, float], units: Units) -> dict:
    """How the scanner is held: in a word, on a bar, and to be heard (frontend/light.js)."""
    away_mm, nearest_mm, farthest_mm = light
    at = held_at(math.nan if away_mm is None else away_mm, nearest_mm, farthest_mm)
    return {
        "held": at.held, "word": HELD[at.held], "share": None if math.isnan(at.share) else round(at.share, 3), "border": BORDER,
        "text": "" if away_mm is None else length_text(away_mm, units),
    }  # fmt: skip


def _from_nominal(state: JobResults, tip_part, tip_radius_mm: float | None) -> dict:
    """How far the tip's surface is from the current row's nominal, mm."""
    if state.current is None or tip_radius_mm is None:
        return {}
    height = state.current.recipe.height_over_nominal(np.asarray(tip_part)[None], state.surfaces)
    if height is None:
        return {}
    off = float(height[0]) - tip_radius_mm
    return {"off": round(off, 3), "off_text": length_text(off, state.job.units, sign=True)}


def _from_target(state: JobResults, tip_part) -> dict:
    """How far, and which way, the tip's center is from the next target: in words, and to be heard (frontend/pulse.js)."""
    ahead = ahead_of(state) if state.current is not None and state.current.recipe.targets is not None else None
    if ahead is None or ahead.next is None:
        return {}
    way = ahead.next - np.asarray(tip_part)
    units, far = state.job.units, float(np.linalg.norm(way))
    along = zip("XYZ", way.tolist(), strict=True)
    steps = [f"{axis} {length_text(v, units, sign=True)}" for axis, v in along if abs(v) > SMALL_SHARE * far]
    heard = {
        "mm": round(far, 2), "zone": AT_TARGET_MM, "word": "in" if far <= AT_TARGET_MM else "out",
        "side": 1 if way[np.argmax(np.abs(way))] > 0 else -1,
    }  # fmt: skip
    return {"to_text": f"{length_text(far, units)} to the target: {', '.join(steps)}", "target": heard}
