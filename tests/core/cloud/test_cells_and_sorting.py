"""Cells of a cloud and whose points they are, on bodies whose places are known."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from zipplumb.core.cloud.cells import cells_of, together
from zipplumb.core.cloud.cutting import left_by
from zipplumb.core.cloud.light import Chunk, Seen, seen
from zipplumb.core.cloud.sorting import Rule, sorted_out
from zipplumb.core.cloud.working import CloudWork, SortingWork
from zipplumb.core.errors import InputError
from zipplumb.core.frames import Motion
from zipplumb.core.kernels import spreads, thinnest
from zipplumb.core.sheet.kinds.scan import Region, Side
from zipplumb.core.stripes import packed

RANDOM = np.random.default_rng(3)


def cloud(points, ways=(0, 0, -1.0)):
    n = len(points)
    return Seen(np.asarray(points, float), np.tile(ways, (n, 1)).astype(float), np.ones(n), np.arange(n) // 100)


def plane(n=20_000, normal=(0.2, -0.1, 1.0), noise=0.02):
    normal = np.array(normal) / np.linalg.norm(normal)
    points = np.column_stack([RANDOM.uniform(-20, 20, (n, 2)), np.zeros(n)])
    points[:, 2] = -(points[:, :2] @ normal[:2]) / normal[2]
    return points + noise * RANDOM.normal(size=(n, 1)) * normal, normal


def test_a_cell_has_a_point_that_was_seen_and_a_normal_toward_the_scanner():
    points, normal = plane()
    cells = cells_of(cloud(points), 2.0)
    assert cells.counts.sum() == len(points)
    assert np.isin(cells.points.round(9), points.round(9)).all()
    normals, scatter = cells.normals()
    many = cells.counts > 30
    assert np.degrees(np.arccos(normals[many] @ normal)).max() < 5
    assert np.median(scatter[many]) == pytest.approx(0.02, rel=0.1)


def test_what_comes_in_parts_is_what_comes_at_once(monkeypatch):
    points, _ = plane(5000)
    whole = cells_of(cloud(points), 1.5)
    for together_at in (10, 10_000_000):
        monkeypatch.setattr("zipplumb.core.cloud.cells.TOGETHER", together_at)
        parts = together(cells_of(cloud(some), 1.5) for some in np.array_split(points, 17))
        for name in ("keys", "points", "counts", "sums", "squares", "ways"):
            np.testing.assert_allclose(getattr(parts, name), getattr(whole, name), atol=1e-9, err_msg=name)


def test_a_bore_is_told_by_its_own_points_not_by_means_that_lie_inside_of_it():
    """A mean of points along a chord of length s lies s²/(24 r) inside a circle of radius r."""
    angle = RANDOM.uniform(0, 2 * np.pi, 60_000)
    bore = np.column_stack([4 * np.cos(angle), 4 * np.sin(angle), RANDOM.uniform(0, 9, len(angle))])
    cells = cells_of(cloud(bore), 1.0)
    assert np.abs(np.linalg.norm(cells.points[:, :2], axis=1) - 4).max() < 1e-9
    mean = cells.points + cells.sums / cells.counts[:, None]
    assert 4 - np.linalg.norm(mean[:, :2], axis=1).mean() > 0.005


def test_light_stands_in_the_world_by_pose_station_and_calibration():
    axis, station = Motion.from_quaternion([1, 0.2, 0, 0.1], [3, 60, 90]), Motion.from_quaternion([0.7, 0, 0.7, 0], [1, 2, 3])
    pose = Motion.from_quaternion([0.5, 0.5, -0.5, 0.5], [100, 200, 300])
    line = np.array([[-5, 100, 0.9], [np.nan] * 3, [5, 101, np.nan], [6, 102, 0.2]], np.float32)
    points, counts = packed([line, line[:1]])
    poses = np.tile([*pose.translation, *Rotation.from_matrix(pose.rotation).as_quat(scalar_first=True)], (2, 1))
    found = seen(Chunk(poses, points, counts, np.array([False, True]), 1, 1, first=7), axis, station)
    local = np.array([[-5, 0, 100], [5, 0, 101], [6, 0, 102.0]])
    np.testing.assert_allclose(found.points, (station @ pose @ axis).points(local), atol=1e-5)
    assert found.lines.tolist() == [7, 7, 7]
    origin = (station @ pose @ axis).translation
    np.testing.assert_allclose(np.cross(found.ways, found.points - origin), 0, atol=1e-9)


def faces(points, margin_mm):
    """A level plane z = 0 (face 0) for x < 0, a wall x = 0 that faces −x (face 1), edges where they meet."""
    points = np.asarray(points, float)
    floor = points[:, 2] < -points[:, 0]
    feet = np.where(floor[:, None], points * [1, 1, 0], points * [0, 1, 1])
    normals = np.where(floor[:, None], [0, 0, 1.0], [-1.0, 0, 0])
    return feet, normals, np.where(floor, 0, 1), np.hypot(feet[:, 0], feet[:, 2]) < margin_mm


def test_points_go_to_one_face_each_whoever_measures_it_and_neither_edges_nor_what_lies_off_or_faces_elsewhere():
    points = np.array([[-9, 0, 0.01], [-0.5, 0, 0.0], [-9, 1, 1.5], [-8, 0, 0.0], [-0.01, 0, 9], [-7, 2, 0.02], [-6, 2, 0]])
    normals = np.array([[0, 0, 1.0]] * 3 + [[0, 1, 0]] + [[-1.0, 0, 0]] + [[0, 0, 1.0], [np.nan] * 3])
    found = sorted_out(points, normals, faces, {11: 0, 12: 1, 13: 0}, Rule())
    assert {row: mine.tolist() for row, mine in found.items()} == {11: [0, 5], 12: [4], 13: [0, 5]}
    assert sorted_out(points, normals, faces, {12: 1}, Rule())[12].tolist() == [4]


def test_what_lies_off_the_others_is_left_out_by_a_robust_scale():
    """A chip on a face that lies 0.3 mm off its nominal: the face is kept, the chip is not."""
    n = 1000
    points = np.column_stack([RANDOM.uniform(-90, -10, n), RANDOM.uniform(0, 50, n), 0.3 + 0.02 * RANDOM.normal(size=n)])
    points[:40, 2] += 0.4
    kept = sorted_out(points, np.tile([0, 0, 1.0], (n, 1)), faces, {1: 0}, Rule())[1]
    assert not np.isin(np.arange(40), kept).any()
    assert len(kept) > 0.97 * (n - 40)


def work(points, **more):
    """Of points told as one long line of light that comes straight down."""
    lines = [np.column_stack([[x, 300 - z, 1.0]]).T.astype(np.float32) for x, _, z in points]
    poses = np.array([[0, y, 300.0, 0, 1, 0, 0] for _, y, _ in points])
    data, counts = packed(lines)
    chunk = Chunk(poses, data, counts, np.zeros(len(points), bool), 1, 1)
    still = Motion.identity()
    return CloudWork({1: still}, {1: still}, **more).run([chunk], 1)


def test_a_scan_is_cut_and_given_to_rows():
    x, y = (a.ravel() for a in np.meshgrid(np.arange(-40, -2, 0.4), np.arange(0, 20, 0.4)))
    top = np.column_stack([x, y, 0 * x])
    table = np.column_stack([x, y - 30, 0 * x - 25])
    cut = Region(sides=(Side(point=(0, 0, -20), normal=(0, 0, 2)),))
    found = work(np.vstack([top, table]), cuts=(cut,))
    assert (found.read, found.kept) == (2 * len(top), len(top))
    given = SortingWork(Motion.identity(), {5: 0, 6: 1}).run(found.points, faces)
    assert given[6].points.shape == (0, 3)
    assert 300 < len(given[5].lines) <= found.cells
    np.testing.assert_allclose(given[5].points[:, 2], 0, atol=1e-4)
    assert found.points.drawn(Motion.identity()).shape == (found.cells, 5)
    with pytest.raises(InputError, match="Nothing is left"):
        work(table, cuts=(cut,))


def test_before_is_on_the_side_of_every_normal():
    cuts = [Region(sides=(Side(point=p, normal=n),)) for p, n in (((0, 0, 1), (0, 0, 5)), ((2, 0, 0), (-1, 0, 0)))]
    places = np.array([[0, 0, 2.0], [0, 0, 0.5], [3, 0, 2]])
    assert left_by(places, cuts).tolist() == [True, False, False]
    both = Region(sides=tuple(side for cut in cuts for side in cut.sides))  # what lies behind both
    assert left_by(places, [both]).tolist() == [True, True, True]
    assert left_by(np.array([[3, 0, 0.5], [0, 0, 0]]), [both, both.model_copy(update={"keeps": True})]).tolist() == [
        False,
        False,
    ]
    assert left_by(np.array([[3, 0, 0.5], [0, 0, 0]]), [both]).tolist() == [False, True]


def test_the_thinnest_directions_are_those_of_numpy(random):
    """Outside: numpy.linalg.eigh (LAPACK), and numpy.cov."""
    points = random.normal(0, 1, (500, 3)) * [5.0, 1.0, 0.02]
    near = random.integers(0, 500, (200, 24))
    spread = spreads(points, near)
    assert np.allclose(spread, [np.cov(points[some].T, bias=True) for some in near])
    ways, values = thinnest(spread)
    theirs, vectors = np.linalg.eigh(spread)
    assert np.allclose(values, theirs, rtol=1e-9)
    assert np.allclose(np.abs(np.einsum("ij,ij->i", ways, vectors[:, :, 0])), 1.0)
