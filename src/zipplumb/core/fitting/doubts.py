"""Warnings, as sentences, where the hits do not determine a parameter of the fit."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..frames import Array
from ..units import mm
from .placed import Placed
from .result import FitResult

MANY = 500  # points that are enough to tell a span
NARROW = 90.0  # degrees of a round
SHALLOW = 0.2  # depth of a cylinder or cone by its diameter
WEAKLY = 5.0  # times a hit's own error
PARAMETERS = {"x": "center", "y": "center", "z": "place along the axis", "rx": "axis", "ry": "axis", "rz": "long direction"}
LOOSE = 0.5  # degrees of expanded uncertainty of a direction


def _known(result: FitResult, parameter: str, factor: float = 1.0, unit: str = "mm") -> str:
    u = 2 * factor * result.u(parameter)
    if not np.isfinite(u):
        return "how well is not known, as no hit is spare"
    return f"known to ±{u:.2g}{'' if unit == '°' else ' '}{unit} only"


def span_deg(angles: Array) -> float:
    """Degrees of the round between the hits on either side of the greatest gap."""
    ordered = np.sort(angles)
    gaps = np.append(np.diff(ordered), ordered[0] + 2 * np.pi - ordered[-1])
    return float(np.degrees(2 * np.pi - gaps.max()))


def doubts_of_round(placed: Placed, result: FitResult, badly: bool = False, rivals: Sequence[Placed] = ()) -> tuple[str, ...]:
    """Doubts about a shape with a radius or a length.

    Parameters
    ----------
    badly : it leaves more than a shape of the right kind would
    rivals : others of its kind that are as probable by these hits
    """
    points = result.points if len(result.points) <= MANY else result.points[:: len(result.points) // MANY]
    x, y, z = ((points - placed.origin) @ placed.axes).T
    kind, found = placed.kind, []
    if kind == "sphere":
        found += _cap(result, np.column_stack([x, y, z]))
    elif kind in ("round_slot", "square_slot"):
        found += _ends(placed, result, x, y)
    elif kind == "ellipse":
        span = span_deg(np.arctan2(y / placed.sizes[1], x / placed.sizes[0]))
        if span < 180:
            found.append(f"The hits span {span:.0f}° of the ellipse; its long half axis is {_known(result, 'semi_major')}.")
    else:
        found += _rounds(placed, result, x, y, z)
    if kind in ("cylinder", "cone"):
        found += _depth(placed, result, z)
    if kind == "cone":
        found += _flatness(placed, result)
    if badly and kind in ("cone", "torus"):  # of which a piece has many valleys
        off = mm(result.rms, ".2g")
        found.append(f"The hits lie {off} off it (rms): another {kind} may fit them better. Take more, farther round.")
    return (*_rivals(placed, rivals), *(found or _weakly_held(placed, result)), *no_spare(result))


def _rivals(placed: Placed, rivals: Sequence[Placed]) -> list[str]:
    if not rivals:
        return []
    turn = np.degrees(np.arccos(np.clip(abs(rivals[0].axes[:, 2] @ placed.axes[:, 2]), 0, 1)))
    return [f"The hits lie as well on another {placed.kind}, its axis {turn:.0f}° off: one more hit, elsewhere, tells which."]


def _weakly_held(placed: Placed, result: FitResult) -> list[str]:
    """Doubts from the covariance: a parameter that a hit's error moves by many times its own size, at the hits' reach."""
    reach = float(np.abs((result.points - placed.origin) @ placed.axes).max())
    found: dict[str, str] = {}
    for k, parameter in enumerate(result.parameters):
        turns = parameter in ("rx", "ry", "rz", "half_angle")
        moved = float(np.sqrt(result.unit_covariance[k, k])) * (reach if turns else 1.0)
        if moved > WEAKLY:
            factor, unit = (float(np.degrees(1)), "°") if turns else (1.0, "mm")
            found.setdefault(PARAMETERS.get(parameter, parameter.replace("_", " ")), _known(result, parameter, factor, unit))
    return [f"The hits hardly hold the {what}: it is {known}." for what, known in found.items()]


def _rounds(placed: Placed, result: FitResult, x: Array, y: Array, z: Array) -> list[str]:
    size = "major_radius" if placed.kind == "torus" else "radius"
    span, found = span_deg(np.arctan2(y, x)), []
    if span < NARROW:
        found.append(f"The hits span {span:.0f}° of the round; the radius is {_known(result, size)}.")
    if placed.kind == "torus":
        tube = span_deg(np.arctan2(z, np.hypot(x, y) - placed.sizes[0]))
        if tube < NARROW:
            found.append(f"The hits span {tube:.0f}° of the tube; its radius is {_known(result, 'minor_radius')}.")
    return found


def _cap(result: FitResult, rel: Array) -> list[str]:
    out = rel / np.linalg.norm(rel, axis=1)[:, None]
    middle = out.mean(axis=0)
    if np.linalg.norm(middle) < 0.5:
        return []
    reach = float(np.degrees(np.arccos(np.clip((out @ middle).min() / np.linalg.norm(middle), -1, 1))))
    if reach >= NARROW / 2:
        return []
    return [f"The hits cover a cap of {2 * reach:.0f}° of the sphere; the radius is {_known(result, 'radius')}."]


def _depth(placed: Placed, result: FitResult, z: Array) -> list[str]:
    depth, turns = float(np.ptp(z)), [p for p in ("rx", "ry") if p in result.parameters]
    if not turns or depth >= SHALLOW * 2 * abs(placed.sizes[0]):
        return []
    loosest = max(turns, key=result.u)
    sentence = f"The hits cover {mm(depth, '.3g')} of depth on a diameter of {mm(2 * abs(placed.sizes[0]), '.4g')}"
    return [f"{sentence}; the axis is {_known(result, loosest, np.degrees(1.0), '°')}."]


def _flatness(placed: Placed, result: FitResult) -> list[str]:
    half = float(np.degrees(placed.sizes[1]))
    if 2 <= half <= 88 or "half_angle" not in result.parameters:
        return []
    like = "cylinder" if half < 2 else "plane"
    return [f"The cone is nearly a {like}; its half angle is {_known(result, 'half_angle', np.degrees(1.0), '°')}."]


def _ends(placed: Placed, result: FitResult, x: Array, y: Array) -> list[str]:
    length, width = placed.sizes
    straight = (length - width) / 2 + 0.1 * width if placed.kind == "round_slot" else length / 2 - 0.1 * width
    found = []
    if "length" in result.parameters and not ((x > straight).any() and (x < -straight).any()):
        found.append(f"An end of the slot was not touched; its length is {_known(result, 'length')}.")
    if "width" in result.parameters and not ((y > width / 4).any() and (y < -width / 4).any()):
        found.append(f"A side of the slot was not touched; its width is {_known(result, 'width')}.")
    return found


def doubts_of_flat(result: FitResult, spreads: Array) -> tuple[str, ...]:
    """Doubts about a line or a plane: a direction that is poorly known."""
    found = []
    turns = [p for p in ("rx", "ry") if p in result.parameters]
    if result.kind == "plane" and turns and spreads[1] < 0.02 * spreads[0] and len(result.points) > 3:
        loosest = max(turns, key=result.u)
        found.append(f"The hits lie nearly on one line; the tilt about it is {_known(result, loosest, np.degrees(1.0), '°')}.")
    elif turns and result.spare > 0 and 2 * max(result.u(t) for t in turns) > np.radians(LOOSE):
        loosest = max(turns, key=result.u)
        found.append(f"The hits lie close together; the direction is {_known(result, loosest, np.degrees(1.0), '°')}.")
    return (*found, *no_spare(result))


def no_spare(result: FitResult) -> tuple[str, ...]:
    """With just enough hits every shape goes through them all."""
    if result.spare > 0 or result.kind == "point":
        return ()
    return ("No hit is spare: the residuals are zero whatever was touched, and prove nothing.",)
