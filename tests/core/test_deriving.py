import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from zipplumb.core.deriving import Feature, bolt_circle, possible, propagate
from zipplumb.core.deriving import constructions as make
from zipplumb.core.deriving import dimensions as size
from zipplumb.core.errors import DeriveError
from zipplumb.core.fitting import fit
from zipplumb.core.frames import Motion
from zipplumb.core.shapes import Circle, Cone, Cylinder, Line, Plane, Point, Sphere

TOP, SIDE, END = Plane([0, 0, 60], [0, 0, 1]), Plane([0, -140, 0], [0, -1, 0]), Plane([-250, 0, 0], [-1, 0, 0])
BORE = Cylinder([10, 20, 0], [0, 0, 1], 25)
BALL, HOLE = Sphere([1, 2, 3], 12.7), Circle([4, 6, 15], [0, 0, 1], 5)


def named(features):
    return {p.name: p for p in possible([Feature(str(k), f) for k, f in enumerate(features)])}


def test_three_planes_make_a_corner():
    corner = named([TOP, SIDE, END])["Corner of the three planes"].shape
    assert np.allclose(corner.position, [-250, -140, 60])


def test_two_centers_make_all_their_distances():
    """The 3-4-12 box: its diagonal is 13."""
    found = named([BALL, HOLE])
    assert found["Distance of the middles"].value == pytest.approx(13)
    assert [found[f"Along {a}"].value for a in "XYZ"] == pytest.approx([3, 4, 12])
    assert found["In the plane XY"].value == pytest.approx(5)
    assert np.allclose(found["Middle of the centers"].shape.position, [2.5, 4, 9])


def test_an_axis_and_a_plane():
    found = named([BORE, TOP])
    assert np.allclose(found["Where it goes through"].shape.position, [10, 20, 60])
    assert found["Outline on the plane"].shape.radius == pytest.approx(25)
    assert found["Angle"].value == pytest.approx(np.pi / 2)
    assert "no one distance" in found["Distance"].why_not


def test_a_slanted_cut_is_an_ellipse_as_long_as_the_secant():
    slanted = Plane([0, 0, 0], [0, np.sin(0.5), np.cos(0.5)])
    cut = make.cut_cylinder(BORE, slanted)
    assert cut.semi_major == pytest.approx(25 / np.cos(0.5))
    assert cut.semi_minor == pytest.approx(25)
    for end in (cut.center + cut.semi_major * cut.major_direction, cut.center - cut.semi_major * cut.major_direction):
        assert abs(BORE.distance(end[None])[0]) < 1e-9
        assert abs(slanted.distance(end[None])[0]) < 1e-9


def test_nearly_parallel_planes_say_how_far_away_they_meet():
    found = named([TOP, Plane([0, 0, 30], [0, 1e-5, 1])])
    assert "mm away" in found["Line in which they meet"].why_not
    assert found["Perpendicular distance"].value == pytest.approx(30, abs=1e-3)
    with pytest.raises(DeriveError, match="never meets"):
        make.pierce(Line([0, 0, 5], [1, 0, 0]), TOP)


def test_skew_lines():
    """Closed form: the x axis and a line along y at height 7 are 7 apart, nearest at (3, 0)."""
    first, second = Line([0, 0, 0], [1, 0, 0]), Line([3, 9, 7], [0, 1, 0])
    assert size.line_to_line(first, second) == pytest.approx(7)
    assert np.allclose(make.meet_lines(first, second).position, [3, 0, 3.5])
    assert size.line_to_line(first, Line([5, 3, 4], [1, 0, 0])) == pytest.approx(5)


def test_angles_in_space_seen_along_an_axis_and_their_supplement():
    found = named([Plane([0, 0, 0], [1, 0, 0]), Plane([0, 0, 0], [np.cos(0.4), np.sin(0.4), 0])])
    assert found["Angle"].value == pytest.approx(0.4)
    assert found["Supplement"].value == pytest.approx(np.pi - 0.4)
    assert found["Angle seen along Z"].value == pytest.approx(0.4)
    assert "end on" in found["Angle seen along X"].why_not


def test_a_cone_at_a_height_and_at_a_diameter():
    cone = Cone([0, 0, 0], [0, 0, 1], np.radians(30))
    assert make.cone_circle(cone, 10).radius == pytest.approx(10 * np.tan(np.radians(30)))
    assert make.cone_height_of_diameter(cone, 20) == pytest.approx(10 / np.tan(np.radians(30)))
    with pytest.raises(DeriveError, match="apex"):
        make.cone_circle(cone, -1)


def pattern(count=12, radius=180.0):
    turn = np.arange(count) * 2 * np.pi / count
    return np.column_stack([radius * np.cos(turn), radius * np.sin(turn), np.zeros(count)])


def test_a_bolt_circle_names_the_hole_that_is_out_of_place():
    holes = pattern()
    holes[4] += 0.3 * holes[4] / 180
    found = bolt_circle(holes)
    assert found.circle.shape.radius == pytest.approx(180 + 0.3 / 12, abs=1e-3)
    assert int(np.argmax([abs(h.radial_mm) for h in found.holes])) == 4
    turned = pattern() @ Rotation.from_euler("z", 1.1).as_matrix().T
    turned[7] += 0.2 * np.cross([0, 0, 1], turned[7] / 180)
    along = [h.along_mm for h in bolt_circle(turned).holes]
    assert int(np.argmax(np.abs(along))) == 7
    assert along[7] == pytest.approx(0.2 * 11 / 12, abs=0.01)
    with pytest.raises(DeriveError, match="three holes"):
        bolt_circle(holes[:2])


@settings(max_examples=20, deadline=None)
@given(st.integers(0, 10_000))
def test_a_construction_of_moved_features_is_the_moved_construction(seed):
    motion = Motion(Rotation.random(random_state=seed).as_matrix(), np.random.default_rng(seed).uniform(-500, 500, 3))
    for shapes in ([TOP, SIDE, END], [BORE, TOP], [TOP, SIDE], [BALL, HOLE], [BALL, TOP], [BORE, BALL]):
        here = possible([Feature("f", s) for s in shapes])
        there = possible([Feature("f", s.moved(motion)) for s in shapes])
        for a, b in zip(here, there, strict=True):
            if any(word in a.name for word in ("Along", "In the plane", "seen along")):
                continue  # these are of the axes, not of the features
            if a.unit and not a.why_not:
                assert b.value == pytest.approx(a.value, abs=1e-6)
            elif isinstance(a.shape, Point):
                assert np.allclose(motion.points(a.shape.position), b.shape.position, atol=1e-6)


def measured(kind, points, seed):
    random = np.random.default_rng(seed)
    return Feature.of_fit(kind, fit(kind, points + random.normal(0, 0.01, points.shape)), 0.01)


def grid(height, lean=0.0):
    x, y = (a.ravel() for a in np.meshgrid(np.linspace(-40, 40, 3), np.linspace(-30, 30, 3)))
    return np.column_stack([x, y, height + lean * x])


def ring(x, y):
    turn = np.arange(8) * np.pi / 4
    return np.column_stack([x + 11 * np.cos(turn), y + 11 * np.sin(turn), np.zeros(8)])


RUNS = 500


def test_the_stated_uncertainty_of_a_distance_and_an_angle_covers_the_truth():
    """Monte Carlo (JCGM 101): 95 % regions hold the truth, within what so many seeded runs can tell."""
    held = {"Perpendicular distance": 0, "Angle": 0}
    truth = {"Perpendicular distance": 25.0, "Angle": float(np.arctan(0.05))}
    for seed in range(RUNS):
        first, level, leaning = measured("plane", grid(0), seed), measured("plane", grid(25), seed + 10**6), None
        leaning = measured("plane", grid(0, 0.05), seed + 2 * 10**6)
        for name, pair in (("Perpendicular distance", (first, level)), ("Angle", (first, leaning))):
            found = next(p for p in possible(pair) if p.name == name)
            held[name] += abs(found.value - truth[name]) < 1.96 * found.u
    for name, count in held.items():
        assert 0.925 < count / RUNS < 0.975, name


def test_the_stated_uncertainty_of_a_bolt_circle_covers_the_truth():
    """A bolt circle of six holes, each a circle of eight hits: its radius within 95 % regions."""
    places = pattern(6, 90.0)
    held = 0
    for seed in range(120):
        holes = [measured("circle", ring(*place[:2]), seed * 10 + k) for k, place in enumerate(places)]
        values, covariance = propagate(lambda *c: [fit("circle", np.array([h.center for h in c])).shape.radius], holes)
        held += abs(values[0] - 90.0) < 1.96 * np.sqrt(covariance[0, 0])
    assert 0.9 < held / 120 < 0.99
