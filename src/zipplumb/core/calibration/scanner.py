"""A line scanner on a fixed reference sphere: where its plane of light stands in the last axis.

|R (Q s + t) + p - c| = D/2 for every point s of every stripe: the turn Q, the place t and the
sphere's center c are found by Gauss-Newton with analytic derivatives.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..errors import FitError
from ..fitting import fit
from ..frames import Array, Indices, Motion, cross, rotations_from_quaternions
from ..kernels import rotation
from ..units import mm
from .least import LIMIT_MM, Verdict, held_against, sandwich
from .sphere import ITERATIONS, SPREAD, coverage

LEAST_STRIPES, WANTED_STRIPES = 8, 30
LEAST_POINTS = 8  # on a stripe, that it counts
KEEP = 4.0  # robust sigmas; the stem and the table are not of the sphere
CONTRADICTS_MM = 0.05
COVERAGE, TOLD_MM = 2.0, 10.0  # k of what is held against the limit; what is larger is told as more than that


@dataclass(frozen=True, eq=False)
class ScannerCalibration:
    """``axis_from_scanner``: where the scanner stands; ``covariance`` (6, 6) of a small slide (mm) and turn (rad) of it.

    ``u_light_mm``: standard uncertainty of where a point in the middle of its light is, in the last axis, where it is largest.
    ``residuals`` (n,) of the points used, + outside; ``normals`` (n, 3) from the sphere's center to them;
    ``stripes`` how many were used; ``covered`` as for a touch probe.
    """

    axis_from_scanner: Motion
    covariance: Array
    u_light_mm: float
    center_mm: Array
    residuals: Array
    normals: Array
    stripes: int
    covered: float
    question: str

    @property
    def rms_mm(self) -> float:
        return float(np.sqrt(np.mean(self.residuals**2)))

    @property
    def largest_mm(self) -> float:
        return float(np.abs(self.residuals).max())

    def verdict(self, limit_mm: float = 2 * LIMIT_MM, wanted: int = WANTED_STRIPES) -> tuple[Verdict, str]:
        if self.question:
            return "fail", self.question
        if self.stripes < wanted:
            return "not enough", f"{wanted - self.stripes} more stripes are wanted, from other sides."
        if self.covered < SPREAD:
            return "not enough", f"Only {100 * self.covered:.0f} % of the sphere was scanned. Scan it from all sides."
        if COVERAGE * self.u_light_mm > limit_mm:
            known = f"more than {mm(TOLD_MM)}" if COVERAGE * self.u_light_mm > TOLD_MM else mm(COVERAGE * self.u_light_mm)
            return (
                "not enough",
                f"Where its light is in the arm is known to {known} only. Scan from other sides, and turned.",
            )
        return held_against(self.rms_mm, limit_mm, "Clean window and sphere, and scan again.")


def calibrate_scanner(poses: Array, points: Array, stripe: Indices, certified_mm: float, start: Motion) -> ScannerCalibration:
    """Calibrate a line scanner.

    Parameters
    ----------
    poses : (m, 7) of the last axis at each stripe
    points : (n, 2) across and away (mm) in the scanner's plane of light
    stripe : (n,) which stripe each point is of
    certified_mm : the sphere's diameter
    start : a rough axis_from_scanner, as drawn

    Raises
    ------
    FitError
        Too few stripes, or stripes that do not determine the scanner's place.
    """
    turns, places = rotations_from_quaternions(poses[:, 3:]), poses[:, :3]
    enough = np.bincount(stripe, minlength=len(poses)) >= LEAST_POINTS
    keep = enough[stripe]
    if enough.sum() < LEAST_STRIPES:
        raise FitError(
            f"It needs {LEAST_STRIPES} stripes on the sphere; there are {int(enough.sum())}.", "They are kept.", "Scan on."
        )
    local = np.column_stack([points[:, 0], np.zeros(len(points)), points[:, 1]])
    motion = start
    seen = np.einsum("nij,nj->ni", turns[stripe], motion.points(local)) + places[stripe]
    center = fit("sphere", seen[keep], fixed={"radius": certified_mm / 2}).shape.center
    for _ in range(ITERATIONS):
        residuals, jacobian, _ = _linear(turns[stripe], places[stripe], local, motion, center, certified_mm / 2)
        sigma = 1.4826 * float(np.median(np.abs(residuals[keep])))
        now = enough[stripe] & (np.abs(residuals) <= max(KEEP * sigma, 1e-6))
        step, *_ = np.linalg.lstsq(jacobian[now], -residuals[now], rcond=1e-10)
        motion = motion @ Motion(rotation(*step[3:6]), step[:3])
        center, keep = center + step[6:], now
        if np.linalg.norm(step) < 1e-9:
            break
    residuals, jacobian, normals = _linear(turns[stripe], places[stripe], local, motion, center, certified_mm / 2)
    if np.linalg.matrix_rank(jacobian[keep] / np.linalg.norm(jacobian[keep], axis=0), 1e-5) < 9:
        raise FitError(
            "The stripes lie too much alike to tell where the scanner stands.", "They are kept.", "Scan from other sides."
        )
    _, clusters = np.unique(stripe[keep], return_inverse=True)  # stripes come in order
    spread = sandwich(jacobian[keep], residuals[keep], clusters)
    free = _free_radius(residuals[keep], jacobian[keep])
    question = ""
    if abs(free) > max(CONTRADICTS_MM, 6 * float(np.sqrt(np.mean(residuals[keep] ** 2)) / np.sqrt(clusters.max() + 1))):
        question = (
            f"The sphere comes out {mm(certified_mm + 2 * free)}; {mm(certified_mm)} was typed. "
            "Read the number on the sphere again."
        )
    return ScannerCalibration(
        motion,
        spread[:6, :6],
        _u_light(spread[:6, :6], local[keep].mean(axis=0)),
        center,
        residuals[keep],
        normals[keep],
        int(clusters.max()) + 1,
        coverage(normals[keep]),
        question,
    )


def _linear(turns: Array, places: Array, local: Array, motion: Motion, center: Array, radius: float):
    rel = np.einsum("nij,nj->ni", turns, motion.points(local)) + places - center
    away = np.linalg.norm(rel, axis=1)
    normals = rel / away[:, None]
    own = np.einsum("ni,nij->nj", normals, turns) @ motion.rotation  # the normal, in the scanner
    jacobian = np.column_stack([own, cross(local, own), -normals])
    return away - radius, jacobian, normals


def _u_light(covariance: Array, place: Array) -> float:
    """Largest standard uncertainty, mm, of a place (3,) in the scanner's axes that slides and turns with it."""
    moves = np.hstack([np.eye(3), -np.cross(np.eye(3), place)])  # of the place, by each slide and turn
    return float(np.sqrt(np.linalg.eigvalsh(moves @ covariance @ moves.T)[-1]))


def _free_radius(residuals: Array, jacobian: Array) -> float:
    """The change of the radius if it were free."""
    more = np.column_stack([jacobian, -np.ones(len(residuals))])
    return float(np.linalg.lstsq(more, -residuals, rcond=None)[0][-1])
