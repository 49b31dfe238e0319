"""The stand-in's hand finds the walls below an outline: what it touches there lies, seen along the plane, on the outline."""

import numpy as np
import pytest

from zipplumb.cad import read_cad
from zipplumb.core.deriving.drawing import drawn
from zipplumb.core.shape_codec import shape_from_data
from zipplumb.demo import bracket
from zipplumb.jobs.hand_walls import places_on_its_face, places_on_walls

REACH, ALONG, HITS = 40.0, 120, 9
SAG = 0.35  # spots lie on triangles, of a radius of 40 mm so far inside it


@pytest.fixture(scope="module")
def model(tmp_path_factory):
    path = tmp_path_factory.mktemp("cad") / "bracket.step"
    bracket.write_step(path)
    return read_cad(path)


@pytest.fixture(scope="module")
def outlines(model):
    """One of each shape that an outline in a flat face of the bracket has."""
    flat = [edge for edge in model.edges if edge.nominal and edge.face is not None]
    return {edge.shape: edge for edge in flat if edge.shape in ("circle", "slot", "ellipse", "arc")}


@pytest.mark.parametrize("shape", ["circle", "slot", "ellipse", "arc"])
def test_walls_of_an_outline(model, outlines, shape):
    nominal = shape_from_data(outlines[shape].nominal)
    along = drawn(nominal, REACH).places(ALONG)
    places = places_on_walls(model, along, nominal.normal, HITS)
    assert places.shape == (HITS, 3)
    assert np.abs(nominal.distance(places)).max() < SAG
    assert np.abs((places - along[0]) @ nominal.normal).min() > 0.1  # below it, not on it
    apart = np.linalg.norm(places[:, None] - places[None], axis=2)[np.triu_indices(HITS, 1)]
    assert apart.min() > 0.5  # round all of it


def test_of_its_own_face(model, outlines):
    nominal = shape_from_data(outlines["circle"].nominal)
    along = drawn(nominal, REACH).places(ALONG)
    places = places_on_its_face(model, along, nominal.normal, 3)
    assert places.shape == (3, 3)
    assert np.abs((places - along[0]) @ nominal.normal).max() < 1e-6


def test_where_there_is_no_wall(model):
    far = np.tile([0.0, 0.0, 900.0], (5, 1))
    assert places_on_walls(model, far, None, HITS).shape == (0, 3)
    assert places_on_its_face(model, far, np.array([0.0, 0, 1]), 3).shape == (0, 3)
