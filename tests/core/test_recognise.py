import numpy as np
import pytest

from zipplumb.core.errors import FitError
from zipplumb.core.fitting import recognise


def noise(random, shape):
    return random.normal(0, 0.01, shape)


def surface(kind, random, n=14):
    turn, along = random.uniform(0, 2 * np.pi, n), random.uniform(0, 40, n)
    if kind == "plane":
        points = np.column_stack([random.uniform(0, 80, (n, 2)), np.zeros(n)])
    elif kind == "cylinder":
        points = np.column_stack([25 * np.cos(turn), 25 * np.sin(turn), along])
    elif kind == "cone":
        points = np.column_stack([(10 + along / 2) * np.cos(turn), (10 + along / 2) * np.sin(turn), along])
    elif kind == "sphere":
        points = random.normal(size=(n, 3))
        points *= 12.7 / np.linalg.norm(points, axis=1)[:, None]
    elif kind == "line":
        points = np.outer(along, [1, 2, -1])
    else:
        points = np.column_stack([25 * np.cos(turn), 25 * np.sin(turn), np.zeros(n)])
    return points + noise(random, points.shape)


@pytest.mark.parametrize("kind", ["plane", "cylinder", "cone", "sphere", "line"])
def test_a_touched_surface_is_named(kind):
    right = sum(recognise(surface(kind, np.random.default_rng(s))).best.kind == kind for s in range(12))
    assert right >= 11


@pytest.mark.parametrize("kind", ["circle", "line"])
def test_a_touched_outline_is_named(random, kind):
    assert recognise(surface(kind, random), dimension="2d").best.kind == kind


def test_three_hits_are_a_plane_or_a_circle_and_the_simpler_wins(random):
    found = recognise(surface("plane", random, 3))
    assert found.best.kind == "plane"
    assert "circle" in [c.kind for c in found.candidates]


def test_a_flat_arc_may_be_a_line(random):
    """A 2° arc of a 500 mm circle bulges by 0.08 mm over 17 mm: with 0.05 mm hits nothing tells them apart."""
    turn = np.radians(np.linspace(0, 2, 8))
    points = np.column_stack([500 * np.cos(turn), 500 * np.sin(turn), 0 * turn]) + random.normal(0, 0.005, (8, 3))
    kinds = [c.kind for c in recognise(points, "2d", u_hit_mm=0.1).candidates]
    assert kinds[0] in ("line", "circle")
    assert {"line", "circle"} <= set(kinds[:4])


def test_belief_adds_up_and_falls(random):
    found = recognise(surface("cylinder", random))
    beliefs = [c.sure for c in found.candidates]
    assert sum(beliefs) == pytest.approx(1)
    assert beliefs == sorted(beliefs, reverse=True)


def test_no_hit_is_refused():
    with pytest.raises(FitError):
        recognise(np.empty((0, 3)))
