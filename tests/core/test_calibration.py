"""Calibrations notice what goes wrong in life, and say it."""

from dataclasses import replace

import numpy as np
import pytest
from arm_at_work import OFFSET, SCANNER, SEAT, all_round, believed, lean, scans, swings
from scipy.spatial.transform import Rotation

from zipplumb.core.calibration import KnownProbe, both_units, calibrate_on_sphere, calibrate_scanner, pivot, question_about
from zipplumb.core.errors import FitError, InputError
from zipplumb.core.frames import Motion, points_of_poses

DRAWN = np.array([0.0, 0, 186.0])
ROUND = all_round()
FIRST = (0.0,)


@pytest.mark.parametrize(
    ("ways", "roll", "words"),
    [
        (FIRST, False, "back toward the arm and to the left"),
        ((0.0, 2.1), True, "back toward the arm and to the right"),
        ((0.0, 2.1, -2.1), False, "roll the handle"),
    ],
)
def test_sweeps_that_look_alike_are_refused_with_what_to_do(random, ways, roll, words):
    chain, angles, sweeps = swings(ways=ways, roll=roll)
    found = pivot(believed(chain, angles, random), sweeps)
    verdict, why = found.verdict()
    assert verdict == "not enough"
    assert words in why.lower()
    assert 0.2 < found.reach.share < 1


def test_a_handle_that_only_leans_in_one_plane_leaves_the_tip_loose_across_it(random):
    chain, angles, sweeps = swings(joints=7, ways=FIRST, roll=False)
    found = pivot(believed(chain, angles, random), sweeps, roll=False)
    assert found.u_weakest_mm > 0.01
    assert abs(found.weakest @ lean(90, np.pi / 2)) > 0.95  # across the plane of the swing
    assert "right" in found.reach.advice_across(found.weakest) or "left" in found.reach.advice_across(found.weakest)


def test_a_ball_that_slips_out_is_noticed_and_its_part_set_aside(random):
    chain, angles, sweeps = swings()
    poses = believed(chain, angles, random)
    poses[70:85, :3] += np.outer(np.sin(np.linspace(0.1, 3, 15)), [3.0, 1.0, -4.0])
    found = pivot(poses, sweeps)
    assert not found.used[71:84].any()
    assert found.used[:65].all()
    assert found.slips[0].sweep == 2
    assert "left its seat in sweep 2" in found.slips[0].words
    assert np.linalg.norm(found.offset_mm - OFFSET) < 0.01
    assert found.verdict()[0] == "pass"


def test_a_probe_swapped_without_a_word_is_told_by_its_jump_in_the_same_seat(random):
    chain, angles, sweeps = swings()
    poses = believed(chain, angles, random)
    other, more, _ = swings(ways=(1.0,), roll=False, offset=OFFSET + [0, 0, 14.0])
    found = pivot(np.vstack([poses, believed(other, more, random)]), np.concatenate([sweeps, np.full(len(more), 5)]))
    verdict, why = found.verdict()
    assert verdict == "fail"
    assert "sweep 5" in why
    assert "14.0\u00a0mm elsewhere" in why


def test_too_few_poses_or_none_that_are_numbers_are_refused():
    with pytest.raises(FitError, match="Keep swinging"):
        pivot(np.zeros((3, 7)), np.ones(3, int))
    with pytest.raises(FitError):
        pivot(np.full((20, 7), np.nan), np.ones(20, int))


def test_a_worn_seat_fails_by_its_rms(random):
    chain, angles, sweeps = swings()
    poses = believed(chain, angles, random)
    poses[:, :3] += random.normal(0, 0.03, (len(poses), 3))
    assert pivot(poses, sweeps).verdict()[0] == "fail"


# ---- the sphere -------------------------------------------------------------------------------


def test_the_sphere_gives_the_tip_and_its_diameter(random):
    found = calibrate_on_sphere(believed(*ROUND, random), 25.4, 6.0, DRAWN)
    assert np.linalg.norm(found.offset_mm - OFFSET) < 0.02
    assert found.diameter_mm == pytest.approx(6.0, abs=0.02)
    assert found.verdict()[0] == "pass", found.verdict()
    assert found.covered > 0.7


@pytest.mark.parametrize(
    ("certified", "tip", "words"),
    [
        (25.4, 3.0, "right with Short ball"),
        (1.0, 6.0, "meant in inches"),
        (25.0, 6.0, "comes out 25."),
    ],
)
def test_a_diameter_that_the_hits_contradict_is_questioned(random, certified, tip, words):
    found = calibrate_on_sphere(believed(*ROUND, random), certified, tip, DRAWN, [KnownProbe("Short ball", 6.0)])
    assert words in found.question
    assert found.verdict()[0] == "fail"


def test_hits_of_something_else_are_named_and_set_aside(random):
    poses = believed(*ROUND, random)
    out = points_of_poses(poses, OFFSET) - SEAT
    poses[3, :3] += [40.0, -25, 10]
    poses[17, :3] += 0.04 * out[17]  # 0.6 mm off, as a hit with a chip under the ball
    found = calibrate_on_sphere(poses, 25.4, 6.0, DRAWN)
    assert np.flatnonzero(~found.used).tolist() == [3, 17]
    assert found.aside.startswith("Hits 4, 18 set aside")
    assert found.verdict()[0] == "pass", found.verdict()
    assert np.linalg.norm(found.offset_mm - OFFSET) < 0.02


def test_a_sphere_that_moves_is_noticed(random):
    chain, angles = ROUND
    moved = all_round(center=SEAT + [0.3, 0, -0.2])[1]
    poses = believed(chain, np.vstack([angles[:40], moved[40:]]), random)
    found = calibrate_on_sphere(poses, 25.4, 6.0, DRAWN)
    assert found.verdict()[0] == "fail"
    assert "moved 0.3" in found.moved
    assert "after hit 40" in found.moved
    assert calibrate_on_sphere(believed(chain, angles, random), 25.4, 6.0, DRAWN).moved == ""


def test_a_tip_far_from_where_the_library_has_it_is_said_as_such(random):
    """Another probe was chosen, 44 mm shorter: the handle was not held alike."""
    with pytest.raises(FitError, match="far from where the library has it"):
        calibrate_on_sphere(believed(*ROUND, random), 25.4, 6.0, DRAWN - [0, 0, 44.0])


def test_hits_that_cannot_tell_the_tip_are_refused(random):
    poses = np.tile([0.0, 0, 0, 1, 0, 0, 0], (20, 1))
    normals = Rotation.random(20, rng=1).apply([0, 0, 15.7])
    poses[:, :3] = normals
    with pytest.raises(FitError, match="held alike"):
        calibrate_on_sphere(poses, 25.4, 6.0, DRAWN)
    with pytest.raises(FitError, match="12 hits"):
        calibrate_on_sphere(poses[:5], 25.4, 6.0, DRAWN)


def test_too_few_hits_or_only_the_top_is_not_enough(random):
    few = believed(*ROUND, random)[::3]
    assert "more hits" in calibrate_on_sphere(few, 25.4, 6.0, DRAWN).verdict()[1]
    top = believed(*all_round(low=0.5), random)
    assert "all round" in calibrate_on_sphere(top, 25.4, 6.0, DRAWN).verdict()[1]


def test_the_scanner_stands_where_it_stands_and_the_stem_is_not_of_the_sphere(random):
    chain, angles, points, stripe = scans()
    stem = np.column_stack([np.linspace(4, 5, 10), np.linspace(115, 130, 10)])
    with_stem = np.vstack([points, stem])
    found = calibrate_scanner(
        believed(chain, angles, None), with_stem, np.append(stripe, np.full(10, stripe[-1])), 25.4,
        Motion(np.eye(3), np.array([0.0, 60, 120])),
    )  # fmt: skip
    assert np.allclose(found.axis_from_scanner.translation, SCANNER.translation, atol=1e-6)
    assert len(found.residuals) == len(points)
    wrong = calibrate_scanner(believed(chain, angles, random), points, stripe, 25.0, SCANNER)
    assert "comes out 25." in wrong.question
    with pytest.raises(FitError, match="8 stripes"):
        calibrate_scanner(believed(chain, angles, None), points[stripe < 4], stripe[stripe < 4], 25.4, SCANNER)


def test_a_scanner_held_alike_on_every_pass_is_not_known_yet(random):
    """Its stripes fit well, and many places of the scanner fit them alike."""

    def found(varied):
        chain, angles, points, stripe = scans(varied=varied)
        noisy = points + random.normal(0, 0.01, points.shape)
        return calibrate_scanner(believed(chain, angles, random), noisy, stripe, 25.4, SCANNER)

    assert found(1.0).verdict()[0] == "pass"
    assert found(1.0).u_light_mm < 0.01
    alike = found(0.02)
    assert alike.rms_mm < 0.02
    verdict, why = replace(alike, covered=1.0).verdict()
    assert verdict == "not enough"
    assert "known to" in why
    assert "turned" in why


# ---- what is typed ----------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("kind", "mm", "likely_mm"),
    [("ball", 25 * 25.4, 25.0), ("ball", 0.25, 6.35), ("sphere", 1.0, 25.4), ("reflector", 1.5, 38.1)],
)
def test_a_diameter_in_the_wrong_unit_is_questioned_in_both(kind, mm, likely_mm):
    """published: a 1.5-inch reflector is 38.1 mm across."""
    asked = question_about(kind, mm)
    assert asked.likely_mm == pytest.approx(likely_mm)
    assert both_units(likely_mm) in asked.words


def test_a_plausible_diameter_is_kept_without_a_word_and_none_is_refused():
    assert question_about("ball", 6.0) is None
    assert question_about("sphere", 25.4) is None
    assert question_about("ball", 4000.0).likely_mm is None
    with pytest.raises(InputError):
        question_about("ball", 0.0)
