"""Dimensions as one goes: what is between a feature and the one before, chosen and settled from the device alone."""

import re

import pytest
from job_bench import TECHNICIAN, batch, numbers
from test_touching import finish, just_touch, said, touch_bore

from zipplumb.core.errors import InputError
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import chain
from zipplumb.jobs.plan import sheet, standing


def bores(bench, *places, radius=20.0):
    for x in places:
        touch_bore(bench, radius, at=(x, 0, 0))
        finish(bench, (x, 0, 10))


def dimensions(bench):
    state = bench.state()
    found = [(r, state.results[r.id].first.actual) for r in state.rows if r.recipe.role == "dimension"]
    return [(r.recipe.measure, [state.row(i).recipe.name for i in r.recipe.of], value) for r, value in found]


def step(bench, by=1):
    return presses.step(bench.arm, by, "s", next(numbers))


@pytest.fixture
def touching_on(bench):
    just_touch(bench)
    return bench


def test_each_feature_is_dimensioned_to_the_one_before(touching_on):
    bench = touching_on
    chain.set_way(TECHNICIAN, bench.job, "last")
    bores(bench, 1000)
    assert dimensions(bench) == []
    bores(bench, 1120, 1300)
    found = dimensions(bench)
    assert [of for _, of, _ in found] == [["Bore 1", "Bore 2"], ["Bore 2", "Bore 3"]]
    assert [value for _, _, value in found] == pytest.approx([120, 180], abs=1e-5)
    assert re.match(r"Bore 2 to Bore 3, .*: 180.00", said(bench).title)


def test_in_pairs_the_third_begins_anew(touching_on):
    bench = touching_on
    chain.set_way(TECHNICIAN, bench.job, "pairs")
    bores(bench, 1000, 1120, 1300, 1450)
    assert [of for _, of, _ in dimensions(bench)] == [["Bore 1", "Bore 2"], ["Bore 3", "Bore 4"]]


def test_another_is_chosen_from_the_device_and_a_finish_settles_it(touching_on):
    bench = touching_on
    chain.set_way(TECHNICIAN, bench.job, "last")
    bores(bench, 1000, 1120)
    codes = [code for code, _, _ in said(bench).options]
    assert len(codes) > 2
    assert codes[-1] == "none"
    step(bench)
    assert dimensions(bench)[0][0] == codes[1]
    step(bench, -1)
    step(bench, -1)
    assert dimensions(bench) == []
    assert said(bench).title == "Bore 1 to Bore 2: no dimension."
    step(bench)
    assert dimensions(bench)[0][0] == codes[0]
    press = next(numbers)
    for _ in range(2):  # the same press, heard twice
        assert presses.finish(bench.arm, batch("pull_off", center=(0, 0, 0)), press) == "finished"
    assert said(bench).title.startswith("Just touch")
    assert len(dimensions(bench)) == 1


def test_none_in_pairs_lets_the_second_begin(touching_on):
    bench = touching_on
    chain.set_way(TECHNICIAN, bench.job, "pairs")
    bores(bench, 1000, 1120)
    step(bench, -1)
    bores(bench, 1300)
    assert [of for _, of, _ in dimensions(bench)] == [["Bore 2", "Bore 3"]]


def test_hits_of_the_next_feature_go_before_what_was_offered(touching_on):
    """Once the next is touched, next and back choose what that is."""
    bench = touching_on
    chain.set_way(TECHNICIAN, bench.job, "last")
    bores(bench, 1000, 1120)
    before = dimensions(bench)
    touch_bore(bench, at=(1300, 0, 0))
    assert said(bench).title.startswith("Bore? Finish")
    step(bench)
    assert dimensions(bench) == before


def test_taking_a_feature_back_takes_its_dimension_back(touching_on):
    bench = touching_on
    chain.set_way(TECHNICIAN, bench.job, "last")
    bores(bench, 1000, 1120)
    presses.undo(bench.arm, False, "s", next(numbers))
    assert dimensions(bench) == []
    finish(bench, (1120, 0, 10))
    assert len(dimensions(bench)) == 1
    bores(bench, 1300)
    assert [of for _, of, _ in dimensions(bench)][-1] == ["Bore 2", "Bore 3"]


def test_what_a_person_typed_stays(touching_on):
    bench = touching_on
    chain.set_way(TECHNICIAN, bench.job, "last")
    bores(bench, 1000, 1120)
    row = next(r for r in bench.state().rows if r.recipe.role == "dimension")
    texts = {"name": "Centers", "kind": "dimension", "measure": row.recipe.measure, "nominal_mm": "120",
             "of.0": str(row.recipe.of[0]), "of.1": str(row.recipe.of[1])}  # fmt: skip
    sheet.edit_row(TECHNICIAN, bench.job, row.id, texts)
    assert said(bench).title.startswith("Just touch")
    presses.undo(bench.arm, False, "s", next(numbers))
    assert [r.recipe.name for r in bench.state().rows if r.recipe.role == "dimension"] == ["Centers"]


def test_it_follows_a_planned_sheet_too(bench):
    chain.set_way(TECHNICIAN, bench.job, "last")
    top = bench.plan_plane("Top", [0, 0, 60], [0, 0, 1])
    step_up = bench.plan_plane("Step", [0, 0, 80], [0, 0, 1])
    bench.touch_plane(top)
    bench.touch_plane(step_up)
    ((_, names, value),) = dimensions(bench)
    assert names == ["Top", "Step"]
    assert value == pytest.approx(20, abs=1e-6)


def test_a_removed_first_feature_begins_anew(touching_on):
    bench = touching_on
    chain.set_way(TECHNICIAN, bench.job, "last")
    bores(bench, 1000)
    standing.remove(TECHNICIAN, bench.job, [bench.state().rows[0].id])
    bores(bench, 1120, 1300)
    ((_, names, value),) = dimensions(bench)
    assert len(set(names)) == 2
    assert value == pytest.approx(180, abs=1e-5)


def test_nonsense_is_refused(bench):
    with pytest.raises(InputError, match="no way"):
        chain.set_way(TECHNICIAN, bench.job, "triples")
    assert said(bench).title.startswith("Plan a row")
