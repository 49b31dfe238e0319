"""What a person can do besides measuring: planning, aligning, deriving, parts, reports, signing in."""

from dataclasses import replace
from io import BytesIO

import numpy as np
import pytest
from job_bench import DIAMETER_MM, REVIEWER, TECHNICIAN, batch, numbers
from sqlalchemy import select, text

from zipplumb.cad import CadModel
from zipplumb.core.deriving import Given
from zipplumb.core.errors import InputError, NotAllowed
from zipplumb.exchange.table import RowText
from zipplumb.jobs import hand, people
from zipplumb.jobs.align import systems
from zipplumb.jobs.kit import instruments
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import measuring
from zipplumb.jobs.measure.prompts import prompt
from zipplumb.jobs.plan import adding, derive, parts, picking, sheet, standing
from zipplumb.jobs.report import making
from zipplumb.jobs.report.facts import gather_facts
from zipplumb.jobs.state.results import load
from zipplumb.jobs.state.rows_text import row_texts
from zipplumb.store.database import transaction
from zipplumb.store.models import Change, Part, Row
from zipplumb.store.reports import Report


def recipe(row):
    with transaction() as session:
        return session.get(Row, row).recipe


def text_of(bench, name) -> RowText:
    return next(r for r in row_texts(bench.state()).values() if r.name == name)


# ---- planning -----------------------------------------------------------------------------


def test_faces_are_planned_by_what_they_are_and_numbered_alike(bench):
    names = [recipe(picking.plan_from_face(TECHNICIAN, bench.job, face))["name"] for face in (7, 9, 3, 6, 8)]
    assert names == ["Bore 1", "Bore 2", "Boss 1", "Plane 1", "Plane 2"]


def test_the_first_planned_feature_is_current(bench):
    row = picking.plan_from_face(TECHNICIAN, bench.job, 7)
    assert bench.state().job.current_row_id == row


@pytest.mark.parametrize(
    ("units", "size", "terms", "mm"),
    [("mm", "25", "diameter", 25), ("in", "1", "radius", 50.8), ("in", "20 mm", "diameter", 20)],
)
def test_a_nominal_is_typed_in_the_jobs_units_and_the_drawings_terms(bench, units, size, terms, mm):
    sheet.set_units(TECHNICIAN, bench.job, units)
    form = {"nominal.point.0": "1", "nominal.point.1": "2", "nominal.point.2": "3", "nominal.direction.0": "0",
            "nominal.direction.1": "0", "nominal.direction.2": "1", "nominal.radius": size, "terms": terms}  # fmt: skip
    made = recipe(adding.plan_typed(TECHNICIAN, bench.job, "cylinder", form))
    assert made["nominal"]["radius"] == pytest.approx(mm / 2)
    assert made["nominal"]["point"][0] == pytest.approx(25.4 if units == "in" else 1)
    assert made["terms"] == terms
    assert made["name"] == "Bore 1"


def test_a_datum_letter_is_on_one_row_only(bench):
    first, second = (picking.plan_from_face(TECHNICIAN, bench.job, f) for f in (6, 8))
    sheet.edit_row(TECHNICIAN, bench.job, first, {"datum": "a"})
    assert recipe(first)["datum"] == "A"
    with pytest.raises(InputError, match="Datum A is on Plane 1"):
        sheet.edit_row(TECHNICIAN, bench.job, second, {"datum": "A"})
    sheet.edit_row(TECHNICIAN, bench.job, first, {"datum": ""})
    sheet.edit_row(TECHNICIAN, bench.job, second, {"datum": "A"})


def test_rows_move_and_are_removed_unless_another_rests_on_them(aligned):
    systems.plan_lettered(TECHNICIAN, aligned.job)
    with pytest.raises(InputError, match="Alignment 1 rests on this row"):
        standing.remove(TECHNICIAN, aligned.job, [aligned.rows["B"]])
    standing.move(TECHNICIAN, aligned.job, [aligned.rows["end"]], -1)
    assert [r.recipe.name for r in aligned.state().rows[:4]] == ["Top", "Side", "Right", "Left"]
    standing.remove(TECHNICIAN, aligned.job, [aligned.rows["end"]])
    assert "Right" not in [r.recipe.name for r in aligned.state().rows]
    with pytest.raises(InputError, match="not in this job"):
        standing.remove(TECHNICIAN, aligned.job, [aligned.rows["end"]])


def test_every_change_says_who(bench):
    row = picking.plan_from_face(TECHNICIAN, bench.job, 7)
    sheet.edit_row(TECHNICIAN, bench.job, row, {"name": "Left bolt"})
    with transaction() as session:
        acts = session.execute(select(Change.act, Change.user_id).where(Change.job_id == bench.job)).all()
    assert ("plan", 1) in acts
    assert ("edit", 1) in acts


def test_a_change_by_another_process_is_seen(bench):
    row = picking.plan_from_face(TECHNICIAN, bench.job, 7)
    assert bench.state().row(row).recipe.name == "Bore 1"
    with transaction() as session:
        session.execute(text('UPDATE rows SET recipe = recipe || \'{"name": "Elsewhere"}\' WHERE id = :i'), {"i": row})
    assert bench.state().row(row).recipe.name == "Elsewhere"


# ---- what is asked for now -------------------------------------------------------------------


def test_the_prompt_asks_for_what_comes_next(bench):
    def says():
        state = bench.state()
        return prompt(state, state.instrument).title

    assert says() == "Plan a row: pick a face of the part."
    row = bench.plan_plane("Top", [0, 0, 60], [0, 0, 1], datum="A", hits=4)
    assert says() == "The arm is lost. Look at its cable."
    assert prompt(bench.state(), None).title == "Bring an instrument to this job."
    instruments.seen(bench.arm, connected=True)
    assert says() == "Touch Top (datum A), 4 hits, far apart."
    for target, told in (("lost", "Target lost."), ("searching", "Looking for the target.")):
        instruments.seen(bench.arm, target=target)
        assert says() == told and prompt(bench.state(), bench.state().instrument).blind
    instruments.seen(bench.arm, target="locked")
    assert says() == "Touch Top (datum A), 4 hits, far apart."
    bench.touch_plane(row)
    instruments.seen(bench.arm, connected=True)  # as its link says all the while
    assert says() == "All rows are done. Make the report."
    measuring.undo(TECHNICIAN, bench.job, sweep=False)
    assert says() == "Top: pull off and finish."


@pytest.mark.parametrize(("hits", "told"), [(4, "two more hits"), (5, "one more hit")])
def test_a_hit_off_among_too_few_is_said_with_what_would_name_it(bench, hits, told):
    row = bench.plan_plane("Top", [0, 0, 60], [0, 0, 1], hits=hits)
    measuring.make_current(TECHNICIAN, bench.job, row)
    instruments.seen(bench.arm, connected=True)
    spots = [(-60, -60), (60, -60), (60, 60), (-60, 60), (0, 5), (25, -30), (-30, 25)]

    def touch(k):
        u, v = spots[k]
        at = np.array([u, v, 60 + DIAMETER_MM / 2 + 0.5 * (k == 2)]) + [0, 0, 0.002 * (-1) ** k]
        presses.keep(bench.arm, batch(center=at, came_from=at + [0, 0, 15]), next(numbers))
        return prompt(bench.state(), bench.state().instrument)

    for k in range(hits):
        now = touch(k)
    assert (now.title, now.tone) == (f"Top: {told}.", "warn")
    assert now.line.startswith(f"One of these {hits} is off by about 0.") and f"or its form is: {told} tell" in now.line
    for k in range(hits, hits + (2 if told.startswith("two") else 1)):
        now = touch(k)
    assert now.title == "Top: one hit is off." and now.line.startswith("Hit 3 lies 0.")


# ---- aligning and deriving ------------------------------------------------------------------


def test_alignment_needs_three_letters(bench):
    bench.plan_plane("Top", [0, 0, 60], [0, 0, 1], datum="A")
    with pytest.raises(InputError, match="datums of three letters"):
        systems.plan_lettered(TECHNICIAN, bench.job)


def test_a_hole_with_a_letter_is_no_plane_though_it_lies_in_one(bench):
    bench.plan_plane("Top", [0, 0, 60], [0, 0, 1], datum="A")
    hole = {"shape": "circle", "center": [0, 0, 60], "normal": [0, 0, 1], "radius": 10.0}
    bench.plan(kind="circle", name="Hole", nominal=hole, datum="B")
    bench.plan_plane("Side", [0, -140, 0], [0, -1, 0], datum="C")
    row = systems.plan_lettered(TECHNICIAN, bench.job)
    assert bench.state().row(row).recipe.kind == "datum_features"


def test_an_alignment_is_planned_made_active_and_put_off(aligned):
    row = systems.plan_lettered(TECHNICIAN, aligned.job)
    assert text_of(aligned, "Alignment 1").line == "6 held, 0 spare"
    assert text_of(aligned, "Top").first.deviation == "held"
    assert text_of(aligned, "Right").first.deviation == "+0.080"
    systems.activate(TECHNICIAN, aligned.job, None)
    assert text_of(aligned, "Right").first.deviation == ""
    systems.activate(TECHNICIAN, aligned.job, row)
    assert text_of(aligned, "Right").first.deviation == "+0.080"
    with pytest.raises(InputError, match="no alignment"):
        systems.activate(TECHNICIAN, aligned.job, aligned.rows["A"])


def test_what_can_be_made_has_its_value_before_it_is_chosen(aligned):
    first, second = aligned.rows["C"], aligned.rows["end"]

    def values():
        return {c.key: c.value for c in derive.choices(aligned.job, [first, second])}

    before = values()
    assert before["perpendicular_distance"] == pytest.approx(500.08)
    assert before["along_x"] is None
    found = derive.choices(aligned.job, [first, second])
    assert [bool(c.why_not) for c in found] == sorted(bool(c.why_not) for c in found)  # impossible ones last
    assert next(c for c in found if c.key == "along_x").why_not == "needs the part aligned"
    systems.plan_lettered(TECHNICIAN, aligned.job)
    after = values()
    assert [after[k] for k in ("along_x", "along_y", "along_z")] == pytest.approx([500.08, 0, 0], abs=1e-6)
    assert next(c for c in derive.choices(aligned.job, [first, second]) if c.key == "along_x").draw.segments
    leaning = derive.choices(aligned.job, [first, aligned.rows["A"]])
    assert "from parallel" in next(c for c in leaning if c.key == "perpendicular_distance").why_not
    for wrong in ([], [first, first], list(range(1, 99))):
        with pytest.raises(InputError, match="different features"):
            derive.choices(aligned.job, wrong)


def test_a_dimension_takes_its_nominal_from_its_parents(aligned):
    systems.plan_lettered(TECHNICIAN, aligned.job)
    row = derive.plan(TECHNICIAN, aligned.job, "along_x", [aligned.rows["C"], aligned.rows["end"]])
    assert text_of(aligned, "Distance 1").first.nominal == "500.000"
    sheet.set_limits(TECHNICIAN, aligned.job, row, "-0.05", "0.05")
    shown = text_of(aligned, "Distance 1")
    assert (shown.first.deviation, shown.word, shown.out_by) == ("+0.080", "out", "0.030")
    with pytest.raises(InputError, match="no such thing"):
        derive.plan(TECHNICIAN, aligned.job, "apex", [aligned.rows["C"]])


def test_a_made_feature_is_a_row_that_can_be_measured_from_and_follows(aligned):
    """The middle plane of both ends: from it to the right end is half of the whole."""
    systems.plan_lettered(TECHNICIAN, aligned.job)
    left, right = aligned.rows["C"], aligned.rows["end"]
    middle = derive.plan(TECHNICIAN, aligned.job, "middle_plane", [left, right])
    assert text_of(aligned, "Middle plane 1").first.deviation.lstrip("+−") == "0.040"
    derive.plan(TECHNICIAN, aligned.job, "perpendicular_distance", [middle, right])
    assert text_of(aligned, "Distance 1").first.actual == "250.040"
    with pytest.raises(InputError, match="Distance 1 rests on this row"):
        standing.remove(TECHNICIAN, aligned.job, [middle])
    raised = derive.plan(TECHNICIAN, aligned.job, "offset_plane", [aligned.rows["A"]], Given(offset_mm=12.0))
    assert aligned.state().results[raised].characteristic("height").actual == pytest.approx(72.0, abs=1e-6)


def test_a_row_names_only_what_is_in_its_job(aligned, bench):
    for raw in ({"kind": "dimension", "measure": "angle", "of": [aligned.rows["A"], 999_999]},
                {"kind": "level", "station": 999_999}, {"kind": "steps", "against": aligned.rows["A"],
                 "steps": [{"step": "turn", "features": [aligned.rows["A"]], "axis": "+Z"}]}):  # fmt: skip
        with pytest.raises(InputError, match="not in this job"):
            aligned.plan(name="Wrong", **raw)


def test_inches_are_the_same_deviations(aligned):
    systems.plan_lettered(TECHNICIAN, aligned.job)
    sheet.set_units(TECHNICIAN, aligned.job, "in")
    shown = text_of(aligned, "Right").first
    assert shown.deviation == "+0.0031"
    assert shown.tolerance == "±0.0079"
    assert shown.deviation_value == pytest.approx(0.08 / 25.4, abs=1e-9)


# ---- parts ---------------------------------------------------------------------------------


def test_a_bad_file_is_said_on_the_part_and_changes_nothing_else(stack):
    part = parts.add_part(TECHNICIAN, "Poem", "poem.step", BytesIO(b"Shall I compare thee"))
    parts.import_part(part)
    with transaction() as session:
        found = session.get(Part, part)
        assert found.state == "failed"
        assert "not a STEP, IGES, PLY, STL or OBJ file" in found.words
        assert found.model is None


def test_a_path_in_a_file_name_is_cut_off(stack):
    part = parts.add_part(TECHNICIAN, "", "../../etc/passwd.step", BytesIO(b"x"))
    with transaction() as session:
        assert session.get(Part, part).file_name == "passwd.step"


def test_at_least_one_body_stays(bench):
    with pytest.raises(InputError, match="one body has to stay"):
        parts.choose_bodies(TECHNICIAN, bench.job, [])
    with pytest.raises(InputError, match="one body has to stay"):
        parts.choose_bodies(TECHNICIAN, bench.job, [7])
    parts.choose_bodies(TECHNICIAN, bench.job, [0])


def test_the_hand_is_told_of_every_face_it_can_reach(bench):
    with transaction() as session:
        model = CadModel.unpack(session.get(Part, bench.part).model)
    faces = hand.touchable_faces(model)
    assert len(faces) == 20
    assert all(len(f["spots"]) > 20 for f in faces)


# ---- reports --------------------------------------------------------------------------------


def test_reports_are_made_of_the_chosen_rows(aligned):
    systems.plan_lettered(TECHNICIAN, aligned.job)
    made = making.ask_report(TECHNICIAN, aligned.job, "csv", [aligned.rows["end"]])
    making.make_report(made)
    with transaction() as session:
        found = session.get(Report, made)
        assert found.state == "ready"
        lines = found.data.decode("utf-8-sig").splitlines()
    assert len(lines) == 2
    assert "Right" in lines[1]


def test_a_report_that_cannot_be_made_says_so(aligned, monkeypatch):
    made = making.ask_report(TECHNICIAN, aligned.job, "pdf", [])
    broken = replace(making.FORMATS["pdf"], made=lambda *_: 1 / 0)
    monkeypatch.setitem(making.FORMATS, "pdf", broken)
    making.make_report(made)
    with transaction() as session:
        found = session.get(Report, made)
        assert (found.state, found.data) == ("failed", None)
        assert "could not be made" in found.message


def test_the_facts_say_who_with_what_and_where_from(aligned):
    systems.plan_lettered(TECHNICIAN, aligned.job)
    with transaction() as session:
        facts = dict(gather_facts(session, load(session, aligned.job), 1))
    assert facts["Made by"] == "Tamsin Orrell"
    assert "0 holds spare" in facts["Coordinate system"]
    assert "6.000 mm (0.2362 in)" in facts["Probe"]
    with pytest.raises(InputError, match="not in this job"):
        making.ask_report(TECHNICIAN, aligned.job, "csv", [999_999])


# ---- people ---------------------------------------------------------------------------------


def test_passwords_are_kept_as_hashes_and_checked(stack):
    people.add_person("olwen", "Olwen", "technician", "a long secret")
    assert people.sign_in("Olwen ", "a long secret", "10.0.0.1")[0].name == "Olwen"
    with pytest.raises(InputError):
        people.sign_in("olwen", "a short secret", "10.0.0.1")
    with pytest.raises(InputError, match="no role"):
        people.add_person("x", "X", "king", "y")
    with transaction() as session:
        stored = session.execute(text("SELECT password_hash FROM users WHERE login = 'olwen'")).scalar()
    assert "secret" not in stored


def test_edits_are_taken_back_one_after_another(bench):
    row = bench.plan_plane("Face", [0, 0, 60], [0, 0, 1])

    def name():
        return bench.state().row(row).recipe.name

    sheet.edit_row(TECHNICIAN, bench.job, row, {"name": "Second"})
    sheet.edit_row(TECHNICIAN, bench.job, row, {"name": "Third", "datum": "K"})
    sheet.take_edit_back(TECHNICIAN, bench.job, row)
    assert (name(), bench.state().row(row).recipe.datum) == ("Second", None)
    sheet.take_edit_back(TECHNICIAN, bench.job, row)
    assert name() == "Face"
    with pytest.raises(InputError, match="No edit of this row"):
        sheet.take_edit_back(TECHNICIAN, bench.job, row)


def test_an_edit_is_not_taken_back_where_its_letter_is_elsewhere_now_or_it_was_changed_unseen(bench):
    first, second = (bench.plan_plane(name, [0, 0, 60], [0, 0, 1]) for name in ("First", "Second"))
    sheet.edit_row(TECHNICIAN, bench.job, first, {"datum": "Q"})
    seen = sheet.edit_row(TECHNICIAN, bench.job, first, {"datum": ""})
    sheet.edit_row(TECHNICIAN, bench.job, second, {"datum": "Q"})
    with pytest.raises(InputError, match="Datum Q is on Second"):
        sheet.take_edit_back(TECHNICIAN, bench.job, first)
    sheet.edit_row(TECHNICIAN, bench.job, first, {"name": "Another"})
    with pytest.raises(InputError, match="changed by somebody else"):
        sheet.take_edit_back(TECHNICIAN, bench.job, first, seen)


def test_the_rule_of_decision_is_the_jobs_and_is_printed(bench):
    row = bench.plan_plane("Top", [0, 0, 60], [0, 0, 1], asked=[{"key": "height", "lower": -0.0001, "upper": 0.0001}])
    bench.touch_plane(row)
    assert bench.state().sheet.rule == "proven"
    sheet.set_rule(TECHNICIAN, bench.job, "simple")
    state = bench.state()
    assert state.sheet.rule == "simple"
    with transaction() as session:
        facts = dict(gather_facts(session, load(session, bench.job), None))
    assert facts["Decided by"].startswith("Simple acceptance")
    with pytest.raises(InputError, match="no rule"):
        sheet.set_rule(TECHNICIAN, bench.job, "by eye")
    with pytest.raises(NotAllowed):
        sheet.set_rule(REVIEWER, bench.job, "proven")


def test_rows_that_rest_on_a_datum_and_say_what_they_said_are_the_same_words(bench):
    """All of them are worked out again at every hit of it."""
    rows = [bench.plan_plane(name, [0, 0, 60], [0, 0, 1], datum=name) for name in "ABC"]
    bench.plan_plane("Judged", [0, 0, 30], [0, 0, 1])
    systems.plan_lettered(TECHNICIAN, bench.job)
    measuring.make_current(TECHNICIAN, bench.job, rows[0])
    before = row_texts(bench.state())
    presses.keep(bench.arm, batch(center=(0.0, 0.0, 63.0)), next(numbers))
    assert row_texts(bench.state()).differing(before) == [rows[0]]
