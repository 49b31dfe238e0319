"""The first storey: each kind of feature from its hits, with the tip off on the right side, or a question."""

from dataclasses import replace

import numpy as np
import pytest
from block import KIT, TIP, TURN, UP, Bench, block

from zipplumb.core.errors import InputError
from zipplumb.core.shapes import Circle, Line, Point, Slot, Sphere
from zipplumb.core.sheet import Sheet, evaluate, recipe_from_dict

RIM = np.outer(np.cos(TURN), [1, 0, 0]) + np.outer(np.sin(TURN), [0, 1, 0])


@pytest.fixture
def bench():
    return Bench()


def found(bench, row, aligned=None):
    results, _ = evaluate(Sheet(tuple(bench.rows), aligned), bench.readings, KIT)
    return results[row]


def aligned(bench):
    names = dict(zip(("primary", "secondary", "tertiary"), block(bench), strict=True))
    return bench.add({"kind": "datum_planes", **names})


def in_part(bench, result):
    return result.feature.shape.moved(bench.lies.inverse())


def test_a_point_is_where_the_center_was_and_how_far_off_it_is_once_aligned(bench):
    row = bench.point([10, 20, 30], [10.3, 20, 30.4])
    assert isinstance(found(bench, row).feature.shape, Point)
    assert "once the part is aligned" in " ".join(found(bench, row).warnings)
    result = found(bench, row, aligned(bench))
    assert result.first.actual == pytest.approx(0.5, abs=1e-6)
    assert [result.characteristic(k).deviation for k in "xyz"] == pytest.approx([0.3, 0, 0.4], abs=1e-6)


def test_hits_that_stand_apart_on_purpose_say_nothing_against_one_another(bench):
    """Of three hits round a place each counts a third: JCGM 100, 4.2.3, the variance of a mean."""
    nominal = {"shape": "plane", "point": [10, 20, 60], "normal": [0, 0, 1]}
    around = np.array([[16, 20, 63], [7, 25.2, 63], [7, 14.8, 63.0]])
    row = bench.add({"kind": "surface_point", "hits": 3, "nominal": nominal}, around, UP)
    feature = found(bench, row).feature.feature
    across = feature.uncertainty.covariance[2, 2] ** 0.5
    assert across == pytest.approx(bench.u_hit_mm / np.sqrt(3), rel=0.05)


def test_a_surface_point_of_three_hits_takes_the_tip_off_along_its_own_lean(bench):
    normal = np.array([0.3, -0.2, 1.0]) / np.linalg.norm([0.3, -0.2, 1.0])
    u = np.cross(normal, [1, 0, 0]) / np.linalg.norm(np.cross(normal, [1, 0, 0]))
    v = np.cross(normal, u)
    place = np.array([40.0, 30, 60])
    hits = np.array([place + TIP * normal + 4 * (np.cos(a) * u + np.sin(a) * v) for a in (0, 2.1, 4.2)])
    row = bench.add(
        {"kind": "surface_point", "hits": 3, "nominal": {"shape": "plane", "point": tuple(place), "normal": tuple(normal)}},
        hits,
        normal,
    )
    result = found(bench, row, aligned(bench))
    assert result.feature.tip is None
    assert result.first.deviation == pytest.approx(0, abs=0.01)
    one = bench.touch([0, 0, 60.0], [0, 0, 1])
    assert found(bench, one).feature.tip is not None


@pytest.mark.parametrize(("inside", "size"), [(True, 40.0), (False, 40.0)])
def test_circles_and_spheres_bores_and_bosses(bench, inside, size):
    top, *_ = block(bench)
    sign = -1 if inside else 1
    way = 0.3 * sign * RIM
    nominal = {"shape": "circle", "center": (0, 0, 60), "normal": (0, 0, 1), "radius": size / 2}
    row = bench.add(
        {"kind": "circle", "inside": inside, "nominal": nominal, "plane": top}, [0, 0, 60] + (size / 2 + sign * TIP) * RIM, way
    )
    result = found(bench, row)
    assert isinstance(result.feature.shape, Circle)
    assert result.first.actual == pytest.approx(size, abs=1e-6)
    assert in_part(bench, result).center == pytest.approx([0, 0, 60], abs=1e-6)
    if not inside:
        ball = np.vstack([RIM[::2], 0.6 * RIM[1::2] + 0.8 * UP, [UP]])
        nominal = {"shape": "sphere", "center": (0, 0, 90), "radius": size / 2}
        row = bench.add(
            {"kind": "sphere", "inside": False, "nominal": nominal}, [0, 0, 90] + (size / 2 + TIP) * ball, 0.3 * ball
        )
        assert isinstance(found(bench, row).feature.shape, Sphere)
        assert found(bench, row).first.deviation == pytest.approx(0, abs=1e-6)


def test_a_line_lies_in_its_plane_one_radius_from_the_tips(bench):
    top, *_ = block(bench)
    row = bench.edge([0, -140, 60], [1, 0, 0], [0, -1, 0], top)
    result = found(bench, row)
    assert isinstance(result.feature.shape, Line)
    line = in_part(bench, result)
    assert abs(line.point[1] + 140) < 1e-6
    assert abs(line.direction[0]) == pytest.approx(1)


def test_a_slot_has_its_width_and_its_place(bench):
    top, *_ = block(bench)
    row = bench.slot([100, 20, 60], 40, 12, top)
    result = found(bench, row)
    assert isinstance(result.feature.shape, Slot)
    assert result.first.actual == pytest.approx(12, abs=1e-6)
    assert in_part(bench, result).center == pytest.approx([100, 20, 60], abs=1e-5)


def test_what_lies_in_a_plane_waits_for_it_and_follows_it(bench):
    top, *_ = block(bench)
    row = bench.circle([0, 0, 60], 30, top)
    without = {k: v for k, v in bench.readings.items() if k != top}
    results, memory = evaluate(Sheet(tuple(bench.rows)), without, KIT)
    assert results[row].state == "waits"
    results, _ = evaluate(Sheet(tuple(bench.rows)), bench.readings, KIT, memory)
    assert results[row].state == "done"


def test_a_pull_off_through_the_wall_asks_and_a_kit_in_doubt_is_said(bench):
    top, *_ = block(bench)
    way = -0.3 * RIM
    nominal = {"shape": "circle", "center": (0, 0, 60), "normal": (0, 0, 1), "radius": 40 / 2}
    row = bench.add({"kind": "circle", "plane": top, "nominal": nominal}, [0, 0, 60] + 17 * RIM, -way)
    assert found(bench, row).state == "asks"


def test_a_recipe_that_does_not_hold_is_refused_by_the_name_of_its_field():
    for raw, words in (
        ({"kind": "line", "name": "L"}, "tell no plane"),
        (
            {
                "kind": "circle",
                "name": "C",
                "nominal": {"shape": "circle", "center": (0, 0, 0), "normal": (0, 0, 1), "radius": -1},
            },
            "the radius is not a number above zero",
        ),
        ({"kind": "holds", "name": "H", "holds": []}, "The holds cannot be so"),
        ({"kind": "level", "name": "L", "station": 1, "plane": 2}, "a station with a level, or a plane"),
        ({"kind": "steps", "name": "S", "steps": [{"step": "turn", "features": [1], "axis": "up"}]}, "axis cannot be so"),
        ({"kind": "spoon", "name": "S"}, "refused"),
    ):
        with pytest.raises(InputError, match=words):
            recipe_from_dict(raw)


def test_a_long_sweep_is_looked_at_through_some_of_its_hits_until_it_is_finished():
    bench, random = Bench(noise_mm=0.005), np.random.default_rng(1)
    spots = np.column_stack([*random.uniform(-100, 100, (2, 5000)), np.full(5000, 60 + TIP)])
    nominal = {"shape": "plane", "point": [0, 0, 60], "normal": [0, 0, 1]}
    row = bench.add({"kind": "plane", "nominal": nominal}, spots, UP)
    done = found(bench, row)
    bench.rows[0] = replace(bench.rows[0], finished=False)
    taking = found(bench, row)
    assert (taking.state, taking.hits) == ("taking", 5000)
    assert (done.state, done.hits, len(done.residuals)) == ("done", 5000, 5000)
    assert 1000 <= len(taking.residuals) <= 1001
    assert taking.feature.counted[-1] == done.feature.counted[-1]  # the newest is always among them
    assert abs((done.feature.shape.point - taking.feature.shape.point) @ done.feature.shape.normal) < 0.001


def test_what_a_flat_shape_touches_first_of_all_is_never_left_out():
    bench, random = Bench(), np.random.default_rng(2)
    turn = random.uniform(0, 2 * np.pi, 3000)
    first = np.array([[-40, -40, 60 + TIP], [40, -40, 60 + TIP], [0, 40, 60 + TIP]])
    rim = np.column_stack([(20 - TIP) * np.cos(turn), (20 - TIP) * np.sin(turn), np.full(3000, 55.0)])
    nominal = {"shape": "circle", "center": [0, 0, 60], "normal": [0, 0, 1], "radius": 20}
    row = bench.add(
        {"kind": "circle", "plane_hits": 3, "nominal": nominal}, np.vstack([first, rim]),
        np.vstack([np.tile(UP, (3, 1)), -0.04 * (rim - [0, 0, 55])]),
    )  # fmt: skip
    bench.rows[0] = replace(bench.rows[0], finished=False)
    result = found(bench, row)
    assert (result.hits, result.feature.laid) == (3003, 3)
    assert result.feature.feature.shape.radius == pytest.approx(20, abs=1e-6)
