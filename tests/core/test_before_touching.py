"""Before anything is touched: what places on surfaces would hold, which holds a shape may give; and why points do not fit."""

import re

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from zipplumb.core.alignment.causes import likely_cause
from zipplumb.core.alignment.hold import may_hold
from zipplumb.core.alignment.picks import better_place, ledger_of_places, ranks_of_places
from zipplumb.core.alignment.touches import Pose, Touches, linearised
from zipplumb.core.frames import Motion
from zipplumb.core.shapes import Circle, Cylinder, Plane, Point, Sphere

X, Y, Z = np.eye(3)
BOX = np.array([[0, 0, 50], [200, 0, 50], [0, 100, 50], [20, -60, 10], [180, -60, 10], [-40, 20, 10.0]])
FACES = np.array([Z, Z, Z, -Y, -Y, -X])


def rank_of(points, normals):
    """The rank of a numerical Jacobian of its own: distances along the normals under small motions."""
    size, columns = 1e-4, []
    for k in range(6):
        motion = np.zeros(6)
        motion[k] = size
        turn = Rotation.from_rotvec(motion[3:] / 100).as_matrix()
        moved = points @ turn.T + motion[:3]
        columns.append(np.einsum("ij,ij->i", moved - points, normals) / size)
    return int(np.linalg.matrix_rank(np.array(columns).T, tol=1e-5))


def test_three_two_one_holds_six_and_proves_nothing():
    """Practice: three on one face, two on another, one on a third are the least (CHECKS.md)."""
    assert ranks_of_places(BOX, FACES) == [1, 2, 3, 4, 5, 6]
    ledger = ledger_of_places(BOX, FACES, "abcdef")
    assert (ledger.rank, ledger.spare, ledger.loose) == (6, 0, ())
    assert [f.grip for f in ledger.freedoms] == ["firm"] * 6
    assert "prove nothing" in ledger.verdict


def test_a_fourth_place_on_one_plane_adds_nothing():
    points = np.vstack([BOX[:3], [150, 80, 50]])
    assert ranks_of_places(points, FACES[[0, 0, 0, 0]]) == [1, 2, 3, 3]


@pytest.mark.parametrize("seed", range(40))
def test_ranks_are_those_of_a_jacobian_of_its_own(seed):
    random = np.random.default_rng(seed)
    count = int(random.integers(1, 9))
    points = random.uniform(-200, 200, (count, 3))
    normals = np.eye(3)[random.integers(0, 3, count)] * random.choice([-1.0, 1.0], (count, 1))
    assert ranks_of_places(points, normals)[-1] == rank_of(points, normals)


@pytest.mark.parametrize("seed", range(20))
def test_the_better_place_leaves_least_unknown(seed):
    """Beside six that hold: of all offered, the one that makes the determinant of the covariance least, tried one by one."""
    random = np.random.default_rng(seed)
    spots = random.uniform(-200, 200, (50, 3))
    outward = random.normal(size=(50, 3))
    outward /= np.linalg.norm(outward, axis=1)[:, None]
    ones = np.ones(len(BOX) + 50)
    every = np.vstack([BOX, spots])
    jacobian = linearised(
        Touches(every, every, np.vstack([FACES, outward]), ones, ones.astype(int), ones.astype(int)), Pose(Motion.identity())
    ).jacobian

    def known(k):
        rows = np.vstack([jacobian[:6], jacobian[6 + k]])
        return np.linalg.slogdet(rows.T @ rows)[1]

    assert better_place(BOX, FACES, spots, outward) == max(range(50), key=known)


def test_where_something_is_loose_the_better_place_holds_it():
    points, normals = BOX[:5], FACES[:5]
    spots, outward = np.array([[50, 50, 50], [60, -60, 20], [-40, 0, 0.0]]), np.array([Z, -Y, -X])
    assert better_place(points, normals, spots, outward) == 2


def test_each_shape_holds_where_it_can():
    assert may_hold(Plane(np.zeros(3), Z)) == ("Z", "own")
    assert may_hold(Plane(np.zeros(3), np.array([1.0, 1, 0]) / np.sqrt(2))) == ("X", "Y", "own")
    assert may_hold(Cylinder(np.zeros(3), Z, 5.0)) == ("X", "Y", "own")
    assert may_hold(Circle(np.zeros(3), Z, 5.0)) == ("X", "Y", "Z", "own")
    assert may_hold(Point(np.zeros(3))) == may_hold(Sphere(np.zeros(3), 5.0)) == ("X", "Y", "Z")
    assert may_hold(None) == ()


# ---- why known points do not fit ---------------------------------------------------------------

NAMES = tuple(f"N{k}" for k in range(1, 7))
PLACES = np.array([[0, 0, 0], [900, 30, 10], [870, 600, 0], [20, 640, 130], [400, 300, 250], [610, 90, 60.0]])
POSE = Motion(Rotation.from_rotvec([0.3, -1.1, 2.0]).as_matrix(), np.array([500.0, -200, 90]))


def seen(random, places=PLACES):
    return POSE.points(places) + random.normal(0, 0.01, places.shape)


def test_points_that_fit_have_no_cause(random):
    assert likely_cause(NAMES, PLACES, seen(random), 0.02) == ""


@pytest.mark.parametrize(("one", "other"), [(0, 1), (1, 2), (3, 5)])
def test_two_that_were_exchanged_are_named(random, one, other):
    actual = seen(random)
    actual[[one, other]] = actual[[other, one]]
    assert likely_cause(NAMES, PLACES, actual, 0.02).startswith(f"{NAMES[one]} and {NAMES[other]} fit if they are exchanged")


def test_a_list_from_its_end_another_unit_a_mirror_image_and_one_that_moved(random):
    assert "opposite order" in likely_cause(NAMES, PLACES, seen(random)[::-1], 0.02)
    assert "inches read as mm" in likely_cause(NAMES, PLACES / 25.4, seen(random), 0.02)
    assert "mm read as inches" in likely_cause(NAMES, PLACES * 25.4, seen(random), 0.02)
    assert "mirror image" in likely_cause(NAMES, PLACES * [1, -1, 1], seen(random), 0.02)
    moved = seen(random)
    moved[2] += [0, 0, 3.0]
    words = likely_cause(NAMES, PLACES, moved, 0.02)
    assert re.match(r"All but N3 fit; it lies (2\.9[5-9]|3\.0[0-5])", words)


def test_what_nothing_simple_explains_is_not_explained(random):
    assert likely_cause(NAMES, PLACES, seen(random) + random.normal(0, 5.0, PLACES.shape), 0.02) == ""


def test_points_that_are_flat_are_no_mirror_image(random):
    flat = PLACES * [1, 1, 0]
    assert likely_cause(NAMES, flat, seen(random, flat * [1, -1, 1]), 0.02) == ""  # turned over they fit
