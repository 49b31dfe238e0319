"""Pivot, sphere and scanner calibrations in progress."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..calibration import BANDS_DEG, LIMIT_MM, KnownProbe, Pivot, calibrate_on_sphere, calibrate_scanner, pivot
from ..calibration.reach import ROLL_DEG
from ..calibration.scanner import LEAST_POINTS
from ..errors import FitError
from ..frames import Array, Motion
from ..readings import HitSet
from .outcome import Figure, Outcome

DRAWN, ENOUGH = 500, 12_000  # points: so many are drawn, and so many are worked with
SEATS = {"cone": "the cone", "bore": "the bore"}


def pivot_outcome(taken: HitSet, seat: str, rolls: bool, limit_mm: float = LIMIT_MM) -> Outcome:
    """The ball swings in its seat. ``rolls``: the handle has an axis of its own to roll about."""
    steps = 4 if rolls else 3
    begin = f"Rest the ball in {SEATS[seat]}. Hold the button and swing away from the arm, from upright down to 45° and back."
    if not len(taken):
        return Outcome(
            "running", begin, "The tip's place comes out of how the arm swings about it.", wanted=steps, drawing=_empty(rolls)
        )
    try:
        found = pivot(taken.poses, taken.sweeps, rolls, taken.u_hit_mm)
    except FitError as error:
        return Outcome("running", begin, str(error), wanted=steps, drawing=_empty(rolls))
    verdict, why = found.verdict(limit_mm)
    done = steps - len(found.reach.missing)
    ask = "Press finish." if verdict == "pass" else "It does not pass."
    if verdict == "not enough":
        ask = found.reach.advice if found.reach.missing else found.reach.advice_across(found.weakest)
        why = found.weakest_words
    warn = found.swapped or (found.slips[-1].words if found.slips else "")
    loose = not np.isfinite(found.u_weakest_mm)
    return Outcome(
        verdict, ask, why, warn, done, steps,
        (
            Figure("Rms", None if loose else found.rms_mm),
            Figure("Largest", None if loose else found.largest_mm),
            Figure("Tip known to", None if loose else 2 * found.u_weakest_mm),
            Figure("Tip along the handle", None if loose else float(found.offset_mm[2])),
        ),
        _reach_drawing(found, rolls),
        {
            "offset_mm": found.offset_mm.tolist(), "covariance": found.covariance.tolist() if not loose else None,
            "u_offset_mm": None if loose else found.u_weakest_mm, "rms_mm": found.rms_mm, "largest_mm": found.largest_mm,
            "limit_mm": limit_mm, "poses": int(found.used.sum()), "aside": int((~found.used).sum()), "seat": seat,
        },
    )  # fmt: skip


def _empty(rolls: bool) -> dict:
    return {"kind": "reach", "counts": np.zeros((3, 4)).tolist(), "leans": [], "roll_deg": 0.0, "rolls": rolls, "now": None,
            "bands": list(BANDS_DEG), "roll_wanted_deg": ROLL_DEG}  # fmt: skip


def _reach_drawing(found: Pivot, rolls: bool) -> dict:
    reach = found.reach
    some = reach.leans[:: max(1, len(reach.leans) // DRAWN)]
    return _empty(rolls) | {
        "counts": reach.counts.tolist(), "leans": some.round(4).tolist(), "roll_deg": float(np.degrees(reach.roll_rad)),
        "now": reach.leans[-1].round(4).tolist(),
    }  # fmt: skip


def sphere_outcome(
    taken: HitSet,
    certified_mm: float,
    tip_mm: float,
    start_mm: Array,
    wanted: int,
    others: Sequence[KnownProbe] = (),
    limit_mm: float = LIMIT_MM,
) -> Outcome:
    """Hits all round a fixed sphere."""
    ask = f"Touch the sphere all round, {wanted} hits."
    drawing = {"kind": "sphere", "normals": [], "residuals_mm": [], "limit_mm": limit_mm}
    if not len(taken):
        return Outcome(
            "running",
            ask,
            "Lean and turn the handle differently; also below the middle, as far as the stem lets you.",
            wanted=wanted,
            drawing=drawing,
        )
    try:
        found = calibrate_on_sphere(taken.poses, certified_mm, tip_mm, start_mm, others)
    except FitError as error:
        return Outcome("not enough", ask, str(error), taken=len(taken), wanted=wanted, drawing=drawing)
    verdict, why = found.verdict(limit_mm, wanted)
    ask = ask if verdict == "not enough" else "Press finish." if verdict == "pass" else "It does not pass."
    return Outcome(
        verdict, ask, why, found.moved or found.question or found.aside, int(found.used.sum()), wanted,
        (Figure("Rms", found.rms_mm), Figure("Largest", found.largest_mm), Figure("Tip", found.diameter_mm)),
        drawing | _dots(found.normals, found.residuals),
        {
            "offset_mm": found.offset_mm.tolist(), "covariance": found.covariance.tolist(),
            "u_offset_mm": float(np.sqrt(np.linalg.eigvalsh(found.covariance)[-1])), "rms_mm": found.rms_mm,
            "largest_mm": found.largest_mm, "limit_mm": limit_mm, "diameter_mm": found.diameter_mm,
            "u_radius_mm": found.u_radius_mm, "covered": found.covered, "hits": int(found.used.sum()),
            "aside": int((~found.used).sum()),
            "certified_mm": certified_mm,
        },
    )  # fmt: skip


def _dots(normals: Array, residuals: Array) -> dict:
    return {"normals": normals.round(4).tolist(), "residuals_mm": residuals.round(5).tolist()}


def scanner_outcome(taken: HitSet, certified_mm: float, start: Motion, wanted: int, limit_mm: float = 2 * LIMIT_MM) -> Outcome:
    """Stripes over the same sphere."""
    ask = "Hold the button and pass the light over the sphere, from all sides."
    drawing = {"kind": "sphere", "normals": [], "residuals_mm": [], "limit_mm": limit_mm}
    lines = [k for k, line in enumerate(taken.lines) if len(line)]
    if not lines:
        return Outcome("running", ask, "Keep the sphere in the middle of the light.", wanted=wanted, drawing=drawing)
    every = max(1, sum(len(taken.lines[k]) for k in lines) // ENOUGH)  # a scan has more points than a place needs
    thinned = [taken.lines[k][::every] if len(taken.lines[k]) // every >= LEAST_POINTS else taken.lines[k] for k in lines]
    points = np.vstack(thinned)
    stripe = np.repeat(np.arange(len(lines)), [len(line) for line in thinned])
    try:
        found = calibrate_scanner(taken.poses[lines], points, stripe, certified_mm, start)
    except FitError as error:
        return Outcome("not enough", ask, str(error), taken=len(lines), wanted=wanted, drawing=drawing)
    verdict, why = found.verdict(limit_mm, wanted)
    ask = ask if verdict == "not enough" else "Press finish." if verdict == "pass" else "It does not pass."
    every = max(1, len(found.residuals) // DRAWN)
    return Outcome(
        verdict, ask, why, found.question, found.stripes, wanted,
        (
            Figure("Rms", found.rms_mm), Figure("Largest", found.largest_mm),
            Figure("Covered", text=f"{100 * found.covered:.0f} %"),
        ),
        drawing | _dots(found.normals[::every], found.residuals[::every]),
        {
            "offset_mm": found.axis_from_scanner.translation.tolist(), "axis_from_scanner": found.axis_from_scanner.as_list(),
            "covariance": found.covariance.tolist(),
            "u_offset_mm": found.u_light_mm,
            "rms_mm": found.rms_mm, "largest_mm": found.largest_mm, "limit_mm": limit_mm, "stripes": found.stripes,
            "covered": found.covered, "certified_mm": certified_mm, "diameter_mm": 0.0,
        },
    )  # fmt: skip
