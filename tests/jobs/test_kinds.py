"""One test over KINDS: every kind has words, a form, a prompt, cells, is worked out, and moves with its hits."""

from dataclasses import replace
from functools import cache
from types import SimpleNamespace

import numpy as np
import pytest
from block import KIT as BARE_KIT
from block import UP, WORLD, Bench
from every_kind import SURFACES, rows_of_every_kind
from test_forms import EXAMPLES

from zipplumb.core.calibration import Light
from zipplumb.core.cloud.deviating import DeviationResult, Places
from zipplumb.core.cloud.points import CloudPoints
from zipplumb.core.deriving import Given, possible
from zipplumb.core.features import Feature
from zipplumb.core.frames import Motion
from zipplumb.core.shapes import Circle, Cone, Cylinder, Line, Plane, Point, Slot, Sphere, Torus
from zipplumb.core.sheet import KINDS, MEASURED, Kit, Sheet, StationPose, evaluate, recipe_from_dict
from zipplumb.core.sheet.clouds import FoundCloud
from zipplumb.core.sheet.maps.found import FoundMap
from zipplumb.jobs.measure.prompts import prompt
from zipplumb.jobs.state.results import JobResults
from zipplumb.jobs.state.rows_text import row_texts
from zipplumb.jobs.words import DERIVATIONS, WORDS
from zipplumb.jobs.words._derivations import NUMBERS

FACES = ("plane", "cylinder", "cone", "sphere", "torus")
BENCH = Bench()
NUMBERS_OF = rows_of_every_kind(BENCH)
ACTIVE = NUMBERS_OF["datum_planes"]


LIGHT = replace(BARE_KIT.calibrations[1], light=Light(Motion.identity(), 0.02))
KIT = Kit(BARE_KIT.stations, {1: LIGHT})  # with which everything is read, also by light


SPREAD = np.random.default_rng(1).uniform(-50, 50, (60, 3)) * [1, 1, 0] + [0, 0, 60]
ON_TOP = CloudPoints(WORLD.points(SPREAD), WORLD.vectors(np.tile(UP, (60, 1))), np.arange(60) % 6, np.ones(60))


MAP = Places(SPREAD, np.tile(UP, (60, 1)), *np.ones((3, 60), int), np.zeros(60))
GIVEN = {
    "map": lambda key: FoundMap("done", "", key, DeviationResult(70, 10, 1.0, MAP)),
    "points": lambda key: FoundCloud("done", "", 0, key, 6, 5, 4, points=ON_TOP),
}
GIVEN["rows"] = GIVEN["points"]


def worked_out(kit=KIT, alignment=ACTIVE):
    done, memory = {}, None
    for _ in GIVEN:  # one rests on the other
        found, memory = evaluate(Sheet(tuple(BENCH.rows), alignment), BENCH.readings, kit, memory, SURFACES, done.get)
        done |= {key: GIVEN[asked.what](key) for key, asked in memory.wanted.items()}
    return found


results = cache(worked_out)


def job(current, units="mm"):
    rows = tuple(BENCH.rows)
    found = SimpleNamespace(units=units, current_row_id=current, alignment_row_id=ACTIVE, touching="", chain={}, rule="proven")
    return JobResults(found, Sheet(rows, ACTIVE), results(), BENCH.readings, KIT, None)


@pytest.mark.parametrize("key", KINDS)
def test_every_kind_keeps_what_it_promises(key):
    assert key in WORDS, "it has no words"
    assert any(e["kind"] == key for e in EXAMPLES), "its form is not tested"
    number = NUMBERS_OF[key]
    found = results()[number]
    assert found.state == "done", found.message
    text = row_texts(job(number))[number]
    assert text.kind == WORDS[key].noun
    assert text.is_system == (KINDS[key].role == "system")
    if KINDS[key].role == "system":
        assert "held" in text.line
        return
    if KINDS[key].role == "cloud":
        assert text.line == "6 points"
        assert text.hits == 6  # lines of light
        asked = prompt(job(number), SimpleNamespace(connected=True, trouble="", target=""))
        assert "6 points" in asked.title + asked.line
        return
    assert text.first is not None
    assert text.first.actual
    assert text.first.label
    assert len({c.label for c in text.characteristics}) == len(text.characteristics)
    for characteristic in found.characteristics:
        assert characteristic.U is None or characteristic.U < 1, characteristic.key
        if characteristic.nominal is not None and not characteristic.held:
            assert characteristic.deviation == pytest.approx(0, abs=1e-4), characteristic.key


@pytest.mark.parametrize("key", MEASURED)
def test_every_measured_kind_prompts_and_moves_with_its_hits(key):
    number = NUMBERS_OF[key]
    instrument = SimpleNamespace(connected=True, trouble="", target="")
    said = prompt(job(number), instrument)
    recipe = next(r.recipe for r in BENCH.rows if r.id == number)
    assert recipe.name in WORDS[key].ask(recipe, "mm")
    assert (said.row, said.wanted) == (number, recipe.wanted_hits)
    assert all(words for _, words in WORDS[key].answers(recipe))
    shift = Motion.from_quaternion([0.9, 0.1, -0.3, 0.2], [50, -70, 20])
    moved = worked_out(Kit({1: StationPose(1, shift)}, KIT.calibrations))[number]
    here, there = results()[number], moved
    told = here.feature.shape.moved(shift)
    for name in (*told.points_, *told.directions_):
        assert np.allclose(np.abs(getattr(told, name)), np.abs(getattr(there.feature.shape, name)), atol=2e-5), name
    for a, b in zip(here.characteristics, there.characteristics, strict=True):  # judged in the part: the same
        assert a.actual == pytest.approx(b.actual, abs=2e-5), a.key


def test_everything_that_can_be_derived_has_words_and_the_words_know_numbers_from_features():
    shapes = (
        Point([1, 2, 3]), Line([0, 5, 0], [1, 0.1, 0]), Plane([0, 0, 5], [0, 0, 1]), Circle([0, 1, 0], [0, 0.1, 1], 5),
        Slot([0, 0, 1], [0, 0, 1], [1, 0, 0], 9, 4), Sphere([9, 9, 9], 3), Cylinder([3, 0, 0], [0.1, 0, 1], 2),
        Cone([0, 0, 0], [0, 0, 1], 0.4), Torus([0, 0, 0], [0, 0, 1], 9, 2),
    )  # fmt: skip
    given = Given(1.0, 5.0, 3.0)
    sets = [[s] for s in shapes] + [[a, b] for a in shapes for b in shapes if a is not b]
    sets += [
        [shapes[2], Plane([0, 0, 0], [0, 1, 0]), Plane([0, 0, 0], [1, 0, 0])],
        [shapes[0], shapes[3], shapes[5], shapes[4]],
    ]
    sets.append([shapes[1], shapes[6], shapes[7]])
    seen = {}
    for chosen in sets:
        for made in possible([Feature(str(k), s, extent=np.eye(3)) for k, s in enumerate(chosen)], given):
            seen[made.key] = made.unit
    assert set(seen) <= set(DERIVATIONS)
    assert {k for k, unit in seen.items() if unit} <= set(NUMBERS)
    assert not {k for k, unit in seen.items() if not unit} & set(NUMBERS)


@pytest.mark.parametrize("raw", EXAMPLES, ids=lambda raw: raw["kind"])
def test_a_kind_says_itself_whether_it_has_other_terms_and_turning_twice_changes_nothing(raw):
    recipe = recipe_from_dict({"name": "One", **raw})
    turned = recipe.in_other_terms()
    assert (turned is not None) == ("terms" in type(recipe).model_fields)
    if turned is not None:
        assert {turned.share_of("diameter"), recipe.share_of("diameter")} == {0.5, 1.0}
        assert turned.in_other_terms() == recipe


@pytest.mark.parametrize("raw", [e for e in EXAMPLES if e["kind"] in FACES], ids=lambda raw: raw["kind"])
def test_a_row_of_a_face_has_its_nominal_and_its_side(raw):
    """The elementary surfaces of ISO 10303-42: what a face of a part can be."""
    kind = KINDS[raw["kind"]]
    nominal = recipe_from_dict({"name": "One", **raw}).model_dump(mode="json")["nominal"]
    for inside in (True, False):
        recipe = recipe_from_dict({"name": "Two", **kind.of_face(7, nominal, inside)})
        assert (type(recipe), recipe.cad_face, recipe.wanted_hits) == (kind, 7, kind.model_fields["hits"].default)
        assert recipe.model_dump(mode="json")["nominal"] == nominal
        assert getattr(recipe, "inside", inside) is inside
