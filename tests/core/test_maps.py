"""Maps of a scan's deviations: exact everywhere, judged place by place, sure by all its sources."""

from dataclasses import replace

import numpy as np
import pytest
from scanned_block import HIGH, RADIUS, SCANNER, WHOLE, Scanned, faces

from zipplumb.core.cloud.deviating import Places
from zipplumb.core.sheet import PartSurfaces, recipe_from_dict
from zipplumb.core.sheet.maps.found import FoundMap, JudgedMap
from zipplumb.core.stripes import packed

BLOCK = PartSurfaces("a block", lambda points: faces(points)[:2])
LIMITS = [{"key": "largest", "upper": 0.05}, {"key": "smallest", "lower": -0.05}, {"key": "mean"}, {"key": "spread"}]


class Mapped(Scanned):
    """The scanned block with a map of it."""

    def __init__(self, noise_mm=0.0, seed=2, **fields):
        super().__init__(noise_mm, seed)
        self.map = self.bench.add({"kind": "deviations", "scan": self.scan, "asked": LIMITS, **fields})

    def result(self):
        _, memory = self.evaluate(surfaces=BLOCK)
        for _ in range(3):
            for key, asked in memory.wanted.items():
                self.done[key] = replace(asked.run([self.chunk], 1, faces, lambda _: None), key=key)
            results, memory = self.evaluate(memory, surfaces=BLOCK)
        return results[self.map]


def test_a_map_tells_of_every_place_how_far_it_is_off_with_its_sign():
    found = Mapped().result()
    assert found.state == "done", found.message
    places, judged = found.map.found.places, found.map
    wall, top = judged.of_faces[4], judged.of_faces[1]
    assert wall.mean == pytest.approx(-(RADIUS - 20), abs=1e-4)  # the bore is larger: into the material
    assert (top.mean, top.spread) == (pytest.approx(0, abs=1e-4), pytest.approx(0, abs=1e-4))
    assert wall.places + top.places == len(places) == judged.whole.places
    assert places.counts.sum() == found.map.found.result.read - found.map.found.result.off
    on_wall = places.faces == 4
    assert np.allclose(np.linalg.norm(places.points[on_wall, :2], axis=1), 20, atol=0.02)
    assert found.characteristic("smallest").actual == pytest.approx(-0.1, abs=1e-3)
    assert found.characteristic("largest").actual == pytest.approx(0, abs=1e-3)


def test_while_it_is_worked_out_the_map_waits_and_so_do_its_pins():
    it = Mapped()
    pin = it.bench.add({"kind": "pin", "map": it.map, "at": [20, 0, 40]})
    for _ in range(2):  # the scan first, then its map
        results, memory = it.evaluate(surfaces=BLOCK)
        assert {results[i].state for i in (it.map, pin)} == {"waits"}
        assert results[it.map].map.state == "waits"
        assert results[it.map].message == results[pin].message
        for key, asked in memory.wanted.items():
            if asked.what != "map":
                it.done[key] = replace(asked.run([it.chunk], 1, faces, lambda _: None), key=key)
    asked = next(each for each in memory.wanted.values() if each.what == "map")
    assert (asked.row, asked.of_scan) == (it.map, it.scan)
    assert results[it.map].message == "It is being worked out."


def within(limit):
    return [{"key": "largest", "upper": limit}, {"key": "smallest", "lower": -limit}]


@pytest.mark.parametrize(("limit", "wall", "top"), [(0.03, 2, 1), (0.09, 1, 0), (0.2, 0, 0)])
def test_places_are_in_not_proven_or_out_and_so_is_the_row(limit, wall, top):
    found = Mapped(asked=within(limit)).result()
    judged: JudgedMap = found.map
    assert np.all(judged.U < 0.07)
    assert np.array_equal(np.unique(judged.words[judged.found.places.faces == 4]), [wall])
    assert np.array_equal(np.unique(judged.words[judged.found.places.faces == 1]), [top])
    assert "% out" in found.told
    assert sum(judged.whole.shares) == pytest.approx(1)
    assert found.characteristic("smallest").verdict.word == ("out" if limit < 0.05 else "not proven" if limit < 0.15 else "in")
    worst = judged.worst_of_faces()
    assert set(worst) == {1, 4}
    assert judged.found.places.faces[worst[4]] == 4


def test_a_scale_of_the_alignment_is_the_maps_too():
    it, scale = Mapped(), 1.002
    found = it.result().map.found.places
    _, memory = it.evaluate(surfaces=BLOCK)
    it.done = {key: done for key, done in it.done.items() if not isinstance(done, FoundMap)}
    _, memory = it.evaluate(surfaces=BLOCK)
    (asked,) = memory.wanted.values()
    poses = it.chunk.poses * [*(3 * [1 / scale]), 1, 1, 1, 1]
    data, counts = packed([np.array([[0.0, HIGH / scale, 1.0]], np.float32)] * len(poses))
    smaller = replace(it.chunk, poses=poses, points=data, counts=counts)
    scaled = replace(asked.work, scale=scale).run([smaller], 1, faces).places
    assert np.allclose(scaled.means, found.means, atol=1e-4)
    assert np.allclose(scaled.points, found.points, atol=1e-3)


def test_figures_with_limits_are_judged_by_how_sure_they_are():
    asked = [{"key": key, "lower": -0.01, "upper": 0.01} for key in ("mean", "low", "high", "spread")]
    found = Mapped(asked=asked).result()
    assert all(c.U > 0.02 for c in found.characteristics)
    assert {c.key: c.verdict.word for c in found.characteristics} == {
        "mean": "out", "low": "out", "high": "not proven", "spread": "not proven",
    }  # fmt: skip


def test_a_pin_tells_what_its_map_found_there_by_the_maps_limits_or_its_own():
    it = Mapped()
    pins = [
        it.bench.add({"kind": "pin", "map": it.map, "at": at, **more})
        for at, more in (
            ([20, 0, 40], {}),
            ([20, 0, 40], {"asked": [{"key": "deviation", "lower": -0.2, "upper": 0.2}]}),
            ([75, 0, 60], {}),
            ([-200, 0, 60], {}),
        )
    ]
    it.result()
    results, _ = it.evaluate(surfaces=BLOCK)
    wall, wide, top, nowhere = (results[pin] for pin in pins)
    assert wall.first.actual == pytest.approx(-0.1, abs=1e-3)
    assert (wall.first.lower, wall.first.upper) == (-0.05, 0.05)
    assert (wide.first.verdict.word, top.state) == ("in", "done")
    assert np.linalg.norm(wall.contacts_part[0, :2]) == pytest.approx(RADIUS, abs=0.03)
    assert (nowhere.state, nowhere.message) == ("waits", "Nothing was seen there.")
    assert pytest.approx(results[it.map].map.U.max(), rel=0.5) == wall.first.U


def test_what_is_in_doubt_of_the_scanner_is_said_of_the_map_and_its_pins(monkeypatch):
    doubted = replace(WHOLE.calibrations[SCANNER], doubt="It was dropped.")
    monkeypatch.setattr("scanned_block.WHOLE", replace(WHOLE, calibrations={**WHOLE.calibrations, SCANNER: doubted}))
    it = Mapped()
    pin = it.bench.add({"kind": "pin", "map": it.map, "at": [20, 0, 40]})
    assert it.result().doubts == ("It was dropped.",)
    assert it.evaluate(surfaces=BLOCK)[0][pin].doubts == ("It was dropped.",)


def test_the_maps_u_of_a_place_is_that_of_a_pin_there():
    """A pin's is told by source; the map's holds the most that scanner and stations do anywhere."""
    found = Mapped().result().map
    top = np.flatnonzero(found.found.places.faces == 1)[::40]
    of_pins = np.array([found.sure_at(k).uncertainty.U() for k in top])
    assert np.all(of_pins <= found.U[top] + 1e-9)
    assert np.all(of_pins > 0.7 * found.U[top])


def test_without_limits_nothing_is_judged_and_without_an_alignment_or_cad_it_says_why():
    it = Mapped(asked=[])
    found = it.result()
    assert found.map.words is None
    assert found.told == ""
    assert {c.key for c in found.characteristics} == {
        "largest",
        "smallest",
        "profile",
        "mean",
        "spread",
        "low",
        "high",
        "worst",
    }
    assert found.verdict is None
    results, _ = it.evaluate()  # without the part's surfaces
    assert "no CAD" in results[it.map].message
    it.active = None
    results, _ = it.evaluate(surfaces=BLOCK)
    assert (results[it.map].state, results[it.map].message) == ("waits", "The part is not aligned yet.")


def test_limits_are_applied_without_the_light_being_gone_through_again_and_the_reach_is_not():
    it = Mapped()
    it.result()
    asked = len(it.done)
    row = next(row for row in it.bench.rows if row.id == it.map)
    for change, anew in (({"asked": []}, 0), ({"reach_mm": 0.05}, 1)):
        recipe = recipe_from_dict({**row.recipe.model_dump(mode="json"), **change})
        it.bench.rows[it.bench.rows.index(row)] = row = replace(row, recipe=recipe)
        found = it.result()
        assert len(it.done) == asked + anew
    assert found.map.found.places.faces.tolist().count(4) == 0  # the wall lies farther off than that


def test_the_extreme_of_a_noisy_scan_is_as_sure_as_it_says():
    """The top is flat: what seems farthest out is noise, which U covers. Were it so in 95 % of cases, fewer than 32 of 40
    would be seen once in a million tests."""
    covered = []
    for seed in range(40):
        it = Mapped(0.02, seed)
        top = it.result().characteristic("largest")
        covered.append(abs(top.actual) <= top.U)
    assert np.sum(covered) >= 32


def test_places_of_parts_are_those_of_the_whole(random):
    points = random.uniform(0, 5, (2000, 3))
    faces_ = random.integers(0, 3, 2000)
    normals = np.tile([0, 0, 1.0], (2000, 1))
    whole = Places(points, normals, faces_, np.arange(2000), np.ones(2000, int), random.normal(size=2000))
    at_once = Places.gathered([whole], 1.0)
    halves = [Places.gathered([whole.of(slice(a, b))], 1e-3) for a, b in ((0, 900), (900, 2000))]
    later = Places.gathered(halves, 1.0)
    assert np.array_equal(at_once.faces, later.faces)
    assert np.array_equal(at_once.counts, later.counts)
    assert np.allclose(at_once.means, later.means)
    assert np.allclose(at_once.points, later.points)


def test_a_map_may_lie_in_an_alignment_of_its_own_and_two_are_compared():
    it = Mapped()
    other = it.bench.add({"kind": "datum_planes", "primary": 1, "secondary": 2, "tertiary": 3})
    again = it.bench.add({"kind": "deviations", "scan": it.scan, "system": other})
    both = it.bench.add({"kind": "comparison", "first": it.map, "second": again, "asked": LIMITS})
    it.result()
    results, memory = it.evaluate(surfaces=BLOCK)
    for key, asked in memory.wanted.items():
        it.done[key] = replace(asked.run([it.chunk], 1, faces, lambda _: None), key=key)
    results, _ = it.evaluate(memory, surfaces=BLOCK)
    assert results[again].aligned_by == other
    found = results[both]
    assert found.state == "done", found.message
    assert np.allclose(found.map.found.places.means, 0)
    assert found.characteristic("largest").verdict.word == "not proven"  # what each place errs by itself is not shared
    own = results[it.map].map.judge.own_u
    assert np.allclose(found.map.U, 2 * np.sqrt(2) * own)  # all else cancels
