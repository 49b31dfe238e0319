"""What is judged holds the truth in 95 % of cases: near zero, from few hits, in systems of axes and steps, with a wrong point.

Sources: JCGM 100, G.4 (Student's t, Welch and Satterthwaite); the Rayleigh distribution of a length whose true value
is zero. A count of a 95.45 % region lies between 93 and 97 % of 2,000 runs but for 1 time in 1,000; the seeds are fixed.
"""

from functools import cache

import numpy as np
import pytest
from stated import RUNS as FEWER
from stated import Stated

from zipplumb.core.alignment.hold import Hold
from zipplumb.core.alignment.holds import align_holds
from zipplumb.core.alignment.reference_points import align_reference_points
from zipplumb.core.alignment.steps import AxisTurn, Origin, align_steps
from zipplumb.core.deriving import derivation_of
from zipplumb.core.features import Feature, frame_of
from zipplumb.core.fitting import fit
from zipplumb.core.frames import Motion
from zipplumb.core.shapes import Cylinder, Line, Plane, Point
from zipplumb.core.sheet.bases.from_hits import worse
from zipplumb.core.sheet.judging import Number, in_system, told_in
from zipplumb.core.sheet.quantities import axis_off, tilt
from zipplumb.core.uncertainty import Source, Uncertainty

RUNS = 2000
UP = np.array([0, 0, 1.0])
NEAR = [0.005, 0.005, 0.005, 2e-5, 2e-5, 2e-5]


def covered(told, truth):
    return abs(told.value - truth) <= (told.near if told.near is not None else told.uncertainty.U())


def held(count):
    return 0.93 < count / RUNS < 0.97


def seen(name, shape, random, spread=NEAR):
    """A feature drawn about its true shape, and what is known of it."""
    truth = known(name, shape, tuple(spread))
    return Feature(name, truth.drawn(random), truth.local, truth.uncertainty)


@cache
def known(name, shape, spread):
    return Feature.known(name, shape, frame_of(shape), np.diag(np.square([*spread, *[0.0] * len(shape.sizes_)])))


def dimension(key, features):
    found = derivation_of(key, features)
    (told,) = told_in([Number(found.make, found.offset)], features, None, wraps=found.unit == "rad")
    return told


CORNERS = np.array([[x, y, 0] for x in (-1.0, 1) for y in (-1.0, 1)])
ZERO = {
    "two points that are one": ("distance_of_the_middles", Point([100, 50, 0]), Point([100, 50, 0]), 0.0),
    "a point on an axis": ("perpendicular_distance", Point([0, 0, 40]), Line([0, 0, 0], UP), 0.0),
    "parallel planes": ("out_of_parallel", Plane([0, 0, 0], UP), Plane([0, 0, 30], UP), 0.0),
    "an axis square to a plane": ("angle", Cylinder([0, 0, 0], UP, 10), Plane([0, 0, 0], UP), np.pi / 2),
    "an angle of 90°": ("angle", Plane([0, 0, 0], UP), Plane([0, 0, 0], [1, 0, 0]), np.pi / 2),
}  # fmt: skip
BEYOND = {
    "two points apart": ("distance_of_the_middles", Point([100, 50, 0]), Point([130, 50, 0]), 30.0),
    "an angle of 30°": ("angle", Plane([0, 0, 0], UP), Plane([0, 0, 0], [0.5, 0, np.sqrt(0.75)]), np.pi / 6),
}  # fmt: skip


@pytest.mark.parametrize("case", ZERO)
def test_a_dimension_holds_its_truth_where_that_is_zero_too(case):
    key, first, second, truth = ZERO[case]
    random = np.random.default_rng(41)
    count = sum(covered(dimension(key, [seen("a", first, random), seen("b", second, random)]), truth) for _ in range(RUNS))
    assert held(count), count / RUNS


@pytest.mark.parametrize("case", BEYOND)
def test_a_dimension_errs_as_stated_where_it_is_surely_not_zero(case):
    key, first, second, truth = BEYOND[case]
    random, errors = np.random.default_rng(41), Stated()
    for _ in range(FEWER):
        told = dimension(key, [seen("a", first, random), seen("b", second, random)])
        assert told.near is None
        errors.saw(case, told.value - truth, told.uncertainty.U())
    errors.must_hold()


@pytest.mark.parametrize(("quantities", "spread"), [(axis_off, NEAR), (tilt, NEAR), (tilt, [0.005] * 3 + [1e-4, 1e-6, 1e-6])])
def test_coaxiality_and_tilt_hold_zero(quantities, spread):
    nominal, random = Cylinder([0, 0, 0], UP, 20), np.random.default_rng(43)
    quantity, count = quantities(nominal)[0], 0
    for _ in range(RUNS):
        (told,) = told_in(
            [Number(quantity.of, quantity.offset, quantity.slopes)], [seen("bore", nominal, random, spread)], None
        )
        count += covered(told, 0.0)
    assert held(count), count / RUNS


@pytest.mark.parametrize("stated", [0.0, 0.01])
def test_a_diameter_from_five_hits_holds_the_truth(stated):
    """Two degrees of freedom: k is 4.5 where the hits' own scatter is all that is known, 2 where the maker's word is right."""
    turn = np.arange(5) * 2 * np.pi / 5
    rim = 20 * np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
    random, count = np.random.default_rng(47), 0
    for _ in range(RUNS):
        result = fit("circle", rim + random.normal(0, 0.01, rim.shape) * [1, 1, 0], fixed={"plane": Plane([0, 0, 0], UP)})
        u_hit, freedom = worse(stated, result.sigma, result.spare)
        radius = result.parameters.index("radius")
        spread = result.unit_covariance[radius : radius + 1, radius : radius + 1] * u_hit**2
        known = Uncertainty.of_covariance(Source("hits", 1), spread, freedom)
        count += abs(result.shape.radius - 20) <= known.U()
    assert 0.93 < count / RUNS < (0.97 if not stated else 0.995), count / RUNS


def test_a_place_in_a_system_made_of_an_axis_holds_the_truth():
    """A bore as primary, a face, and a pin that clocks: the height of a place far out follows the tilt of a short axis."""
    bore, face, pin = Cylinder([0, 0, 0], UP, 15), Plane([0, 0, 0], UP), Point([200, 0, 0])
    ends, random, errors = np.outer([-20, 20], UP), np.random.default_rng(53), Stated()
    far = Feature("far", Point([500, 100, 80]))
    for _ in range(FEWER):
        a, b, c = seen("bore", bore, random), seen("face", face, random), seen("pin", pin, random)
        system = align_holds([
            Hold("A", bore, a.shape, ("own",), 0.005, 1, reach=ends, feature=a),
            Hold("B", face, b.shape, ("own",), 0.005, 2, feature=b, reach=CORNERS),
            Hold("C", pin, c.shape, ("Y",), 0.005, 3, feature=c),
        ], Motion.identity(), strict=True)  # fmt: skip
        (told,) = told_in([Number(lambda s: float(s.position[2]))], [in_system(far, system)], system)
        errors.saw("height", told.value - 80.0, told.uncertainty.U())
    errors.must_hold()


def test_a_plane_used_in_two_steps_is_one_plane():
    """It levels and gives the height: what its lean does to a height in the middle of it cancels."""
    level, line, spot = Plane([300, 100, 0], UP), Line([0, 0, 0], [1, 0, 0]), Point([0, 0, 0])
    random, errors = np.random.default_rng(59), Stated()
    middle = Feature("middle", Point([300, 100, 0]))
    for _ in range(FEWER):
        a, b, c = seen("A", level, random), seen("B", line, random), seen("C", spot, random)
        system = align_steps([AxisTurn((a,), "+Z"), AxisTurn((b,), "+X"), Origin(a, "Z"), Origin(c, "XY")])
        (told,) = told_in([Number(lambda s: float(s.position[2]))], [in_system(middle, system)], system)
        errors.saw("height", told.value, told.uncertainty.U())
    errors.must_hold()
    assert told.uncertainty.u() == pytest.approx(0.005, rel=0.05)


def test_with_one_reference_point_contradicted_the_place_is_still_within_what_is_said():
    """One of six 0.3 mm off: whatever the fit made of it, the truth is within U, which is wide, and nothing is proven."""
    nests = np.array([[0, 0, 0], [1500, 0, 0], [1500, 800, 0], [0, 800, 0], [700, 400, 500], [200, 100, 400]], float)
    random, count = np.random.default_rng(61), 0
    far = Feature("far", Point([1400, 700, 0]))
    for _ in range(FEWER):
        wrong = nests + random.normal(0, 0.01, nests.shape)
        wrong[2, 2] += 0.3
        system = align_reference_points([f"N{k}" for k in range(6)], nests, wrong, u_mm=0.01)
        (told,) = told_in([Number(lambda s: float(s.position[2]))], [in_system(far, system)], system)
        assert "N2 disagrees" in told.unproven
        count += covered(told, 0.0)
    assert count / FEWER > 0.93, count / FEWER
