import numpy as np
import pytest

from zipplumb.core.probing import contacts_from_centers, side_of_air, surface_from_centers
from zipplumb.core.shapes import Cylinder, Plane

UP = Plane([0, 0, 0], [0, 0, 1])
HITS = np.array([[0.0, 0, 0], [10, 0, 0], [0, 10, 0]])
NOWHERE = np.full((3, 3), np.nan)
BORE = Cylinder([0, 0, 0], [0, 0, 1], 22.0)  # of tip centers
WALL = np.array([[22.0, 0, 0], [0, 22, 5], [-22, 0, 9]])


def test_all_witnesses_agree():
    side = side_of_air(UP, HITS, HITS + [0, 0, 12], np.array([3.0, 3, 20]))
    assert side.known
    assert side.air == 1


def test_a_pull_off_through_the_surface_is_doubted():
    side = side_of_air(UP, HITS, HITS + [0, 0, 12], np.array([3.0, 3, -20]))
    assert side.doubt
    assert side.witnesses == {"pull_off": -1, "approach": 1}


def test_an_answer_ends_the_doubt():
    assert side_of_air(UP, HITS, HITS + [0, 0, 12], np.array([3.0, 3, -20]), settled=1).known


def test_a_pull_off_along_the_axis_still_tells_inside():
    side = side_of_air(BORE, WALL, NOWHERE, np.array([15.0, 0, 300]), nominal=-1)
    assert side.known
    assert side.air == -1


def test_a_boss_where_the_nominal_is_a_bore_is_doubted():
    assert side_of_air(BORE, WALL, WALL * [1.5, 1.5, 1], np.array([40.0, 0, 0]), nominal=-1).doubt


def test_nothing_known_says_so():
    side = side_of_air(UP, HITS, NOWHERE, None)
    assert not side.known
    assert side.witnesses == {}


@pytest.mark.parametrize(("air", "diameter"), [(-1, 50.0), (1, 38.0)])
def test_the_tip_comes_off_outward_in_a_bore_and_inward_on_a_boss(air, diameter):
    surface = surface_from_centers(BORE, 3.0, air)
    assert 2 * surface.radius == pytest.approx(diameter)
    assert np.allclose(surface.distance(contacts_from_centers(surface, WALL)), 0, atol=1e-12)


def test_a_planes_normal_faces_the_air():
    surface = surface_from_centers(UP, 3.0, -1)
    assert np.allclose(surface.normal, [0, 0, -1])
    assert np.allclose(surface.point, [0, 0, 3])


def test_a_tip_bigger_than_the_boss_is_refused():
    with pytest.raises(ValueError, match="bigger"):
        surface_from_centers(Cylinder([0, 0, 0], [0, 0, 1], 2.0), 3.0, 1)
