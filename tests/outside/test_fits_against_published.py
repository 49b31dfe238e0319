"""Fits against published examples and reference libraries."""

import numpy as np
import pytest
from mpmath import mp
from scipy.optimize import least_squares
from skimage.measure import CircleModel
from skspatial.objects import Line as SkLine
from skspatial.objects import Plane as SkPlane
from skspatial.objects import Points

from zipplumb.core.fitting import fit

# Gander, Golub, Strebel, "Least-squares fitting of circles and ellipses", BIT 34 (1994)
GANDER = np.array([(1, 7), (2, 6), (5, 8), (7, 7), (9, 5), (3, 7)], float)
# Pearson, "On lines and planes of closest fit to systems of points in space", Phil. Mag. 2 (1901)
PEARSON = np.column_stack(
    [[0, 0.9, 1.8, 2.6, 3.3, 4.4, 5.2, 6.1, 6.5, 7.4], [5.9, 5.4, 4.4, 4.6, 3.5, 3.7, 2.8, 2.8, 2.4, 1.5]]
)


def flat(xy):
    return np.column_stack([xy, np.zeros(len(xy))])


def test_the_published_circle():
    """Published: center (4.7398, 2.9835), radius 4.7142; the algebraic fit would give radius 3.0370."""
    circle = fit("circle", flat(GANDER), fixed={"normal": [0, 0, 1]}).shape
    assert circle.center[:2] == pytest.approx([4.73978, 2.98353], abs=5e-6)
    assert circle.radius == pytest.approx(4.71423, abs=5e-6)


def test_the_published_circle_to_twelve_digits():
    """The stationary point in 40-digit arithmetic (mpmath)."""
    with mp.workdps(40):
        x, y = [mp.mpf(v) for v in GANDER[:, 0]], [mp.mpf(v) for v in GANDER[:, 1]]

        def gradient(a, b):
            d = [mp.sqrt((u - a) ** 2 + (v - b) ** 2) for u, v in zip(x, y, strict=True)]
            r = sum(d) / len(d)
            return [
                sum((e - r) * (a - u) / e for e, u in zip(d, x, strict=True)),
                sum((e - r) * (b - v) / e for e, v in zip(d, y, strict=True)),
            ]

        a, b = mp.findroot(gradient, (4.74, 2.98))
    circle = fit("circle", flat(GANDER), fixed={"normal": [0, 0, 1]}).shape
    assert circle.center[:2] == pytest.approx([float(a), float(b)], abs=1e-9)


def test_the_published_line():
    """Pearson's line y = 5.784044 - 0.545561 x."""
    line = fit("line", flat(PEARSON)).shape
    slope = line.direction[1] / line.direction[0]
    assert slope == pytest.approx(-0.545561, abs=5e-7)
    assert line.point[1] - slope * line.point[0] == pytest.approx(5.784044, abs=5e-7)


@pytest.mark.parametrize("away", [0.0, 20_000.0])
def test_plane_and_line_against_scikit_spatial(random, away):
    points = random.normal(size=(40, 3)) * [300, 200, 0.02] + away
    plane, reference = fit("plane", points), SkPlane.best_fit(points)
    assert abs(plane.shape.normal @ np.array(reference.normal)) == pytest.approx(1, abs=1e-12)
    assert plane.shape.distance(np.array(reference.point)[None])[0] == pytest.approx(0, abs=1e-9 if not away else 1e-7)
    line, reference = fit("line", points * [1, 0.001, 1]).shape, SkLine.best_fit(Points(points * [1, 0.001, 1]))
    assert abs(line.direction @ np.array(reference.direction)) == pytest.approx(1, abs=1e-12)


def test_circle_against_scikit_image(random):
    turn = random.uniform(0, 2 * np.pi, 60)
    xy = np.column_stack([80 * np.cos(turn) + 12, 80 * np.sin(turn) - 7]) + random.normal(0, 0.02, (60, 2))
    reference = CircleModel.from_estimate(xy) if hasattr(CircleModel, "from_estimate") else CircleModel()
    circle = fit("circle", flat(xy), fixed={"normal": [0, 0, 1]}).shape
    # theirs is algebraic: it agrees only as far as the noise lets the two criteria agree
    assert circle.center[:2] == pytest.approx(reference.center, abs=0.002)
    assert circle.radius == pytest.approx(reference.radius, abs=0.002)


def cylinder_residuals(p, points):
    direction = np.array([p[2], p[3], 1.0])
    return np.linalg.norm(np.cross(points - [p[0], p[1], 0], direction), axis=1) / np.linalg.norm(direction) - p[4]


HARD = {
    "a whole bore": dict(radius=26.0, length=40.0, span=360.0, n=15),
    "many hits": dict(radius=80.0, length=155.0, span=360.0, n=1500),
    "a 20° arc of a big one": dict(radius=800.0, length=300.0, span=20.0, n=200),
    "5 mm long and 200 mm wide": dict(radius=100.0, length=5.0, span=360.0, n=60),
    "20 m from the origin": dict(radius=26.0, length=40.0, span=360.0, n=60, away=20_000.0),
    "one hit 1 mm off": dict(radius=26.0, length=40.0, span=360.0, n=15, off=1.0),
}


@pytest.mark.parametrize("name", HARD)
def test_cylinder_against_least_squares_given_the_same_residuals(random, name):
    case = HARD[name]
    turn = np.radians(random.uniform(0, case["span"], case["n"]))
    points = np.column_stack(
        [case["radius"] * np.cos(turn), case["radius"] * np.sin(turn), random.uniform(0, case["length"], case["n"])]
    )
    points += random.normal(0, 0.01, points.shape)
    points[3, 0] += case.get("off", 0.0)
    found = fit("cylinder", points + case.get("away", 0.0))
    start = [0, 0, 0, 0, case["radius"]]
    reference = least_squares(
        cylinder_residuals,
        start,
        args=(points,),
        x_scale=[1, 1, 0.01, 0.01, 1],
        jac="3-point",
        xtol=1e-15,
        ftol=1e-15,
        gtol=1e-15,
    )
    tolerance = 1e-7 if case.get("away") else 1e-9
    assert np.sqrt(np.sum(found.residuals**2)) <= np.sqrt(2 * reference.cost) + tolerance
    weak = 1e-5 if case["span"] < 90 else 1e-7  # a flat valley: the objective above is the sharp test
    assert found.shape.radius == pytest.approx(abs(reference.x[4]), abs=weak)
