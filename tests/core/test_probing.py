import numpy as np
import pytest

from zipplumb.core.errors import FitError
from zipplumb.core.probing import (
    ByDistance,
    ByTime,
    WhenStill,
    compensate,
    contacts_from_centers,
    edge_point,
    side_of_air,
    surface_from_centers,
    surface_point,
)  # fmt: skip
from zipplumb.core.shapes import Cone, Cylinder, Ellipse, Plane, Slot, Sphere, Torus

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


TIP = 3.0
TURN = np.linspace(0, 2 * np.pi, 40, endpoint=False)
ACROSS = np.column_stack([np.cos(TURN), np.sin(TURN), 0 * TURN])


def touched(shape, air):
    """Tip centers on either side of a surface, by the definition: contact + radius along the normal."""
    height = np.tile(np.linspace(12, 38, 8), 5)
    if isinstance(shape, Cone):
        contact = shape.apex + height[:, None] * (shape.direction + np.tan(shape.half_angle) * ACROSS)
        outward = np.cos(shape.half_angle) * ACROSS - np.sin(shape.half_angle) * shape.direction
    elif isinstance(shape, Torus):
        spin = (TURN * 7)[:, None]
        outward = np.cos(spin) * ACROSS + np.sin(spin) * np.array([0, 0, 1])
        contact = shape.center + shape.major_radius * ACROSS + shape.minor_radius * outward
    elif isinstance(shape, Sphere):
        outward = ACROSS * np.cos(height / 25)[:, None] + np.outer(np.sin(height / 25), [0, 0, 1])
        contact = shape.center + shape.radius * outward
    elif isinstance(shape, Ellipse):
        outward = np.column_stack([shape.semi_minor * np.cos(TURN), shape.semi_major * np.sin(TURN), 0 * TURN])
        outward /= np.linalg.norm(outward, axis=1)[:, None]
        contact = np.column_stack([shape.semi_major * np.cos(TURN), shape.semi_minor * np.sin(TURN), 0 * TURN])
    else:
        outward = ACROSS
        contact = shape.point + shape.radius * ACROSS + height[:, None] * shape.direction
    return contact, contact + air * TIP * outward


@pytest.mark.parametrize("air", [-1, 1])
@pytest.mark.parametrize(
    ("kind", "shape"),
    [
        ("cylinder", Cylinder([0, 0, 0], [0, 0, 1], 25)),
        ("cone", Cone([0, 0, -20], [0, 0, 1], 0.5)),
        ("sphere", Sphere([1, 2, 3], 12.7)),
        ("torus", Torus([0, 0, 0], [0, 0, 1], 60, 9)),
        ("ellipse", Ellipse([0, 0, 0], [0, 0, 1], [1, 0, 0], 30, 20)),
    ],
)
def test_the_tip_comes_off_every_shape_exactly(kind, shape, air):
    contact, centers = touched(shape, air)
    found = compensate(kind, centers, TIP, air, fixed={"normal": [0, 0, 1]} if kind == "ellipse" else None)
    assert np.allclose(found.surface.distance(contact), 0, atol=1e-8)
    assert np.allclose(found.contacts, contact, atol=1e-8)
    assert found.how == ("fitted as an offset" if kind == "ellipse" else "fitted, then offset")


def test_the_tip_comes_off_a_slot_a_line_and_a_point():
    slot = surface_from_centers(Slot([0, 0, 0], [0, 0, 1], [1, 0, 0], 24, 4), TIP, -1)
    assert (slot.length, slot.width) == (30, 10)
    centers = np.array([[0.0, 13, 1], [50, 13, -1], [100, 13, 0]])
    line = compensate("line", centers, TIP, 1, fixed={"normal": [0, 0, 1]}, toward=np.array([0, 1.0, 0]))
    assert np.allclose(line.surface.distance(np.array([[20.0, 10, 0]])), 0, atol=1e-9)
    assert np.allclose(compensate("point", centers[:1], TIP, 1, toward=np.array([0, 0, 2.0])).surface.position, [0, 13, -2])
    with pytest.raises(FitError, match="plane that it lies in"):
        compensate("line", centers, TIP, 1)
    with pytest.raises(FitError, match="side of the air"):
        compensate("plane", centers, TIP, 0)


def test_the_side_of_a_sphere_and_a_cone():
    ball, up = Sphere([0, 0, 0], 15.0), np.array([[0.0, 0, 15], [15, 0, 0], [0, 15, 0]])
    assert side_of_air(ball, up, up * 2, np.array([0, 0, 60.0])).air == 1
    seat = Cone([0, 0, 0], [0, 0, 1], 0.5)
    assert side_of_air(seat, np.array([[5.0, 0, 9.15]]), np.full((1, 3), np.nan), np.array([0, 0, 40.0])).air == -1


def test_a_surface_point_on_a_tilted_face():
    """The practice of datum targets: a face square to nothing, three hits in a small triangle."""
    normal = np.array([0.3, -0.4, 0.866]) / np.linalg.norm([0.3, -0.4, 0.866])
    u, v = np.cross(normal, [1, 0, 0]), np.cross(normal, [0, 1, 0])
    target = np.array([100.0, 50, 20])
    contacts = np.array([target + 3 * np.cos(t) * u + 3 * np.sin(t) * v for t in np.radians([0, 120, 240])])
    found = surface_point(contacts + TIP * normal, TIP, toward=normal, u_hit_mm=0.01)
    assert np.allclose(found.normal, normal, atol=1e-9)
    assert abs((found.position - contacts.mean(axis=0)) @ normal) < 1e-9
    assert not found.warnings
    small = surface_point(target + 0.1 * (contacts - target), TIP, normal, 0.01)
    assert "small" in small.warnings[-1]
    flat = surface_point(np.array([target, target + 4 * u, target + 8 * u + 0.4 * v]), TIP, normal, 0.01)
    assert "flat" in flat.warnings[0]
    with pytest.raises(FitError, match="one line"):
        surface_point(np.array([target, target + u, target + 2 * u]), TIP, normal, 0.01)


def test_an_edge_point_on_the_flank_and_on_the_edge_itself():
    """Closed form: a flank at x = 10 under the plane z = 0; a center 1 mm above it touches √(3² - 1²) off."""
    face, out = Plane([0, 0, 0], [0, 0, 1]), np.array([1.0, 0, 0.3])
    assert np.allclose(edge_point(np.array([13.0, 5, -2]), face, out, TIP).position, [10, 5, 0])
    corner = edge_point(np.array([10 + np.sqrt(8), 5, 1]), face, out, TIP)
    assert np.allclose(corner.position, [10, 5, 0])
    assert "edge itself" in corner.warnings[0]
    with pytest.raises(FitError, match="passed over"):
        edge_point(np.array([10, 5, 3.5]), face, out, TIP)
    with pytest.raises(FitError, match="upright"):
        edge_point(np.array([13.0, 5, -2]), face, np.array([0, 0.05, 1]), TIP)


def walked(way, path, rate=100.0):
    way.begin(0.0, np.array(path[0]))
    return [k for k, p in enumerate(path[1:], start=1) if way.feed(k / rate, np.array(p))]


def test_hits_by_distance_by_time_and_when_still():
    straight = [(0.3 * k, 0, 0) for k in range(101)]  # 30 mm in one second
    assert len(walked(ByDistance(5.0), straight)) == 5  # at 5.1, 10.2, …: whole steps of the stream
    assert walked(ByTime(0.2), straight) == [20, 40, 60, 80, 100]
    halting = straight + [(30.0, 0, 0)] * 120 + [(30 + 0.3 * k, 0, 0) for k in range(20)]
    assert len(walked(WhenStill(0.05, 0.5, 2.0), halting)) == 1
    assert walked(WhenStill(0.05, 0.5, 2.0), halting)[0] == pytest.approx(150, abs=2)
    with pytest.raises(ValueError, match="above zero"):
        ByDistance(0.0)


def test_who_leaves_a_groove_or_a_seat_far_beyond_its_far_side_was_inside_all_the_same():
    groove, seat = Torus([0, 0, 0], [0, 0, 1], 25.0, 3.0), Sphere([0, 0, 6], 15.0)
    turn = np.linspace(0, 2 * np.pi, 9, endpoint=False)
    out = np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
    low = np.resize([-2.6, -1.6, -0.5], 9)[:, None] * [[0, 0, 1.0]]  # round the lower half of the tube
    wall = np.vstack([25 * out + low + s * np.sqrt(9 - low[:, 2:] ** 2) * out for s in (-1, 1)])
    inward = np.vstack([25 * out] * 2) - wall
    for pull_off in ([25.0, 0, 40], wall[3] + 8 * inward[3]):
        assert side_of_air(groove, wall, wall + 8 * inward, np.array(pull_off)).air == -1
    bowl = [0, 0, 6] + 15 * np.column_stack([0.8 * out[:, :2], np.full(9, -0.6)])
    assert side_of_air(seat, bowl, bowl + [0, 0, 40.0], np.array([0, 0, 80.0])).air == -1
