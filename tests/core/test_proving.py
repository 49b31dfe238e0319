"""What would settle a row: places by gain, chances that are foretold, causes of many, and what is known while measuring."""

import itertools

import numpy as np
import pytest
from block import KIT, TIP, UP, Bench, block
from proving_draws import draw

from zipplumb.core.sheet import Sheet, SheetRow, evaluate
from zipplumb.core.sheet.proving.causes import causes
from zipplumb.core.sheet.proving.chance import Outlook, open_characteristics
from zipplumb.core.sheet.proving.places import best_places
from zipplumb.core.sheet.proving.settled import settled
from zipplumb.core.sheet.proving.standing import Standing, with_hits
from zipplumb.core.sheet.proving.way import AlsoHeld, KnownBetter, MoreHits, Work
from zipplumb.core.sheet.proving.ways import settling

WORK = Work()
DRAWN = 320
EVERYWHERE = np.array([[x, y, 60.0] for x in range(-240, 241, 40) for y in (-120, 0, 120)], float)


def standing(bench, alignment):
    sheet = Sheet(tuple(bench.rows), alignment)
    results, memory = evaluate(sheet, bench.readings, KIT)
    return Standing(sheet, bench.readings, KIT, results, memory)


@pytest.mark.parametrize("seed", range(20))
def test_places_are_nearly_as_good_as_the_best_of_all(seed):
    """Greedy against every choice of 4 of 9 places: never less than 1 - 1/e of the gain of the best four (Nemhauser, Wolsey,
    Fisher 1978, of submodular gains, which this one nearly is)."""
    random = np.random.default_rng(seed)
    tells, judged_by = random.normal(size=(9, 4)), random.normal(size=4)
    whole = judged_by @ judged_by

    def left(chosen):
        information = np.eye(4) + tells[list(chosen)].T @ tells[list(chosen)] / 0.25
        return judged_by @ np.linalg.solve(information, judged_by)

    best = min(left(chosen) for chosen in itertools.combinations(range(9), 4))
    order, variances = best_places(tells, judged_by, 0.5, 4)
    assert variances[-1, 0] == pytest.approx(left(order))
    assert whole - variances[-1, 0] >= (1 - 1 / np.e) * (whole - best)
    assert np.all(np.diff(variances[:, 0]) <= 1e-12)
    again, _ = best_places(tells, judged_by, 0.5, 12)
    assert len(set(again[:9].tolist())) == 9  # none twice before all were


@pytest.fixture(scope="module")
def narrow():
    """A top touched in a narrow strip: six heights far off it hang on its tilt. The bench, its rows and the system."""
    bench = Bench(u_hit_mm=0.003)
    strip = np.array([[x, y, 60 + TIP] for x in (-4.0, 4.0) for y in (-100.0, 0, 100)])
    nominal = {"shape": "plane", "point": [0, 0, 60], "normal": [0, 0, 1]}
    top = bench.add({"kind": "plane", "nominal": nominal, "datum": "A"}, strip, UP)
    side = bench.plane([0, -140, 30], [0, -1, 0], datum="B")
    end = bench.plane([-250, 0, 30], [-1, 0, 0], datum="C")
    system = bench.add({"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end})
    asked = [{"key": "height", "lower": -0.1, "upper": 0.1}]
    seats = []
    for x in (-220.0, 220.0):
        for y in (-90.0, 0.0, 90.0):
            spots = np.array([[x + i, y + j, 60 + TIP] for i in (-9, 9) for j in (-9, 9)])
            nominal = {"shape": "plane", "point": [x, y, 60], "normal": [0, 0, 1]}
            seats.append(bench.add({"kind": "plane", "nominal": nominal, "asked": asked}, spots, UP))
    return bench, top, seats, standing(bench, system)


def test_a_datum_touched_too_narrowly_is_the_cause_and_one_act_mends_all(narrow):
    bench, top, seats, at = narrow
    assert [at.results[row].verdict.word for row in seats] == ["not proven"] * 6
    spots = {top: bench.lies.points(EVERYWHERE)}
    cause = causes(at, spots.get, WORK)[0]
    assert (cause.row, sorted(cause.rows)) == (top, seats)
    assert cause.settled > 5.5
    reach = bench.lies.inverse().points(cause.aims)
    assert np.abs(reach[:, 0]).max() > 200 and np.allclose(reach[:, 2], 60, atol=1e-6)  # far out, on the surface
    centers = bench.lies.points(bench.lies.inverse().points(cause.aims) + [0, 0, TIP])
    readings = dict(at.readings)
    readings[top] = with_hits(readings[top], at.results[top].feature, centers, KIT.stations)
    after = evaluate(at.sheet, readings, KIT)[0]
    assert [after[row].verdict.word for row in seats] == ["in"] * 6


def test_the_ways_of_one_row_say_where_and_whether_it_is_enough(narrow):
    bench, top, seats, at = narrow
    found = settling(at, seats[0], {top: bench.lies.points(EVERYWHERE)}.get, WORK)
    way = found.ways[0]
    assert isinstance(way, MoreHits) and way.enough and list(way.places) == [top]
    assert way.U < found.outlook.margin < found.outlook.judged.U
    assert sorted(way.others) == seats[1:]
    assert way.work_s == pytest.approx(WORK.row_s + way.hits * WORK.hit_s)
    beside = settling(at, seats[0], lambda row: None, WORK).ways[0]  # where it was touched no hit tells so much
    assert beside.hits > 2 * way.hits or not beside.enough


def test_a_feature_that_is_measured_holds_the_part_too_where_that_is_enough():
    """Best fits on a strip; a plane far off is the spare hold, and none that is judged itself. Its U comes as the sheet says it
    with that hold, what it would be found to be is not looked at, and where precedence is strict there is no such way."""
    bench = Bench(u_hit_mm=0.003)
    rows = [
        bench.add(
            {"kind": "plane", "nominal": {"shape": "plane", "point": p, "normal": n}}, np.array(at) + TIP * np.array(n), n
        )
        for p, n, at in (
            ([0, 0, 60], UP, [[x, y, 60] for x in (-4.0, 4.0) for y in (-100.0, 0, 100)]),
            ([0, -140, 30], [0, -1, 0], [[x, -140, z] for x in (-200.0, 200) for z in (10.0, 50)]),
            ([-250, 0, 30], [-1, 0, 0], [[-250, y, z] for y in (-90.0, 90) for z in (10.0, 50)]),
        )
    ]
    limits = [{"key": "height", "lower": -0.025, "upper": 0.025}]
    far, _, seat = (
        bench.add(
            {"kind": "plane", "nominal": {"shape": "plane", "point": [x, 0, 60], "normal": [0, 0, 1]}, "asked": asked},
            np.array([[x + i, j, 60 + TIP] for i in (-9.0, 9) for j in (-9.0, 9)]), UP,
        )
        for x, asked in ((-225.0, ()), (-230.0, limits), (220.0, limits))
    )  # fmt: skip
    held = bench.add({"kind": "holds", "holds": [{"feature": row, "directions": ["own"]} for row in rows]})
    strict = bench.add({"kind": "datum_planes", "primary": rows[0], "secondary": rows[1], "tertiary": rows[2]})
    at = standing(bench, held)
    found = settling(at, seat, lambda touched: None, WORK)
    way = found.ways[0]
    assert isinstance(way, AlsoHeld) and way.chance > 0.8 and (way.feature, way.system) == (far, held)
    assert way.U < found.outlook.margin < found.outlook.judged.U
    sheet = Sheet(tuple(SheetRow(r.id, way.recipe, True) if r.id == held else r for r in bench.rows), held)
    assert pytest.approx(way.U) == evaluate(sheet, bench.readings, KIT)[0][seat].first.U
    assert not any(isinstance(each, AlsoHeld) for each in settling(standing(bench, strict), seat, lambda _: None, WORK).ways)


def test_what_is_foretold_is_what_comes():
    """Drawn jobs (see ``draw``) some of which are not proven: the ways that are told first are taken, each hit where it is
    proposed, with noise of its own. As many are settled as was foretold, within three standard deviations of so many draws, for
    the likely and for the unlikely ones; U comes as it was told."""
    random, chances, came, ratios = np.random.default_rng(17), [], [], []
    for _ in range(DRAWN):
        job = draw(random)
        found = settling(job.at, job.row, job.spots, WORK)
        way = next((way for way in found.ways if isinstance(way, MoreHits)), None) if found is not None else None
        if way is None:
            continue
        judged = found.outlook.judged
        after = next(c for c in job.taken(way, random).characteristics if c.key == judged.key)
        chances.append(way.chance)
        came.append(after.verdict.word != "not proven")
        ratios.append(after.U / way.U)
    assert len(chances) > DRAWN / 4
    told, came = np.array(chances), np.array(came)
    for part in (told < 0.75, (told >= 0.75) & (told < 0.9), told >= 0.9):
        off = came[part].sum() - told[part].sum()
        assert abs(off) < 3 * np.sqrt((told[part] * (1 - told[part])).sum()) + 1
    assert np.median(ratios) == pytest.approx(1, abs=0.03)


def test_what_is_proven_is_not_argued_with_and_what_is_shared_is_named():
    bench = Bench()
    top, side, end = block(bench)
    system = bench.add({"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end})

    def seat(height, limit):
        nominal = {"shape": "plane", "point": [100, 0, 60], "normal": [0, 0, 1]}
        spots = np.array([[100 + x, y, height + TIP] for x in (-10.0, 10) for y in (-10.0, 10)])
        asked = [{"key": "height", "lower": -limit, "upper": limit}]
        return bench.add({"kind": "plane", "nominal": nominal, "asked": asked}, spots, UP)

    out, close = seat(61.0, 0.1), seat(60.095, 0.1)
    at = standing(bench, system)
    assert at.results[out].verdict.word == "out" and settling(at, out, lambda row: None, WORK) is None
    assert at.results[close].verdict.word == "not proven"
    assert all(isinstance(way, MoreHits) for way in settling(at, close, lambda row: None, WORK).ways)
    doubtful = {1: KIT.calibrations[1].__class__(1, np.zeros(3), 2 * TIP, 0.02)}
    kit = KIT.__class__(KIT.stations, doubtful)
    nominal = {"shape": "cylinder", "point": [0, 0, 0], "direction": [0, 0, 1], "radius": 30.0}
    turns = np.array([[np.cos(t), np.sin(t), z] for z in (0, 1, 2) for t in np.linspace(0, 6, 8)])
    wall = turns * [27, 27, 20]
    bore = bench.add(
        {"kind": "cylinder", "nominal": nominal, "inside": True, "asked": [{"key": "diameter", "lower": -0.05, "upper": 0.05}]},
        wall, -0.1 * wall * [1, 1, 0],
    )  # fmt: skip
    sheet = Sheet(tuple(bench.rows), system)
    results, memory = evaluate(sheet, bench.readings, kit)
    found = settling(Standing(sheet, bench.readings, kit, results, memory), bore, lambda row: None, WORK)
    assert isinstance(found.ways[0], KnownBetter) and found.ways[0].source == ("tip", 1)
    assert found.ways[0].work_s == WORK.calibration_s


def test_own_form_that_leaves_it_open_is_told():
    bench = Bench()
    spots = np.array([[x, y, 60 + TIP + (0.03 if x == y else 0.0)] for x in (-100.0, 0, 100) for y in (-100.0, 0, 100)])
    nominal = {"shape": "plane", "point": [0, 0, 60], "normal": [0, 0, 1]}
    raw = {"kind": "plane", "nominal": nominal, "asked": [{"key": "flatness", "upper": 0.03}]}
    row = bench.add(raw, spots, UP)
    at = standing(bench, None)
    assert at.results[row].verdict.word == "not proven"
    found = settling(at, row, lambda row: None, WORK)
    assert found.own_form and not found.enough


@pytest.mark.parametrize(
    ("off", "limit", "told"), [(0.0, 0.05, "in"), (0.2, 0.05, "out"), (0.05, 0.05, "no use"), (0.04, 0.05, "")]
)
def test_while_measuring_it_is_told_once_it_is_settled(off, limit, told):
    """``no use``: its alignment is what leaves it open."""
    bench = Bench(u_hit_mm=0.01 if told != "no use" else 0.03)
    top, side, end = block(bench)
    system = bench.add({"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end})
    x = 10.0 if told != "no use" else 240.0
    spots = np.array([[x + i, j, 60 + off + TIP] for i in (-12.0, 0, 12) for j in (-12.0, 0, 12)])
    nominal = {"shape": "plane", "point": [x, 0, 60], "normal": [0, 0, 1]}
    asked = [{"key": "height", "lower": -limit, "upper": limit}]
    row = bench.add({"kind": "plane", "nominal": nominal, "asked": asked, "hits": 14}, spots, UP)
    bench.rows[-1] = SheetRow(row, bench.rows[-1].recipe, False)
    found = standing(bench, system).results[row]
    assert found.state == "taking"
    assert settled(found, 5) == told


def test_a_chance_is_a_chance():
    """Nothing learnt settles nothing; all learnt settles all; both limits are looked at."""
    random, open_ = np.random.default_rng(3), []
    while not open_:
        job = draw(random)
        open_ = open_characteristics(job.at.results[job.row])
    outlook = Outlook(open_[0])
    assert outlook.joined(outlook.u, outlook.judged.U) < 1e-6
    assert outlook.joined(1e-9, 2e-9) == pytest.approx(1, abs=1e-6)
    assert 0 < outlook.joined(outlook.u / 2, outlook.judged.U / 2) < 1
    assert outlook.anew(outlook.u**2, 1e-6, 1e-6) == pytest.approx(1, abs=1e-3)
