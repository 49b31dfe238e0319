"""Calibrations recover the stand-in's true offset, as well as they state.

The stand-in knows the truth: its joints have noise and what is left of an eccentricity, its tip
stands where no drawing says.
"""

import numpy as np
import pytest
from arm_at_work import NOISE_RAD, OFFSET, SCANNER, SEAT, all_round, believed, scans, swings
from stated import RUNS, Stated, inside_region

from zipplumb.core.calibration import calibrate_on_sphere, calibrate_scanner, pivot
from zipplumb.core.frames import Motion, rotations_from_quaternions
from zipplumb.devices.sim.kinematics import Encoders

DRAWN = np.array([0.0, 0, 186.0])


@pytest.mark.parametrize("joints", [6, 7])
def test_the_pivot_is_numpys_linear_least_squares(joints):
    """The reference: numpy.linalg.lstsq on [R, -I] [o; c] = -p."""
    chain, angles, sweeps = swings(joints)
    poses = believed(chain, angles, np.random.default_rng(1))
    found = pivot(poses, sweeps, roll=joints == 7)
    turns = rotations_from_quaternions(poses[:, 3:])
    rows = np.concatenate([turns, np.broadcast_to(-np.eye(3), turns.shape)], axis=2).reshape(-1, 6)
    reference = np.linalg.lstsq(rows, -poses[:, :3].ravel(), rcond=None)[0]
    assert found.used.all()
    assert np.allclose(found.offset_mm, reference[:3], atol=1e-8)
    assert np.allclose(found.seat_mm, reference[3:], atol=1e-8)
    assert found.verdict()[0] == "pass", found.verdict()
    assert np.linalg.norm(pivot(believed(chain, angles, None), sweeps).offset_mm - OFFSET) < 1e-4  # what the stand-in places to


def test_the_pivots_covariance_is_that_of_many_runs():
    """JCGM 101: Monte Carlo. A standard deviation is known to 3 % of 500 runs, its bound is three of them."""
    chain, angles, sweeps = swings()
    random, errors, answers, stated = np.random.default_rng(2), Stated(), [], []
    for _ in range(RUNS):
        found = pivot(believed(chain, angles, random), sweeps)
        errors.saw_place("tip", found.offset_mm - OFFSET, found.covariance)
        answers.append(found.offset_mm)
        stated.append(found.covariance)
    errors.must_hold()
    seen = np.cov(np.array(answers), rowvar=False)
    assert np.sqrt(np.diag(np.mean(stated, axis=0))) == pytest.approx(np.sqrt(np.diag(seen)), rel=0.1)


def test_regions_of_a_sphere_calibration_hold():
    chain, angles = all_round()
    random, errors = np.random.default_rng(3), Stated()
    for _ in range(RUNS):
        found = calibrate_on_sphere(believed(chain, angles, random), 25.4, 6.0, DRAWN)
        errors.saw_place("tip", found.offset_mm - OFFSET, found.covariance)
    errors.must_hold()
    assert found.verdict()[0] == "pass", found.verdict()


def test_regions_of_a_scanners_place_hold():
    """The place of a point 100 mm before the scanner, where it measures; each run tells three numbers."""
    chain, angles, points, stripe = scans(80)
    random, errors, start = np.random.default_rng(4), Stated(), Motion(np.eye(3), np.array([0.0, 60, 120]))
    there = np.array([0.0, 0, 100])
    x, y, z = there
    lever = np.hstack([np.eye(3), np.array([[0, z, -y], [-z, 0, x], [y, -x, 0]])])
    for _ in range(RUNS // 3):
        noisy = points + random.normal(0, 0.01, points.shape)
        found = calibrate_scanner(believed(chain, angles, random), noisy, stripe, 25.4, start)
        off = SCANNER.inverse().points(found.axis_from_scanner.points(there)) - there
        errors.saw_place("there", off, lever @ found.covariance @ lever.T)
    errors.must_hold()
    assert found.verdict()[0] == "pass", found.verdict()
    assert np.linalg.norm(found.center_mm - SEAT) < 0.02


@pytest.mark.parametrize("left_rad", [3e-6, 6e-6, 1e-5])
def test_regions_of_a_pivot_hold_for_an_arm_whose_joints_err_alike_all_through_a_sweep(left_rad):
    """What the residuals do not show, the maker's statement has to cover: at least 95 % of 200 seeded arms."""
    chain, angles, sweeps = swings()
    random, held, alone = np.random.default_rng(5), 0, 0
    for _ in range(200):
        encoders = Encoders.of_class(random, chain.joints, NOISE_RAD, left_rad)
        poses = believed(chain, angles, random, encoders)
        stated, unstated = pivot(poses, sweeps, u_stated_mm=0.012), pivot(poses, sweeps)
        held += inside_region(stated.offset_mm - OFFSET, stated.covariance)
        alone += inside_region(unstated.offset_mm - OFFSET, unstated.covariance)
    assert held >= 190, held
    assert alone < 190
    assert stated.verdict()[0] == "pass", stated.verdict()
