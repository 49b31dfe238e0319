import numpy as np
import pytest

from zipplumb.core.errors import FitError
from zipplumb.core.fitting import Nominal, Recogniser, recognise, touched_nominals
from zipplumb.core.shapes import Cylinder, Plane


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
    elif kind == "torus":
        spin = random.uniform(0, 2 * np.pi, n)
        rho = 40 + 9 * np.cos(spin)
        points = np.column_stack([rho * np.cos(turn), rho * np.sin(turn), 9 * np.sin(spin)])
    elif kind == "ellipse":
        points = np.column_stack([30 * np.cos(turn), 18 * np.sin(turn), np.zeros(n)])
    elif kind == "arc":
        points = np.column_stack([60 * np.cos(turn / 4), 60 * np.sin(turn / 4), np.zeros(n)])
    elif kind.endswith("slot"):
        side = np.arange(n) % 4
        end, at = np.where(side == 2, 1.0, -1.0), random.uniform(-1, 1, n)
        round_ = kind == "round_slot"
        x = np.where(side < 2, at * 12, end * (15 + 6 * np.cos(at * 1.5) if round_ else 20))
        y = np.where(side == 0, 6, np.where(side == 1, -6, 6 * np.sin(at * 1.5) if round_ else 6 * at))
        points = np.column_stack([x, y, np.zeros(n)])
    elif kind == "line":
        points = np.outer(along, [1, 2, -1])
    else:
        points = np.column_stack([25 * np.cos(turn), 25 * np.sin(turn), np.zeros(n)])
    return points + noise(random, points.shape)


@pytest.mark.parametrize("kind", ["plane", "cylinder", "cone", "sphere", "line", "torus"])
def test_a_touched_surface_is_named(kind):
    right = sum(recognise(surface(kind, np.random.default_rng(s))).best.kind == kind for s in range(12))
    assert right >= 11


@pytest.mark.parametrize("kind", ["circle", "arc", "line", "ellipse", "round_slot", "square_slot"])
def test_a_touched_outline_is_named(random, kind):
    assert recognise(surface(kind, random, 20), dimension="2d").best.kind == kind
    leaning = surface(kind, random, 20) + np.outer(random.normal(0, 0.4, 20), [0, 0, 1])  # as a tip slides up and down
    assert recognise(leaning, "2d", plane=Plane([0, 0, 0], [0, 0, 1])).best.kind == kind


def test_three_hits_are_a_plane_or_a_circle_and_the_simpler_wins(random):
    found = recognise(surface("plane", random, 3))
    assert found.best.kind == "plane"
    assert "circle" in [c.kind for c in found.candidates]


def test_a_flat_arc_may_be_a_line(random):
    """A 2° arc of a 500 mm circle bulges by 0.08 mm over 17 mm: with 0.05 mm hits nothing tells them apart."""
    turn = np.radians(np.linspace(0, 2, 8))
    points = np.column_stack([500 * np.cos(turn), 500 * np.sin(turn), 0 * turn]) + random.normal(0, 0.005, (8, 3))
    kinds = [c.kind for c in recognise(points, "2d", u_hit_mm=0.1).candidates]
    assert kinds[0] in ("line", "circle", "arc")
    assert "line" in kinds[:4]
    assert {"circle", "arc"} & set(kinds[:4])


def test_belief_adds_up_and_falls(random):
    found = recognise(surface("cylinder", random))
    beliefs = [c.sure for c in found.candidates]
    assert sum(beliefs) == pytest.approx(1)
    assert beliefs == sorted(beliefs, reverse=True)


def test_no_hit_is_refused():
    with pytest.raises(FitError):
        recognise(np.empty((0, 3)))


def test_it_grows_hit_by_hit_to_the_same_answer(random):
    hits = surface("cylinder", random, 25)
    growing = Recogniser()
    for k, hit in enumerate(hits, start=1):
        step = growing.add(hit)
        at_once = recognise(hits[:k])
        assert step.best.kind == at_once.best.kind
        assert step.best.sure == pytest.approx(at_once.best.sure, abs=1e-6)
    assert step.best.kind == "cylinder"
    assert next(c.error_mm for c in step.candidates if c.kind == "plane") > 1


def test_near_a_nominal_the_one_being_touched_is_proposed(random):
    """Two bores of one axis: only the faces' own corners tell them apart; a tip lies 3 mm off the wall."""
    low, high = Cylinder([0, 0, 0], [0, 0, 1], 25), Cylinder([0, 0, 80], [0, 0, 1], 25)
    box = np.array([[-25.0, -25, 0], [25, 25, 40]])
    nominals = [
        Nominal("front", low, box),
        Nominal("back", high, box + [0, 0, 80]),
        Nominal("top", Plane([0, 0, 120], [0, 0, 1])),
    ]
    turn = random.uniform(0, 6.28, 5)
    hits = np.column_stack([22.2 * np.cos(turn), 22.2 * np.sin(turn), random.uniform(85, 110, 5)])
    found = touched_nominals(hits, nominals, 3.0)
    assert found[0].name == "back"
    assert found[0].sure > 0.99
    twins = [Nominal("one", low), Nominal("other", high)]
    assert touched_nominals(hits, twins, 3.0)[0].sure == pytest.approx(0.5)
    assert touched_nominals(hits + 500, nominals, 3.0) == ()


@pytest.mark.parametrize("half_deg", [0.2, 1.0, 5.0])
@pytest.mark.parametrize("count", [12, 20])
def test_two_rings_of_hits_tell_a_cone_from_no_ball(random, half_deg, count):
    """Any two circles about one axis lie on a ball and on a cone alike; a third height tells."""
    turn = np.tile(np.linspace(0, 2 * np.pi, count // 2, endpoint=False), 2)

    def rings(heights):
        up = np.repeat(heights, count // len(heights))
        radius = 20 + up * np.tan(np.radians(half_deg))
        hits = np.column_stack([radius * np.cos(turn), radius * np.sin(turn), up])
        return hits + random.normal(0, 0.003, hits.shape)

    two = recognise(rings([-15.0, 15.0]))
    assert two.tie
    assert {"sphere", "cone"} <= {candidate.kind for candidate in two.candidates[:3] if candidate.sure > 0.3}
    more = recognise(np.vstack([rings([-15.0, 15.0]), rings([0.0, 7.0])]))
    assert more.best.kind == "cone"
    assert not more.tie
