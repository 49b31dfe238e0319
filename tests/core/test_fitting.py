import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from zipplumb.core.errors import FitError
from zipplumb.core.fitting import fit
from zipplumb.core.frames import Motion


def tube(n, radius=20.0, length=60.0, noise=0.01, seed=0, span=2 * np.pi):
    r = np.random.default_rng(seed)
    turn, along = r.uniform(0, span, n), r.uniform(0, length, n)
    rho = radius + r.normal(0, noise, n)
    return np.column_stack([rho * np.cos(turn), rho * np.sin(turn), along])


def moved(seed):
    return Motion(Rotation.random(random_state=seed).as_matrix(), np.random.default_rng(seed).uniform(-500, 500, 3))


@settings(max_examples=25)
@given(st.integers(0, 10_000))
def test_a_cylinder_moves_with_its_points(seed):
    points, motion = tube(14, seed=seed), moved(seed)
    here, there = fit("cylinder", points), fit("cylinder", motion.points(points))
    assert there.shape.radius == pytest.approx(here.shape.radius, abs=1e-7)
    assert there.rms == pytest.approx(here.rms, abs=1e-9)
    assert np.allclose(here.shape.moved(motion).distance(motion.points(points)), there.residuals, atol=1e-6)


@settings(max_examples=25)
@given(st.integers(0, 10_000), st.sampled_from(["plane", "circle", "sphere", "cylinder", "line"]))
def test_the_order_of_hits_does_not_matter(seed, kind):
    points = tube(12, seed=seed)
    order = np.random.default_rng(seed).permutation(len(points))
    a, b = fit(kind, points), fit(kind, points[order])
    assert a.rms == pytest.approx(b.rms, abs=1e-8)
    assert np.allclose(a.residuals[order], b.residuals, atol=1e-6)


@pytest.mark.parametrize(
    ("kind", "points", "words"),
    [
        ("plane", [[0, 0, 0], [1, 1, 1]], "needs 3 hits"),
        ("plane", [[0, 0, 0], [1, 1, 1], [2, 2, 2], [5, 5, 5]], "one line"),
        ("plane", [[3, 3, 3]] * 5, "one place"),
        ("plane", [[0, 0, 0], [1, 0, 0], [0, np.nan, 0]], "not a number"),
        ("circle", [[0, 0, 0], [1, 0, 0], [2, 0, 0], [3, 0, 0]], "straight line"),
        ("sphere", [[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0]], "one plane"),
        ("cylinder", [[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0], [2, 1, 0]], "one plane"),
        ("cylinder", [[k, 0, 0] for k in range(6)], "one straight line"),
        ("teapot", [[0, 0, 0]] * 9, "no fit"),
    ],
)
def test_hits_that_cannot_carry_the_shape_are_refused_in_words(kind, points, words):
    with pytest.raises(FitError, match=words):
        fit(kind, np.array(points, float))


def test_the_hit_that_spoils_the_form_is_named(random):
    points = np.column_stack([random.uniform(0, 200, (9, 2)), random.normal(0, 0.01, 9)])
    points[5, 2] += 0.5
    worst = fit("plane", points).worst
    assert worst.index == 5
    assert worst.sure > 0.999
    assert abs(abs(worst.off_by_mm) - 0.5) < 0.06


def test_honest_hits_are_not_blamed():
    sure = [fit("cylinder", tube(12, seed=s)).worst.sure for s in range(150)]
    assert np.mean(np.array(sure) > 0.99) < 0.04


def test_a_short_arc_says_how_little_it_knows():
    result = fit("circle", np.column_stack([tube(12, radius=300, span=np.radians(20))[:, :2], np.zeros(12)]))
    assert "span" in result.warnings[0]
    assert "known to ±" in result.warnings[0]


@pytest.mark.parametrize(("kind", "parameter", "true"), [("cylinder", "radius", 20.0), ("circle", "radius", 20.0)])
def test_the_stated_uncertainty_holds_the_truth(kind, parameter, true):
    """Two standard uncertainties hold the truth in about 95 % of runs, with the noise known."""
    inside = 0
    for seed in range(250):
        points = tube(15, seed=seed)
        if kind == "circle":
            points[:, 2] = 0
        result = fit(kind, points, fixed={"normal": [0, 0, 1]} if kind == "circle" else {})
        inside += abs(result.shape.radius - true) < 1.96 * result.u(parameter, 0.01)
    assert 0.92 < inside / 250 < 0.98
