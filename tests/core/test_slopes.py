"""Analytic derivatives of what features are judged by, beside the numeric ones that check them."""

import numpy as np
import pytest

from zipplumb.core.features import Feature, frame_of, sizes_of
from zipplumb.core.frames import Motion
from zipplumb.core.kernels import rotation
from zipplumb.core.shapes import Arc, Circle, Cone, Cylinder, Ellipse, Line, Plane, Point, Slot, Sphere, Torus
from zipplumb.core.sheet import KINDS
from zipplumb.core.sheet.bases.measured import MeasuredRecipe
from zipplumb.core.sheet.judging import Number, _by_differences, _by_slopes
from zipplumb.core.sheet.toleranced.base import Touched
from zipplumb.core.sheet.toleranced.place import around, flat_off
from zipplumb.core.tolerances.zones import about_line
from zipplumb.core.uncertainty import Source, Uncertainty

AT, UP, ON = np.array([120.0, -35, 60]), np.array([0.48, 0.6, 0.64]), np.array([0.8, -0.6, 0.0])
ON = ON - (ON @ UP) * UP
SHAPES = {
    Point: Point(AT), Line: Line(AT, UP), Plane: Plane(AT, UP), Circle: Circle(AT, UP, 12.0), Arc: Arc(AT, UP, 12.0, ON, 1.0),
    Ellipse: Ellipse(AT, UP, ON, 20.0, 11.0), Slot: Slot(AT, UP, ON, 40.0, 12.0), Sphere: Sphere(AT, 15.0),
    Cylinder: Cylinder(AT, UP, 25.0), Cone: Cone(AT, UP, 0.5), Torus: Torus(AT, UP, 30.0, 4.0),
}  # fmt: skip
ALONG = {"surface_point", "edge_point"}  # judged along a direction that the nominal tells, by differences
MEASURED = sorted(
    key
    for key, kind in KINDS.items()
    if issubclass(kind, MeasuredRecipe) and getattr(kind, "shape_type", None) in SHAPES and key not in ALONG
)


def near(shape, random: np.random.Generator, by: float):
    """A feature a little off a nominal, with errors in every direction."""
    turn, shift = rotation(*random.normal(0, by / 50, 3)), random.normal(0, by, 3)
    moved = shape.moved(Motion(turn, AT - turn @ AT + shift))
    size = 6 + len(sizes_of(shape))
    return Feature("it", moved, frame_of(moved), Uncertainty(size, {Source("hits"): random.normal(0, 1, (size, size))}))


def same(numbers, feature) -> None:
    analytic, numeric = _by_slopes(numbers, [feature], None), _by_differences(numbers, [feature], None, False)
    assert analytic is not None
    assert np.allclose(analytic[0], numeric[0], rtol=0, atol=1e-12)
    mine, theirs = (found[2].by_source[Source("hits")] for found in (analytic, numeric))
    assert np.allclose(mine, theirs, rtol=2e-4, atol=2e-4 * np.abs(theirs).max(axis=1, keepdims=True))


@pytest.mark.parametrize("by", [3.0, 0.0], ids=["beside", "at the nominal"])
@pytest.mark.parametrize("key", MEASURED)
def test_what_a_kind_is_judged_by(key, by, random):
    """Beside its nominal, and right on it, where lengths fold."""
    nominal = SHAPES[KINDS[key].shape_type]
    numbers = [Number(q.of, q.offset, q.slopes) for q in KINDS[key].quantities_of(nominal) if q.of is not None and q.slopes]
    assert numbers
    for _ in range(5 if by else 1):
        same(numbers, near(nominal, random, by))


OFF = {
    "a point": lambda points: points - AT,
    "a line": lambda points: about_line(points, AT, UP),
    "a plane": lambda points: flat_off(points, AT, UP),
}


@pytest.mark.parametrize("off", OFF.values(), ids=OFF)
def test_how_far_off_the_middle_of_a_zone(off, random):
    touched = Touched(AT + random.normal(0, 2, (4, 3)))
    zone = around(off, (), None, touched.points)
    moves = Uncertainty(6, {Source("hits"): random.normal(0, 1, (6, 6))})
    feature = Feature("it", touched, Motion(np.eye(3), AT), moves)
    same([Number(lambda t: zone.size(t.points), lambda t: zone.offset(t.points), zone.slopes)], feature)
