"""The hard cases, against arbitrary precision (mpmath, 50 digits): own data, independent arithmetic.

To 1e-9 mm near the origin and 1e-7 mm at 20 m from it, in the objective, and in the parameters
as far as doubles determine them (a parameter that the hits hold k times worse than a residual is
asked for k times less).
"""

import numpy as np
import precise
import pytest

from zipplumb.core.fitting import fit

UP = np.array([0.0, 0, 1])
AWAY = np.array([20_000.0, -20_000.0, 20_000.0]) / np.sqrt(3)


def noisy(random, points, mm=0.01):
    return points + random.normal(0, mm, points.shape)


def ring(random, n, radius, span=360.0):
    turn = np.radians(random.uniform(0, span, n))
    return np.column_stack([radius * np.cos(turn), radius * np.sin(turn), np.zeros(n)])


def on_cone(random, half_deg, n=18):
    slope = np.tan(np.radians(half_deg))
    height = random.uniform(5, 60, n) if half_deg < 45 else random.uniform(5, 60, n) / slope
    middle = height.mean()
    at = ring(random, n, 1.0) * (height * slope)[:, None] + np.outer(height - middle, UP)
    return noisy(random, at), [0, 0, 0, 0, middle * slope, np.radians(half_deg)]


def data(name):
    """Points, and a start for the reference, of every hard case."""
    random = np.random.default_rng(sum(map(ord, name)))
    tall = np.outer(random.uniform(-20, 20, 20), UP)
    cases = {
        "circle, a short arc of a big one": lambda: (
            "circle", noisy(random, ring(random, 20, 800, 20)) * [1, 1, 0], [0, 0, 800]),
        "circle, three points": lambda: ("circle", ring(random, 3, 50), [0, 0, 50]),
        "circle, one hit 1 mm off": lambda: ("circle", spoiled(noisy(random, ring(random, 12, 40)) * [1, 1, 0]), [0, 0, 40]),
        "cylinder, a short arc of a big one": lambda: (
            "cylinder", noisy(random, ring(random, 20, 800, 20) + 10 * tall), [0, 0, 0, 0, 800]),
        "cylinder, 5 mm long and 200 mm wide": lambda: (
            "cylinder", noisy(random, ring(random, 20, 100) + tall / 8), [0, 0, 0, 0, 100]),
        "cylinder, one hit 1 mm off": lambda: (
            "cylinder", spoiled(noisy(random, ring(random, 20, 26) + tall)), [0, 0, 0, 0, 26]),
        "cone of 1°": lambda: ("cone", *on_cone(random, 1)),
        "cone of 30°": lambda: ("cone", *on_cone(random, 30)),
        "cone of 85°": lambda: ("cone", *on_cone(random, 85)),
        "sphere, a cap": lambda: (
            "sphere", noisy(random, cap(random, 20, 100, 25)), [0, 0, 0, 100]),
        "torus": lambda: ("torus", noisy(random, tube_of(random, 24)), [0, 0, 0, 0, 90, 15, 0]),
        "ellipse": lambda: ("ellipse", noisy(random, ring(random, 16, 1) * [60, 40, 0]) * [1, 1, 0], [0, 0, 0, 60, 40]),
        "plane, three points": lambda: ("plane", random.uniform(-50, 50, (3, 3)) * [1, 1, 0.01], [0, 0, 0]),
        "plane, one hit 1 mm off": lambda: (
            "plane", spoiled(random.normal(size=(15, 3)) * [300, 200, 0.01], across=2), [0, 0, 0]),
        "line, one hit 1 mm off": lambda: ("line", spoiled(random.normal(size=(12, 3)) * [0.01, 0.01, 300]), [0, 0, 0, 0]),
    }  # fmt: skip
    return cases[name]()


def spoiled(points, across=0):
    points = points.copy()
    points[3, across] += 1.0
    return points


def cap(random, n, radius, deg):
    lean, turn = np.radians(deg) * np.sqrt(random.uniform(0, 1, n)), random.uniform(0, 2 * np.pi, n)
    return radius * np.column_stack([np.sin(lean) * np.cos(turn), np.sin(lean) * np.sin(turn), np.cos(lean)])


def tube_of(random, n):
    turn, spin = random.uniform(0, 2 * np.pi, n), random.uniform(0, 2 * np.pi, n)
    rho = 90 + 15 * np.cos(spin)
    return np.column_stack([rho * np.cos(turn), rho * np.sin(turn), 15 * np.sin(spin)])


NAMES = [
    "circle, a short arc of a big one", "circle, three points", "circle, one hit 1 mm off",
    "cylinder, a short arc of a big one",
    "cylinder, 5 mm long and 200 mm wide", "cylinder, one hit 1 mm off", "cone of 1°", "cone of 30°", "cone of 85°",
    "sphere, a cap", "torus", "ellipse", "plane, three points", "plane, one hit 1 mm off", "line, one hit 1 mm off",
]  # fmt: skip
FLAT = ("circle", "ellipse")


def sizes(kind, result, p):
    """Sizes found and wanted, by the parameter that tells how well they are determined."""
    shape = result.shape
    if kind in ("circle", "sphere", "cylinder"):
        return {"radius": (shape.radius, abs(p[-1]))}
    if kind == "cone":
        return {"half_angle": (shape.half_angle, abs(p[5]))}
    if kind == "torus":
        return {"major_radius": (shape.major_radius, p[4]), "minor_radius": (shape.minor_radius, abs(p[5]))}
    if kind == "ellipse":
        return {"semi_major": (shape.semi_major, p[3]), "semi_minor": (shape.semi_minor, p[4])}
    return {}


@pytest.mark.parametrize("away", [False, True], ids=["near", "20 m away"])
@pytest.mark.parametrize("name", NAMES)
def test_against_fifty_digits(name, away):
    kind, points, start = data(name)
    base = AWAY if away else np.zeros(3)
    points = points + base  # the reference sees the very same doubles
    p, cost = precise.least_squares(getattr(precise, kind), start, _exact(points, base))
    fixed = {"normal": UP} if kind in FLAT else {}
    result = fit(kind, points, fixed=fixed)
    tolerance = 1e-7 if away else 1e-9
    assert np.sqrt(np.sum(result.residuals**2)) == pytest.approx(float(cost), abs=tolerance)
    for parameter, (found, wanted) in sizes(kind, result, [float(v) for v in p]).items():
        worse = max(1.0, np.sqrt(result.unit_covariance.diagonal()[result.parameters.index(parameter)]))
        assert found == pytest.approx(wanted, abs=tolerance * worse), parameter
    if kind in ("circle", "sphere", "ellipse"):
        worse = max(1.0, np.sqrt(result.unit_covariance[0, 0] + result.unit_covariance[1, 1]))
        keep = 3 if kind == "sphere" else 2
        assert np.allclose((result.shape.center - base)[:keep], [float(v) for v in p[:keep]], atol=tolerance * worse, rtol=0)


def _exact(points, base):
    """Coordinates relative to ``base`` without another rounding: differences of doubles in 50 digits."""
    return [[precise.mpf(float(v)) - precise.mpf(float(b)) for v, b in zip(point, base, strict=True)] for point in points]


@pytest.mark.parametrize("kind", ["plane", "circle", "sphere", "cylinder", "cone"])
def test_a_million_points(kind):
    """The same 20 hits 50,000 times over have the very same least-squares shape: reference in 50 digits."""
    random = np.random.default_rng(5)
    tall = np.outer(random.uniform(-20, 20, 20), UP)
    points, start = {
        "plane": lambda: (random.normal(size=(20, 3)) * [300, 200, 0.01], [0, 0, 0]),
        "circle": lambda: (noisy(random, ring(random, 20, 50)) * [1, 1, 0], [0, 0, 50]),
        "sphere": lambda: (noisy(random, cap(random, 20, 100, 120)), [0, 0, 0, 100]),
        "cylinder": lambda: (noisy(random, ring(random, 20, 26) + tall), [0, 0, 0, 0, 26]),
        "cone": lambda: on_cone(random, 20, 20),
    }[kind]()
    _, cost = precise.least_squares(getattr(precise, kind), start, points)
    result = fit(kind, np.tile(points, (50_000, 1)), fixed={"normal": UP} if kind == "circle" else {})
    assert result.rms == pytest.approx(float(cost) / np.sqrt(20), abs=1e-9)
    assert result.worst.sure < 0.9


def test_the_reference_itself_finds_the_published_circle():
    """Gander, Golub, Strebel, BIT 34 (1994): center (4.73978, 2.98353), radius 4.71423."""
    points = np.array([(1, 7, 0), (2, 6, 0), (5, 8, 0), (7, 7, 0), (9, 5, 0), (3, 7, 0)], float)
    p, _ = precise.least_squares(precise.circle, [4.7, 3, 4.7], points)
    assert [float(v) for v in p] == pytest.approx([4.73978, 2.98353, 4.71423], abs=5e-6)
