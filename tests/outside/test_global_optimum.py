"""The optimum found is the global one: against brute force over many starts, and short arcs."""

import numpy as np
import pytest
from scipy.optimize import least_squares, minimize

from zipplumb.core.fitting import fit
from zipplumb.core.fitting.starts import half_sphere

UP = {"normal": [0, 0, 1]}


def scattered(kind, random, n=18):
    """Hits on part of a shape, far noisier than any part: valleys of the objective are many then."""
    turn, at = random.uniform(0, 4, n), random.uniform(-20, 20, n)
    ring = np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
    if kind == "cylinder":
        points = 15 * ring
    elif kind == "cone":
        points = ring * (15 + 0.4 * at)[:, None]
    else:
        spin = random.uniform(0, 6, n)
        return ring * (30 + 8 * np.cos(spin))[:, None] + np.outer(8 * np.sin(spin), [0, 0, 1]) + random.normal(0, 0.8, (n, 3))
    return points + np.outer(at, [0, 0, 1]) + random.normal(0, 0.8, (n, 3))


def residuals(kind, p, points):
    direction = p[3:6] / np.linalg.norm(p[3:6])
    rel = points - p[:3]
    along = rel @ direction
    across = np.linalg.norm(rel - np.outer(along, direction), axis=1)
    if kind == "cylinder":
        return across - p[6]
    if kind == "cone":
        return (across - p[6]) * np.cos(p[7]) - along * np.sin(p[7])
    return np.hypot(across - p[6], along) - p[7]


@pytest.mark.parametrize("kind", ["cylinder", "cone", "torus"])
def test_no_start_of_many_leads_lower(kind):
    """scipy's least_squares from 40 directions: on honest data it never finds a lower valley."""
    for seed in range(3):
        points = scattered(kind, np.random.default_rng(seed))
        ours = np.sum(fit(kind, points).residuals ** 2)
        middle = points.mean(axis=0)
        for direction in half_sphere(40):
            rel = points - middle
            across = np.linalg.norm(rel - np.outer(rel @ direction, direction), axis=1)
            start = [*middle, *direction, across.mean(), *([] if kind == "cylinder" else [0.1] if kind == "cone" else [5.0])]
            found = least_squares(lambda p, q=points: residuals(kind, p, q), start, max_nfev=200)
            sound = np.abs(found.x[6]) < 300  # not a runaway: a plane has a cylinder of any size
            assert not sound or ours <= 2 * found.cost * (1 + 1e-6) + 1e-9, (seed, direction)


@pytest.mark.parametrize("span", [40, 120, 200, 360])
def test_the_round_zone_against_a_search_from_everywhere(span):
    """Nelder and Mead's simplex from 30 starts round the Gaussian center, arcs as short as 40° included."""
    for seed in range(4):
        random = np.random.default_rng(seed)
        turn = np.radians(random.uniform(0, span, 14))
        rho = 30 + random.normal(0, 0.02, 14)
        points = np.column_stack([rho * np.cos(turn), rho * np.sin(turn), 0 * turn])
        form = fit("circle", points, "chebyshev", fixed=UP).form
        center = fit("circle", points, fixed=UP).shape.center[:2]

        def width(c, p=points[:, :2]):
            return np.ptp(np.linalg.norm(p - c, axis=1))

        reach = 0.05 * (360 / span) ** 2
        for _ in range(30):
            found = minimize(
                width, center + random.normal(0, reach, 2), method="Nelder-Mead", options={"xatol": 1e-9, "fatol": 1e-12}
            )
            assert form <= found.fun + 1e-9, (span, seed)


def test_the_inscribed_circle_against_a_search_from_everywhere():
    for seed in range(4):
        random = np.random.default_rng(seed)
        turn = np.arange(16) * 2 * np.pi / 16
        rho = 30 + random.normal(0, 0.3, 16)
        points = np.column_stack([rho * np.cos(turn), rho * np.sin(turn), 0 * turn])
        radius = fit("circle", points, "inscribed", fixed=UP).shape.radius
        grid = np.stack(np.meshgrid(*[np.linspace(-1.5, 1.5, 301)] * 2), axis=-1).reshape(-1, 1, 2)
        assert radius >= np.linalg.norm(points[None, :, :2] - grid, axis=2).min(axis=1).max() - 1e-9
