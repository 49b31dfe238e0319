"""Stated uncertainties hold the truth: of fits in 93 to 97 % of 2,000 seeded runs, of what is made of them as ``stated`` tells.

Published: JCGM 100 and 102 (regions from linear propagation); the truth is our own made-up
shapes with normal noise. Every run fits, states its region from its own residuals (F or t
distribution), and looks whether the truth lies inside.
"""

import itertools

import numpy as np
import pytest
from stated import RUNS as FEWER
from stated import Stated, inside_region

from zipplumb.core.deriving import bolt_circle, construct
from zipplumb.core.features import Feature, center_covariance
from zipplumb.core.fitting import fit
from zipplumb.core.frames import Motion
from zipplumb.core.shapes import Circle, Cone, Cylinder, Plane, Point, Sphere
from zipplumb.core.uncertainty import propagate

RUNS = 2000
EACH = itertools.count()  # every measured feature has hits of its own
NOISE = 0.01
TURN = np.arange(12) * 2.4
RING = np.column_stack([np.cos(TURN), np.sin(TURN), 0 * TURN])
TALL = np.outer(np.tile([-15.0, 0, 15], 4), [0, 0, 1])
GRID = np.array([[x, y, 0] for x in (-40.0, 0, 40) for y in (-30.0, 0, 30)])


def shell(count=12):
    k = np.arange(count) + 0.5
    z = 1 - k / count
    return np.column_stack([np.sqrt(1 - z * z) * np.cos(2.4 * k), np.sqrt(1 - z * z) * np.sin(2.4 * k), z])


CONE = Cone([0, 0, -40], [0, 0, 1], 0.4)
EXACT = {
    "plane": (GRID, Plane([0, 0, 0], [0, 0, 1]), {}),
    "circle": (25 * RING, Circle([0, 0, 0], [0, 0, 1], 25.0), {"normal": [0, 0, 1]}),
    "cylinder": (25 * RING + TALL, Cylinder([0, 0, 0], [0, 0, 1], 25.0), {}),
    "sphere": (12.7 * shell(), Sphere([0, 0, 0], 12.7), {}),
    "cone": (RING * ((40 + TALL[:, 2:]) * np.tan(0.4)) + TALL, CONE, {}),
}


@pytest.mark.parametrize("known", [False, True], ids=["noise from the residuals", "noise known"])
@pytest.mark.parametrize("kind", EXACT)
def test_regions_of_shapes_hold_the_truth(kind, known):
    points, truth, fixed = EXACT[kind]
    random, held = np.random.default_rng(17), 0
    for _ in range(RUNS):
        result = fit(kind, points + random.normal(0, NOISE, points.shape), fixed=fixed, toward=np.array([0, 0, 1.0]))
        held += inside_region(*_deviation(result, truth, NOISE if known else None), np.inf if known else result.spare)
    assert 0.93 < held / RUNS < 0.97


def _deviation(result, truth, u_hit):
    """How the truth differs from the fit, over the fit's own parameters, with their covariance."""
    covariance = result.unit_covariance * (u_hit if u_hit else result.sigma) ** 2
    inverse = result.local.inverse()
    axis = getattr(truth, "direction", getattr(truth, "normal", None))
    place = truth.apex if isinstance(truth, Cone) else getattr(truth, "center", getattr(truth, "point", None))
    values = {}
    if axis is not None:
        x, y, z = inverse.vectors(axis)
        values |= {"rx": -y / z, "ry": x / z}
    at = inverse.points(place)
    if axis is not None and not isinstance(truth, Plane | Circle):  # where the true axis passes the fit's origin
        at = at - inverse.vectors(axis) * at[2] / inverse.vectors(axis)[2]
    if isinstance(truth, Plane):
        normal = inverse.vectors(axis)
        at = np.array([0, 0, at @ normal / normal[2]])
    values |= dict(zip("xyz", at, strict=True))
    if isinstance(truth, Cone):
        height = np.linalg.norm(result.local.translation - result.shape.apex)
        above = (result.local.translation - truth.apex) @ truth.direction
        values["radius"] = above * np.tan(truth.half_angle) - height * np.tan(result.shape.half_angle)
        values["half_angle"] = truth.half_angle - result.shape.half_angle
    elif hasattr(truth, "radius"):
        values["radius"] = truth.radius - result.shape.radius
    return np.array([values[name] for name in result.parameters]), covariance


def measured(kind, points, random):
    return Feature.of_fit(kind, fit(kind, points + random.normal(0, NOISE, points.shape)), NOISE, whose=next(EACH))


def test_the_regions_of_a_distance_and_an_angle_hold_the_truth():
    random = np.random.default_rng(23)
    lean = GRID * [1, 1, 0] + np.outer(0.05 * GRID[:, 0], [0, 0, 1])
    errors = Stated()
    truth = {"perpendicular_distance": 25.0, "angle": float(np.arctan(0.05))}
    for _ in range(FEWER):
        first, level = measured("plane", GRID, random), measured("plane", GRID + [0, 0, 25], random)
        for name, pair in (("perpendicular_distance", (first, level)), ("angle", (first, measured("plane", lean, random)))):
            found = construct(name, pair)
            errors.saw(name, found.value - truth[name], 2 * found.u)
    errors.must_hold()


def test_the_regions_of_a_bolt_circle_hold_the_truth():
    """Six holes of seven hits each on a circle of 180 mm: its diameter, and one hole's errors outward and along."""
    random = np.random.default_rng(29)
    seven = np.arange(7) * 2 * np.pi / 7
    hole = 11 * np.column_stack([np.cos(seven), np.sin(seven), 0 * seven])
    turn = np.arange(6) * np.pi / 3
    places = 90 * np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
    errors = Stated()
    for _ in range(FEWER):
        values, uncertainty = propagate(told, [center_of(measured("circle", hole + place, random)) for place in places])
        for k, (name, truth) in enumerate((("diameter", 180.0), ("outward", 0.0), ("along", 0.0))):
            errors.saw(name, values[k] - truth, 2 * uncertainty.u(k))
    errors.must_hold()


def center_of(hole):
    """As a point, of which the circle's turn and size are no part."""
    spread = np.zeros((6, 6))
    spread[:3, :3] = center_covariance(hole)
    center = Point(hole.shape.center)
    return Feature.known(f"hole {next(EACH)}", center, Motion(np.eye(3), center.position), spread)


def told(*holes):
    """The circle's diameter, and how far the second hole is off its place."""
    found = bolt_circle(np.array([hole.position for hole in holes]))
    return np.array([2 * found.circle.radius, found.radial_mm[1], found.along_mm[1]])
