"""Tolerances in the sheet, from hits to the verdict, against definitions, brute force and many runs.

- Position 2·√(Δx² + Δy²): ISO 1101, ASME Y14.5. The bonus at maximum material is how far the size is from its limit:
  ISO 2692, ASME Y14.5.
- Flatness is the width of the convex hull (ISO 1101, minimum zone), found here over all faces and edge pairs of scipy's
  hull; zones at an angle to a datum by looking at 20,000 directions.
- A true circle that is off its axis by e runs out by 2e, and so is its concentricity: geometry.
- Perpendicularity 0.0299 against 0.025 is out by 0.0049: practice.
- What is stated holds the truth in 95.45 % of runs: JCGM 100, JCGM 101.
"""

import numpy as np
import pytest
from block import KIT, TIP, TURN, UP, Bench, block
from stated import RUNS, Stated
from test_zones import hull_width

from zipplumb.core.frames import perpendicular_pair
from zipplumb.core.sheet import Sheet, evaluate
from zipplumb.core.tolerances.mobility import Clearance, OffPlaces, Stepped, best_motion, left_free, moved, rows_of
from zipplumb.core.tolerances.zones import least_slab_across, least_slab_at

RIM = np.column_stack([np.cos(TURN), np.sin(TURN), 0 * TURN])
LOOKED_AT = 20_000


def judged(bench, number, alignment=None):
    found = evaluate(Sheet(tuple(bench.rows), alignment), bench.readings, KIT)[0][number]
    assert found.state == "done", found.message
    return found


def bore(bench, center, diameter, nominal, plane, **more):
    """A hole of the block's top, where and as large as it really is."""
    center = np.array(center, float)
    told = {"shape": "circle", "center": nominal[:3], "normal": (0, 0, 1), "radius": nominal[3] / 2}
    hits = center + (diameter / 2 - TIP) * RIM
    return bench.add({"kind": "circle", "nominal": told, "plane": plane, **more}, hits, -0.3 * RIM)


def cylinder(bench, point, direction, diameter, nominal, heights=(0, 15, 30)):
    direction = np.array(direction, float) / np.linalg.norm(direction)
    u = np.cross(direction, [0, 1.0, 0]) / np.linalg.norm(np.cross(direction, [0, 1.0, 0]))
    rim = np.outer(np.cos(TURN), u) + np.outer(np.sin(TURN), np.cross(direction, u))
    hits = np.vstack([point + z * direction + (diameter / 2 - TIP) * rim for z in heights])
    told = {"shape": "cylinder", "point": nominal, "direction": (0, 0, 1), "radius": diameter / 2}
    return bench.add({"kind": "cylinder", "nominal": told}, hits, np.tile(-0.3 * rim, (len(heights), 1)))


def in_order(*rows):
    return [{"features": [row]} for row in rows]


def test_position_is_twice_the_distance():
    bench = Bench(u_hit_mm=1e-5)
    top, side, end = block(bench)
    hole = bore(bench, [50.005, 20.005, 60], 12, (50, 20, 60, 12), top)
    row = bench.add({"kind": "position", "of": [hole], "zone_mm": 0.025, "datums": in_order(top, side, end)})
    found = judged(bench, row)
    assert found.first.actual == pytest.approx(2 * np.hypot(0.005, 0.005), abs=1e-6)
    assert found.first.actual == pytest.approx(0.0141, abs=5e-5)
    assert found.verdict.word == "in"
    across = bench.add({"kind": "position", "of": [hole], "zone_mm": 0.025, "datums": in_order(top, side, end), "across": "X"})
    assert judged(bench, across).first.actual == pytest.approx(0.01, abs=1e-6)


def test_the_size_gives_a_bonus_at_maximum_material():
    bench = Bench(u_hit_mm=1e-5)
    top, side, end = block(bench)
    limits = {"asked": [{"key": "diameter", "lower": -0.1, "upper": 0.1}]}
    hole = bore(bench, [50.12, 20.09, 60], 20.05, (50, 20, 60, 20), top, **limits)  # 0.30 off, 0.15 from its least size
    datums = {"of": [hole], "zone_mm": 0.2, "datums": in_order(top, side, end)}
    plain = judged(bench, bench.add({"kind": "position", **datums}))
    most = judged(bench, bench.add({"kind": "position", **datums, "condition": "maximum"}))
    least = judged(bench, bench.add({"kind": "position", **datums, "condition": "least"}))
    assert plain.first.actual == pytest.approx(0.30, abs=1e-6)
    assert (plain.verdict.word, plain.verdict.out_by) == ("out", pytest.approx(0.1, abs=1e-6))
    assert most.first.upper == pytest.approx(0.2 + 0.15, abs=1e-6)
    assert most.verdict.word == "close"
    assert least.first.upper == pytest.approx(0.2 + 0.05, abs=1e-6)
    assert (least.verdict.word, least.verdict.out_by) == ("out", pytest.approx(0.05, abs=1e-6))


def test_of_a_pattern_the_worst_tells():
    bench = Bench(u_hit_mm=1e-5)
    top, side, end = block(bench)
    holes = [bore(bench, [x + off, 20, 60], 12, (x, 20, 60, 12), top) for x, off in ((0, 0.01), (50, 0.04), (100, 0.02))]
    found = judged(bench, bench.add({"kind": "position", "of": holes, "zone_mm": 0.05, "datums": in_order(top, side, end)}))
    assert [c.actual for c in found.characteristics] == pytest.approx([0.08, 0.02, 0.08, 0.04], abs=1e-6)
    assert [c.verdict.word for c in found.characteristics] == ["out", "in", "out", "close"]
    assert "Row 5 is worst at X 50" in found.told.replace("\u202f", " ")


def test_perpendicularity_of_an_axis_to_a_face():
    bench = Bench(u_hit_mm=1e-5)
    top, _, _ = block(bench)
    leaning = cylinder(bench, [0, 0, 20], [0.0299 / 30, 0, 1], 20, (0, 0, 20))
    found = judged(bench, bench.add({"kind": "perpendicularity", "of": [leaning], "zone_mm": 0.025, "to_datum": top}))
    assert found.first.actual == pytest.approx(0.0299, abs=1e-5)
    assert (found.verdict.word, found.verdict.out_by) == ("out", pytest.approx(0.0049, abs=1e-5))


def test_a_circle_off_its_axis_runs_out_by_twice_that_and_is_as_much_from_concentric():
    bench = Bench(u_hit_mm=1e-5)
    top, _, _ = block(bench)
    axis = cylinder(bench, [0, 0, 20], [0, 0, 1], 20, (0, 0, 20))
    ring = bore(bench, [0.03, 0, 60], 50, (0, 0, 60, 50), top)
    about = {"of": [ring], "zone_mm": 0.1, "to_datum": axis}
    assert judged(bench, bench.add({"kind": "circular_runout", **about})).first.actual == pytest.approx(0.06, abs=1e-5)
    assert judged(bench, bench.add({"kind": "coaxiality", **about})).first.actual == pytest.approx(0.06, abs=1e-5)
    assert judged(bench, bench.add({"kind": "roundness", "of": [ring], "zone_mm": 0.1})).first.actual < 1e-5


def test_form_and_direction_of_a_wavy_face(random):
    bench = Bench(u_hit_mm=1e-5)
    top, _, _ = block(bench)
    spots = np.column_stack([random.uniform(-60, 60, (25, 2)), 60 + random.normal(0, 0.02, 25)])
    told = {"shape": "plane", "point": (0, 0, 60), "normal": (0, 0, 1)}
    wavy = bench.add({"kind": "plane", "nominal": told}, spots + TIP * UP, UP)
    flat = judged(bench, bench.add({"kind": "flatness", "of": [wavy], "zone_mm": 0.1})).first.actual
    along = judged(bench, bench.add({"kind": "parallelism", "of": [wavy], "zone_mm": 0.1, "to_datum": top})).first.actual
    assert flat == pytest.approx(hull_width(spots), abs=1e-4)  # the tip goes off along the plane's own normal
    assert along == pytest.approx(np.ptp(spots[:, 2]), abs=1e-4)
    assert along > flat


def test_zones_at_an_angle_are_the_least_of_all_that_may_be(random):
    points = random.normal(0, 1, (30, 3)) * [60, 0.02, 40]
    turns = np.linspace(0, np.pi, LOOKED_AT)
    across = np.column_stack([np.cos(turns), np.sin(turns), 0 * turns])
    widths = np.ptp(points @ across.T, axis=0)
    assert least_slab_across(points, UP) == pytest.approx(widths.min(), abs=1e-2 * widths.min() + 0.01)
    assert least_slab_across(points, UP) <= widths.min() + 1e-12
    lean = np.radians(30)
    leaning = np.sin(lean) * np.column_stack([np.cos(2 * turns), np.sin(2 * turns), 0 * turns]) + np.cos(lean) * UP
    slanted = (points @ np.array([[1, 0, 0], [0, np.cos(lean), np.sin(lean)], [0, -np.sin(lean), np.cos(lean)]]).T)[
        :, [0, 2, 1]
    ]
    near = np.linalg.svd(slanted - slanted.mean(axis=0))[2][-1]
    least = np.ptp(slanted @ leaning.T, axis=0).min()
    assert least_slab_at(slanted, UP, lean, near) <= least + 1e-9


def test_an_unequal_profile():
    bench = Bench(u_hit_mm=1e-5)
    top, side, end = block(bench)
    spots = np.array([[x, y, 60.08] for x in (-40, 40) for y in (-40, 40)])
    told = {"shape": "plane", "point": (0, 0, 60), "normal": (0, 0, 1)}
    pad = bench.add({"kind": "plane", "nominal": told}, spots + TIP * UP, UP)
    profile = {"kind": "surface_profile", "of": [pad], "zone_mm": 0.1, "datums": in_order(top, side, end)}
    assert judged(bench, bench.add(profile)).first.actual == pytest.approx(0.16, abs=1e-5)
    assert judged(bench, bench.add({**profile, "offset_mm": 0.05})).first.actual == pytest.approx(0.06, abs=1e-5)


@pytest.mark.parametrize(("least", "left"), [(-0.4, 0.0), (-0.12, 0.08), (0.0, 0.2)])
def test_a_datum_at_its_boundary_lets_the_whole_pattern_shift(least, left):
    """Four holes all 0.1 off, a datum bore with 0.2, 0.06 or no clearance all round: what is left is twice what it cannot
    take (geometry; ISO 2692)."""
    bench = Bench(u_hit_mm=1e-5)
    top, _, end = block(bench)
    limits = {"asked": [{"key": "diameter", "lower": least, "upper": 0.1}]}
    pilot = bore(bench, [0, 0, 60], 30, (0, 0, 60, 30), top, **limits)
    at = np.array([[60, 0, 60], [0, 60, 60], [-60, 0, 60], [0, -60, 60.0]])
    holes = [bore(bench, place + [0.1, 0, 0], 12, (*place, 12), top) for place in at]
    datums = in_order(top, pilot, end)
    fixed = bench.add({"kind": "position", "of": holes, "zone_mm": 0.1, "datums": datums})
    datums[1]["boundary"] = "maximum"
    loose = bench.add({"kind": "position", "of": holes, "zone_mm": 0.1, "datums": datums})
    assert judged(bench, fixed).first.actual == pytest.approx(0.2, abs=1e-5)
    found = judged(bench, loose)
    assert found.first.actual == pytest.approx(left, abs=1e-5)
    assert found.verdict.word == ("out" if left > 0.1 else "close" if left > 0.075 else "in")
    assert ("shifted by X" in found.told.replace("\u00a0", " ")) == (left < 0.2)


@pytest.mark.parametrize(("boundary", "left"), [("none", 0.2), ("maximum", 0.0), ("least", 0.1)])
def test_a_face_is_told_from_a_bore_with_clearance(boundary, left):
    """An end face 0.1 too far from a bore needs 2 · 0.1 of profile. With 0.2 of clearance all round (20.0 where 19.6 is the
    most material) the part gives way wholly; with 0.05 (20.1 is the least) as far as that (geometry; ISO 2692, 5459)."""
    bench = Bench(u_hit_mm=1e-5)
    top, side, _ = block(bench)
    limits = {"asked": [{"key": "diameter", "lower": -0.4, "upper": 0.1}]}
    pilot = bore(bench, [0, 0, 60], 20, (0, 0, 60, 20), top, **limits)
    face = bench.plane([-250.1, 0, 30], [-1, 0, 0], nominal={"shape": "plane", "point": (-250, 0, 30), "normal": (-1, 0, 0)})
    datums = in_order(top, pilot, side)
    datums[1]["boundary"] = boundary
    found = judged(bench, bench.add({"kind": "surface_profile", "of": [face], "zone_mm": 0.05, "datums": datums}))
    assert found.first.actual == pytest.approx(left, abs=2e-5)
    assert ("shifted by X" in found.told.replace("\u00a0", " ")) == (boundary != "none")


def test_mobility_finds_the_least_of_all_shifts_and_turns(random):
    """Brute force: 12 random patterns against 40,000 motions that the clearance allows, by slopes and by differences."""
    by_differences = lambda off, at: Stepped(lambda motion: 2 * float(np.linalg.norm(off(moved(at, motion)))))  # noqa: E731
    for k in range(12):
        kind = by_differences if k % 2 else (lambda off, at: OffPlaces.of(off, at, 0.0))
        nominal = random.uniform(-80, 80, (5, 2))
        off = np.column_stack([random.normal(0, 0.1, (5, 2)), np.zeros(5)])
        places = np.column_stack([nominal, np.zeros(5)])
        needs = [kind(lambda points, p=p: (points - p) * [1, 1, 0], p[None] + o) for p, o in zip(places, off, strict=True)]
        clear = Clearance(np.zeros((1, 3)), UP, 0.08)
        free = left_free([(rows_of(np.array([[0, 0, 0], [90, 0, 0], [0, 90, 0.0]]), np.tile(UP, (3, 1))), True)], 100.0)
        found = best_motion(needs, free, [clear])
        assert np.linalg.norm(found[:2]) <= 0.08 + 1e-9
        tried = random.uniform(-1, 1, (40_000, 3)) * [0.08, 0.08, 0.004]
        tried = tried[np.hypot(tried[:, 0], tried[:, 1]) <= 0.08]
        turned = tried[:, 2:, None] * np.stack([-(nominal + off[:, :2])[:, 1], (nominal + off[:, :2])[:, 0]], axis=1)[None]
        left = 2 * np.linalg.norm(off[None, :, :2] + tried[:, None, :2] + turned, axis=2).max(axis=1)
        assert max(need(found) for need in needs) <= left.min() + 1e-6


def test_a_table_of_holes_on_a_bolt_circle():
    """Six holes on a circle of 80 about a hole that lies at (30, 10): from that, 40 and k·60° (geometry)."""
    bench = Bench(u_hit_mm=1e-5)
    top, side, end = block(bench)
    zero = bore(bench, [30, 10, 60], 30, (30, 10, 60, 30), top)
    turns = np.arange(6) * np.pi / 3
    at = np.array([30, 10, 60]) + 40 * np.column_stack([np.cos(turns), np.sin(turns), 0 * turns])
    holes = [bore(bench, place + [0.02, 0, 0], 12, (*place, 12), top) for place in at]
    row = bench.add({"kind": "hole_table", "of": holes, "origin": zero, "polar": True, "within_mm": 0.015})
    system = bench.add({"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end})
    found = judged(bench, row, system)
    second = {c.of.removeprefix("Row 6 "): c for c in found.characteristics if c.of.startswith("Row 6 ")}
    assert second["X"].actual == pytest.approx(20.02, abs=1e-5)
    assert second["Y"].actual == pytest.approx(40 * np.sin(np.pi / 3), abs=1e-5)
    assert second["from zero"].deviation == pytest.approx(0.02 * np.cos(np.pi / 3), abs=2e-5)
    assert second["angle"].nominal == pytest.approx(np.pi / 3)
    assert second["angle"].deviation == pytest.approx(-0.02 * np.sin(np.pi / 3) / 40, abs=1e-6)
    assert second["diameter"].deviation == pytest.approx(0, abs=1e-5)
    assert (second["X"].verdict.word, second["Y"].verdict.word) == ("out", "in")
    assert found.verdict.word == "out"


def test_some_holes_of_a_bolt_circle_say_how_many_places_it_has():
    """Seven of twelve on a circle of 80, one of them 0.03 too far out (geometry)."""
    bench = Bench(u_hit_mm=1e-5)
    top, _, _ = block(bench)
    turns = np.radians([0, 30, 60, 90, 120, 210, 330])
    at = np.array([0, 0, 60]) + 40 * np.column_stack([np.cos(turns), np.sin(turns), 0 * turns])
    out = np.where(np.arange(7)[:, None] == 4, 0.03 * (at - [0, 0, 60]) / 40, 0)
    holes = [bore(bench, place + off, 12, (*place, 12), top) for place, off in zip(at, out, strict=True)]
    found = judged(bench, bench.add({"kind": "bolt_circle", "of": holes, "within_mm": 0.02}))
    assert found.told == "7 of 12 places."
    assert (found.first.nominal, found.first.actual) == (pytest.approx(80), pytest.approx(80, abs=0.03))
    assert max(found.characteristics[1:], key=lambda c: c.actual).actual == pytest.approx(0.03, abs=0.015)


class Noisy(Bench):
    """Each place is touched so many times over, as while the button is held."""

    def __init__(self, times):
        super().__init__(u_hit_mm=0.01, noise_mm=0.01)
        self.times = times

    def read(self, centers, outward):
        if outward is not None and np.ndim(outward) > 1:
            outward = np.repeat(outward, self.times, axis=0)
        return super().read(np.repeat(centers, self.times, axis=0), outward)


def tolerances_of(bench):
    """By name, rows of tolerances that are each about 0.1 off, on the faces of one block."""
    top, side, end = block(bench)
    hole = bore(bench, [50.05, 20.08, 60], 12, (50, 20, 60, 12), top)
    below = bench.plane([0, 0, 0], -UP)
    pairs = [[bore(bench, [*at, 60], 16, (*at, 60, 16), top) for at in pair]
             for pair in (((0, 0), (120, 0)), ((40, -50), (40.1, 50)))]  # fmt: skip
    datum, line = (bench.add({"kind": "construction", "of": pair, "make": "line_through_the_centers"}) for pair in pairs)
    placed = {"kind": "position", "of": [hole], "zone_mm": 0.1, "datums": in_order(top, side, end)}
    return {
        "position": bench.add(placed),
        "a made line": bench.add({"kind": "perpendicularity", "of": [line], "zone_mm": 0.05, "to_datum": datum}),
        "a thickness": bench.add({"kind": "dimension", "of": [top, below], "measure": "perpendicular_distance"}),
    }


TRUTH = {"position": 2 * np.hypot(0.05, 0.08) - 0.1, "a made line": 0.05, "a thickness": 60.0}


def over(first):
    """By how much it needs more than its limit, a bonus in it; a dimension has none."""
    return first.actual - (first.upper or 0.0)


def test_what_is_stated_is_what_errs():
    """Each place is touched 20 times. Whether U holds of every kind of tolerance is looked at in ``test_drawn_part``."""
    errors, bench, memory = Stated(), Noisy(20), None
    rows = tolerances_of(bench)
    sheet = Sheet(tuple(bench.rows), None)
    for seed in range(RUNS):
        bench.read_again(np.random.default_rng([2026, seed]))
        found, memory = evaluate(sheet, bench.readings, KIT, memory)
        for name, row in rows.items():
            first = found[row].first
            errors.saw(name, over(first) - TRUTH[name], first.U)
    errors.must_hold()


def test_two_bores_in_one_line_are_a_common_datum():
    """ISO 5459, a common datum A–B: by symmetry its axis runs half way between two bores as long as each other that are
    0.02 and −0.02 off; what lies between them, half way up, runs true to it, and is 0.04 across out to either bore alone."""
    bench = Bench(u_hit_mm=1e-5)
    low = cylinder(bench, [0.02, 0, 0], [0, 0, 1], 20, (0, 0, 0))
    high = cylinder(bench, [-0.02, 0, 200], [0, 0, 1], 20, (0, 0, 200))
    between = cylinder(bench, [0, 0, 100], [0, 0, 1], 30, (0, 0, 100), heights=(14, 15, 16))
    position = {"kind": "position", "of": [between], "zone_mm": 0.05}
    common = judged(bench, bench.add({**position, "datums": [{"features": [low, high]}]}))
    alone = judged(bench, bench.add({**position, "datums": in_order(low)}))
    assert common.first.actual < 1e-3
    assert alone.first.actual == pytest.approx(0.04, abs=1e-3)
    axis = bench.add({"kind": "construction", "of": [low, high], "make": "common_axis"})
    ran = judged(bench, bench.add({"kind": "total_runout", "of": [between], "zone_mm": 0.05, "to_datum": axis}))
    assert ran.first.actual < 1e-3


def test_three_pads_of_one_level_are_a_common_datum():
    """A level face is out of parallel to the mean of three pads at 0, 0 and 0.03 by the slope of a linear regression of
    the pads' corners (numpy.linalg.lstsq) over its own reach."""
    bench = Bench(u_hit_mm=1e-5)
    at = np.array([[-200.0, -100, 0], [200, -100, 0], [0, 150, 0.03]])
    pads = [bench.plane(place, UP) for place in at]
    face = bench.plane([0, 0, 50], UP)
    corners = 40 * np.array([[1.0, 1, 0], [1, -1, 0], [-1, -1, 0], [-1, 1, 0]])
    hits = np.vstack([place + corners for place in at])
    slope = np.linalg.lstsq(np.column_stack([hits[:, :2], np.ones(len(hits))]), hits[:, 2], rcond=None)[0][:2]
    plane = bench.add({"kind": "construction", "of": pads, "make": "common_plane"})
    found = judged(bench, bench.add({"kind": "parallelism", "of": [face], "zone_mm": 0.05, "to_datum": plane}))
    assert found.first.actual == pytest.approx(float(np.ptp(corners[:, :2] @ slope)), rel=1e-3)


def test_a_second_datum_turns_the_zone():
    """By trigonometry: a face 80 across, square to the top but turned about its normal by 0.001 against the side, needs
    nothing to the top alone, and 80 · tan 0.001 with the side as the second datum. An axis likewise over its length."""
    bench = Bench(u_hit_mm=1e-5)
    top, side, _ = block(bench)
    turned = bench.plane([250, 0, 20], [np.cos(0.001), np.sin(0.001), 0], nominal={
        "shape": "plane", "point": (250, 0, 20), "normal": (1, 0, 0)})  # fmt: skip
    square = {"kind": "perpendicularity", "of": [turned], "zone_mm": 0.05, "to_datum": top}
    assert judged(bench, bench.add(square)).first.actual < 1e-3
    found = judged(bench, bench.add({**square, "second": side}))
    assert found.first.actual == pytest.approx(80 * np.tan(0.001), rel=1e-3)
    assert found.verdict.word == "out"
    leaning = cylinder(bench, [0, 0, 20], [0.002, 0, 1], 20, (0, 0, 20))
    axis = {"kind": "perpendicularity", "of": [leaning], "zone_mm": 0.05, "to_datum": top, "second": side}
    assert judged(bench, bench.add(axis)).first.actual == pytest.approx(30 * 0.002, rel=1e-3)


def test_the_bonus_is_of_what_goes_in():
    """ISO 2692, ASME Y14.5: the mating size of a hole is the largest that goes in. Of three lobes of 0.04 on 20.2 that is
    20.12 across (by geometry: hits on all three minima), so 0.22 from the least size of 19.9."""
    bench = Bench(u_hit_mm=1e-5)
    top, side, end = block(bench)
    told = {"shape": "circle", "center": (50, 20, 60), "normal": (0, 0, 1), "radius": 10}
    lobed = (10.1 - 0.04 * np.cos(3 * TURN) - TIP)[:, None] * RIM
    limits = {"asked": [{"key": "diameter", "lower": -0.1, "upper": 0.3}]}
    hits = np.array([50.2, 20, 60]) + lobed
    hole = bench.add({"kind": "circle", "nominal": told, "plane": top, **limits}, hits, -0.3 * RIM)
    position = {"kind": "position", "of": [hole], "zone_mm": 0.1, "datums": in_order(top, side, end)}
    found = judged(bench, bench.add({**position, "condition": "maximum"}))
    assert found.first.upper == pytest.approx(0.1 + 0.22, abs=1e-4)
    assert found.verdict.word == "out"
    assert "which its limits allow" in found.told.replace("\u202f", " ")  # 0.08 larger, of 0.08 that are left to 20.3
    assert "Datums by least squares" in found.told


def test_what_rework_brings_a_face_in():
    """A face 0.3 too high is brought in by taking off; one that lacks material by nothing."""
    bench = Bench(u_hit_mm=1e-5)
    block(bench)
    for off, words in ((0.3, "Taking 0.2500"), (-0.3, "Material is missing")):
        face = bench.plane([100, 50, 60 + off], UP, nominal={"shape": "plane", "point": (100, 50, 60), "normal": (0, 0, 1)})
        told = {"kind": "surface_profile", "of": [face], "zone_mm": 0.1, "datums": in_order(1, 2, 3)}
        assert words in judged(bench, bench.add(told)).told.replace("\u202f", " ")


@pytest.mark.parametrize("hits", [1, 3])
def test_targets_make_a_datum_together(hits):
    """ISO 5459: three targets are the plane through them, two more and one more leave nothing loose. With one of the three
    0.03 high a place elsewhere is as far off as that plane leans there: plane through three points, by numpy."""
    bench = Bench(u_hit_mm=1e-5)

    def target(place, normal):
        around = np.array([[4, 0, 0], [-2, 3.4, 0], [-2, -3.4, 0]])[:hits] * (hits > 1)
        u, v = perpendicular_pair(np.array(normal, float))
        spots = place + around[:, :1] * u + around[:, 1:2] * v + TIP * np.array(normal)
        nominal = {"shape": "plane", "point": [*place[:2], round(place[2])], "normal": normal}
        return bench.add({"kind": "surface_point", "nominal": nominal, "hits": hits}, spots, np.array(normal, float))

    low = np.array([[-200.0, -100, 60], [200, -100, 60], [0, 120, 60.03]])
    first = [target(place, [0, 0, 1]) for place in low]
    second = [target(np.array(place), [0, -1, 0]) for place in ([-200.0, -140, 30], [200.0, -140, 30])]
    third = [target(np.array([-250.0, 0, 30]), [-1, 0, 0])]
    nest = bench.point([150, 90, 80], [150, 90, 80])
    datums = [{"features": group} for group in (first, second, third)]
    found = judged(bench, bench.add({"kind": "position", "of": [nest], "zone_mm": 0.1, "across": "Z", "datums": datums}))
    a, b, c = np.linalg.solve(np.column_stack([low[:, :2], np.ones(3)]), low[:, 2])
    assert found.first.actual == pytest.approx(2 * abs(a * 150 + b * 90 + c - 60), rel=2e-3)
    assert found.first.U < 1e-3
