"""A touch probe on a fixed reference sphere: the tip's place in the last axis, and its diameter.

|R o + p - c| = D/2 + r for every hit: the offset o, the sphere's center c and the sum of both
radii are found by Gauss-Newton with analytic derivatives.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import special

from ..errors import FitError
from ..fitting import fit
from ..frames import Array, rotations_from_quaternions
from ..units import MM_PER_INCH, mm
from .least import LIMIT_MM, Verdict, held_against, sandwich

LEAST, WANTED = 12, 60
ITERATIONS = 50
CELLS = 24  # parts of the sphere by which coverage is told
SPREAD = 0.6  # share of the cells above the stem that must have been touched
MOVED_SURE = 1e-6  # chance that such a step is none
MOVED_MM = 0.04
TRIES, SUBSET = 80, 6  # random spheres of as many hits, to find the one that most hits lie on
FAR_SIGMAS, FAR_MM, ROUGH_MM = 6.0, 0.15, 3.0  # beyond these a hit was of something else
CONTRADICTS_MM = 0.1


@dataclass(frozen=True, eq=False)
class SphereCalibration:
    """The result of a sphere calibration.

    Attributes
    ----------
    offset_mm : (3,) tip in the last axis; covariance : (3, 3) mm² of it
    center_mm : (3,) the sphere, in the instrument
    diameter_mm, u_radius_mm : of the tip, effective
    residuals : (n,) + outside
    normals : (n, 3) from the sphere's center to every hit
    covered : share (0 to 1) of the sphere above its stem that was touched
    used : (n,) bool; the others were far off and are set aside. Residuals and normals are of all hits
    moved : a sentence where the sphere moved while it was touched, else ""
    question : a sentence where the diameters contradict the hits, else ""
    """

    offset_mm: Array
    covariance: Array
    center_mm: Array
    diameter_mm: float
    u_radius_mm: float
    residuals: Array
    normals: Array
    covered: float
    used: NDArray[np.bool_]
    moved: str
    question: str

    @property
    def rms_mm(self) -> float:
        return float(np.sqrt(np.mean(self.residuals[self.used] ** 2)))

    @property
    def largest_mm(self) -> float:
        return float(np.abs(self.residuals[self.used]).max())

    @property
    def aside(self) -> str:
        """Which hits were set aside, and how far off they are; "" where none."""
        off = np.flatnonzero(~self.used)
        if not len(off):
            return ""
        names = ", ".join(str(k + 1) for k in off[:6]) + (" and others" if len(off) > 6 else "")
        far = float(np.abs(self.residuals[off]).max())
        return f"Hit{'s' if len(off) > 1 else ''} {names} set aside: up to {mm(far, '.2f')} off the sphere."

    def verdict(self, limit_mm: float = LIMIT_MM, wanted: int = WANTED) -> tuple[Verdict, str]:
        """Whether it may be kept, and why, in a sentence."""
        if self.moved:
            return "fail", self.moved
        if self.question:
            return "fail", self.question
        count = int(self.used.sum())
        if count < wanted:
            return "not enough", f"{wanted - count} more hits are wanted."
        if self.covered < SPREAD:
            return (
                "not enough",
                f"Only {100 * self.covered:.0f} % of the sphere was touched. Touch it all round, also from below its middle.",
            )
        return held_against(self.rms_mm, limit_mm, "Clean tip and sphere, and touch again.")


@dataclass(frozen=True)
class KnownProbe:
    """Another probe of the library, that may be the one really on: its name, diameter and, where it is known, its tip."""

    name: str
    diameter_mm: float
    offset_mm: tuple[float, float, float] | None = None


def calibrate_on_sphere(
    poses: Array, certified_mm: float, tip_mm: float, start_mm: Array, others: Sequence[KnownProbe] = ()
) -> SphereCalibration:
    """Calibrate a touch probe.

    Parameters
    ----------
    poses : (n, 7) of the last axis at each hit, instrument
    certified_mm : the sphere's diameter; tip_mm : the probe's, as the library has it
    start_mm : (3,) a rough offset, as drawn
    others : the library's other probes, to name the one that would explain a contradiction

    Raises
    ------
    FitError
        Too few hits, or hits that do not tell the offset from the sphere's place.
    """
    poses = np.asarray(poses, float).reshape(-1, 7)
    if len(poses) < LEAST or not np.all(np.isfinite(poses)):
        raise FitError(f"It needs {LEAST} hits at least; there are {len(poses)}.", "The hits are kept.", "Touch on, all round.")
    turns, places = rotations_from_quaternions(poses[:, 3:]), poses[:, :3]
    tips = turns @ np.asarray(start_mm, float) + places
    used = _on_one_sphere(tips)
    answer = _descended(turns[used], places[used], tips[used], start_mm)
    for _ in range(4):
        off = np.abs(_linear(turns, places, answer)[0])
        now = off <= max(FAR_SIGMAS * 1.4826 * float(np.median(off[used])), FAR_MM)
        if np.array_equal(now, used) or now.sum() < LEAST:
            break
        used = now
        answer = _descended(turns[used], places[used], tips[used], answer[:3])
    residuals, jacobian, normals = _linear(turns, places, answer)
    spread = sandwich(jacobian[used], residuals[used], np.arange(int(used.sum())))
    diameter = float(2 * answer[6] - certified_mm)
    u_radius = float(np.sqrt(spread[6, 6]))
    return SphereCalibration(
        answer[:3], spread[:3, :3], answer[3:6], diameter, u_radius, residuals, normals, coverage(normals[used]), used,
        moved_after(residuals[used], jacobian[used], normals[used], "hit"),
        contradiction(diameter, tip_mm, certified_mm, u_radius, others),
    )  # fmt: skip


def _on_one_sphere(tips: Array) -> NDArray[np.bool_]:
    """Which tips lie roughly on the sphere that most of them agree on; a rough offset makes it a rough sphere.

    Source: P. Rousseeuw, "Least median of squares regression", JASA 79 (1984).
    """
    random, middle = np.random.default_rng(0), tips.mean(axis=0)
    some = (tips - middle)[random.integers(0, len(tips), (TRIES, SUBSET))]
    rows = np.concatenate([2 * some, np.ones((*some.shape[:2], 1))], axis=2)
    squares = np.sum(some**2, axis=2)
    normal = np.swapaxes(rows, 1, 2) @ rows + 1e-6 * np.eye(4)
    both = np.linalg.solve(normal, np.einsum("tnk,tn->tk", rows, squares)[:, :, None])[:, :, 0]
    radii = np.sqrt(np.maximum(both[:, 3] + np.sum(both[:, :3] ** 2, axis=1), 0.0))
    off = np.abs(np.linalg.norm((tips - middle)[None] - both[:, None, :3], axis=2) - radii[:, None])
    best = off[np.argmin(np.median(off, axis=1))]
    return best <= max(FAR_SIGMAS * 1.4826 * float(np.median(best)), ROUGH_MM)


def _descended(turns: Array, places: Array, tips: Array, start_mm: Array) -> Array:
    """Offset, center and the sum of the radii (7,) by Gauss-Newton."""
    sphere = fit("sphere", tips)
    answer = np.concatenate([np.asarray(start_mm, float), sphere.shape.center, [sphere.shape.radius]])
    for step_number in range(ITERATIONS):
        residuals, jacobian, _ = _linear(turns, places, answer)
        size = np.linalg.norm(jacobian, axis=0)
        u, values, vt = np.linalg.svd(jacobian / size, full_matrices=False)
        if values[-1] < 1e-6 * values[0] and step_number:
            raise FitError(
                "From the drawn tip no way leads to one sphere: the tip is far from where the library has it.",
                "The hits are kept.",
                "Correct about how long the probe is, or choose the probe that is really on.",
            )
        if values[-1] < 1e-6 * values[0]:
            raise FitError(
                "The handle was held alike at all hits, so the tip cannot be told from the sphere.",
                "The hits are kept.",
                "Touch on with the handle turned and leaned differently.",
            )
        step = -(vt.T @ ((u.T @ residuals) / values)) / size
        answer = answer + step
        if np.linalg.norm(step) < 1e-10:
            break
    return answer


def _linear(turns: Array, places: Array, answer: Array) -> tuple[Array, Array, Array]:
    rel = turns @ answer[:3] + places - answer[3:6]
    away = np.linalg.norm(rel, axis=1)
    normals = rel / away[:, None]
    jacobian = np.column_stack([np.einsum("ni,nij->nj", normals, turns), -normals, -np.ones(len(rel))])
    return away - answer[6], jacobian, normals


def coverage(normals: Array) -> float:
    """Share of the sphere above 40° below its middle that was touched, by cells of equal area (z up)."""
    low = -np.sin(np.radians(40))
    z = np.clip((normals[:, 2] - low) / (1 - low), 0, 1 - 1e-9)
    seen = normals[:, 2] >= low
    turn = np.mod(np.arctan2(normals[:, 1], normals[:, 0]), 2 * np.pi) / (2 * np.pi)
    cells = (z * 4).astype(int) * 6 + np.minimum((turn * 6).astype(int), 5)
    return len(np.unique(cells[seen])) / CELLS


def moved_after(residuals: Array, jacobian: Array, normals: Array, word: str) -> str:
    """Whether the sphere stood elsewhere from some hit on: the best single step of its center (F test).

    Source: the likelihood-ratio test for a shift at an unknown place; A. Worsley, "Testing for a
    two-phase multiple regression", Technometrics 25 (1983), with Bonferroni's bound.
    """
    n, k = jacobian.shape
    base, _ = np.linalg.qr(jacobian)
    total = float(residuals @ residuals)
    left = residuals - base @ (base.T @ residuals)
    # of a step from each hit on: its normal equations, what the other parameters explain taken out
    of_base = _from_on(-base[:, :, None] * normals[:, None, :])
    equations = _from_on(normals[:, :, None] * normals[:, None, :]) - of_base.transpose(0, 2, 1) @ of_base
    answers = _from_on(-normals * left[:, None])
    tried = np.arange(5, n - 4)
    tried = tried[np.linalg.eigvalsh(equations[tried])[:, 0] > 1e-12] if len(tried) else tried
    best, where, by = 0.0, 0, np.zeros(3)
    if len(tried):
        steps = np.linalg.solve(equations[tried], answers[tried][:, :, None])[:, :, 0]
        gained = np.einsum("nk,nk->n", steps, answers[tried])
        k = int(np.argmax(gained))
        best, where, by = float(gained[k]), int(tried[k]), steps[k]
    spare = n - k - 3
    if spare < 3 or total <= best:
        return ""
    chance = n * float(special.fdtrc(3, spare, best / 3 / ((total - best) / spare)))
    size = float(np.linalg.norm(by))
    if chance > MOVED_SURE or size < MOVED_MM:
        return ""
    return f"The sphere moved {mm(size, '.2f')} after {word} {where}. Fix it, and begin again."


def _from_on(each: Array) -> Array:
    """Sums of all from every one on."""
    return np.asarray(np.cumsum(each[::-1], axis=0)[::-1])


def contradiction(diameter: float, tip_mm: float, certified_mm: float, u_mm: float, others: Sequence[KnownProbe]) -> str:
    """A sentence if the diameter found from the hits contradicts the typed diameters; else ""."""
    off = diameter - tip_mm
    if abs(off) < max(CONTRADICTS_MM, 8 * u_mm):
        return ""
    sphere = certified_mm + off
    words = f"With a tip of {mm(tip_mm)} the sphere comes out {mm(sphere)}; {mm(certified_mm)} was typed."
    for factor, unit_ in ((MM_PER_INCH, "inches"), (1 / MM_PER_INCH, "millimetres")):
        if abs(certified_mm * factor - sphere) < 0.02 * sphere:
            return f"{words} That would be right if the number was meant in {unit_}."
    near = min(others, key=lambda o: abs(o.diameter_mm - diameter), default=None)
    if near is not None and abs(near.diameter_mm - diameter) < max(0.05, 6 * u_mm):
        return f"{words} It would be right with {near.name} ({mm(near.diameter_mm)}): is that the probe on the arm?"
    return f"{words} Read the number on the sphere again, and look at which probe is on."
