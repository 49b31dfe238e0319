"""Field checks in progress: sphere, known length, single point, two faces, drift nests."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from ..calibration import KnownProbe
from ..calibration.sphere import contradiction
from ..errors import AlignmentError, FitError
from ..field_checks import Check, drift, judged, known_length, single_point, two_faces
from ..fitting import fit
from ..frames import Array, points_of_poses
from ..readings import HitSet
from ..units import mm
from .outcome import Figure, Outcome

SPHERE_HITS, POINT_POSES, LENGTHS = 9, 10, 3
OTHERS_FORM, OTHERS_MM = 0.2, 1.0  # another probe explains a sphere that is so much rounder with it, and of about its size


def bars(names: Sequence[str], values: Array | Sequence[float | None], limit_mm: float) -> dict:
    """A drawing: one bar for each value (mm) against the limit; None where it is only taken."""
    told = [{"name": n, "mm": None if v is None else float(v)} for n, v in zip(names, values, strict=True)]
    return {"kind": "bars", "bars": told, "limit_mm": limit_mm}


def _so_far(
    ask: str, taken: int, wanted: int, check: Callable[[], Check] | None, drawing: dict, result: dict | None = None
) -> Outcome:
    """The check, as soon as there is enough for it."""
    if taken < wanted or check is None:
        return Outcome("running" if not taken else "not enough", ask, taken=taken, wanted=wanted, drawing=drawing)
    try:
        found = check()
    except (AlignmentError, FitError) as error:
        return Outcome("not enough", ask, str(error), taken=taken, wanted=wanted, drawing=drawing)
    kept = {"name": found.name, "result_mm": found.result_mm, "limit_mm": found.limit_mm, "U_mm": found.U_mm} | (result or {})
    figures = (Figure("Result", found.result_mm), Figure("Limit", found.limit_mm))
    return Outcome(found.verdict, "Press finish.", found.words, "", taken, wanted, figures, drawing, kept)


def sphere_check_outcome(
    taken: HitSet, offset_mm: Array, tip_mm: float, certified_mm: float, limit_mm: float, others: Sequence[KnownProbe] = ()
) -> Outcome:
    """Nine hits or more on a certified sphere: its diameter comes out right, or what would explain it is named."""
    ask = f"Touch the sphere all round, {SPHERE_HITS} hits or more."
    drawing: dict = {"kind": "sphere", "normals": [], "residuals_mm": [], "limit_mm": limit_mm}
    if len(taken) < SPHERE_HITS:
        return _so_far(ask, len(taken), SPHERE_HITS, None, drawing)
    found = fit("sphere", points_of_poses(taken.poses, offset_mm))
    error = 2 * found.shape.radius - tip_mm - certified_mm
    normals = (found.points - found.shape.center) / found.shape.radius
    drawing |= {"normals": normals.round(4).tolist(), "residuals_mm": found.residuals.round(5).tolist()}

    def check() -> Check:
        came_out = f"The sphere comes out {mm(certified_mm + error)} where {mm(certified_mm)} is certified"
        explained = contradiction(tip_mm + error, tip_mm, certified_mm, found.u("radius"), others)
        other = _other_probe(taken.poses, certified_mm, found.form, others) if explained else ""
        words = f"{came_out}. {other}" if other else explained or f"{came_out}; form {mm(found.form)}."
        return judged("sphere", max(error, found.form / 2, key=abs), limit_mm, 0.0, words)

    return _so_far(ask, len(taken), SPHERE_HITS, check, drawing)


def _other_probe(poses: Array, certified_mm: float, form: float, others: Sequence[KnownProbe]) -> str:
    """Which other probe of the library, with its own tip, makes a sphere of about the right size of these hits."""
    best: tuple[float, str] = (OTHERS_FORM * form, "")
    for other in others:
        if other.offset_mm is not None:
            found = fit("sphere", points_of_poses(poses, other.offset_mm))
            off = abs(2 * found.shape.radius - other.diameter_mm - certified_mm)
            if found.form < best[0] and off < OTHERS_MM:
                best = (
                    found.form,
                    f"It would be right with {other.name} ({mm(other.diameter_mm)}): is that the probe on the arm?",
                )
    return best[1]


def length_outcome(taken: HitSet, offset_mm: Array, length_mm: float, limit_mm: float) -> Outcome:
    """Both ends of a bar, one after the other, three times over."""
    points, wanted = points_of_poses(taken.poses, offset_mm), 2 * LENGTHS
    end = "first" if len(taken) % 2 == 0 else "second"
    ask = f"Take the {end} end of the bar ({len(taken) // 2 + 1} of {LENGTHS})." if len(taken) < wanted else "Press finish."
    pairs = points[: len(points) // 2 * 2].reshape(-1, 2, 3)
    errors = np.linalg.norm(pairs[:, 1] - pairs[:, 0], axis=1) - length_mm
    drawing = bars([f"Length {k + 1}" for k in range(len(errors))], errors, limit_mm)
    return _so_far(ask, len(taken), wanted, lambda: known_length(pairs, length_mm, limit_mm), drawing)


def single_point_outcome(taken: HitSet, offset_mm: Array, limit_mm: float) -> Outcome:
    """One seat from many poses of the arm; a tip that suddenly stands elsewhere is another probe's."""
    points = points_of_poses(taken.poses, offset_mm)
    ask = f"Rest the ball in its seat and take it from {POINT_POSES} sides, leaning the handle round."
    told = _so_far(
        ask,
        len(taken),
        POINT_POSES,
        lambda: single_point(points, limit_mm),
        {"kind": "spread", "points": points.round(4).tolist()},
    )
    if len(points) >= 4:
        steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
        at = int(np.argmax(steps))
        if steps[at] > max(1.0, 20 * float(np.median(steps))):
            warn = (
                f"The tip jumped {mm(steps[at], '.1f')} between take {at + 1} and {at + 2}, in a seat that does not move: "
                "another probe is on, or the ball left its seat."
            )
            return Outcome("fail" if len(points) >= POINT_POSES else told.verdict, told.ask, told.why or warn, warn, told.taken,
                           told.wanted, told.figures, told.drawing, told.result)  # fmt: skip
    return told


def faces_outcome(taken: HitSet, limit_mm: float) -> Outcome:
    """Targets sighted in both faces, each in one and then in the other."""
    places, front, back = taken.poses[:, :3], taken.faces == 1, taken.faces == 2
    pairs = int(min(front.sum(), back.sum()))
    first, second = places[front][:pairs], places[back][:pairs]
    gaps = np.linalg.norm(second - first, axis=1)
    drawing = bars([f"Target {k + 1}" for k in range(pairs)], gaps, limit_mm)
    ask = "Sight a target, turn the instrument over, and sight it again; three targets at different heights."
    return _so_far(ask, pairs, 3, lambda: two_faces(first, second, limit_mm), drawing)


def drift_outcome(taken: HitSet, nests: int, limit_mm: float, before: Sequence[Sequence[float]] | None) -> Outcome:
    """The nests at the start; or again, against how they stood then."""
    places, names = taken.poses[:, :3], [f"Nest {k + 1}" for k in range(nests)]
    seen = min(len(taken), nests)
    gaps = [None] * seen if before is None else np.linalg.norm(places[:seen] - np.array(before)[:seen], axis=1)
    drawing, kept = bars(names[:seen], gaps, limit_mm), {"places": places.tolist()}
    if len(taken) < nests:
        ask = f"Take {names[len(taken)]}{' again' if before else ''}."
        why = "In the same order as at the start." if before else "They tell later whether the instrument has moved."
        return Outcome("not enough" if seen else "running", ask, why, taken=seen, wanted=nests, drawing=drawing)
    if before is None:
        why = "The nests are kept. Measure them again when you are done, or when in doubt."
        return Outcome("pass", "Press finish.", why, taken=seen, wanted=nests, drawing=drawing, result=kept)
    return _so_far(
        "Press finish.", seen, nests, lambda: drift(names, np.array(before), places[:nests], limit_mm), drawing, kept
    )
