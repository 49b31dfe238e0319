"""Maps of what was touched: each hit tells how far the surface is off there, sure by all its sources."""

from dataclasses import replace

import numpy as np
import pytest
from block import KIT, TIP, UP, Bench, block

from zipplumb.core.errors import InputError
from zipplumb.core.sheet import Kit, PartSurfaces, Sheet, evaluate

WAVE_MM, LONG_MM = 0.4, 200.0
BESIDE = np.array([0, -1, 0.0])


def on_top(points):
    return points * [1, 1, 0] + [0, 0, 60], np.tile(UP, (len(points), 1))


def on_side(points):
    return points * [1, 0, 1] + [0, -140, 0], np.tile(BESIDE, (len(points), 1))


SURFACES = PartSurfaces("a block", on_top, lambda face: {3: on_top, 4: on_side}[face])
GRID = np.array([[x, y, 60.0] for x in range(-200, 201, 20) for y in range(-100, 101, 25)])


def waved(points):
    return 0.5 * WAVE_MM * np.sin(2 * np.pi * points[:, 0] / LONG_MM)


class Touched:
    """A block whose free top waves, touched all over, and a map of that with limits."""

    def __init__(self, noise_mm=0.0, kit=KIT, limit_mm=0.15, **more):
        self.bench, self.kit = Bench(noise_mm=noise_mm), kit
        top, side, end = block(self.bench)
        self.active = self.bench.add({"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end})
        centers = GRID + (TIP + waved(GRID))[:, None] * UP
        self.top = self.bench.add({"kind": "free_surface", "face": 3}, centers, UP)
        limits = [{"key": "largest", "upper": limit_mm}, {"key": "smallest", "lower": -limit_mm}, {"key": "mean"}]
        self.map = self.bench.add({"kind": "touched_map", "of": [self.top], "asked": limits, **more})

    def results(self, memory=None):
        sheet = Sheet(tuple(self.bench.rows), self.active)
        return evaluate(sheet, self.bench.readings, self.kit, memory, SURFACES)[0]


def test_the_wave_of_a_surface_is_found_hit_by_hit_and_judged_out_where_it_is():
    found = Touched(limit_mm=0.1).results()[Touched().map]
    assert found.state == "done", found.message
    judged = found.map
    assert np.allclose(judged.found.places.means, waved(GRID), atol=1e-9)
    assert np.allclose(judged.found.places.points, GRID, atol=1e-9)
    assert judged.found.result.step_mm == pytest.approx(20)
    assert found.characteristic("largest").actual == pytest.approx(waved(GRID).max())
    assert found.characteristic("largest").verdict.word == "out"
    out = judged.words == 2
    assert np.array_equal(out, np.abs(waved(GRID)) - judged.U > 0.1)
    assert out.any()
    assert not out.all()
    assert "% out" in found.told


def test_it_is_there_while_it_is_measured_and_says_that_it_is_not_finished():
    it = Touched()
    it.bench.rows[it.top - 1] = replace(it.bench.rows[it.top - 1], finished=False)
    found = it.results()[it.map]
    assert (found.state, found.message) == ("taking", f"Not finished yet: Row {it.top}.")
    assert found.characteristic("largest").verdict is None
    assert len(found.map.found.places) == len(GRID)


def test_hits_set_aside_do_not_count_and_without_any_it_is_to_do():
    it = Touched()
    reading = it.bench.readings[it.top]
    aside = np.abs(waved(GRID)) > 0.1
    it.bench.readings[it.top] = replace(reading, aside=aside)
    found = it.results()[it.map]
    assert len(found.map.found.places) == np.count_nonzero(~aside)
    assert found.characteristic("largest").verdict.word == "in"
    del it.bench.readings[it.top]
    found = it.results()[it.map]
    assert (found.state, found.map.state) == ("todo", "todo")


def test_rows_that_are_on_no_face_and_parts_without_cad_are_told():
    it = Touched()
    no_face = it.bench.add({"kind": "touched_map", "of": [1]})
    assert "not planned on a face" in it.results()[no_face].message
    sheet = Sheet(tuple(it.bench.rows), it.active)
    assert "no CAD" in evaluate(sheet, it.bench.readings, KIT)[0][it.map].message
    it.active = None
    assert it.results()[it.map].message == "The part is not aligned yet."


def test_several_rows_are_one_map_and_a_pin_tells_its_place():
    it = Touched()
    side = np.array([[x, -140.0, z] for x in (-80, 0, 80) for z in (10.0, 30)])
    low = it.bench.add({"kind": "free_surface", "face": 4}, side + (TIP - 0.05) * BESIDE, BESIDE)
    both = it.bench.add({"kind": "touched_map", "of": [it.top, low]})
    pin = it.bench.add({"kind": "pin", "map": both, "at": [80, -140, 30]})
    results = it.results()
    found = results[both].map
    assert set(found.of_faces) == {3, 4}
    assert found.of_faces[4].mean == pytest.approx(-0.05, abs=1e-6)
    assert results[pin].first.actual == pytest.approx(-0.05, abs=1e-6)
    assert pytest.approx(found.U[-1], rel=0.3) == results[pin].first.U


def test_each_face_is_judged_by_its_own_limits_and_the_worst_place_by_those_of_its_face():
    """The top lies 0.2 mm off where 0.5 is asked; the side, but 0.05 off, where 0.03 is."""
    it = Touched()
    side = np.array([[x, -140.0, z] for x in (-80, 0, 80) for z in (10.0, 30)])
    low = it.bench.add({"kind": "free_surface", "face": 4}, side + (TIP - 0.05) * BESIDE, BESIDE)
    wide, narrow = {"face": 3, "lower": -0.5, "upper": 0.5}, {"face": 4, "lower": -0.03}
    asked = [{"key": "worst"}, {"key": "largest", "upper": 0.01}]
    both = it.bench.add({"kind": "touched_map", "of": [it.top, low], "asked": asked, "by_face": [wide, narrow]})
    pin = it.bench.add({"kind": "pin", "map": both, "at": [80, -140, 30]})
    results = it.results()
    found, (worst, largest) = results[both].map, results[both].characteristics
    assert worst.actual == pytest.approx(-0.05, abs=1e-6)
    assert (worst.lower, worst.upper) == (-0.03, None)
    assert largest.verdict is None
    assert results[pin].first.lower == -0.03
    on_top = found.found.places.faces == 3
    assert (found.words[on_top] == 0).all()
    assert (found.words[~on_top] > 0).all()
    used = found.limits.used(found.found.places.means)
    assert np.allclose(used[on_top], 100 * waved(GRID) / 0.5, atol=1e-6)
    assert np.allclose(used[~on_top], -100 * 0.05 / 0.03, atol=1e-3)


def test_where_a_face_alone_has_limits_the_rest_is_not_judged():
    it = Touched()
    side = np.array([[x, -140.0, z] for x in (-80, 0, 80) for z in (10.0, 30)])
    low = it.bench.add({"kind": "free_surface", "face": 4}, side + TIP * BESIDE, BESIDE)
    both = it.bench.add({"kind": "touched_map", "of": [it.top, low], "by_face": [{"face": 4, "lower": -0.1, "upper": 0.1}]})
    found = it.results()[both]
    assert found.map.of_faces[3].shares is None
    assert found.map.of_faces[4].shares == (1, 0, 0)
    assert found.map.whole.shares == (1, 0, 0)
    assert "has limits is in" in found.told
    assert np.isnan(found.map.limits.used(found.map.found.places.means)[found.map.found.places.faces == 3]).all()
    with pytest.raises(InputError, match="limits twice"):
        it.bench.add({"kind": "touched_map", "of": [low], "by_face": [{"face": 4, "lower": -1}] * 2})


def test_what_a_tips_radius_errs_by_moves_all_hits_and_the_datums_alike():
    """The top is a datum and the surface: the radius cancels, and U does not grow with it. Of the mean it is all that there
    is where the datum was touched with another tip."""
    own = replace(KIT.calibrations[1], u_radius_mm=0.05)
    it = Touched(kit=Kit(KIT.stations, {1: own}))
    assert it.results()[it.map].map.U.max() < 0.1
    other = Touched(kit=Kit(KIT.stations, {1: KIT.calibrations[1], 2: replace(own, id=2)}))
    reading = other.bench.readings[other.top]
    other.bench.readings[other.top] = replace(reading, calibrations=np.full(len(reading), 2))
    found = other.results()[other.map]
    assert found.map.U.min() > 0.1
    assert pytest.approx(0.1, rel=0.1) == found.characteristic("mean").U


def test_doubts_of_a_calibration_are_the_maps():
    doubted = replace(KIT.calibrations[1], doubt="It was dropped.")
    assert "It was dropped." in Touched(kit=Kit(KIT.stations, {1: doubted})).results()[Touched().map].doubts


def test_places_are_within_their_u_and_the_extremes_are_within_theirs():
    """100 drawn parts. Were 95 % of the extremes covered, fewer than 86 of 100 would be seen once in 10,000 tests."""
    it = Touched(noise_mm=0.01)
    within, ends = [], {"largest": [], "smallest": []}
    true = {"largest": waved(GRID).max(), "smallest": waved(GRID).min()}
    for seed in range(100):
        it.bench.read_again(np.random.default_rng(seed))
        found = it.results()[it.map]
        within.append(np.abs(found.map.found.places.means - waved(GRID)) <= found.map.U)
        for key, covered in ends.items():
            told = found.characteristic(key)
            covered.append(abs(told.actual - true[key]) <= told.U)
    assert 0.93 < np.mean(within) < 0.99
    assert all(sum(covered) >= 86 for covered in ends.values()), ends


def test_as_found_and_as_left_differ_by_what_was_done_and_what_both_share_cancels():
    """The datums and the tip err alike in both: only the hits' own errors are left."""
    own = replace(KIT.calibrations[1], u_radius_mm=0.05)
    it = Touched(kit=Kit(KIT.stations, {1: own}))
    ground = waved(GRID) - np.where(GRID[:, 0] > 1, 0.06, 0.0)  # half of it was ground down
    later = it.bench.add({"kind": "free_surface", "face": 3}, GRID + (TIP + ground)[:, None] * UP, UP)
    left = it.bench.add({"kind": "touched_map", "of": [later]})
    limits = [{"key": "largest", "upper": 0.03}, {"key": "smallest", "lower": -0.03}]
    both = it.bench.add({"kind": "comparison", "first": it.map, "second": left, "asked": limits})
    pin = it.bench.add({"kind": "pin", "map": both, "at": [100, 0, 60]})
    results = it.results()
    found = results[both]
    assert found.state == "done", found.message
    places = found.map.found.places
    assert np.allclose(places.means, np.where(places.points[:, 0] > 1, -0.06, 0.0), atol=1e-9)
    assert np.allclose(found.map.U, 2 * np.sqrt(2) * 0.01, rtol=0.05)
    assert results[it.map].map.U.min() > 2 * found.map.U.max() / np.sqrt(2) * 0.5
    assert found.characteristic("smallest").verdict.word == "out"
    assert results[pin].first.actual == pytest.approx(-0.06, abs=1e-6)
    row = it.bench.rows[it.map - 1]
    it.bench.rows[it.map - 1] = replace(row, recipe=row.recipe.model_copy(update={"of": (1,)}))
    assert it.results()[both].state == "failed"


def test_what_was_seen_once_only_is_not_compared():
    it = Touched()
    side = np.array([[x, -140.0, z] for x in (-80, 0, 80) for z in (10.0, 30)])
    low = it.bench.add({"kind": "free_surface", "face": 4}, side + TIP * BESIDE, BESIDE)
    other = it.bench.add({"kind": "touched_map", "of": [low]})
    both = it.bench.add({"kind": "comparison", "first": it.map, "second": other})
    assert "Nowhere was the part seen both times" in it.results()[both].message
