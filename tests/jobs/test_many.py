"""Settings for many rows: seen before they are made, and made where they can be."""

import pytest
from job_bench import REVIEWER, TECHNICIAN

from zipplumb.core.errors import InputError, NotAllowed
from zipplumb.jobs.plan import many, sheet
from zipplumb.jobs.plan.many import RowChoice, Setting


@pytest.fixture
def rows(bench):
    """Two planes, a hole, a point."""
    ring = {"shape": "circle", "center": [0, 0, 0], "normal": [0, 0, 1], "radius": 5}
    return [
        bench.plan_plane("Pad left", [0, 0, 60], [0, 0, 1]), bench.plan_plane("Pad right", [90, 0, 60], [0, 0, 1]),
        bench.plan(kind="circle", name="Hole", nominal=ring), bench.plan(kind="point", name="Nest"),
    ]  # fmt: skip


def set_all(bench, choice, setting):
    return many.set_many(TECHNICIAN, bench.job, choice, setting, many.seen_of(many.changes(bench.state(), choice, setting)))


def recipes(bench):
    return {row.recipe.name: row.recipe for row in bench.state().rows}


def test_hits_and_limits_of_all_planes(bench, rows):
    assert set_all(bench, RowChoice(kind="plane"), Setting({"hits": "9"}, "height", "-0,05", "0.05")) == 2
    found = recipes(bench)
    assert [found[name].hits for name in ("Pad left", "Pad right", "Hole")] == [9, 9, 7]
    assert {(a.key, a.lower, a.upper) for a in found["Pad left"].asked} >= {("height", -0.05, 0.05)}
    assert found["Hole"].asked == ()


@pytest.mark.parametrize(("choice", "names"), [
    (RowChoice(name="pad"), ["Pad left", "Pad right"]), (("Pad right", "Hole"), ["Pad right", "Hole"]),
    (("Pad left", "Hole"), ["Pad left"]), (RowChoice(), ["Pad left", "Pad right", "Hole", "Nest"]),
])  # fmt: skip
def test_which_rows(bench, rows, choice, names):
    if isinstance(choice, tuple):  # these are chosen, and among them those of the kinds of what is wanted
        ids = frozenset(row.id for row in bench.state().rows if row.recipe.name in choice)
        choice = RowChoice(ids=ids, kind="" if "Hole" in names else "plane")
    assert [c.row.recipe.name for c in many.changes(bench.state(), choice, Setting({"note": "n"}))] == names


def test_names_with_their_numbers(bench, rows):
    with pytest.raises(InputError, match="would all be called"):
        many.changes(bench.state(), RowChoice(kind="plane"), Setting({"name": "Foot"}))
    assert set_all(bench, RowChoice(kind="plane"), Setting({"name": "Foot # of 2"})) == 2
    assert list(recipes(bench)) == ["Foot 1 of 2", "Foot 2 of 2", "Hole", "Nest"]


def test_a_criterion_where_the_kind_has_it(bench, rows):
    found = {c.row.recipe.name: c for c in many.changes(bench.state(), RowChoice(), Setting({"criterion": "inscribed"}))}
    assert found["Hole"].recipe.criterion == "inscribed"
    assert found["Pad left"].recipe is None
    assert found["Nest"].recipe is None


def test_what_cannot_be_is_said_and_left_as_it_is(bench, rows):
    found = {c.row.recipe.name: c for c in many.changes(bench.state(), RowChoice(), Setting({"hits": "2", "terms": "radius"}))}
    assert "has no terms" in found["Pad left"].words and found["Pad left"].recipe is None
    assert found["Hole"].recipe is None and "hits" in found["Hole"].words.lower()  # a circle wants three
    assert set_all(bench, RowChoice(), Setting({"hits": "3"}, "diameter", "0", "0.1")) == 1
    assert [(r.name, getattr(r, "hits", None)) for r in recipes(bench).values() if r.asked] == [("Hole", 3)]


def test_inches_and_radius_are_the_rows_own(bench, rows):
    sheet.set_units(TECHNICIAN, bench.job, "in")
    set_all(bench, RowChoice(kind="circle"), Setting({"terms": "radius"}))
    set_all(bench, RowChoice(kind="circle"), Setting({"spacing_mm": "0.1"}, "diameter", "-0.001", "0.001"))
    hole = recipes(bench)["Hole"]
    assert hole.spacing_mm == pytest.approx(2.54)
    asked = next(a for a in hole.asked if a.key == "diameter")
    assert (asked.lower, asked.upper) == pytest.approx((-0.0508, 0.0508))  # ±0.001 in on the radius


@pytest.mark.parametrize(("choice", "setting", "words"), [
    (RowChoice(), Setting({}), "Nothing is to be set"), (RowChoice(name="zzz"), Setting({"hits": "5"}), "No row is chosen"),
])  # fmt: skip
def test_nothing_to_do_is_said(bench, rows, choice, setting, words):
    with pytest.raises(InputError, match=words):
        many.changes(bench.state(), choice, setting)


def test_a_sheet_that_changed_meanwhile_is_looked_at_again(bench, rows):
    setting = Setting({"hits": "9"})
    seen = many.seen_of(many.changes(bench.state(), RowChoice(kind="plane"), setting))
    sheet.edit_row(TECHNICIAN, bench.job, rows[0], {"hits": "6"})
    with pytest.raises(InputError, match="changed meanwhile"):
        many.set_many(TECHNICIAN, bench.job, RowChoice(kind="plane"), setting, seen)
    with pytest.raises(NotAllowed):
        many.set_many(REVIEWER, bench.job, RowChoice(kind="plane"), setting, seen)
    assert recipes(bench)["Pad right"].hits == 4
