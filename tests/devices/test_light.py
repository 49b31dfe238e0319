"""The stand-in's line scanner on plain bodies, whose places are known."""

import numpy as np
import pytest

from zipplumb.core.frames import Motion
from zipplumb.core.stripes import is_light, stripe_of_bytes
from zipplumb.demo.carrier_real import BENCH
from zipplumb.demo.real_mesh import near_the_surface
from zipplumb.devices.sim.bench import Bench
from zipplumb.devices.sim.light import JUMP_MM, NOISE_MM, LineScanner, Lit
from zipplumb.devices.sim.real_part import RealFace
from zipplumb.devices.sim.stand import Stand

SCANNER, HERE = LineScanner(), Stand(Motion.identity())
DOWN = np.diag([1.0, -1.0, -1.0])  # its light goes down, its line lies along X


def slab(x0, x1, top, y=200.0):
    """Two triangles of a level plane."""
    corners = np.array([[x0, -y, top], [x1, -y, top], [x1, y, top], [x0, y, top]], float)
    return corners[[[0, 1, 2], [0, 2, 3]]]


def lit(*slabs, dull=False):
    triangles = np.concatenate(slabs)
    return Lit(triangles, np.full(len(triangles), dull), None)


def lines(what, height, rotation=DOWN, count=60, x=0.0):
    random = np.random.default_rng(4)
    return [SCANNER.line(what, Motion(rotation, np.array([x, 0.0, height])), random) for _ in range(count)]


def test_a_level_plane_is_seen_with_the_stated_noise_over_the_stated_width():
    seen = lines(lit(slab(-300, 300, 0.0)), 110.0)
    points = np.concatenate(seen)
    assert all(len(line) == SCANNER.points for line in seen)
    assert points[:, 1].mean() == pytest.approx(110.0, abs=0.002)
    middle = np.abs(points[:, 0]) < 5
    assert points[middle, 1].std() == pytest.approx(NOISE_MM, rel=0.1)
    assert np.ptp(points[:, 0]) == pytest.approx(SCANNER.width_mm, abs=0.5)
    assert np.ptp(points[middle, 2]) < 0.01 and points[middle, 2].mean() > 0.99


@pytest.mark.parametrize("height", [60.0, 160.0])
def test_nothing_comes_back_out_of_its_range(height):
    assert all(len(line) == 0 for line in lines(lit(slab(-300, 300, 0.0)), height))


def test_slanted_light_is_noisier_and_darker_and_beyond_75_degrees_gone():
    def turned(degrees):
        a = np.radians(degrees)
        lean = np.array([[1, 0, 0], [0, np.cos(a), -np.sin(a)], [0, np.sin(a), np.cos(a)]]) @ DOWN
        return np.concatenate(lines(lit(slab(-300, 300, 0.0, 900.0)), 110 * np.cos(a), lean))

    steep = turned(60)
    middle = np.abs(steep[:, 0]) < 5
    assert steep[middle, 1].std() == pytest.approx(2 * NOISE_MM, rel=0.15)
    assert steep[middle, 2].mean() == pytest.approx(0.5, abs=0.02)
    assert len(turned(78)) == 0


def test_a_gap_is_one_point_of_nan_and_an_edge_gives_mixed_points():
    """Two slabs with air between; then a step of 20 mm, at which some points lie between both."""
    for line in lines(lit(slab(-300, -5, 0.0), slab(5, 300, 0.0)), 110.0):
        gaps = np.flatnonzero(~is_light(line))
        assert len(gaps) == 1 and np.isnan(line[gaps[0]]).all()
        assert line[gaps[0] - 1, 0] < -4.5 and line[gaps[0] + 1, 0] > 4.5
        np.testing.assert_array_equal(stripe_of_bytes(line.tobytes()), line)  # as the protocol has it
    points = np.concatenate(lines(lit(slab(-300, 0, 0.0), slab(0, 300, 20.0)), 120.0))
    points = points[is_light(points)]
    between = (points[:, 1] > 100 + JUMP_MM) & (points[:, 1] < 120 - JUMP_MM)
    assert 10 < between.sum() < 60


def test_a_dull_place_gives_back_little():
    bright, dull = (np.concatenate(lines(lit(slab(-300, 300, 0.0), dull=d), 110.0)) for d in (False, True))
    real = dull[is_light(dull)]
    assert len(real) < 0.5 * len(bright)
    assert real[:, 2].max() < 0.2
    assert real[:, 1].std() > 2 * NOISE_MM


def test_the_sphere_on_the_bench_is_met_before_what_lies_behind_it_and_the_table_is_there():
    bench = Bench(**BENCH)
    center = np.array(bench.sphere)
    part = slab(center[0] - 100, center[0] + 100, center[2] - 30) + [0, center[1], 0]
    seen = Lit.of(part, HERE, bench)
    line = SCANNER.line(seen, Motion(DOWN, center + [0, 0, 100]), np.random.default_rng(1))
    top = line[is_light(line)][:, 1].min()
    assert top == pytest.approx(100 - bench.sphere_mm / 2, abs=0.1)
    beside = SCANNER.line(seen, Motion(DOWN, center + [200, 0, 70]), np.random.default_rng(1))
    assert np.nanmean(beside[:, 1]) == pytest.approx(100.0, abs=0.05)  # the table, at the foot of the part


@pytest.mark.parametrize("radius, inside", [(6.5, True), (80.0, True), (130.0, False)])
def test_what_bends_is_told_by_triangles_that_lie_on_it(radius, inside):
    """Of a wall drawn by chords of a quarter turn, whose middles lie 0.3 of the radius inside."""
    quarter = np.arange(5) * np.pi / 2
    rim = radius * np.column_stack([np.cos(quarter), np.sin(quarter), 0 * quarter])
    low, high = rim, rim + [0, 0, 60.0]
    walls = [[low[k], low[k + 1], high[k]] for k in range(4)] + [[low[k + 1], high[k + 1], high[k]] for k in range(4)]
    raw = {"index": 0, "kind": "cylinder", "point": [0, 0, 0], "axis": [0, 0, 1], "radius": radius, "inside": inside}
    face = RealFace.from_dict({**raw, "spots": [], "outward": []})
    fine = near_the_surface(face, np.reshape(walls, (-1, 3)), np.arange(24).reshape(-1, 3))
    assert len(fine) < 20_000
    middles = np.concatenate([fine.mean(axis=1), *((fine + np.roll(fine, -1, axis=1)) / 2).transpose(1, 0, 2)])
    assert np.abs(np.linalg.norm(middles[:, :2], axis=1) - radius).max() < 0.01
    flat = np.cross(fine[:, 1] - fine[:, 0], fine[:, 2] - fine[:, 0])
    assert np.linalg.norm(flat, axis=1).sum() / 2 == pytest.approx(2 * np.pi * radius * 60, rel=1e-3)
