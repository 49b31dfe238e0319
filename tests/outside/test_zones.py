"""Minimum zone, inscribed and circumscribed against constructed sets, brute force, linear programming."""

import itertools

import numpy as np
import pytest
from scipy.optimize import linprog
from scipy.spatial import ConvexHull

from zipplumb.core.fitting import fit


def ring(radii, z=0.0):
    turn = np.arange(len(radii)) * 2 * np.pi / len(radii)
    return np.column_stack([np.cos(turn) * radii, np.sin(turn) * radii, np.full(len(radii), z)])


def test_a_polygon_between_two_circles():
    """Constructed: corners that lie by turns on circles of 10 and 10.2 have a zone of 0.2."""
    points = ring(np.tile([10.0, 10.2], 6))
    result = fit("circle", points, "chebyshev", fixed={"normal": [0, 0, 1]})
    assert result.form == pytest.approx(0.2, abs=1e-9)
    assert result.shape.radius == pytest.approx(10.1, abs=1e-9)
    inner = fit("circle", points, "inscribed", fixed={"normal": [0, 0, 1]}).shape.radius
    outer = fit("circle", points, "circumscribed", fixed={"normal": [0, 0, 1]}).shape.radius
    assert (inner, outer) == pytest.approx((10.0, 10.2), abs=1e-9)


def test_the_corners_of_a_cube():
    """Constructed: a sphere through the corners of a cube of edge 2 has radius √3 and no form."""
    corners = np.array(list(itertools.product([-1.0, 1.0], repeat=3)))
    assert fit("sphere", corners, "chebyshev").form == pytest.approx(0, abs=1e-12)
    assert fit("sphere", corners, "circumscribed").shape.radius == pytest.approx(np.sqrt(3), abs=1e-12)


def hull_width(points):
    """The least distance of two parallel planes that hold the points: exact, over all faces and edge pairs."""
    hull = ConvexHull(points)
    normals = [hull.equations[:, :3]]
    edges = {tuple(sorted(pair)) for s in hull.simplices for pair in itertools.combinations(s, 2)}
    along = np.array([points[b] - points[a] for a, b in edges])
    first, second = np.triu_indices(len(along), 1)
    crossed = np.cross(along[first], along[second])
    length = np.linalg.norm(crossed, axis=1)
    normals.append(crossed[length > 1e-9] / length[length > 1e-9, None])
    return min(np.ptp(points @ n.T, axis=0).min() for n in normals)


def test_the_flat_zone_is_the_width_of_the_convex_hull(random):
    """Brute force: the exact width of the hull of 25 points."""
    points = np.column_stack([random.uniform(-100, 100, (25, 2)), random.normal(0, 0.02, 25)])
    assert fit("plane", points, "chebyshev").form == pytest.approx(hull_width(points), abs=1e-9)


def test_the_flat_zone_against_one_linear_programme(random):
    """Reference: scipy's linear programming, for the zone along z of a nearly level plane."""
    points = np.column_stack([random.uniform(-100, 100, (400, 2)), random.normal(0, 0.01, 400)])
    design = np.column_stack([points[:, :2], np.ones(400), np.ones(400)])
    mirror = np.column_stack([-points[:, :2], -np.ones(400), np.ones(400)])
    found = linprog(
        [0, 0, 0, 1],
        A_ub=-np.vstack([design, mirror]),
        b_ub=np.concatenate([-points[:, 2], points[:, 2]]),
        bounds=[(None, None)] * 4,
    )
    assert fit("plane", points, "chebyshev").form == pytest.approx(2 * found.fun, abs=1e-7)


def test_the_round_zone_against_brute_force(random):
    """Brute force over a fine grid of centers: never better than what was found."""
    points = ring(10 + random.normal(0, 0.02, 15))
    form = fit("circle", points, "chebyshev", fixed={"normal": [0, 0, 1]}).form
    grid = np.linspace(-0.06, 0.06, 481)
    centers = np.stack(np.meshgrid(grid, grid), axis=-1).reshape(-1, 1, 2)
    widths = np.ptp(np.linalg.norm(points[None, :, :2] - centers, axis=2), axis=1)
    assert form <= widths.min() + 1e-9
    assert form == pytest.approx(widths.min(), abs=3e-4)


def bore(random, n=30, noise=0.01):
    turn = random.uniform(0, 2 * np.pi, n)
    rho = 26 + random.normal(0, noise, n)
    return np.column_stack([rho * np.cos(turn), rho * np.sin(turn), random.uniform(0, 40, n)])


@pytest.mark.parametrize("kind", ["plane", "circle", "sphere", "cylinder"])
def test_the_zone_never_exceeds_the_gaussian_form(random, kind):
    for _ in range(5):
        points = bore(random)
        if kind == "plane":
            points = points[:, [0, 2, 1]] * [1, 1, 1e-3]
        if kind == "sphere":
            points = 12.7 * points / np.linalg.norm(points, axis=1)[:, None] + random.normal(0, 0.01, points.shape)
        zone, gaussian = fit(kind, points, "chebyshev"), fit(kind, points)
        assert zone.form <= gaussian.form + 1e-12
        assert zone.residuals.max() == pytest.approx(-zone.residuals.min(), abs=1e-9)


def test_inscribed_and_circumscribed_cylinders_hold_all_hits_on_one_side(random):
    points = bore(random)
    inner, outer, middle = (fit("cylinder", points, c) for c in ("inscribed", "circumscribed", "gaussian"))
    assert inner.residuals.min() >= -1e-9
    assert outer.residuals.max() <= 1e-9
    assert inner.shape.radius < middle.shape.radius < outer.shape.radius


def test_the_tangent_plane_rests_on_three_hits_and_none_stands_out(random):
    points = np.column_stack([random.uniform(0, 100, (40, 2)), random.normal(0, 0.02, 40)])
    result = fit("plane", points, "tangent", toward=np.array([0.0, 0, 1]))
    assert result.residuals.max() <= 1e-9
    assert np.sum(result.residuals > -1e-9) >= 3
