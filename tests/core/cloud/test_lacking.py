"""What light has seen of faces: of a bore and a plate whose places are known."""

import numpy as np
import pytest

from zipplumb.core.cloud.lacking import Coverage

UP = np.array([0, 0, 1.0])


@pytest.fixture
def coverage():
    """A plate (face 1) of 100 places, 10 mm apart, and the wall of a bore (face 2), four times 24 facing its middle."""
    x, y = np.meshgrid(np.arange(10) * 10.0, np.arange(10) * 10.0)
    plate = np.column_stack([x.ravel(), y.ravel(), 0 * x.ravel()])
    turn = np.tile(np.arange(24) * 2 * np.pi / 24, 4)
    out = np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
    deep = np.repeat([-5.0, -15, -25, -35], 24)
    wall = [200, 0, 0] + 30 * out + deep[:, None] * UP
    return Coverage(
        np.vstack([plate, wall]), np.vstack([np.tile(UP, (100, 1)), -out]), np.repeat([1, 2], [100, 96]),
        np.repeat([7.5, 4.0], [100, 96]),
    )  # fmt: skip


def lit(coverage, spots, way, times=3, off=0.0, of_pass=0):
    points = np.repeat(coverage.spots[spots] + off * coverage.outward[spots], times, axis=0)
    coverage.take(points, np.tile(np.array(way) / np.linalg.norm(way), (len(points), 1)), of_pass)


def test_the_share_that_is_seen_and_the_side_that_is_lacking(coverage):
    lit(coverage, np.arange(30), (0, 0, -1))
    lit(coverage, 100 + np.flatnonzero(coverage.outward[100:, 0] > 0.1), (-1, 0, -0.5))  # of the wall what faces +X
    wall, plate = sorted(coverage.of_faces(), key=lambda each: -each.face)
    assert (plate.share, plate.enough) == (pytest.approx(0.3), False)
    assert plate.toward is None  # light has only to pass over the rest
    assert wall.share == pytest.approx(9 / 24)  # of those the outermost two are met too steeply
    assert wall.toward[0] < -0.9  # light from −X would meet the rest
    assert coverage.of_faces()[0] is not wall and coverage.of_faces()[0].face == 1  # the worst first


def test_a_bend_has_enough_where_some_of_each_way_that_it_faces_is_seen(coverage):
    for k in range(100, 124):  # its upper part, as from above
        lit(coverage, [k], -coverage.outward[k] - UP)
    wall = next(each for each in coverage.of_faces() if each.face == 2)
    assert wall.share == pytest.approx(1 / 4) and wall.enough and wall.toward is None
    lit(coverage, np.arange(40), (0, 0, -1))
    plate = next(each for each in coverage.of_faces() if each.face == 1)
    assert plate.share == pytest.approx(0.4) and not plate.enough


def test_where_sides_across_from_each_other_are_lacking_one_of_them_is_told(coverage):
    for k in 100 + np.flatnonzero(np.abs(coverage.outward[100:, 0]) < 0.5):
        lit(coverage, [k], -coverage.outward[k])
    wall = next(each for each in coverage.of_faces() if each.face == 2)
    assert not wall.enough
    assert abs(wall.toward[0]) > 0.6


def test_what_is_too_steep_too_few_too_far_off_or_from_behind_is_not_seen(coverage):
    some = np.arange(20)
    lit(coverage, some, (1, 0, -0.3))  # 73° from square
    assert coverage.of_faces()[1 if coverage.of_faces()[0].face == 2 else 0].steep == pytest.approx(0.2)
    lit(coverage, some, (0, 0, -1), times=2)
    lit(coverage, some, (0, 0, -1), off=1.5)
    lit(coverage, some, (0, 0, 1))
    assert not coverage.seen.any()
    lit(coverage, some, (0, 0, -1), times=1)
    assert coverage.seen.sum() == 20
    Coverage(np.empty((0, 3)), np.empty((0, 3)), np.empty(0, int), np.empty(0)).take(np.zeros((1, 3)), UP[None])


def test_one_pass_only_and_two_that_lie_apart_are_told(coverage):
    plate = lambda: next(each for each in coverage.of_faces() if each.face == 1)  # noqa: E731
    some = np.arange(60)
    lit(coverage, some, (0, 0, -1), of_pass=4)
    assert plate().once and plate().apart_mm == 0
    lit(coverage, some[:30], (0, 0, -1), off=0.01, of_pass=9)
    assert not plate().once
    lit(coverage, some[:40], (0, 0, -1), off=-0.08, of_pass=12)
    lit(coverage, some[50:], (0, 0, -1), of_pass=15)  # then that pass is over
    assert plate().apart_mm == pytest.approx(0.085, abs=0.006)  # off the mean of those before, by the median of all places
    assert next(each for each in coverage.of_faces() if each.face == 2).apart_mm == 0


def test_what_too_few_points_met_is_thin(coverage):
    lit(coverage, np.arange(50), (0, 0, -1), times=2)
    assert coverage.of_faces()[0].share == 0
    assert next(each for each in coverage.of_faces() if each.face == 1).thin == pytest.approx(0.5)
