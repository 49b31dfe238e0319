"""Symmetry is told of what runs along its datum, and of nothing that stands across it."""

import pytest
from block import KIT, Bench

from zipplumb.core.sheet import Sheet, evaluate


@pytest.fixture
def part():
    made = Bench()
    made.faces = {
        "top": made.plane([0, 0, 60], [0, 0, 1], datum="A"), "bottom": made.plane([0, 0, 0], [0, 0, -1]),
        "front": made.plane([0, -140, 30], [0, -1, 0]),
    }  # fmt: skip
    return made


def judged(part, of, datum):
    row = part.add({"kind": "symmetry", "of": [of], "to_datum": datum, "zone_mm": 0.1})
    return evaluate(Sheet(tuple(part.rows), None), part.readings, KIT)[0][row]


def test_a_middle_plane_about_another(part):
    """The middle of the block's height is 60 below a plane 90 high: 2 × 60."""
    middle = part.add({"kind": "construction", "of": [part.faces["top"], part.faces["bottom"]], "make": "middle_plane"})
    higher = part.add({"kind": "construction", "of": [middle], "make": "offset_plane", "offset_mm": 60.0})
    found = judged(part, higher, middle)
    assert found.state == "done", found.message
    assert found.characteristics[0].actual == pytest.approx(120.0, abs=1e-6)


def test_a_square_plane_has_none(part):
    found = judged(part, part.faces["front"], part.faces["top"])
    assert found.state == "failed"
    assert "90.0° from parallel" in found.message
