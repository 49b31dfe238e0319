"""How many hits a feature needs at the least, and how many are recommended."""

import numpy as np
import pytest

from zipplumb.core.errors import FitError
from zipplumb.core.fitting import LEAST, RECOMMENDED, fit

# From memory: BS 7172:1989; the mathematics agrees, a shape has as many freedoms as least hits
TABLE = {"line": (2, 5), "plane": (3, 9), "circle": (3, 7), "sphere": (4, 9), "cylinder": (5, 12), "cone": (6, 12)}


@pytest.mark.parametrize("kind", TABLE)
def test_the_table(kind):
    assert (LEAST[kind], RECOMMENDED[kind]) == TABLE[kind]


@pytest.mark.parametrize("kind", TABLE)
def test_one_hit_less_than_the_least_is_refused(kind, random):
    with pytest.raises(FitError, match=f"needs {LEAST[kind]} hits"):
        fit(kind, random.normal(size=(LEAST[kind] - 1, 3)))


def test_with_the_least_number_the_residuals_prove_nothing(random):
    """Practice: with just enough hits a shape goes through them all, whatever was touched."""
    for kind in ("plane", "circle", "sphere"):
        result = fit(kind, random.normal(size=(LEAST[kind], 3)))
        assert result.rms < 1e-9
        assert "prove nothing" in result.warnings[-1]
        assert np.isnan(result.covariance).any()
