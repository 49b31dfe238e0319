"""Fits against scipy.optimize.least_squares given the same residuals, in one run."""

from __future__ import annotations

import numpy as np
from measure import best, row
from scipy.optimize import least_squares

from zipplumb.core.fitting import fit


def tube(count: int) -> np.ndarray:
    random = np.random.default_rng(5)
    turn = random.uniform(0, 2 * np.pi, count)
    rho = 80 + random.normal(0, 0.01, count)
    return np.column_stack([rho * np.cos(turn), rho * np.sin(turn), random.uniform(0, 155, count)])


START = [0.5, -0.5, 0.01, 0.01, 79]


def residuals(p, points):
    direction = np.array([p[2], p[3], 1.0])
    return np.linalg.norm(np.cross(points - [p[0], p[1], 0], direction), axis=1) / np.linalg.norm(direction) - p[4]


def run() -> None:
    print("Gaussian cylinder, our start found by itself; the reference is given a start near the answer")
    for count in (15, 1500, 100_000):
        points = tube(count)
        runs = 3 if count > 10_000 else 7
        ours = best(lambda p=points: fit("cylinder", p), runs)
        reach = {"xtol": 1e-12, "ftol": 1e-12, "gtol": 1e-12}
        other = best(lambda p=points, how=reach: least_squares(residuals, START, args=(p,), **how), runs)
        row(f"{count} points", ours, other, "least_squares")
        reference = least_squares(residuals, START, args=(points,), jac="3-point", xtol=1e-15, ftol=1e-15, gtol=1e-15)
        print(f"      same radius to {abs(fit('cylinder', points).shape.radius - reference.x[4]):.1e} mm")
