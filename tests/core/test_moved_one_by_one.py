"""Places that are each moved by the adjuster under them: wrong screws, play, ends, and what was learned."""

import numpy as np
import pytest

from zipplumb.core.placing import Adjuster, Effect, learned_each, plan_each

UP = np.array([0.0, 0, 1])


def feet(count, **more):
    return [Adjuster(f"Foot {k}", np.array([k * 500.0, 0, 0]), UP, 1.5, **more) for k in range(count)]


@pytest.mark.parametrize("seed", range(200))
def test_four_corners_come_to_one_height_in_four_rounds(seed):
    """Pitches wrong by up to a tenth, play of up to 0.1 mm, heights known to 5 µm."""
    random = np.random.default_rng(seed)
    adjusters, zones = feet(4), np.full(4, 0.05)
    pitch, play = 1.5 * (1 + random.uniform(-0.1, 0.1, 4)), random.uniform(0, 0.1, 4)
    last, height = random.choice([-1, 1], 4), random.uniform(-3, 3, 4)
    effects = [Effect.stated(a) for a in adjusters]

    def seen():
        off = np.zeros((4, 3))
        off[:, 2] = height + random.normal(0, 0.005, 4)
        return off

    for _ in range(4):
        off = seen()
        plan = plan_each(off, np.full(4, 0.005), zones, range(4), adjusters, effects)
        by_name = {t.name: t.turns for t in plan.turns}
        turns = np.array([by_name.get(a.name, 0.0) for a in adjusters])
        way = np.sign(turns)
        moved = way * np.maximum(np.abs(turns) * pitch - np.where((way != last) & (way != 0), play, 0.0), 0.0)
        last, height = np.where(way != 0, way, last).astype(int), height + moved
        effects = learned_each(effects, adjusters, turns, seen() - off, np.full(4, 0.007))
    assert np.abs(height).max() <= 0.05


def test_what_no_foot_is_under_stays_and_an_end_is_told():
    off = np.array([[0, 0, -2.0], [0, 0, -1.0], [0.3, 0, 0]])
    adjusters = feet(2, most=0.5)
    plan = plan_each(off, np.full(3, 0.005), np.full(3, 0.05), [0, 1], adjusters, [Effect.stated(a) for a in adjusters])
    assert [(t.name, t.at_end) for t in plan.turns] == [("Foot 0", True), ("Foot 1", True)]
    assert not plan.inside and not plan.rests
    assert plan.left_mm[2] == pytest.approx([0.3, 0, 0])


def test_what_is_in_by_more_than_is_uncertain_rests():
    off = np.array([[0, 0, 0.02], [0, 0, -0.02]])
    adjusters = feet(2)
    effects = [Effect.stated(a) for a in adjusters]
    assert plan_each(off, np.full(2, 0.005), np.full(2, 0.05), [0, 1], adjusters, effects).rests
    close = plan_each(off, np.full(2, 0.02), np.full(2, 0.05), [0, 1], adjusters, effects)
    assert close.inside and not close.rests
