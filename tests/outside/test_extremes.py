"""The largest of many that err, against drawn samples and tables.

- Mean and standard deviation of the largest of n normal numbers: 0.5642, 0.8256 of 2; 1.1630, 0.6690 of 5; 1.5388, 0.5868 of
  10; 1.8675, 0.5251 of 20; 2.5076, 0.4294 of 100 (published: H. L. Harter, "Expected values of normal order statistics",
  Biometrika 48 (1961); from memory, so each is drawn here too).
- U of a number with a known bias: numpy's quantiles of a folded normal distribution.
"""

import numpy as np
import pytest

from zipplumb.core.tolerances.extremes import excess, within

TABLE = {
    1: (0.0, 1.0),
    2: (0.5642, 0.8256),
    5: (1.1630, 0.6690),
    10: (1.5388, 0.5868),
    20: (1.8675, 0.5251),
    100: (2.5076, 0.4294),
}


@pytest.mark.parametrize("count", TABLE)
def test_of_equal_places(count):
    mean, deviation = excess(np.full(count, 7.0), 0.01)
    assert mean == pytest.approx(0.01 * TABLE[count][0], abs=3e-5)
    assert deviation == pytest.approx(0.01 * TABLE[count][1], abs=3e-5)


@pytest.mark.parametrize("count", [3, 30, 3000])
def test_of_places_that_differ(count, random):
    """Against 20,000 drawn sets."""
    places = random.normal(0, 0.02, count)
    mean, deviation = excess(places, 0.01)
    drawn = np.array([(places + random.normal(0, 0.01, count)).max() for _ in range(20_000)]) - places.max()
    assert mean == pytest.approx(drawn.mean(), abs=4e-4)
    assert deviation == pytest.approx(drawn.std(), rel=0.05)
    assert excess(places, 0.0) == (0.0, 0.0)


@pytest.mark.parametrize("bias", [0.0, 0.5, 3.0])
def test_u_of_what_is_biased(bias, random):
    drawn = np.abs(bias + random.normal(size=400_000))
    assert within(0.01 * bias, 0.01) == pytest.approx(0.01 * np.quantile(drawn, 0.9545), rel=0.01)
    assert within(-0.02, 0.0) == 0.02
