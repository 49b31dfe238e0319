"""What shares a source is correlated: stated regions hold the truth where independence would fail.

Published: JCGM 100, F.1.2 (correlated input quantities), JCGM 101 (Monte Carlo).
"""

import numpy as np
import pytest
from block import KIT, TIP, UP, Bench
from stated import RUNS, Stated

from zipplumb.core.calibration import ProbeCalibration
from zipplumb.core.deriving import construct
from zipplumb.core.features import Feature
from zipplumb.core.frames import Motion
from zipplumb.core.shapes import Circle, Cylinder, Plane
from zipplumb.core.sheet import Kit, Sheet, evaluate, recipe_from_dict
from zipplumb.core.sheet.bases.systems import ActualFeature, SystemInputs
from zipplumb.core.sheet.judging import Number, in_system, told_in
from zipplumb.core.uncertainty import Source, Uncertainty

SPOTS = np.array([[x, y] for x in np.linspace(-60, 60, 6) for y in np.linspace(-60, 60, 5)])


def drawn(features, random):
    """Shapes drawn by source: what is shared is drawn once."""
    found, seen = [], {}
    for feature in features:
        step = np.zeros(feature.uncertainty.size)
        for source, term in feature.uncertainty.by_source.items():
            seen.setdefault(source, random.normal(size=term.shape[1]))
            step = step + term @ seen[source]
        found.append(feature.stepped(step))
    return found


def known(name, shape, local, spread, **tip):
    """A feature from its own hits and, where said, one tip."""
    own = Uncertainty.of_covariance(Source("hits", name), spread)
    column = np.array([[tip.get(k, 0.0)] for k in ("x", "y", "z", "rx", "ry", "rz", "radius")[: len(spread)]])
    return Feature(name, shape, local, own + Uncertainty(len(spread), {Source("tip", 1): column} if tip else {}))


def plane(name, height, facing=1.0, **tip):
    spread = np.diag([0, 0, 0.003, 2e-5, 3e-5, 0]) ** 2
    return known(name, Plane([0, 0, height], [0, 0, facing]), Motion(np.eye(3), np.array([0, 0, height])), spread, **tip)


def test_one_tip_cancels_in_a_step_and_counts_twice_in_a_thickness():
    """From raw hits: a tip 10 µm (1 u) uncertain, two planes that face alike and two that face away from each other."""
    random, u_tip, noise = np.random.default_rng(5), 0.010, 0.002
    kit = Kit(KIT.stations, {1: ProbeCalibration(1, np.zeros(3), 2 * TIP, u_tip)})
    bench, errors, alone = Bench(u_hit_mm=noise), Stated(), Stated()
    faces = ((60.0, 1.0), (90.0, 1.0), (0.0, -1.0))
    for _, facing in faces:
        bench.add({"kind": "plane"}, np.column_stack([SPOTS, 0 * SPOTS[:, 0]]), facing * UP)
    dimensions = [
        bench.add({"kind": "dimension", "of": of, "measure": "perpendicular_distance", "nominal_mm": nominal})
        for of, nominal in (([1, 2], 30.0), ([1, 3], 60.0))
    ]
    sheet, memory = Sheet(tuple(bench.rows)), None
    for _ in range(RUNS):
        tip = TIP + random.normal(0, u_tip)
        for row, (z, facing) in enumerate(faces, 1):
            off = random.normal(0, noise, len(SPOTS))
            bench.touched[row] = np.column_stack([SPOTS, z + facing * tip + off]), facing * UP
        bench.read_again(random)
        results, memory = evaluate(sheet, bench.readings, kit, memory)
        for row in dimensions:
            found = results[row].first
            errors.saw(row, found.deviation, found.U)
            independent = np.sqrt(2 * u_tip**2 + found.uncertainty.share(Source("hits", 1)) ** 2 * 2)
            alone.saw(row, found.deviation, 2 * independent)
    errors.must_hold()
    assert not any(alone.holds(row) for row in dimensions)


def test_a_feature_used_twice_knows_itself():
    a = plane("A", 10.0, z=-0.01)
    raised = construct("offset_plane", [a], recipe_from_dict(
        {"kind": "construction", "name": "O", "of": [1], "make": "offset_plane", "offset_mm": 5.0}).given).feature  # fmt: skip
    distance = construct("perpendicular_distance", [a, raised])
    assert distance.value == pytest.approx(5.0)
    assert distance.u < 1e-8  # of 0.012, by differences
    assert construct("perpendicular_distance", [a, plane("B", 15.0, z=-0.01)]).u > 0.004  # 0.003 each


def test_made_features_with_a_common_parent():
    """A to the plane midway between A and B is half of A to B: 0.5 u, where independence says more."""
    random, errors = np.random.default_rng(7), Stated()
    a, b = plane("A", 0.0, -1.0, z=0.004), plane("B", 40.0, 1.0, z=-0.004)

    def value(first, second):
        middle = construct("middle_plane", [Feature("a", first), Feature("b", second)]).feature.shape
        return construct("perpendicular_distance", [Feature("a", first), Feature("m", middle)]).value

    middle = construct("middle_plane", [a, b]).feature
    stated = construct("perpendicular_distance", [a, middle])
    assert stated.value == pytest.approx(20.0)
    independent = np.hypot(a.uncertainty.u(2), middle.uncertainty.u(2))
    for _ in range(RUNS):
        off = value(*drawn([a, b], random)) - 20.0
        errors.saw("stated", off, 2 * stated.u)
        errors.saw("independent", off, 2 * independent)
    errors.must_hold("stated")
    assert not errors.holds("independent")


def test_a_hole_judged_in_the_system_that_it_helped_to_make():
    """Four holes hold the part in X and Y with five to spare: the X of one of them, drawn toward its nominal."""
    random, errors = np.random.default_rng(9), Stated()
    places = np.array([[-200, -100, 0], [200, -100, 0], [200, 100, 0], [-200, 100, 0.0]])
    spread = np.diag([0.01, 0.01, 0, 0, 0, 0, 0.004]) ** 2
    top = plane("top", 0.0)
    holes = [known(f"h{k}", Circle(p, UP, 6), Motion(np.eye(3), p), spread, radius=0.004) for k, p in enumerate(places)]
    recipe = recipe_from_dict(
        {"kind": "holds", "name": "H", "holds": [{"feature": 9, "directions": ["own"]}]
         + [{"feature": k + 1, "directions": ["X", "Y"], "u_mm": 0.01} for k in range(4)]}
    )  # fmt: skip

    def solved(top, holes):
        named = {k + 1: ActualFeature(h.name, n.shape, h, np.empty((0, 3)), h.name)
                 for k, (h, n) in enumerate(zip(holes, NOMINAL, strict=True))}  # fmt: skip
        named[9] = ActualFeature("top", Plane([0, 0, 0], UP), top, np.empty((0, 3)), "top")
        return recipe.solve(SystemInputs(named))

    NOMINAL = list(holes)
    for _ in range(RUNS):
        first, *others = drawn([top, *holes], random)
        seen = [Feature(h.name, s, h.local, h.uncertainty) for h, s in zip(holes, others, strict=True)]
        system = solved(Feature("top", first, top.local, top.uncertainty), seen)
        placed = in_system(seen[0], system)
        (told,) = told_in([Number(lambda s: s.center[0])], [placed], system)
        errors.saw("stated", told.value + 200, 2 * told.uncertainty.u())
        independent = np.hypot(0.01, system.u_along(placed.shape.center, np.array([1.0, 0, 0])))
        errors.saw("independent", told.value + 200, 2 * independent)
    errors.must_hold("stated")
    assert not errors.holds("independent")


def test_a_datum_is_exactly_where_it_holds_the_part_and_other_faces_share_its_uncertainty():
    bench = Bench()
    rows = [bench.plane([0, 0, 60], [0, 0, 1]), bench.plane([0, -140, 30], [0, -1, 0]), bench.plane([-250, 0, 30], [-1, 0, 0])]
    far = bench.plane([250, 0, 30], [1, 0, 0])
    kit = Kit(KIT.stations, {1: ProbeCalibration(1, np.zeros(3), 2 * TIP, 0.005)})
    names = dict(zip(("primary", "secondary", "tertiary"), rows, strict=True))
    _, results = bench.align(kind="datum_planes", kit=kit, **names)
    assert all(results[r].characteristic("height").held for r in rows)
    assert results[rows[2]].characteristic("height").U < 1e-6
    sources = dict(results[far].characteristic("height").budget)
    assert sources[Source("tip", 1)] == pytest.approx(2 * 2 * 0.005, rel=0.02)  # a thickness: the radius counts twice
    assert sources[Source("hits", rows[2])] > 0.005
    budget = results[far].characteristic("height").budget
    assert [u for _, u in budget] == sorted((u for _, u in budget), reverse=True)
    assert np.sqrt(sum(u**2 for _, u in budget)) == pytest.approx(results[far].characteristic("height").U)


def test_an_offset_and_a_station_move_all_that_was_read_with_them():
    """A probe's offset is uncertain by 20 µm: two planes touched in one posture move alike, so their step does not."""
    bench = Bench(u_hit_mm=1e-6)
    bench.plane([0, 0, 60], [0, 0, 1])
    bench.plane([0, 0, 90], [0, 0, 1])
    bench.add({"kind": "dimension", "of": [1, 2], "measure": "perpendicular_distance"})
    cal = ProbeCalibration(1, np.zeros(3), 2 * TIP, 0.0, u_offset_mm=0.02)
    results, _ = evaluate(Sheet(tuple(bench.rows)), bench.readings, Kit(KIT.stations, {1: cal}))
    assert results[1].feature.feature.uncertainty.share(Source("offset", 1), 2) == pytest.approx(0.02, rel=1e-6)
    assert results[3].first.U < 1e-4
    spread = np.diag([0.03, 0.03, 0.03, 1e-5, 1e-5, 1e-5]) ** 2
    station = KIT.stations[1].__class__(1, Motion.identity(), pose_terms=np.sqrt(spread))
    results, _ = evaluate(Sheet(tuple(bench.rows)), bench.readings, Kit({1: station}, KIT.calibrations))
    assert results[1].feature.feature.uncertainty.share(Source("station"), 2) > 0.029
    assert results[3].first.uncertainty.share(Source("station")) < 1e-3


def test_a_bore_keeps_apart_what_its_tip_and_its_hits_make_uncertain():
    bench = Bench()
    turn = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    rim = np.column_stack([17 * np.cos(turn), 17 * np.sin(turn), np.tile([-8.0, 0, 8], 8)])
    bench.add({"kind": "cylinder", "nominal": {"shape": "cylinder", "point": [0, 0, 0], "direction": [0, 0, 1], "radius": 20}},
              rim, -rim * [1, 1, 0] / 17)  # fmt: skip
    kit = Kit(KIT.stations, {1: ProbeCalibration(1, np.zeros(3), 2 * TIP, 0.007)})
    found = evaluate(Sheet(tuple(bench.rows)), bench.readings, kit)[0][1]
    assert isinstance(found.feature.shape, Cylinder)
    diameter = found.characteristic("diameter")
    assert diameter.uncertainty.share(Source("tip", 1)) == pytest.approx(0.014, rel=1e-6)
    assert diameter.uncertainty.share(Source("hits", 1)) == pytest.approx(2 * 0.01 / np.sqrt(24), rel=0.02)
