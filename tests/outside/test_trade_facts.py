"""Facts of the trade and published rules: datum planes, distances, terms, decisions."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from zipplumb.core.alignment import align_datum_planes
from zipplumb.core.deriving import plane_distance
from zipplumb.core.errors import AlignmentError, DeriveError
from zipplumb.core.features import Feature
from zipplumb.core.frames import Motion, perpendicular_pair, unit
from zipplumb.core.shapes import Plane
from zipplumb.core.tolerances import judge

NOMINAL = (Plane([0, 0, 60], [0, 0, 1]), Plane([0, -140, 30], [0, -1, 0]), Plane([-250, 0, 30], [-1, 0, 0]))
WORLD_FROM_PART = Motion(Rotation.from_euler("xyz", [20, -30, 50], degrees=True).as_matrix(), np.array([800.0, -300, 150]))


def tilted(plane, by_rad, about):
    return Plane(plane.point, Rotation.from_rotvec(by_rad * np.array(about, float)).apply(plane.normal))


def in_world(planes):
    return tuple(p.moved(WORLD_FROM_PART) for p in planes)


def test_square_planes_give_the_motion_back():
    found = align_datum_planes(NOMINAL, in_world(NOMINAL)).part_from_world
    assert np.allclose((found @ WORLD_FROM_PART).rotation, np.eye(3), atol=1e-12)
    assert np.allclose((found @ WORLD_FROM_PART).translation, 0, atol=1e-9)


@pytest.mark.parametrize("about", [(0, 1, 0), (0, 0, 1), (0, 0.6, 0.8)])
def test_the_third_planes_tilt_changes_nothing(about):
    """ISO 5459, ASME Y14.5: the tertiary takes only the freedom left over, a slide."""
    square = align_datum_planes(NOMINAL, in_world(NOMINAL)).part_from_world
    leaning = (*NOMINAL[:2], tilted(NOMINAL[2], 0.01, about))
    found = align_datum_planes(NOMINAL, in_world(leaning)).part_from_world
    assert np.allclose(found.rotation, square.rotation, atol=1e-12)
    assert np.allclose(found.translation, square.translation, atol=1e-9)


def test_the_primary_is_taken_whole_and_the_secondary_only_turns():
    """ISO 5459, ASME Y14.5: the primary holds two turns and a slide whatever the others are."""
    leaning = (NOMINAL[0], tilted(NOMINAL[1], 0.02, (1, 0, 0)), NOMINAL[2])
    found = align_datum_planes(NOMINAL, in_world(leaning))
    assert np.allclose(found.part_from_world.vectors(in_world(NOMINAL)[0].normal), [0, 0, 1], atol=1e-12)
    first_to_second = found.squareness[0]
    assert abs(first_to_second.error_rad) == pytest.approx(0.02, abs=1e-12)
    assert first_to_second.went_to == "B"


def test_a_lean_is_told_over_the_reach_in_which_it_leans():
    """Closed form: 0.02 rad over hits that reach 60 mm up a side 500 mm long is 1.2 mm, not 10 mm."""
    leaning = (NOMINAL[0], tilted(NOMINAL[1], 0.02, (1, 0, 0)), NOMINAL[2])
    side = np.array([[x, -140, z] for x in (-250, 250) for z in (0, 60)], float)
    hits = [WORLD_FROM_PART.points(h) for h in (side, side, side)]
    found = align_datum_planes(NOMINAL, in_world(leaning), hits).squareness[0]
    assert found.over_mm == pytest.approx(60 * np.sin(0.02), rel=1e-3)


def test_three_planes_have_no_hold_to_spare():
    """Practice: 3-2-1 with just enough gives zero residuals whatever was touched."""
    found = align_datum_planes(NOMINAL, in_world(NOMINAL))
    assert (found.ledger.holds, found.ledger.spare, found.ledger.rank) == (6, 0, 6)
    assert "prove nothing" in found.ledger.verdict


def test_the_poses_uncertainty_agrees_with_monte_carlo():
    """Published: JCGM 100 (linear propagation) against JCGM 101 (Monte Carlo)."""
    random = np.random.default_rng(11)
    covariance = np.diag([0.006**2, 5e-5**2, 8e-5**2])
    planes = in_world(NOMINAL)
    locals_world = [Motion.from_axes(*perpendicular_pair(p.normal), p.normal, p.point) for p in planes]
    whole = np.zeros((6, 6))
    whole[2:5, 2:5] = covariance
    features = [Feature.known(str(k), *p, whole) for k, p in enumerate(zip(planes, locals_world, strict=True))]
    found = align_datum_planes(NOMINAL, planes, features=features)
    point, direction = np.array([200.0, 100, 300]), np.array([0.0, 1, 0])
    world = WORLD_FROM_PART.points(point)
    seen = []
    for _ in range(3000):
        shaken = []
        for plane, local in zip(planes, locals_world, strict=True):
            offset, *tilts = random.multivariate_normal(np.zeros(3), covariance)
            turn = Rotation.from_rotvec(local.rotation[:, 0] * tilts[0] + local.rotation[:, 1] * tilts[1])
            shaken.append(Plane(plane.point + offset * plane.normal, turn.apply(plane.normal)))
        seen.append(align_datum_planes(NOMINAL, shaken).part_from_world.points(world) @ direction)
    assert found.u_along(point, direction) == pytest.approx(np.std(seen), rel=0.05)


def test_planes_that_leave_a_freedom_loose_are_refused():
    with pytest.raises(AlignmentError, match="nearly parallel"):
        align_datum_planes(NOMINAL, in_world((NOMINAL[0], tilted(NOMINAL[0], 0.02, (1, 0, 0)), NOMINAL[2])))
    with pytest.raises(AlignmentError, match="corner"):
        align_datum_planes((*NOMINAL[:2], NOMINAL[1]), in_world((*NOMINAL[:2], NOMINAL[1])))


def test_slanted_planes_are_longer_from_middle_to_middle():
    """Practice: where planes are offset or slanted, middle to middle exceeds the perpendicular."""
    first, second = Plane([0, 0, 0], [0, 0, 1]), Plane([40, 10, 25], unit([0.01, 0, 1]))
    distance = plane_distance(first, second)
    assert distance.perpendicular_mm == pytest.approx(25)
    assert distance.middles_mm > distance.perpendicular_mm
    assert np.allclose(distance.vector, [0, 0, 25])
    with pytest.raises(DeriveError, match="from parallel"):
        plane_distance(first, Plane([0, 0, 9], [0, 1, 1]))


def test_radius_and_diameter_have_one_verdict():
    """Practice: a radius of 7.378 against 7.375 ±0.010 is a diameter of 14.756 against 14.750 ±0.020."""
    radius, diameter = judge(7.378 - 7.375, -0.010, 0.010), judge(14.756 - 14.750, -0.020, 0.020)
    assert radius.word == diameter.word == "in"
    assert radius.used == pytest.approx(diameter.used)


@pytest.mark.parametrize(("value", "limit", "by"), [(0.0299, 0.025, 0.0049), (0.026, 0.025, 0.001)])
def test_out_says_by_how_much(value, limit, by):
    """Practice: 0.0299 against 0.025 is out by 0.0049."""
    verdict = judge(value, -limit, limit)
    assert verdict.word == "out"
    assert verdict.out_by == pytest.approx(by)


def test_conformity_is_proven_only_inside_the_guard_band():
    """Published: ISO 14253-1, JCGM 106: with a guard band of U, proven only inside the limits less U."""
    assert judge(0.080, -0.1, 0.1, 0.015).word == "close"
    assert judge(0.090, -0.1, 0.1, 0.015).word == "not proven"
    assert judge(0.110, -0.1, 0.1, 0.015).word == "not proven"
    assert judge(0.120, -0.1, 0.1, 0.015).word == "out"
    assert judge(0.020, 0.0, 0.040, 0.015).word == "in"
