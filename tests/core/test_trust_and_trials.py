"""When a check is due, and what a trial asks and finds while it is taken."""

import numpy as np
import pytest
from arm_at_work import OFFSET, SEAT, all_round, believed, scans, swings

from zipplumb.core.calibration import KnownProbe
from zipplumb.core.frames import Motion
from zipplumb.core.readings import HitSet
from zipplumb.core.trials import (
    KnownNest,
    Reflector,
    drift_outcome,
    faces_outcome,
    length_outcome,
    pivot_outcome,
    reflector_outcome,
    scanner_outcome,
    single_point_outcome,
    sphere_check_outcome,
    sphere_outcome,
)
from zipplumb.core.trust import Happening, LastFoundGood, due

HOUR = 3600.0


def taken(poses, sweeps=None, faces=None, lines=()):
    return HitSet.of_poses(poses, sweeps, faces, lines)


def at(places):
    return np.hstack([np.asarray(places, float), np.tile([1.0, 0, 0, 0], (len(places), 1))])


# ---- trust ------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("more", "words"),
    [
        ({"good": None}, "never been calibrated"),
        ({"happenings": [Happening("knock", 5.0)]}, "it was knocked"),
        ({"happenings": [Happening("head_off", 5.0), Happening("head_on", 6.0)]}, "put on again"),
        ({"now_s": 13 * HOUR}, "13 hours ago"),
        ({"temperature_c": 23.1}, "3.1 °C warmer"),
        ({"temperature_c": 17.5}, "2.5 °C colder"),
        ({"job_began_s": 7.0}, "This job has begun since"),
    ],
)
def test_what_happened_makes_a_check_due(more, words):
    asked = {"now_s": HOUR, "good": LastFoundGood(0.0, "sphere", 20.0), "happenings": [], "temperature_c": 20.3} | more
    found = due(**asked)
    assert len(found) == 1
    assert words in found[0]


def test_a_kit_found_good_after_all_of_it_may_be_believed():
    assert due(HOUR, LastFoundGood(100.0, "sphere", 20.0), [Happening("knock", 50.0)], 21.0, 90.0) == ()


# ---- calibrations while they are taken ----------------------------------------------------------


def test_a_pivot_says_what_to_do_next_until_it_can_be_finished(random):
    assert "Rest the ball in the bore" in pivot_outcome(HitSet.of_poses(np.empty((0, 7))), "bore", True).ask
    chain, angles, sweeps = swings(ways=(0.0,), roll=False)
    first = pivot_outcome(taken(believed(chain, angles, random), sweeps), "cone", True)
    assert first.verdict == "not enough"
    assert first.ask.startswith("Swing back toward the arm")
    assert (first.taken, first.wanted) == (1, 4)
    chain, angles, sweeps = swings()
    last = pivot_outcome(taken(believed(chain, angles, random), sweeps), "cone", True)
    assert (last.verdict, last.ask, last.taken) == ("pass", "Press finish.", 4)
    assert np.allclose(last.result["offset_mm"], OFFSET, atol=0.01)
    assert len(last.drawing["leans"]) > 100


def test_sphere_and_scanner_count_up_and_pass(random):
    chain, angles = all_round()
    poses = believed(chain, angles, random)
    early = sphere_outcome(taken(poses[:20]), 25.4, 6.0, np.array([0, 0, 186.0]), 60)
    assert (early.verdict, early.taken, early.why) == ("not enough", 20, "40 more hits are wanted.")
    assert sphere_outcome(taken(poses[:5]), 25.4, 6.0, OFFSET, 60).verdict == "not enough"
    assert sphere_outcome(taken(poses), 25.4, 6.0, np.array([0, 0, 186.0]), 60).verdict == "pass"
    chain, angles, points, stripe = scans()
    lines = tuple(points[stripe == k] for k in range(len(angles)))
    start = Motion(np.eye(3), np.array([0.0, 60, 120]))
    found = scanner_outcome(taken(believed(chain, angles, random), lines=lines), 25.4, start, 30)
    assert found.verdict == "pass", found.why
    assert scanner_outcome(taken(believed(chain, angles, random)[:3], lines=lines[:3]), 25.4, start, 30).verdict == "not enough"


# ---- checks -------------------------------------------------------------------------------------


def test_a_wrong_probe_on_the_sphere_is_named(random):
    chain, angles = all_round(20)
    poses = believed(chain, angles, random)
    good = sphere_check_outcome(taken(poses), OFFSET, 6.0, 25.4, 0.05)
    assert good.verdict == "pass", good.why
    wrong = sphere_check_outcome(taken(poses), OFFSET, 3.0, 25.4, 0.05, [KnownProbe("Fat ball", 6.0)])
    assert wrong.verdict == "fail"
    assert "right with Fat ball" in wrong.why
    assert sphere_check_outcome(taken(poses[:4]), OFFSET, 6.0, 25.4, 0.05).verdict == "not enough"


def test_a_length_is_taken_end_by_end():
    """The definition of ISO 10360-12: the error of indication farthest from zero is held against the limit."""
    ends = np.array([[0, 0, 0], [500.01, 0, 0]] * 3) + np.array(
        [[0, 0, 0], [0, 0, 0], [0, 0, 0], [0.03, 0, 0], [0, 0, 0], [0, 0, 0]]
    )
    assert "second end of the bar (1 of 3)" in length_outcome(taken(at(ends[:1])), np.zeros(3), 500.0, 0.06).ask
    found = length_outcome(taken(at(ends)), np.zeros(3), 500.0, 0.06)
    assert found.result["result_mm"] == pytest.approx(0.04)
    assert found.verdict == "pass"
    assert length_outcome(taken(at(ends)), np.zeros(3), 500.0, 0.03).verdict == "fail"


def test_one_point_from_many_poses_and_a_probe_swapped_without_a_word(random):
    places = SEAT + random.normal(0, 0.004, (10, 3))
    assert single_point_outcome(taken(at(places)), np.zeros(3), 0.05).verdict == "pass"
    places[6:] += [0, 0, 14.0]
    found = single_point_outcome(taken(at(places)), np.zeros(3), 0.05)
    assert found.verdict == "fail"
    assert "jumped 14.0\u00a0mm between take 6 and 7" in found.warn


def test_two_faces_are_paired_and_drift_is_against_the_start():
    front = np.array([[3000.0, 0, 0], [0, 4000.0, 500], [-2500.0, 300, 900]])
    both = np.array([p for place in front for p in (place, place + [0, 0, 0.03])])
    found = faces_outcome(taken(at(both), faces=[1, 2] * 3), 0.06)
    assert found.result["result_mm"] == pytest.approx(0.03, abs=0.002)
    assert faces_outcome(taken(at(both[:3]), faces=[1, 2, 1]), 0.06).verdict == "not enough"
    first = drift_outcome(taken(at(front)), 3, 0.05, None)
    assert first.verdict == "pass"
    assert "Take Nest 2 again." in drift_outcome(taken(at(front[:1])), 3, 0.05, first.result["places"]).ask
    moved = drift_outcome(taken(at(front + [0.1, 0, 0])), 3, 0.05, first.result["places"])
    assert moved.verdict == "fail"
    assert "as if the instrument had moved" in moved.why


# published: a 1.5-inch spherically mounted reflector is 38.1 mm across; in a cone of 90° a ball's center stands r / sin 45°
# above the apex (elementary geometry)
BIG, SMALL = Reflector("Big", 38.1), Reflector("Small", 12.7)
NESTS = [KnownNest("N1", (1000.0, 0, 0), 38.1), KnownNest("N2", (0.0, 2000, 300), 38.1)]
IN_A_CONE = (19.05 - 6.35) / np.sin(np.pi / 4)


@pytest.mark.parametrize(
    ("off", "on", "verdict", "words"),
    [
        ((0.01, 0.02, -0.01), BIG, "pass", "as it should with Big"),
        ((0, 0, -IN_A_CONE), SMALL, "pass", "as it should with Small"),
        ((0, 0, -IN_A_CONE), BIG, "fail", "So would Small, and not Big"),
        ((0.01, 0, 0), SMALL, "fail", "So would Big, and not Small"),
        ((0, 0, -(19.05 - 6.35)), BIG, "fail", "So would Small"),  # a flat seat
        ((3.0, 0, 0), BIG, "fail", "look whether the nest moved"),
        ((0, 0, 500.0), BIG, "not enough", "No nest read from here"),
    ],
)
def test_a_reflector_is_told_by_where_it_stands_in_a_known_nest(off, on, verdict, words):
    nothing = reflector_outcome(HitSet.of_poses(np.empty((0, 7))), NESTS, on, [BIG, SMALL], 0.1)
    assert (nothing.verdict, nothing.wanted) == ("running", 1)
    assert "N1, N2" in nothing.ask
    pose = np.array([[*(np.array(NESTS[1].place) + off), 1.0, 0, 0, 0]])
    found = reflector_outcome(HitSet.of_poses(pose), NESTS, on, [BIG, SMALL], 0.1)
    assert found.verdict == verdict
    assert words in found.why
