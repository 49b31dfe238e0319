"""A section against circles and spheres, of which everything is known in closed form; and where the next hit is best."""

import numpy as np
import pytest
from block import UP, Bench, block

from zipplumb.core.frames import Motion
from zipplumb.core.probing.next_place import places_in_order
from zipplumb.core.sections import Section
from zipplumb.core.shape_codec import shape_from_data, shape_to_data
from zipplumb.core.shapes import Circle, Cylinder, Line, Plane
from zipplumb.core.sheet import Sheet, evaluate

RADIUS, TIP = 20.0, 3.0
HALF = np.linspace(0, np.pi, 64)


def half_circle(height=0.0):
    """Of a ball at some height: the section's normals lean out of its plane, but at the ball's middle."""
    flat = np.sqrt(RADIUS**2 - height**2)
    points = np.column_stack([flat * np.cos(HALF), flat * np.sin(HALF), 0 * HALF + height])
    return Section(points, points, [0, 0, 1])


def test_distances_from_a_circle_are_those_of_the_circle():
    random = np.random.default_rng(1)
    turn, radius = random.uniform(0.1, 3.0, 300), random.uniform(17, 24, 300)
    points = np.column_stack([radius * np.cos(turn), radius * np.sin(turn), 0 * turn])
    section = half_circle()
    assert np.allclose(section.distance(points), radius - RADIUS, atol=2e-6)
    assert section.length == pytest.approx(np.pi * RADIUS, abs=0.01)
    targets = section.targets(5.0)
    assert len(targets) == round(np.pi * RADIUS / 5)
    assert np.allclose(np.linalg.norm(targets, axis=1), RADIUS, atol=2e-6)
    assert np.ptp(np.linalg.norm(np.diff(targets, axis=0), axis=1)) < 0.01


def test_a_ball_that_touches_beside_the_normal_is_taken_off_along_it():
    section, random = half_circle(12.0), np.random.default_rng(2)
    turn, off = random.uniform(0.1, 3.0, 200), random.uniform(-0.1, 0.2, 200)
    on = np.column_stack([16 * np.cos(turn), 16 * np.sin(turn), 0 * turn + 12])  # 16² + 12² = 20²
    points, found = section.touched(on * (1 + (TIP + off) / RADIUS)[:, None], TIP)
    assert np.allclose(found, off, atol=2e-6)
    assert np.abs(points - on * (1 + off / RADIUS)[:, None]).max() < 1e-3


def test_a_corner_is_two_points_in_one_place():
    points = [[0, 0, 0], [10, 0, 0], [10, 0, 0], [10, -10, 0]]
    section = Section(points, [[0, 1, 0]] * 2 + [[1, 0, 0]] * 2, [0, 0, 1])
    assert section.length == 20
    assert np.allclose(section.distance(np.array([[5, 1.0, 0], [12, -5, 0], [9, -0.5, 0]])), [1, 2, -0.5])
    assert np.allclose(section.at(np.array([5.0, 15.0])), [[5, 0, 0], [10, -5, 0]])


def test_it_moves_and_is_stored_as_it_is():
    shift, section = Motion.from_quaternion([0.9, 0.1, -0.3, 0.2], [50, -70, 20]), half_circle(5.0)
    point = np.array([[3.0, 25, 7]])
    before = section.distance(point)
    assert section.moved(shift).distance(shift.points(point)) == pytest.approx(before, abs=1e-9)
    again = shape_from_data(shape_to_data(section))
    assert np.array_equal(again.points, section.points)
    for broken in ({"points": [[0, 0, 0]]}, {"normals": [[0, 0, 1]] * 64}, {"points": "x"}, {"across": [0, 0, 0]}):
        with pytest.raises(ValueError, match=r"section|rows|across|normal"):
            shape_from_data({**shape_to_data(section), **broken})


def test_in_the_sheet_what_stands_off_is_found_and_its_uncertainty_has_its_sources():
    bench = Bench()
    top, side, end = block(bench)
    nominal = {"shape": "section", "points": [[x, 0, 60] for x in range(-60, 61, 10)], "normals": [[0, 0, 1]] * 13,
               "across": [0, 1, 0]}  # fmt: skip
    along = np.arange(-55.0, 56, 10)
    row = bench.add(
        {"kind": "section_curve", "nominal": nominal},
        np.column_stack([along, 0.3 * np.sin(along), 63 + 0.05 * np.sin(along / 30)]),
        UP,
    )
    system = bench.add({"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end})
    found = evaluate(Sheet(tuple(bench.rows), system), bench.readings, bench_kit())[0][row]
    off = 0.05 * np.sin(along / 30)
    values = {c.key: c for c in found.characteristics}
    assert values["highest"].actual == pytest.approx(off.max(), abs=1e-6)
    assert values["lowest"].actual == pytest.approx(off.min(), abs=1e-6)
    assert values["profile"].actual == pytest.approx(2 * np.abs(off).max(), abs=1e-6)
    assert 2 * bench.u_hit_mm * 0.99 < values["highest"].U  # one hit's own, and the system's
    assert pytest.approx(2 * values["highest"].U, rel=0.1) == values["profile"].U
    assert np.allclose(found.contacts_part[:, 2] - 60, off, atol=1e-6)
    assert np.allclose(found.residuals, off, atol=1e-6)


def bench_kit():
    from block import KIT

    return KIT


# ---- the next hit ---------------------------------------------------------------------------


def test_the_best_places_of_a_bore_lie_at_its_ends_and_all_round():
    turn, height = np.meshgrid(np.linspace(0, 2 * np.pi, 24, endpoint=False), np.linspace(0, 40, 9))
    spots = np.column_stack([10 * np.cos(turn.ravel()), 10 * np.sin(turn.ravel()), height.ravel()])
    places = places_in_order(Cylinder([0, 0, 20], [0, 0, 1], 10.0), spots, 8)
    assert np.ptp(places[:, 2]) == 40
    angles = np.sort(np.arctan2(places[:, 1], places[:, 0]))
    assert np.max(np.diff(np.append(angles, angles[0] + 2 * np.pi))) < np.radians(120)


def test_eight_places_tell_a_bore_as_well_as_hardly_any_eight_do():
    """Against the best of many random choices, by the determinant that a D-optimal design makes largest."""
    from zipplumb.core.probing.next_place import _rows

    random = np.random.default_rng(4)
    turn, height = random.uniform(0, 2 * np.pi, 200), random.uniform(0, 40, 200)
    spots = np.column_stack([10 * np.cos(turn), 10 * np.sin(turn), height])
    shape = Cylinder([0, 0, 20], [0, 0, 1], 10.0)

    def told(places):
        rows = _rows(shape, places)
        return np.linalg.slogdet(rows.T @ rows)[1]

    ours = told(places_in_order(shape, spots, 8))
    others = [told(spots[random.choice(200, 8, replace=False)]) for _ in range(3000)]
    assert ours > np.quantile(others, 0.95)


@pytest.mark.parametrize(
    ("shape", "spread"),
    [(Plane([0, 0, 0], [0, 0, 1]), 90), (Line([0, 0, 0], [1, 0, 0]), 90), (Circle([0, 0, 0], [0, 0, 1], 50.0), 85)],
)
def test_places_are_far_from_one_another(shape, spread):
    random = np.random.default_rng(3)
    spots = np.column_stack([*random.uniform(-50, 50, (2, 300)), np.zeros(300)])
    places = places_in_order(shape, spots, 3)
    assert np.linalg.norm(places[:, None] - places[None], axis=2).max() > spread
