import itertools
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation
from stated import monte_carlo

from zipplumb.core.deriving import Given, bolt_circle, construct, division_of, possible
from zipplumb.core.deriving import constructions as make
from zipplumb.core.deriving import dimensions as size
from zipplumb.core.deriving.registry import derivations_for
from zipplumb.core.errors import DeriveError
from zipplumb.core.features import Feature
from zipplumb.core.frames import Motion
from zipplumb.core.shapes import Circle, Cone, Cylinder, Ellipse, Line, Plane, Point, Slot, Sphere, Torus
from zipplumb.core.uncertainty import propagate

TOP, SIDE, END = Plane([0, 0, 60], [0, 0, 1]), Plane([0, -140, 0], [0, -1, 0]), Plane([-250, 0, 0], [-1, 0, 0])
BORE = Cylinder([10, 20, 0], [0, 0, 1], 25)
BALL, HOLE = Sphere([1, 2, 3], 12.7), Circle([4, 6, 15], [0, 0, 1], 5)
EDGE = Line([0, 30, 5], [1, 0.2, 0])
SEAT = Cone([5, 5, -40], [0, 0.05, 1], np.radians(30))
GIVEN = Given(offset_mm=2.5, height_mm=20.0, diameter_mm=18.0)


def named(shapes, given=GIVEN):
    return {p.key: p for p in possible([Feature(str(k), f) for k, f in enumerate(shapes)], given)}


def test_three_planes_make_a_corner():
    corner = named([TOP, SIDE, END])["corner_of_the_three_planes"].feature.shape
    assert np.allclose(corner.position, [-250, -140, 60])


def test_two_centers_make_all_their_distances():
    """The 3-4-12 box: its diagonal is 13."""
    found = named([BALL, HOLE])
    assert found["distance_of_the_middles"].value == pytest.approx(13)
    assert [found[f"along_{a}"].value for a in "xyz"] == pytest.approx([3, 4, 12])
    assert found["in_the_plane_xy"].value == pytest.approx(5)
    assert np.allclose(found["middle_of_the_centers"].feature.shape.position, [2.5, 4, 9])


def test_an_axis_and_a_plane():
    found = named([BORE, TOP])
    assert np.allclose(found["where_it_goes_through"].feature.shape.position, [10, 20, 60])
    assert found["outline_on_the_plane"].feature.shape.radius == pytest.approx(25)
    assert found["angle"].value == pytest.approx(np.pi / 2)
    assert "no one distance" in found["distance"].why_not


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
    assert "mm away" in found["line_in_which_they_meet"].why_not
    assert found["perpendicular_distance"].value == pytest.approx(30, abs=1e-3)
    with pytest.raises(DeriveError, match="never meets"):
        make.pierce(Line([0, 0, 5], [1, 0, 0]), TOP)


def test_how_far_away_nearly_parallel_planes_meet_is_known_only_so_well():
    """Closed form: 30 mm apart and 0.4 mrad from parallel they meet 75 m away; u = 75 m · u(angle) / angle."""
    spread = np.diag([1e-3, 1e-3, 1e-3, 2e-5, 2e-5, 0]) ** 2
    first, second = (
        Feature.known(n, p, Motion(np.eye(3), p.point), spread) for n, p in (("a", TOP), ("b", Plane([0, 0, 30], [0, 4e-4, 1])))
    )
    words = next(p for p in possible([first, second]) if p.key.startswith("line")).why_not
    assert "7.5e+04\u00a0mm away" in words
    assert f"±{1.96 * 75_000 * np.sqrt(2) * 2e-5 / 4e-4:.2g}\u00a0mm only" in words
    near = Feature.known("c", Plane([0, 0, 30], [0, 1e-5, 1]), Motion(np.eye(3), np.array([0, 0, 30.0])), spread)
    assert "as well be parallel" in next(p for p in possible([first, near]) if p.key.startswith("line")).why_not


def test_exact_parallels_are_not_said_to_be_exactly_known():
    """The angle of parallels lies at a fold, where a central difference would vanish: one side's slope is taken."""
    spread = np.diag([1e-3, 1e-3, 1e-3, 2e-5, 2e-5, 0]) ** 2
    pair = [
        Feature.known(n, Plane([0, 0, h], [0, 0, 1]), Motion(np.eye(3), np.array([0, 0, h])), spread)
        for n, h in (("a", 0.0), ("b", 30.0))
    ]
    found = next(p for p in possible(pair) if p.key == "out_of_parallel")
    assert found.value == 0
    assert 2e-5 <= found.u <= 4.1e-5


def test_square_planes_are_not_told_how_far_from_parallel_they_are():
    """A drawing asks of square planes by how far their angle is off 90°, and has no middle of one about the other."""
    spread = np.diag([1e-3, 1e-3, 1e-3, 2e-5, 2e-5, 0]) ** 2
    square = [
        Feature.known(n, Plane([0, 0, 0], way), Motion.identity(), spread)
        for n, way in (("a", [0, 0, 1]), ("b", [1, 0, 0.001]))
    ]
    found = {made.key: made for made in possible(square)}
    assert "nearer to square" in found["out_of_parallel"].why_not
    assert found["angle"].value == pytest.approx(np.pi / 2, abs=0.0011)


def test_skew_lines():
    """Closed form: the x axis and a line along y at height 7 are 7 apart, nearest at (3, 0)."""
    first, second = Line([0, 0, 0], [1, 0, 0]), Line([3, 9, 7], [0, 1, 0])
    assert size.line_to_line(first, second) == pytest.approx(7)
    assert np.allclose(make.meet_lines(first, second).position, [3, 0, 3.5])
    assert size.line_to_line(first, Line([5, 3, 4], [1, 0, 0])) == pytest.approx(5)


def test_angles_in_space_seen_along_an_axis_and_their_supplement():
    found = named([Plane([0, 0, 0], [1, 0, 0]), Plane([0, 0, 0], [np.cos(0.4), np.sin(0.4), 0])])
    assert found["angle"].value == pytest.approx(0.4)
    assert found["supplement"].value == pytest.approx(np.pi - 0.4)
    assert found["angle_seen_along_z"].value == pytest.approx(0.4)
    assert "end on" in found["angle_seen_along_x"].why_not


def test_a_cone_at_a_height_at_a_diameter_and_at_a_plane():
    """Closed form: r = h tan(half angle)."""
    found = named([Cone([0, 0, 0], [0, 0, 1], np.radians(30))], Given(height_mm=10, diameter_mm=20))
    assert found["circle_at_a_height"].feature.shape.radius == pytest.approx(10 * np.tan(np.radians(30)))
    assert found["diameter_at_a_height"].value == pytest.approx(20 * np.tan(np.radians(30)))
    assert found["circle_of_a_diameter"].feature.shape.center[2] == pytest.approx(10 / np.tan(np.radians(30)))
    with pytest.raises(DeriveError, match="apex"):
        make.cone_circle(SEAT, -1)
    at = named([Plane([0, 0, 30], [0, 0, 1]), Cone([0, 0, 0], [0, 0, 1], np.radians(30))])["diameter_at_the_plane"]
    assert at.value == pytest.approx(60 * np.tan(np.radians(30)))


def test_what_needs_a_number_says_so():
    assert "height" in named([SEAT], Given())["circle_at_a_height"].why_not
    assert "offset" in named([TOP], Given())["offset_plane"].why_not


def test_slanted_edges_have_a_least_and_a_greatest_distance_and_a_width():
    """Practice: edges that are not parallel. Closed form: over x = 0 to 100 the gap grows from 30 to 30 + 100 · 0.01."""
    first = Feature("lower", Line([50, 0, 0], [1, 0, 0]), extent=np.array([[0.0, 0, 0], [100, 0, 0]]))
    direction = np.array([1, 0.01, 0]) / np.hypot(1, 0.01)
    second = Feature("upper", Line([50, 30.5, 0], direction), extent=np.array([[0.0, 30, 0], [100, 31, 0]]))
    found = {p.key: p for p in possible([first, second])}
    assert found["least_distance"].value == pytest.approx(30)
    assert found["greatest_distance"].value == pytest.approx(31)
    assert found["out_of_parallel"].value == pytest.approx(np.arctan(0.01))
    assert found["out_of_parallel_over_the_reach"].value == pytest.approx(1.0)
    assert found["width"].value == pytest.approx(30.5 * (1 + np.cos(np.arctan(0.01))) / 2)
    assert "not known" in named([first.shape, second.shape])["least_distance"].why_not


def test_round_things_have_distances_from_edge_to_edge():
    found = named([Circle([0, 0, 0], [0, 0, 1], 5), Circle([30, 40, 0], [0, 0, 1], 10)])
    assert found["least_distance_of_the_edges"].value == pytest.approx(35)
    assert found["greatest_distance_of_the_edges"].value == pytest.approx(65)
    assert named([BORE, SIDE])["least_distance_of_the_edges"].value == pytest.approx(160 - 25)


def test_bisectors_offset_projection_and_middle():
    """Closed forms: the bisectors of the x axis and the line y = x lean by 22.5° and 112.5°."""
    found = named([Line([0, 0, 0], [1, 0, 0]), Line([0, 0, 0], [1, 1, 0])])
    lean = np.radians(22.5)
    assert abs(found["bisector"].feature.shape.direction @ [np.cos(lean), np.sin(lean), 0]) == pytest.approx(1)
    assert abs(
        found["bisector_of_the_wider_angle"].feature.shape.direction @ [np.sin(lean), -np.cos(lean), 0]
    ) == pytest.approx(1)
    assert np.allclose(named([TOP])["offset_plane"].feature.shape.point, [0, 0, 62.5])
    seen = named([Circle([0, 0, 9], [0, np.sin(0.5), np.cos(0.5)], 10), Plane([0, 0, 0], [0, 0, 1])])["outline_on_the_plane"]
    assert (seen.feature.shape.semi_major, seen.feature.shape.semi_minor) == pytest.approx((10, 10 * np.cos(0.5)))
    half_way = named([BALL, HOLE])["plane_half_way_between_them"].feature.shape
    assert half_way.distance(np.array([BALL.center]))[0] == pytest.approx(-half_way.distance(np.array([HOLE.center]))[0])
    cut = named([Sphere([0, 0, 3], 5), Plane([0, 0, 0], [0, 0, 1])])["circle_in_which_the_plane_cuts_it"].feature.shape
    assert cut.radius == pytest.approx(4)


def pattern(count=12, radius=180.0):
    turn = np.arange(count) * 2 * np.pi / count
    return np.column_stack([radius * np.cos(turn), radius * np.sin(turn), np.zeros(count)])


def holes_at(places, covariance=None):
    spread = np.zeros((7, 7)) if covariance is None else covariance
    return [
        Feature.known(f"hole {k + 1}", Circle(p, [0, 0, 1], 5.5), Motion(np.eye(3), p), spread) for k, p in enumerate(places)
    ]


def test_a_bolt_circle_names_the_hole_that_is_out_of_place():
    places = pattern()
    places[4] += 0.3 * places[4] / 180
    found = bolt_circle(places)
    assert found.circle.radius == pytest.approx(180 + 0.3 / 12, abs=1e-3)
    assert int(np.argmax(np.abs(found.radial_mm))) == 4
    turned = pattern() @ Rotation.from_euler("z", 1.1).as_matrix().T
    turned[7] += 0.2 * np.cross([0, 0, 1], turned[7] / 180)
    some = np.random.default_rng(3).permutation(12)[:9]  # in any order, three not measured
    some = np.append(some[some != 7], 7)
    along = dict(zip(some.tolist(), bolt_circle(turned[some], count=12).along_mm, strict=True))
    assert max(along, key=lambda k: abs(along[k])) == 7
    assert along[7] == pytest.approx(0.2 * (1 - 1 / len(some)), abs=0.02)
    for wrong, words in ((places[:2], "three holes"), (np.vstack([places, places[:1] + 1]), "one place")):
        with pytest.raises(DeriveError, match=words):
            bolt_circle(wrong)


@pytest.mark.parametrize("count", [3, 6, 8, 12, 30])
def test_how_many_places_a_pattern_has_is_seen_from_some_of_its_holes(count, random):
    """Neighbours of each other, so that no coarser division holds them; turned, and where half of them are there touched with
    errors: a short arc does not tell its center (geometry)."""
    for some in range(3, count + 1):
        turns = 2 * np.pi * (np.arange(some) / count + random.uniform())
        places = 60 * np.column_stack([np.cos(turns), np.sin(turns), 0 * turns]) + random.normal(
            0, 0.02 if 2 * some >= count else 1e-6, (some, 3)
        )
        assert division_of(random.permutation(places)) == count
    spread = 60 * np.column_stack([np.cos([0.1, 1.3, 2.0, 4.4, 5.1]), np.sin([0.1, 1.3, 2.0, 4.4, 5.1]), np.zeros(5)])
    assert division_of(spread) in (5, *range(60, 121))  # of no even division that a drawing has


def leaning(shapes):
    """Away from the folds at 0 and 90°, where either of two answers is right."""
    turns = np.random.default_rng(1).uniform(0.02, 0.06, (len(shapes), 3))
    return tuple(s.moved(Motion(Rotation.from_rotvec(t).as_matrix(), np.zeros(3))) for s, t in zip(shapes, turns, strict=True))


SHAPES = leaning((TOP, SIDE, EDGE, BORE, SEAT, BALL, HOLE, Slot([40, 5, 2], [0, 0, 1], [1, 0, 0], 30, 10), Point([7, -9, 11])))
SETS = (
    [[s] for s in (*SHAPES, Ellipse([0, 0, 0], [0, 0, 1], [1, 0, 0], 9, 5), Torus([0, 0, 0], [0, 0, 1], 40, 6))]
    + [list(pair) for pair in itertools.permutations(SHAPES, 2)]
    + [list(leaning((TOP, SIDE, END))), [EDGE, BORE, SEAT], [HOLE, BALL, SHAPES[-1], SHAPES[-2]]]
)


def of_the_axes(name):
    return any(word in name for word in ("along", "in_the_plane", "seen_along"))


@settings(max_examples=15)
@given(st.integers(0, 10_000))
def test_a_construction_of_moved_features_is_the_moved_construction(seed):
    motion = Motion(Rotation.random(random_state=seed).as_matrix(), np.random.default_rng(seed).uniform(-500, 500, 3))
    random = np.random.default_rng(seed)
    for shapes in [SETS[k] for k in random.choice(len(SETS), 8, replace=False)]:
        features = [Feature("f", s, extent=random.normal(size=(3, 3))) for s in shapes]
        here, there = possible(features, GIVEN), possible([f.moved(motion) for f in features], GIVEN)
        for a, b in zip(here, there, strict=True):
            if of_the_axes(a.key):
                continue  # these are of the axes, not of the features
            assert bool(a.why_not) == bool(b.why_not), a.key
            if a.why_not:
                continue
            if a.unit:
                assert b.value == pytest.approx(a.value, abs=1e-6), a.key
                continue
            places = np.vstack([np.eye(3) * 50, a.feature.shape.moved(motion).__dict__.get("center", np.zeros(3))])
            inward = motion.inverse().points(places)
            assert np.allclose(np.abs(a.feature.shape.distance(inward)), np.abs(b.feature.shape.distance(places)), atol=1e-5), (
                a.key
            )


def test_the_linear_uncertainty_of_every_construction_agrees_with_monte_carlo():
    """Published: JCGM 100 against JCGM 101, for every recipe that there is, over hits-like covariances."""
    random, seen = np.random.default_rng(4), set()
    for shapes in SETS:
        features = []
        for k, shape in enumerate(shapes):
            size_ = Feature("", shape).uncertainty.size
            root = random.normal(size=(size_, size_)) * np.array([1e-3] * 3 + [1e-5] * 3 + [1e-4] * (size_ - 6))[:, None]
            local = Motion(Rotation.random(random_state=k).as_matrix(), np.array([3.0, 4, 5]))
            features.append(Feature.known(str(k), shape, local, root @ root.T, extent=random.normal(size=(4, 3)) * 20))
        for recipe in derivations_for(features, GIVEN):
            if not recipe.unit or recipe.key in seen:
                continue
            seen.add(recipe.key)
            try:
                value, uncertainty = propagate(recipe.make, features)
            except DeriveError:
                seen.discard(recipe.key)
                continue
            mean, spread = monte_carlo(recipe.make, features, 500, random)
            assert mean[0] == pytest.approx(value[0], abs=max(6 * uncertainty.u() / np.sqrt(500), 1e-6)), recipe.key
            assert spread[0, 0] == pytest.approx(uncertainty.u() ** 2, rel=0.35, abs=1e-14), recipe.key
    assert len(seen) > 25


def test_the_uncertainty_of_a_made_shape_agrees_with_monte_carlo():
    """The corner of three planes and the line of two, drawn 4,000 times (JCGM 101)."""
    random = np.random.default_rng(8)
    planes = [Feature.known(str(k), s, Motion(np.eye(3), s.point), np.diag([2e-3, 2e-3, 2e-3, 1e-5, 2e-5, 3e-5]) ** 2)
              for k, s in enumerate((TOP, SIDE, END))]  # fmt: skip
    corner = next(p for p in possible(planes) if p.key.startswith("corner")).feature
    _, spread = monte_carlo(lambda *s: make.meet_three_planes(*s).position, planes, 4000, random)
    assert np.allclose(corner.covariance[:3, :3], spread, rtol=0.15, atol=3e-6)
    line = next(p for p in possible(planes[:2]) if p.key.startswith("line")).feature
    drawn = np.array([make.meet_planes(*(f.drawn(random) for f in planes[:2])).direction for _ in range(4000)])
    turned = line.local.inverse().vectors(drawn)
    assert np.std(turned[:, 0]) == pytest.approx(np.sqrt(line.covariance[4, 4]), rel=0.1)


@pytest.mark.parametrize("shapes", [[TOP, SIDE], [BORE, EDGE], [HOLE, BALL]])
def test_everything_that_can_be_made_can_be_drawn(shapes):
    for found in possible([Feature(str(k), s, extent=np.zeros((1, 3))) for k, s in enumerate(shapes)], GIVEN):
        drawing = found.draw
        if not found.why_not:
            assert drawing.points or drawing.segments or drawing.arcs or found.key.startswith(("least", "greatest", "out")), (
                found.key
            )
        for part in (*drawing.points, *drawing.segments, *(a.along() for a in drawing.arcs)):
            assert np.all(np.isfinite(part))


def bore(name, place, lean, depth=30.0):
    """A bore with what was read of it: its two ends."""
    shape = Cylinder(np.array(place, float), np.array([lean, -lean / 2, 1.0]), 8)
    return Feature(name, shape, extent=shape.point + np.outer([-depth / 2, depth / 2], shape.direction))


def test_the_distance_of_nearly_parallel_bores_is_taken_where_they_are():
    """Practice: 60 mm apart and a little askew, their endless axes come nearest somewhere far away; the drawing means 60."""
    random = np.random.default_rng(2)
    for _ in range(50):
        pair = [bore("one", [0, 0, 0], random.normal(0, 2e-4)), bore("other", [60, 0, 0], random.normal(0, 2e-4))]
        found = {p.key: p for p in possible(pair)}
        assert next(iter(found)) == "width"
        assert found["width"].value == pytest.approx(60, abs=0.05)
        assert found["least_distance_of_the_axes"].value == pytest.approx(60, abs=0.05)
        assert found["least_distance_of_the_edges"].value == pytest.approx(44, abs=0.05)


def test_nothing_that_can_be_made_is_lost_for_one_that_cannot():
    """A bore exactly square to a face: some constructions have no meaning there, all others do."""
    pair = [Feature("bore", Cylinder([10, 20, 0], [0, 0, 1], 8)), Feature("face", Plane([0, 0, 50], [0, 0, 1]))]
    found = {p.key: p for p in possible(pair)}
    assert found["where_it_goes_through"].feature is not None
    assert found["angle"].value == pytest.approx(np.pi / 2)
    assert all(p.why_not or p.feature is not None or np.isfinite(p.value) for p in found.values())


def test_an_angle_at_half_a_turn_has_no_absurd_uncertainty():
    """The angle of opposite directions seen along Z."""
    lean = np.diag([0, 0, 0, 1e-4, 1e-4, 1e-4]) ** 2
    opposite = [Feature.known(n, Line([0, 0, 0], d), Motion.identity(), lean) for n, d in (("a", [1, 0, 0]), ("b", [-1, 0, 0]))]
    seen = next(p for p in possible(opposite) if p.key == "angle_seen_along_z")
    assert abs(seen.value) == pytest.approx(np.pi)
    assert seen.u == pytest.approx(np.sqrt(2) * 1e-4, rel=0.01)


def axis_piece(x, lean=0.0, up=0.0, length=20.0):
    direction = np.array([1.0, 0, lean]) / np.hypot(1, lean)
    point = np.array([x, 0, up])
    return Feature("bore", Cylinder(point, direction, 10), extent=point + np.outer([-length / 2, length / 2], direction))


def test_a_common_axis_is_nearest_to_the_ends_of_all():
    """Closed form: two short bores 0.2 apart in height, 400 from one another, lie 0.1 off a line that leans by nothing else;
    by linear regression of the four ends (numpy.polyfit) where they lean too."""
    level = made_of("common_axis", axis_piece(0), axis_piece(400))
    assert np.abs(level.direction @ [0, 1, 0]) < 1e-12
    first, second = axis_piece(0, lean=0.001), axis_piece(400, lean=-0.0005, up=0.2)
    axis = made_of("common_axis", first, second)
    ends = np.vstack([first.extent, second.extent])
    slope = np.polyfit(ends[:, 0], ends[:, 2], 1)
    assert axis.direction[2] / axis.direction[0] == pytest.approx(slope[0], rel=1e-5)
    assert np.polyval(slope, axis.point[0]) == pytest.approx(axis.point[2], abs=1e-6)
    with pytest.raises(DeriveError, match="not in one line: they lean by up to"):
        construct_or_refuse("common_axis", axis_piece(0), axis_piece(400, up=60))


def test_a_common_plane_is_nearest_to_all_and_refuses_a_step():
    """The pads of a frame, three on one level, the third 0.3 low: linear regression of all corners (numpy.linalg.lstsq)."""
    square = np.array([[-30.0, -20, 0], [30, -20, 0], [30, 20, 0], [-30, 20, 0]])
    pads = [
        Feature(f"pad {k}", Plane(at, [0, 0, 1]), extent=square + at)
        for k, at in enumerate(np.array([[0, 0, 0], [900, 0, 0], [0, 700, -0.3]], float))
    ]
    plane = made_of("common_plane", *pads)
    corners = np.vstack([p.extent for p in pads])
    slopes = np.linalg.lstsq(np.column_stack([corners[:, :2], np.ones(12)]), corners[:, 2], rcond=None)[0]
    assert -plane.normal[:2] / plane.normal[2] == pytest.approx(slopes[:2], abs=1e-7)
    stepped = replace(pads[0], shape=Plane([0, 0, 80], [0, 0, 1]), extent=square + np.array([0, 0, 80]))
    with pytest.raises(DeriveError, match="not in one plane"):
        construct_or_refuse("common_plane", stepped, *pads[1:])


def test_a_made_line_reaches_as_far_as_what_it_was_made_of():
    holes = holes_at(np.array([[0.0, 0, 0], [120, 0, 0]]))
    made = construct("line_through_the_centers", holes).feature
    assert np.ptp(made.extent, axis=0) == pytest.approx([120, 0, 0])


def made_of(key, *features):
    return construct_or_refuse(key, *features).feature.shape


def construct_or_refuse(key, *features):
    found = construct(key, features)
    if found.why_not:
        raise DeriveError(found.why_not, "", "")
    return found


def test_a_hidden_point_lies_beyond_a_bar_and_is_the_less_sure_the_farther():
    """A bar of 200 with its tip 100 beyond the second reflector: across it the tip errs by √((1 + k)² + k²) of what each does,
    k = 100 / 200 (geometry), and by √2 · … along it as little as one point."""
    u = 0.01
    ends = [Feature.known(n, Point(at), Motion(np.eye(3), np.array(at)), np.diag([u**2] * 3 + [0.0] * 3))
            for n, at in (("far", [0.0, 0, 0]), ("near", [200.0, 0, 0]))]  # fmt: skip
    found = construct("hidden_point_beyond_the_second", ends, Given(offset_mm=100.0)).feature
    assert np.allclose(found.shape.position, [300, 0, 0])
    spread = np.sqrt(np.diag(found.told_in(Motion(np.eye(3), found.shape.position)).covariance)[:3])
    assert spread == pytest.approx([u, u * np.hypot(1.5, 0.5), u * np.hypot(1.5, 0.5)], rel=1e-4)
    back = construct("hidden_point_beyond_the_first", ends, Given(offset_mm=100.0)).feature
    assert np.allclose(back.shape.position, [-100, 0, 0])
    assert "It needs an offset" in construct("hidden_point_beyond_the_first", ends).why_not
    with pytest.raises(DeriveError, match="one and the same"):
        make.beyond(np.zeros(3), np.zeros(3), 5.0)


def test_bores_offer_what_holes_offer_at_one_height():
    """Two bores 60 and 80 apart along X and Y, touched at other depths: 100 from center to center, 60, 80 and 0 along the axes;
    three in a row of 3-4-5 lie on a circle of 100 (geometry)."""
    one, other, third = (bore(f"Bore {k}", at, 0.0) for k, at in enumerate(([0, 0, -9.0], [60, 80, 20.0], [60, 0, 3.0])))
    found = {p.key: p for p in possible([one, other])}
    told = [found[k].value for k in ("distance_of_the_middles", "along_x", "along_y", "along_z", "in_the_plane_xy")]
    assert told == pytest.approx([100, 60, 80, 0, 100])
    assert "in the middle of what was touched" in found["distance_of_the_middles"].at
    line = found["line_through_the_centers"].feature.shape
    assert np.abs(line.direction) == pytest.approx([0.6, 0.8, 0])
    assert found["width"].value == pytest.approx(found["distance_of_the_middles"].value)
    many = {p.key: p for p in possible([one, other, third])}
    assert many["diameter_of_the_bolt_circle"].value == pytest.approx(100)


def test_a_plane_chosen_with_bores_says_where_they_are_taken():
    """A bore that leans by 1 in 100 lies 0.5 farther away at 50 than at 0 (geometry)."""
    straight, leaning = bore("Straight", [0, 0, 0], 0.0), bore("Leaning", [60, 0, 0], 0.01)
    for height in (0.0, 50.0):
        top = Feature("Top", Plane([0, 0, height], [0, 0, 1]))
        for chosen in ([straight, leaning, top], [top, straight, leaning]):
            found = {p.key: p for p in possible(chosen)}["distance_of_the_middles"]
            assert found.value == pytest.approx(np.hypot(60 + 0.01 * height, 0.005 * height))
            assert "where they go through the plane" in found.at
    ball = Feature("Ball", Sphere([0, 80, 7], 12.5))
    found = {p.key: p for p in possible([ball, leaning])}
    assert found["along_y"].value == pytest.approx(-80) and "perpendicular_distance" in found
