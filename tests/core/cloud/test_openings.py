"""Holes and slots of a face from edges, made here by what circles and slots are."""

import numpy as np
import pytest

from zipplumb.core.cloud.edges import Edges
from zipplumb.core.cloud.faces import facing, flattest
from zipplumb.core.cloud.openings import openings
from zipplumb.core.cloud.outlines import given, near_outline
from zipplumb.core.frames import Motion
from zipplumb.core.shapes import Circle, Plane, Slot

PLACED = Motion.from_quaternion([0.8, 0.3, -0.2, 0.4], [310.0, -120.0, 55.0])
FACE = Plane(PLACED.points(np.zeros((1, 3)))[0], PLACED.vectors(np.array([[0, 0, 1.0]]))[0])
RISING = np.array([0, 0, 5.0])


def rim(outline, every_mm=0.8, noise=0.04, out=1.0, after=(0, 0, -10.0), random=None):
    """Edges round a closed line (n, 2): light along X or Y, whichever crosses it more."""
    random = random or np.random.default_rng(1)
    line = np.column_stack([outline, np.zeros(len(outline))])
    steps = np.linalg.norm(np.diff(np.vstack([line, line[:1]]), axis=0), axis=1)
    at = np.arange(0, steps.sum(), every_mm)
    k = np.minimum(np.searchsorted(np.cumsum(steps), at), len(line) - 1)
    points = line[k]
    away = points - points.mean(axis=0)
    along = np.where(np.abs(away[:, :1]) > np.abs(away[:, 1:2]), [[1.0, 0, 0]], [[0, 1.0, 0]])
    inward = out * along * np.sign(np.sum(along * away, axis=1))[:, None]
    points = points + noise * random.normal(size=points.shape) * [1, 1, 0.5]
    count = len(points)
    ways = np.tile([0, 0, -1.0], (count, 1))
    return Edges(
        PLACED.points(points), PLACED.vectors(inward), PLACED.vectors(ways), PLACED.vectors(np.tile(after, (count, 1))),
        np.full(count, 0.14), np.arange(count),
    )  # fmt: skip


def circle(x, y, radius):
    turn = np.linspace(0, 2 * np.pi, 2000, endpoint=False)
    return np.column_stack([x + radius * np.cos(turn), y + radius * np.sin(turn)])


def slot(x, y, length, width):
    turn = np.linspace(-np.pi / 2, np.pi / 2, 700)
    half = (length - width) / 2
    right = np.column_stack([half + width / 2 * np.cos(turn), width / 2 * np.sin(turn)])
    sides = np.linspace(half, -half, 800)[:, None]
    upper = np.column_stack([sides, np.full_like(sides, width / 2)])
    return np.vstack([right, upper, -right, -upper]) + [x, y]


def box(x, y, long, wide):
    across, up = np.linspace(-long / 2, long / 2, 800)[:, None], np.linspace(-wide / 2, wide / 2, 500)[:, None]
    lower = np.column_stack([across, np.full_like(across, -wide / 2)])
    right = np.column_stack([np.full_like(up, long / 2), up])
    return np.vstack([lower, right, -lower, -right]) + [x, y]


HOLES = [(30 * np.cos(t), 30 * np.sin(t), 5.0) for t in np.arange(6) * np.pi / 3]


def plate():
    """Six holes on a circle, one larger, two slots; and what is none: its own outline, a boss, an ellipse."""
    ellipse = circle(0, 0, 1.0) * [25, 15] + [-80, 40]
    return Edges.together(
        [
            *(rim(circle(*hole)) for hole in HOLES), rim(circle(80, 0, 12)), rim(slot(-80, 0, 40, 12)),
            rim(box(80, 45, 30, 10)), rim(box(0, 0, 260, 160), out=-1.0), rim(circle(80, -45, 15), after=RISING), rim(ellipse),
        ]
    )  # fmt: skip


def test_all_holes_and_slots_of_a_face_and_nothing_else_in_order():
    edges = plate()
    found = openings(edges, facing(edges, FACE))
    kinds = sorted(each.shape.fits_as for each in found)
    assert kinds == ["circle"] * 7 + ["round_slot", "square_slot"]
    back = PLACED.inverse()
    alike = [each.shape.moved(back) for each in found[:6]]  # those of one size come first, round their circle
    assert all(abs(2 * shape.radius - 10) < 0.06 for shape in alike)
    turns = np.unwrap([np.arctan2(shape.center[1], shape.center[0]) for shape in alike])
    assert np.allclose(np.abs(np.diff(turns)), np.pi / 3, atol=0.01)
    slots = {each.shape.ends: each.shape for each in found if isinstance(each.shape, Slot)}
    assert (slots["round"].length, slots["round"].width) == pytest.approx((40, 12), abs=0.05)
    assert (slots["square"].length, slots["square"].width) == pytest.approx((30, 10), abs=0.05)


def test_holes_strewn_with_false_edges_are_found_and_no_others():
    random = np.random.default_rng(5)
    false = rim(random.uniform(-60, 60, (1500, 2)), every_mm=250.0, noise=0.0)
    edges = Edges.together([*(rim(circle(*hole), 0.6) for hole in HOLES), false])
    assert len(false) > 300
    found = openings(edges, facing(edges, FACE))
    assert len(found) == 6 and all(abs(each.shape.radius - 5) < 0.05 for each in found)


def test_the_flattest_face_is_that_of_most_edges_and_looks_at_the_scanner():
    other = rim(circle(0, 0, 40))
    lower = Edges(other.points - 30 * FACE.normal, *(getattr(other, n) for n in ("inward", "ways", "after", "steps", "lines")))
    face = flattest(Edges.together([plate(), lower]))
    assert float(face.normal @ FACE.normal) > 0.999999
    assert np.abs(FACE.distance(face.point[None])) < 0.01
    assert float(facing(other, FACE.flipped()).normal @ FACE.normal) > 0
    assert flattest(Edges.none()) is None


def test_a_known_outline_takes_its_own_edges_and_tells_how_they_err_together():
    edges = plate()
    there = PLACED.points(np.array([[80.2, 0.1, 0.2]]))[0]  # about where it is
    mine = near_outline(edges, Circle(there, FACE.normal, 12.1))
    assert len(mine) == len(rim(circle(80, 0, 12)))
    assert not len(near_outline(edges, Circle(there, FACE.normal, 12.1), inside=False))  # the material lies outside
    points = given(edges, Circle(there, FACE.normal, 12.1))
    u = 0.14 / np.sqrt(12)
    assert points.u_mm == pytest.approx(u)
    assert np.linalg.norm(points.pulls, axis=1) == pytest.approx(np.full(len(mine), u))
    assert set(points.sides.tolist()) == set(range(16))
    assert len(given(Edges.none(), Circle(there, FACE.normal, 12.1)).points) == 0


def test_a_round_hole_that_was_badly_seen_is_no_slot_and_a_short_slot_is_none_of_a_circle():
    for seed in range(40):
        round_one = rim(circle(0, 0, 6.5), every_mm=1.0, noise=0.22, random=np.random.default_rng(seed))
        assert not any(isinstance(each.shape, Slot) for each in openings(round_one, FACE))
    for longer in (1.5, 3.0, 13.0):
        (short,) = openings(rim(slot(0, 0, 13 + longer, 13)), FACE)
        assert isinstance(short.shape, Slot) and abs(short.shape.length - 13 - longer) < 0.1
