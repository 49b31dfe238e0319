"""Where runs of light end: on plain bodies whose places are known, seen by a fan of rays worked out here."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from zipplumb.core.cloud.edges import Edges, edges_of
from zipplumb.core.cloud.light import Chunk
from zipplumb.core.frames import Motion
from zipplumb.core.stripes import packed

FAN = np.linspace(-0.3, 0.3, 512)
HIGH, STEP = 100.0, 100 * 0.6 / 511
THIN = 0.01
DOWN = np.diag([1.0, -1.0, -1.0])
HERE = Motion.identity()


def chunk(profile, count=200, noise=0.02, lost=0.0, seed=3):
    """Lines of light straight down on a profile: x -> height (NaN: nothing). Where the scanner stands along x is random."""
    random, lines, poses = np.random.default_rng(seed), [], []
    quaternion = Rotation.from_matrix(DOWN).as_quat(scalar_first=True)
    coarse = np.arange(40, 140, 0.25)
    for _ in range(count):
        at = random.uniform(-1, 1)

        def above(away, at=at):
            return HIGH - away - profile(at + away * np.tan(FAN)[:, None])

        below = above(coarse[None]) <= 0  # a ray ends where it goes through, and not where it passes beside
        first = np.argmax(below, axis=1)
        low, high = coarse[np.maximum(first - 1, 0)][:, None], coarse[first][:, None]
        for _ in range(20):
            middle = (low + high) / 2
            under = above(middle) <= 0
            low, high = np.where(under, low, middle), np.where(under, middle, high)
        through = below.any(axis=1) & (np.abs(above(high)[:, 0]) < THIN)
        seen = through & (random.random(512) >= lost)
        z = high[:, 0] + noise * random.normal(size=512)
        line = np.column_stack([z * np.tan(FAN), z, np.ones(512)]).astype(np.float32)
        line[~seen] = np.nan
        lines.append(line)
        poses.append([at, 0, HIGH, *quaternion])
    data, counts = packed(lines)
    return Chunk(np.array(poses), data, counts, np.zeros(count, bool), 1, 1)


def near(edges, low, high, z=None):
    some = (edges.points[:, 0] > low) & (edges.points[:, 0] < high)
    return edges.of(some if z is None else some & (np.abs(edges.points[:, 2] - z) < 0.2))


def test_light_ends_half_a_step_after_the_last_sample_on_either_side_of_a_gap():
    edges = edges_of(chunk(lambda x: np.where(np.abs(x) < 4, np.nan, 0.0)), HERE, HERE)
    for low, high, place, way in ((-6, -2, -4.0, -1.0), (2, 6, 4.0, 1.0)):
        found = near(edges, low, high)
        assert len(found) == 200
        assert found.points[:, 0].mean() == pytest.approx(place, abs=4 * STEP / np.sqrt(12 * 200))
        assert found.points[:, 0].std() == pytest.approx(STEP / np.sqrt(12), rel=0.25)  # anywhere between two samples, alike
        assert np.allclose(found.inward[:, 0], way, atol=0.01)
    assert len(edges) == 400  # where the fan itself ends is no edge


def test_a_bend_lies_where_both_runs_meet_and_what_follows_is_told():
    edges = near(edges_of(chunk(lambda x: np.minimum(0.0, -x)), HERE, HERE), -2, 2)
    assert len(edges) == 400  # of both runs
    assert np.abs(edges.points[:, [0, 2]].mean(axis=0)).max() < 0.01
    assert edges.points[:, 0].std() < 0.05
    flat = edges.of(np.abs(edges.inward[:, 2]) < 0.1)
    assert len(flat) == 200 and (flat.after[:, 2] < -0.1).mean() > 0.9


def test_a_step_up_is_followed_by_what_stands_above():
    edges = edges_of(chunk(lambda x: np.where(x > 0, 20.0, 0.0)), HERE, HERE)
    upper = near(edges, -1, 1, 20.0)
    assert upper.points[:, 0].mean() == pytest.approx(0.0, abs=0.03)
    lower = near(edges, -2, 1, 0.0)
    assert (lower.after[:, 2] > 15).mean() > 0.95


@pytest.mark.parametrize("lost", [0.3, 0.6])
def test_samples_lost_at_random_make_no_edges_and_move_none(lost):
    """A dull surface: the last sample that came back lies farther from the edge, by what is lost in the mean."""
    edges = edges_of(chunk(lambda x: np.where(x > 0, np.nan, 0.0), noise=0.06, lost=lost, count=400), HERE, HERE)
    there = near(edges, -2, 2)
    assert there.points[:, 0].mean() == pytest.approx(0.0, abs=0.06)
    assert len(edges) - len(there) < 0.5 * 400  # of some 80,000 samples


def test_a_plane_and_a_gentle_bow_have_no_edges():
    for profile in (lambda x: 0.1 * x, lambda x: -(x**2) / 400):
        assert len(edges_of(chunk(profile, count=50), HERE, HERE)) == 0


def test_what_is_set_aside_what_is_short_and_nothing_at_all_give_no_edges():
    whole = chunk(lambda x: np.where(np.abs(x) < 4, np.nan, 0.0), count=3)
    aside = Chunk(whole.poses, whole.points, whole.counts, np.ones(3, bool), 1, 1)
    few = packed([np.array([[0, 100, 1]] * 5, np.float32), np.empty((0, 3), np.float32)])
    short = Chunk(whole.poses[:2], *few, np.zeros(2, bool), 1, 1)
    none = Chunk(np.empty((0, 7)), b"", (), np.zeros(0, bool), 1, 1)
    assert [len(edges_of(each, HERE, HERE)) for each in (aside, short, none)] == [0, 0, 0]
    assert len(Edges.together([])) == 0
