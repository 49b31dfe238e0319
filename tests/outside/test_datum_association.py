"""Datums laid from outside the material (ISO 5459:2011, annex A, from memory) against linear programmes and brute force.

- A primary plane outside all points whose greatest distance is the least: scipy.optimize.linprog.
- A secondary square to it: the least width over 200,001 directions in the plane, then the line that touches from outside.
- A tertiary: the farthest point. A bore: the largest circle that goes in, by a linear programme over its center.
"""

import numpy as np
import pytest
from block import KIT, TIP, UP, Bench
from scipy.optimize import linprog

from zipplumb.core.frames import Motion, perpendicular_pair
from zipplumb.core.sheet import Sheet, evaluate

HITS, WAVE_MM = 40, 0.05


def wavy(bench, point, normal, random):
    """A face that is not flat. Returns its row, and where it was touched."""
    point, normal = np.array(point, float), np.array(normal, float)
    u, v = perpendicular_pair(normal)
    spots = point + random.uniform(-100, 100, (HITS, 1)) * u + random.uniform(-25, 25, (HITS, 1)) * v
    spots += random.uniform(-WAVE_MM, WAVE_MM, (HITS, 1)) * normal
    nominal = {"shape": "plane", "point": tuple(point), "normal": tuple(normal)}
    return bench.add({"kind": "plane", "nominal": nominal}, spots + TIP * normal, normal), spots


def touching_plane(points):
    """The normal of the plane z = a x + b y + c over all points whose greatest distance is least."""
    ones, (x, y, z) = np.ones(len(points)), points.T
    over = np.column_stack([-x, -y, -ones, 0 * ones])  # z - plane <= 0
    near = np.column_stack([x, y, ones, -ones])  # plane - z <= t
    found = linprog([0, 0, 0, 1], A_ub=np.vstack([over, near]), b_ub=np.r_[-z, z], bounds=[(None, None)] * 3 + [(0, None)])
    a, b, _, _ = found.x
    return np.array([-a, -b, 1]) / np.linalg.norm([a, b, 1])


def least_width(points, along, near):
    """The direction square to ``along``, within 0.01 of ``near``, across which the points are the least wide."""
    side = np.cross(along, near)
    turns = np.linspace(-0.01, 0.01, 200_001)
    first, second = points @ near, points @ (side / np.linalg.norm(side))
    widths = np.array([np.ptp(first * np.cos(t) + second * np.sin(t)) for t in turns[::200]])
    best = turns[::200][widths.argmin()]
    fine = np.linspace(best - 3e-5, best + 3e-5, 4001)
    t = fine[np.argmin([np.ptp(first * np.cos(t) + second * np.sin(t)) for t in fine])]
    return np.cos(t) * near + np.sin(t) * side / np.linalg.norm(side)


def system_of(bench, datums):
    number = bench.add({"kind": "datum_features", "datums": datums})
    found = evaluate(Sheet(tuple(bench.rows), number), bench.readings, KIT)[0][number]
    assert found.state == "done", found.message
    return found.alignment


@pytest.mark.parametrize("seed", range(4))
def test_three_faces_are_laid_from_outside(seed):
    random = np.random.default_rng([5459, seed])
    bench = Bench(u_hit_mm=1e-5)
    (top, on_top), (side, on_side), (end, on_end) = (
        wavy(bench, *face, random) for face in (([0, 0, 60], UP), ([0, -140, 30], [0, -1, 0]), ([-250, 0, 30], [-1, 0, 0]))
    )
    alignment = system_of(bench, [{"features": [row], "laid": "outside"} for row in (top, side, end)])
    first = touching_plane(on_top)
    near = np.array([0, -1.0, 0]) + first[1] * first
    second = least_width(on_side, first, near / np.linalg.norm(near))
    third = np.cross(second, first)
    third = third * np.sign(third @ [-1, 0, 0])
    axes = np.column_stack([-third, -second, first])  # X, Y, Z of the part
    part_from_drawn = Motion(axes.T, np.zeros(3))
    heights = [(on_end @ third).max(), (on_side @ second).max(), (on_top @ first).max()]
    shift = np.array([-250 + heights[0], -140 + heights[1], 60 - heights[2]])
    wanted = Motion(part_from_drawn.rotation, shift)
    found = alignment.part_from_world @ bench.lies
    assert np.abs(found.rotation - wanted.rotation).max() < 2e-7
    assert np.abs(found.translation - wanted.translation).max() < 2e-5
    by_mean = system_of(bench, [{"features": [row]} for row in (top, side, end)]).part_from_world @ bench.lies
    assert np.abs(by_mean.translation - wanted.translation).max() > 0.01  # least squares is another


def test_a_bore_square_to_a_face_is_centered_by_what_goes_in():
    random = np.random.default_rng(2)
    bench = Bench(u_hit_mm=1e-5)
    top, on_top = wavy(bench, [0, 0, 60], UP, random)
    turn = np.linspace(0, 2 * np.pi, 36, endpoint=False)
    rim = np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
    depth = np.repeat([50.0, 30, 10], 12)
    radius = 20 + 0.04 * np.cos(3 * turn) + random.uniform(-0.02, 0.02, 36)
    wall = radius[:, None] * rim + depth[:, None] * UP
    nominal = {"shape": "cylinder", "point": (0, 0, 30), "direction": (0, 0, 1), "radius": 20.0}
    bore = bench.add({"kind": "cylinder", "nominal": nominal}, wall - TIP * rim, -0.3 * rim)
    end, _ = wavy(bench, [-250, 0, 30], [-1, 0, 0], random)
    datums = [{"features": [top], "laid": "outside"}, {"features": [bore], "laid": "outside"}, {"features": [end]}]
    found = system_of(bench, datums).part_from_world @ bench.lies
    first = touching_plane(on_top)
    u, v = perpendicular_pair(first)
    flat = np.column_stack([wall @ u, wall @ v])
    center = flat.mean(axis=0)
    for _ in range(20):  # the largest circle inside, by programmes that are exact where its center settles
        away = flat - center
        reach = np.linalg.norm(away, axis=1)
        step = linprog(
            [0, 0, -1],
            A_ub=np.column_stack([away / reach[:, None], np.ones(36)]),
            b_ub=reach,
            bounds=[(-0.1, 0.1)] * 2 + [(0, None)],
        ).x
        center = center + step[:2]
    axis = center[0] * u + center[1] * v
    at = found.points((axis + (60 - axis @ first) * first)[None])[0]
    assert np.abs(at[:2]).max() < 2e-5
    assert np.linalg.norm(wall[:, :2].mean(axis=0)) > 1e-3  # not where the mean is


def test_what_cannot_be_laid_from_outside_says_so():
    bench = Bench(u_hit_mm=1e-5)
    random = np.random.default_rng(3)
    top, _ = wavy(bench, [0, 0, 60], UP, random)
    lean, _ = wavy(bench, [0, -140, 30], np.array([0, -1, 0.2]) / np.hypot(1, 0.2), random)
    nest = bench.point([10, 20, 60])
    for last, words in ((lean, "right angles"), (nest, "no surface to be laid on")):
        number = bench.add({"kind": "datum_features", "datums": [{"features": [r], "laid": "outside"} for r in (top, last)]})
        found = evaluate(Sheet(tuple(bench.rows), number), bench.readings, KIT)[0][number]
        assert found.state == "failed" and words in found.message and found.message.count("kept") == 1
