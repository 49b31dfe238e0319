"""The network: made-up shops whose truth is known."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation
from stated import inside_region

from zipplumb.core.errors import AlignmentError
from zipplumb.core.frames import Motion
from zipplumb.core.network import InstrumentClass, KnownLength, KnownPoint, LevelSighting, Observation, adjust, polar

NOISE = 0.02
UP = np.array([0.0, 0, 1])
RUNS = 600
TRACKER = InstrumentClass(0.005, 0.001, 5e-6)


def shop(random, stations=2, points=6):
    places = random.uniform([-2000, -1500, 0], [2000, 1500, 1200], (points, 3))
    poses = [Motion.identity()] + [
        Motion(Rotation.from_rotvec(random.normal(0, 1, 3)).as_matrix(), random.uniform(-3000, 3000, 3))
        for _ in range(stations - 1)
    ]
    return poses, places


def seen(poses, places, random=None, noise=0.0, u=NOISE):
    found = []
    for k, pose in enumerate(poses):
        for j, place in enumerate(places):
            local = pose.inverse().points(place)
            if random is not None:
                local = local + random.normal(0, noise, 3)
            found.append(Observation(f"S{k}", f"P{j}", local, np.eye(3) * u**2))
    return found


@settings(max_examples=15)
@given(st.integers(0, 10_000))
def test_two_stations_without_noise_give_the_relative_pose_exactly(seed):
    """The check of the trade: six common points, nothing else given."""
    poses, places = shop(np.random.default_rng(seed))
    found = adjust(seen(poses, places))
    assert np.allclose(found.pose("S1").rotation, poses[1].rotation, atol=1e-10)
    assert np.allclose(found.pose("S1").translation, poses[1].translation, atol=1e-6)
    assert np.allclose(found.places, places, atol=1e-6)
    assert found.spare == 36 - 6 - 18
    assert found.shared["S0", "S1"] == tuple(f"P{k}" for k in range(6))


def test_against_a_direct_least_squares(random):
    """The reference: scipy's least_squares over all poses and points at once."""
    poses, places = shop(random, 4, 12)
    observations = seen(poses, places, random, 0.05)
    found = adjust(observations)

    def residuals(p):
        spots, moves = p[18:].reshape(-1, 3), p[:18].reshape(3, 6)
        frames = [Motion.identity()] + [
            Motion(Rotation.from_rotvec(m[3:]).as_matrix() @ t.rotation, t.translation + m[:3])
            for m, t in zip(moves, poses[1:], strict=True)
        ]
        seen_ = np.array([(spots - f.translation) @ f.rotation for f in frames])
        return ((seen_ - np.array([o.local for o in observations]).reshape(4, 12, 3)) / NOISE).ravel()

    start = np.concatenate([np.zeros(18), places.ravel()])
    reference = least_squares(residuals, start, x_scale="jac", xtol=1e-15, ftol=1e-15, gtol=1e-15)
    assert np.sum((found.residuals / NOISE) ** 2) == pytest.approx(2 * reference.cost, rel=1e-9)
    assert np.allclose(found.places, reference.x[18:].reshape(-1, 3), atol=1e-6)


def test_regions_hold_the_truth_and_residuals_follow_the_uncertainties():
    """200 seeded runs: 95 % regions hold in 93 to 97 %, and the sum of squares is a chi-square of its spare number."""
    random = np.random.default_rng(3)
    poses, places = shop(random, 3, 8)
    held, factors = np.zeros(2), []
    for _ in range(200):
        found = adjust(seen(poses, places, random, NOISE))
        move = found.pose("S2").rotation @ poses[2].rotation.T
        turn = Rotation.from_matrix(move).as_rotvec()
        deviation = np.concatenate([found.pose("S2").translation - poses[2].translation, turn])
        held += [
            inside_region(deviation, found.pose_covariances[2]),
            np.mean([inside_region(d, c) for d, c in zip(found.places - places, found.point_covariances, strict=True)]),
        ]
        factors.append(found.variance_factor)
    assert np.all((held / 200 > 0.93) & (held / 200 < 0.97)), held / 200
    # the mean of 200 chi-squares by their number scatters by √(2 / spare / 200)
    assert np.mean(factors) == pytest.approx(1, abs=4 * np.sqrt(2 / found.spare / 200))


def sighted(poses, places, random):
    """Ranges and two angles, each off as the instrument's class says."""
    found = []
    for k, pose in enumerate(poses):
        for j, place in enumerate(places):
            x, y, z = pose.inverse().points(place)
            far, across = np.sqrt(x * x + y * y + z * z), np.hypot(x, y)
            u = np.array([TRACKER.range_mm + TRACKER.range_per_m_mm * far / 1000, TRACKER.angle_rad, TRACKER.angle_rad])
            seen_ = np.array([far, np.arctan2(y, x), np.arctan2(z, across)]) + random.normal(0, u)
            found.append(polar(f"S{k}", f"P{j}", *seen_, TRACKER))
    return found


@pytest.mark.parametrize("arrangement", ["angles", "level", "scale bar"])
def test_regions_hold_for_ranges_and_angles_levels_and_scale_bars(arrangement):
    """600 seeded runs each: 95 % regions of points and poses hold in 93 to 97 %."""
    random, held, u_level = np.random.default_rng(8), np.zeros(2), 4e-6
    _, places = shop(random, 1, 9)
    upright = [(0, [0.0, 0, 0]), (1.1, [3500.0, 800, 120]), (-2.0, [-3200.0, 2500, -60])]
    length = float(np.linalg.norm(places[0] - places[5]))
    for _ in range(RUNS):
        poses, more = [Motion(Rotation.from_euler("z", t).as_matrix(), np.array(at)) for t, at in upright], {}
        if arrangement == "level":  # each stands upright only as well as its level can tell; the first one's axes are the world
            lean = [Motion(Rotation.from_rotvec([*random.normal(0, u_level, 2), 0]).as_matrix(), np.zeros(3)) for _ in poses]
            poses = [Motion(tilt.rotation @ pose.rotation, pose.translation) for tilt, pose in zip(lean, poses, strict=True)]
            poses = [poses[0].inverse() @ pose for pose in poses]
            more = {"levels": {f"S{k}": LevelSighting(UP, u_level) for k in range(3)}}
        elif arrangement == "scale bar":
            bar = KnownLength("P0", "P5", length + random.normal(0, 0.002), 0.002)
            more = {"known_lengths": [bar], "free_scale": ["S0", "S1", "S2"]}
        found = adjust(sighted(poses, places, random), **more)
        held += [
            np.mean(
                [
                    inside_region(found.pose(f"S{k}").translation - poses[k].translation, found.pose_covariances[k][:3, :3])
                    for k in (1, 2)
                ]
            ),
            np.mean([inside_region(d, c) for d, c in zip(found.places - places, found.point_covariances, strict=True)]),
        ]
    assert np.all((held / RUNS > 0.93) & (held / RUNS < 0.97)), held / RUNS


def test_the_reading_that_disagrees_is_named_and_robust_weights_bear_it(random):
    poses, places = shop(random, 3, 8)
    observations = seen(poses, places, random, NOISE)
    bad = observations[13]
    observations[13] = Observation(bad.station, bad.point, bad.local + [0.6, 0, 0], bad.covariance)
    plain, robust = adjust(observations), adjust(observations, robust=True)
    assert (plain.worst[0].station, plain.worst[0].point) == (bad.station, bad.point)
    assert plain.worst[0].sigmas > 5
    assert plain.variance_factor > 3
    clean = adjust(seen(poses, places))
    assert np.linalg.norm(robust.places - clean.places) < 0.6 * np.linalg.norm(plain.places - clean.places)


def test_ranges_and_angles_are_weighed_by_what_the_instrument_can_do(random):
    """A place from a range of 5 m and two angles: 0.010 mm along, 0.025 mm across, less by the cosine of the elevation."""
    one = polar("S0", "P0", 5000.0, 0.4, 0.2, TRACKER)
    along = one.local / np.linalg.norm(one.local)
    assert np.linalg.norm(one.local) == pytest.approx(5000)
    assert np.sqrt(along @ one.covariance @ along) == pytest.approx(0.010)
    across = np.cross(along, [0, 0, 1]) / np.linalg.norm(np.cross(along, [0, 0, 1]))
    assert np.sqrt(across @ one.covariance @ across) == pytest.approx(0.025 * np.cos(0.2))
    with pytest.raises(AlignmentError, match="no place"):
        polar("S0", "P0", -1.0, 0, 0, TRACKER)


def test_a_scale_bar_and_known_points_tell_a_free_scale(random):
    poses, places = shop(random, 2, 8)
    stretched = [
        Observation(o.station, o.point, o.local / (1.0001 if o.station == "S1" else 1.0), o.covariance)
        for o in seen(poses, places)
    ]
    free = adjust(stretched, free_scale=["S1"])
    assert free.scales[1] == pytest.approx(1.0001, abs=1e-9)
    length = float(np.linalg.norm(places[0] - places[1]))
    both = [Observation(o.station, o.point, o.local / 1.0002, o.covariance) for o in seen(poses, places)]
    bar = adjust(both, known_lengths=[KnownLength("P0", "P1", length, 0.001)], free_scale=["S0", "S1"])
    assert bar.scales == pytest.approx([1.0002, 1.0002], abs=1e-9)
    assert abs(bar.length_residuals[0]) < 1e-6
    known = adjust(both, [KnownPoint(f"P{k}", places[k], 0.001) for k in range(4)], free_scale=["S0", "S1"])
    assert known.scales == pytest.approx([1.0002, 1.0002], abs=1e-8)
    assert np.allclose(known.places, places, atol=1e-5)
    with pytest.raises(AlignmentError, match="loose"):
        adjust(both, free_scale=["S0", "S1"])


def test_a_known_length_pulls_and_counts(random):
    """Against scipy: two stations, noise, one length known: the same sum of squares."""
    poses, places = shop(random, 2, 5)
    observations = seen(poses, places, random, 0.05)
    length = float(np.linalg.norm(places[0] - places[3]))
    found = adjust(observations, known_lengths=[KnownLength("P0", "P3", length, 0.005)])

    def residuals(p):
        frame = Motion(Rotation.from_rotvec(p[3:6]).as_matrix() @ poses[1].rotation, poses[1].translation + p[:3])
        spots = p[6:].reshape(-1, 3)
        local = np.array([spots, (spots - frame.translation) @ frame.rotation])
        bar = (np.linalg.norm(spots[0] - spots[3]) - length) / 0.005
        return np.append(((local - np.array([o.local for o in observations]).reshape(2, 5, 3)) / NOISE).ravel(), bar)

    reference = least_squares(
        residuals, np.concatenate([np.zeros(6), places.ravel()]), x_scale="jac", xtol=1e-15, ftol=1e-15, gtol=1e-15
    )
    assert np.allclose(found.places, reference.x[6:].reshape(-1, 3), atol=1e-6)
    assert found.spare == 30 + 1 - 6 - 15
    inverse = np.linalg.inv(reference.jac.T @ reference.jac)
    assert np.allclose(found.point_covariances[0], inverse[6:9, 6:9], rtol=1e-4, atol=1e-10)
    assert np.allclose(found.point_covariances[1], inverse[9:12, 9:12], rtol=1e-4, atol=1e-10)


def test_levels_hold_stations_upright(random):
    poses, places = shop(random, 2, 6)
    poses[1] = Motion(Rotation.from_euler("z", 0.7).as_matrix(), poses[1].translation)
    noisy = seen(poses, places, random, 0.3, 0.3)
    level, free = adjust(noisy, levels={name: LevelSighting(UP, 1e-6) for name in ("S0", "S1")}), adjust(noisy)
    assert abs(level.pose("S1").rotation[2, 2] - 1) < 1e-10
    assert abs(free.pose("S1").rotation[2, 2] - 1) > 1e-10
    assert level.pose_covariances[1][3, 3] < 1e-10 < free.pose_covariances[1][3, 3]


def test_what_ties_nothing_is_refused_in_words(random):
    poses, places = shop(random, 2, 6)
    line = np.outer(np.linspace(0, 1, 5), [1000.0, 200, 50])
    few = [o for o in seen(poses, places) if o.station == "S0" or o.point in ("P0", "P1")]
    for observations, more, words in (
        (seen(poses, line), {}, "on one line"), (few, {}, r"share 2 points \(P0, P1\)"), ([], {}, "Nothing was seen"),
        (seen(poses, places), {"known_points": [KnownPoint("Q", np.zeros(3), 0.1)]}, "seen from no station"),
        (seen(poses, places), {"known_points": [KnownPoint("P0", np.zeros(3), 0.1)]}, "cannot say where"),
        (seen(poses, places), {"known_lengths": [KnownLength("P0", "P1", 5, 0.0)]}, "uncertainty above zero"),
        (seen(poses, places), {"free_scale": ["S9"]}, "no station S9"),
        ([Observation("S0", "P0", np.zeros(3), np.zeros((3, 3)))], {}, "or no uncertainty"),
    ):  # fmt: skip
        with pytest.raises(AlignmentError, match=words):
            adjust(observations, **more)


def test_a_poor_level_does_not_spoil_the_good_ones():
    """Levels of 3e-6, 3e-6 and 1e-3 rad over points that hardly hold a lean: regions hold the truth, whichever is first."""
    places = np.array([[0, 0, 0], [4000, 400, 20], [8000, -400, 10], [12000, 300, -20]], float)
    levels = [3e-6, 3e-6, 1e-3]
    for order in ((0, 1, 2), (2, 0, 1)):
        random, held, runs, u = np.random.default_rng(31), 0, 400, 0.0
        for _ in range(runs):
            poses, told = [Motion.identity()], {}
            leans = [Rotation.from_rotvec([*random.normal(0, levels[k], 2), 0]) for k in order]
            for k in range(3):
                about = Rotation.from_rotvec([0, 0, 0.8 * k])
                poses.append(Motion((leans[k] * about).as_matrix(), np.array([3000.0 * k, 500, 100])))
                told[f"S{k}"] = levels[order[k]]
            poses = [poses[1].inverse() @ pose for pose in poses[1:]]  # the first is the world
            spots = poses[0].points(places)
            found = adjust(seen(poses, spots, random, NOISE), levels={name: LevelSighting(UP, u) for name, u in told.items()})
            off = found.place("P3") - spots[3]
            at = found.points.index("P3")
            held += inside_region(off, found.point_covariances[at])
            u = float(np.sqrt(np.trace(found.point_covariances[at])))
        assert 0.92 < held / runs < 0.98, (order, held / runs)  # 400 runs: 95 % less or more 2.75 deviations
        assert u < 0.5


def test_the_first_station_is_the_world_whichever_sees_most(random):
    poses, places = shop(random, 3, 9)
    observations = seen(poses, places, random, 0.01)
    whole = adjust(observations)
    without = adjust([o for o in observations if (o.station, o.point) != ("S0", "P4")])
    for found in (whole, without):
        assert np.array_equal(found.pose("S0").rotation, np.eye(3))
        assert np.array_equal(found.pose("S0").translation, np.zeros(3))
    assert np.abs(whole.places - [without.place(n) for n in whole.points]).max() < 0.1
    other = adjust(observations[1:] + observations[:1], world="S0")
    assert np.allclose(other.place("P3"), whole.place("P3"), atol=1e-6)
