"""Shapes that rest on a few hits: their stated covariance against Monte Carlo (JCGM 101), where the form outweighs the hits.

Where hits are as uncertain as the form is large, an inscribed or circumscribed size is drawn off by chance itself; that bias
is of the criterion, and no part of its uncertainty.
"""

import numpy as np
import pytest

from zipplumb.core.fitting import fit
from zipplumb.core.shapes import Plane

U = 5e-5
RUNS = 25  # a standard deviation of 25 runs is known to 14 %; four of these are 57 %
UP = np.array([0.0, 0, 1])
FLAT = Plane(np.zeros(3), UP)


def lobed():
    turn = np.linspace(0, 2 * np.pi, 17, endpoint=False) + 0.1
    radius = 25 + 0.03 * np.cos(3 * turn) + 0.011 * np.sin(7 * turn) + 0.004 * np.cos(5 * turn + 1)
    return np.column_stack([radius * np.cos(turn), radius * np.sin(turn), 0 * turn])


@pytest.mark.parametrize("criterion", ["chebyshev", "inscribed"])
def test_a_lobed_circle(criterion):
    points, random = lobed(), np.random.default_rng(3)
    result = fit("circle", points, criterion, fixed={"plane": FLAT}, u_hits_mm=U)
    runs = [
        fit("circle", points + random.normal(0, U, points.shape), criterion, fixed={"plane": FLAT}).shape for _ in range(RUNS)
    ]
    seen = np.array([[*s.center[:2], s.radius] for s in runs]).std(axis=0)
    turned = result.local.rotation[:2, :2] @ result.covariance[:2, :2] @ result.local.rotation[:2, :2].T
    stated = np.sqrt([*np.diag(turned), result.covariance[2, 2]])
    assert seen == pytest.approx(stated, rel=0.57)


def test_a_warped_plane_and_its_tangent():
    x, y = (v.ravel() for v in np.meshgrid(np.linspace(-100, 90, 5), np.linspace(-70, 80, 4)))
    z = -0.03 - 0.02 * np.random.default_rng(8).random(len(x))
    z[[0, 4, 17]] = 0.002, -0.001, 0.004  # it sits on three spots, whatever the hits
    points, random = np.column_stack([x, y, z]), np.random.default_rng(4)
    result = fit("plane", points, "tangent", toward=UP, u_hits_mm=U)
    runs = [fit("plane", points + random.normal(0, U, points.shape), "tangent", toward=UP).shape for _ in range(RUNS)]
    local = result.local.inverse()
    heights = [-(local.points(s.point) @ local.vectors(s.normal)) / local.vectors(s.normal)[2] for s in runs]
    tilts = np.array([local.vectors(s.normal)[:2] for s in runs])
    assert np.std(heights) == pytest.approx(result.u("z"), rel=0.57)
    assert tilts.std(axis=0) == pytest.approx([result.u("ry"), result.u("rx")], rel=0.57)


def test_a_circle_that_rests_on_two_hits_is_no_better_across_them_than_one_hit():
    points = np.array([[25.0, 0, 0], [-25.0, 0, 0], [0, 24.0, 0], [0, -24.5, 0], [10, 20, 0]])
    result = fit("circle", points, "circumscribed", fixed={"plane": FLAT}, u_hits_mm=0.01)
    assert result.shape.radius == pytest.approx(25, abs=1e-9)
    assert np.sqrt(np.linalg.eigvalsh(result.covariance[:2, :2])) == pytest.approx([0.01 / np.sqrt(2), 0.01], rel=1e-6)
