"""How a scanner is held, from what its maker states."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from zipplumb.core.cloud.head import BORDER, ScannerHead, held_at

NUMBERS = st.floats(1, 500)


@pytest.mark.parametrize(("away", "held"), [(60, "near"), (72, "near"), (110, "right"), (140, "far"), (900, "far")])
def test_near_right_and_far_of_a_range_from_70_to_150(away, held):
    at = held_at(away, 70, 150)
    assert at.held == held and 0 <= at.share <= 1
    assert held_at(math.nan, 70, 150).held == "nothing"


@given(NUMBERS, NUMBERS, st.floats(-1000, 1000))
def test_from_either_border_there_is_as_far_to_the_middle(nearest, more, away):
    """A mirror of the range mirrors the word."""
    turned = {"near": "far", "far": "near", "right": "right"}
    one, other = held_at(away, nearest, nearest + more), held_at(2 * nearest + more - away, nearest, nearest + more)
    share = (away - nearest) / more
    if min(abs(share - BORDER), abs(share - 1 + BORDER)) > 1e-6:
        assert turned[one.held] == other.held


def test_what_no_maker_states_is_refused():
    head = ScannerHead(nearest_mm=70, farthest_mm=150, width_mm=70, points=512)
    assert head.apart_mm == pytest.approx(70 / 511)
    assert ScannerHead(nearest_mm=70, farthest_mm=150, width_mm=70).apart_mm is None
    for name, wrong in (("nearest_mm", 150), ("nearest_mm", 0), ("points", 1), ("points", 5.5), ("lines_s", math.nan)):
        with pytest.raises(ValidationError):
            ScannerHead(**{"nearest_mm": 70, "farthest_mm": 150, name: wrong})
