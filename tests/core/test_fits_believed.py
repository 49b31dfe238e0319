"""Fits that may be believed: what is determined is found and is the least, and what the hits hold weakly is said."""

import numpy as np
import pytest
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from zipplumb.core.errors import FitError
from zipplumb.core.fitting import fit
from zipplumb.core.shapes import Cone


def turned(points, random, noise=0.003):
    turn = Rotation.random(random_state=int(random.integers(1 << 31)))
    return turn.apply(points) + random.uniform(-300, 300, 3) + random.normal(0, noise, points.shape)


def test_three_hits_are_a_circle_wherever_they_lie():
    random = np.random.default_rng(1)
    for _ in range(1000):
        hits = random.uniform(-50, 50, (3, 3))
        assert np.abs(fit("circle", hits).residuals).max() < 1e-9


@pytest.mark.parametrize("half_deg", [45, 75, 80])
@pytest.mark.parametrize("sector_deg", [90, 180, 360])
def test_a_sector_of_a_flat_cone_is_found_and_is_no_worse_than_the_truth(half_deg, sector_deg):
    """The truth itself, and a descent from it by another library, bound the least from above."""
    random, half = np.random.default_rng(7), np.radians(half_deg)
    for _ in range(12):
        n = 12
        turn, along = random.uniform(0, np.radians(sector_deg), n), random.uniform(20, 45, n)
        across = along * np.sin(half)
        exact = np.column_stack([across * np.cos(turn), across * np.sin(turn), along * np.cos(half)])
        noisy = exact + random.normal(0, 0.003, exact.shape)
        # the reference is told where the truth is, ours is not
        reference = least_squares(
            _cone_residuals, [0, 0, 0, 0, 0, half], args=(noisy,), x_scale=[10, 10, 10, 1, 1, 1], xtol=1e-15
        )
        rotation = Rotation.random(random_state=int(random.integers(1 << 31)))
        found = fit("cone", rotation.apply(noisy))
        assert isinstance(found.shape, Cone)
        assert found.residuals @ found.residuals <= 2 * reference.cost * (1 + 1e-6) + 1e-12


def _cone_residuals(p, points):
    axis = Rotation.from_rotvec([p[3], p[4], 0]).apply([0, 0, 1.0])
    rel = points - p[:3]
    along = rel @ axis
    across = np.linalg.norm(rel - np.outer(along, axis), axis=1)
    return across * np.cos(p[5]) - along * np.sin(p[5])


def test_a_third_of_a_ring_is_found():
    """50/10, 60° to 120° of the ring, 12 to 24 hits all round the tube: the truth bounds the least from above."""
    random, worse = np.random.default_rng(11), 0
    for _ in range(60):
        n = int(random.integers(12, 25))
        turn, tube = random.uniform(0, np.radians(random.choice([60, 120])), n), random.uniform(0, 2 * np.pi, n)
        across = 50 + 10 * np.cos(tube)
        exact = np.column_stack([across * np.cos(turn), across * np.sin(turn), 10 * np.sin(tube)])
        found = fit("torus", turned(exact, random))
        worse += bool(found.rms > 0.006)
        assert found.rms < 0.006 or any("another torus may fit" in w for w in found.warnings)
    assert worse <= 2, worse


def strips(random):
    """Two opposite strips of 6° of a bore."""
    turn = np.radians(np.concatenate([np.linspace(-3, 3, 8), np.linspace(177, 183, 8)]))
    return np.column_stack([20 * np.cos(turn), 20 * np.sin(turn), np.tile([0.0, 10, 20, 30], 4)])


def ring_and_one(random):
    turn = np.linspace(0, 2 * np.pi, 12, endpoint=False)
    ring = np.column_stack([20 * np.cos(turn), 20 * np.sin(turn), 0 * turn])
    return np.vstack([ring, [20, 0, 0.5]])


def nearly_round(random):
    turn = np.linspace(0, 2 * np.pi, 14, endpoint=False)
    return np.column_stack([20.01 * np.cos(turn), 20 * np.sin(turn), 0 * turn])


@pytest.mark.parametrize(
    ("kind", "hits", "words"),
    [("cylinder", strips, "center"), ("cylinder", ring_and_one, "axis"), ("ellipse", nearly_round, "long direction")],
)
def test_what_the_hits_cannot_carry_is_said(kind, hits, words):
    random = np.random.default_rng(3)
    found = fit(kind, turned(hits(random), random, 0.002))
    assert any(words in warning for warning in found.warnings), found.warnings


def test_what_the_hits_carry_well_is_not_doubted():
    random = np.random.default_rng(5)
    turn = np.tile(np.linspace(0, 2 * np.pi, 7, endpoint=False), 3)
    tube = np.column_stack([20 * np.cos(turn), 20 * np.sin(turn), np.repeat([0.0, 15, 30], 7)])
    assert not fit("cylinder", turned(tube, random)).warnings
    assert not fit("circle", turned(tube[:7], random)).warnings


def test_what_is_undetermined_is_refused():
    turn = np.linspace(0, 2 * np.pi, 9, endpoint=False)
    flat = np.column_stack([20 * np.cos(turn), 20 * np.sin(turn), 0 * turn])
    for kind in ("cylinder", "cone", "torus"):
        with pytest.raises(FitError):
            fit(kind, flat)
