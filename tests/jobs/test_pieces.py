"""Pieces of one job: begun by the same plan, changes of it carried over, and all of them told together."""

import io
import json
import re

import numpy as np
import openpyxl
import pytest
from job_bench import REVIEWER, TECHNICIAN, Bench, batch, numbers
from pypdf import PdfReader
from scipy import stats as reference

from zipplumb.core.errors import InputError, NotAllowed
from zipplumb.jobs.align import systems
from zipplumb.jobs.kit import stations
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import measuring
from zipplumb.jobs.outcomes import kept
from zipplumb.jobs.outcomes.measured_with import measured_with
from zipplumb.jobs.outcomes.over import pieces_of, together
from zipplumb.jobs.outcomes.told import runs_told
from zipplumb.jobs.pieces import another, carrying_over
from zipplumb.jobs.pieces.shared_plan import own_plan
from zipplumb.jobs.plan import adding, catalogue, sheet, standing
from zipplumb.jobs.report import documents, making, pictures
from zipplumb.jobs.state.results import load
from zipplumb.store.database import snapshot, transaction
from zipplumb.store.models import Job, Row
from zipplumb.store.pieces import Outcome
from zipplumb.store.reports import Picture, Report

RADIUS_MM, LIMIT_MM = 3.0, 0.1
PLANES = (
    ("Top", [0, 0, 60], [0, 0, 1], "A"),
    ("Side", [0, -140, 30], [0, -1, 0], "B"),
    ("End", [-250, 0, 30], [-1, 0, 0], "C"),
)
PLACES = [((x, y, 60.0), (0.0, 0, 1)) for x in (-200, 200) for y in (-100, 40)]
OFF_MM = np.round(np.random.default_rng(21).normal(0.03, 0.02, (30, len(PLACES))), 4)  # of each piece, each place


def touch(bench, job, off):
    """A piece as a hand would measure it: its planes where they belong, each place so far off."""
    stations.bring(TECHNICIAN, job, bench.arm)
    with snapshot() as session:
        rows = load(session, job).measured
    for row in rows:
        measuring.make_current(TECHNICIAN, job, row.id)
        if row.recipe.kind == "plane":
            point, normal = next(
                (np.array(p, float), np.array(n, float)) for name, p, n, _ in PLANES if name == row.recipe.name
            )
            across = np.eye(3)[np.flatnonzero(normal == 0)]
            at = [point + 100 * a * across[0] + 20 * b * across[1] for a in (-1, 1) for b in (-1, 1)]
        else:
            number = int(row.recipe.name[1:]) - 1
            normal = np.array(PLACES[number][1])
            at = [np.array(PLACES[number][0]) + off[number] * normal]
        for place in at:
            center = place + RADIUS_MM * normal
            presses.keep(bench.arm, batch(center=center, came_from=center + 15 * normal), next(numbers))
        presses.finish(bench.arm, batch("pull_off", center=center + 30 * normal), next(numbers))


@pytest.fixture(scope="module")
def planned(stack):
    """The first of some pieces, planned and not measured, with a report and a picture."""
    bench = Bench(stack)
    for name, point, normal, letter in PLANES:
        bench.plan_plane(name, point, normal, datum=letter, hits=4)
    limits = [{"key": "off", "lower": -LIMIT_MM, "upper": LIMIT_MM}]
    with transaction() as session:
        raws = [adding.surface_point(at, out, name=f"S{k}", asked=limits) for k, (at, out) in enumerate(PLACES, start=1)]
        bench.points = adding.add_rows(session, TECHNICIAN, bench.job, adding.named(session, bench.job, raws))
    systems.activate(TECHNICIAN, bench.job, systems.plan_lettered(TECHNICIAN, bench.job))
    sheet.set_rule(TECHNICIAN, bench.job, "simple")
    tags = {"rows": bench.points[:2], "seen": False, "moved": {str(bench.points[0]): [0.1, 0.2]}}
    view = {"camera": {"eye": [0, -0.2, 1], "up": [0, 1, 0], "middle": [0, 0, 60], "half_mm": 220}, "tags": tags}
    bench.picture = pictures.keep(TECHNICIAN, bench.job, view, "From above")
    parts = [{"kind": "rows", "rows": bench.points[1:]}, {"kind": "pictures", "pictures": [bench.picture]}, {"kind": "pieces"}]
    documents.begin(TECHNICIAN, bench.job, "For the office", parts=parts)
    return bench


@pytest.fixture(scope="module")
def made(planned):
    """Five pieces, all measured; the third has its second place 0.2 mm high."""
    bench = planned
    off = OFF_MM[:5].copy()
    off[2, 1] = 0.2
    another.name_piece(TECHNICIAN, bench.job, "0001", "Order: 4711")
    touch(bench, bench.job, off[0])
    bench.pieces = [bench.job]
    for k in range(1, 5):
        piece = another.measure_another(TECHNICIAN, bench.pieces[-1], f"000{k + 1}", "Order: 4711\nMaterial: 1.4301")
        touch(bench, piece, off[k])
        bench.pieces.append(piece)
    bench.off = off
    return bench


def named(job, name):
    with snapshot() as session:
        return next(row for row in load(session, job).rows if row.recipe.name == name)


# ---- another piece ------------------------------------------------------------------------------


def test_another_has_the_plan_the_report_and_the_pictures_and_nothing_measured(planned):
    piece = another.measure_another(TECHNICIAN, planned.job, "X-1", "")
    with snapshot() as session:
        like, state = load(session, planned.job), load(session, piece)
        assert [row.recipe.name for row in state.rows] == [row.recipe.name for row in like.rows]
        assert not {row.id for row in state.rows} & {row.id for row in like.rows}
        assert own_plan(session, state.job).rows == own_plan(session, like.job).rows
        assert (state.job.rule, state.job.part_id, state.job.name) == ("simple", like.job.part_id, like.job.name)
        assert state.row(state.job.alignment_row_id).recipe.kind == like.row(like.job.alignment_row_id).recipe.kind
        assert state.current.recipe.name == "Top"
        assert {found.state for found in state.results.values()} <= {"todo", "waits"}
        ours = {row.recipe.name: row.id for row in state.rows}
        (document,) = documents.documents_of(session, piece)
        (picture,) = pictures.pictures_of(session, piece)
        assert document.parts[0]["rows"] == [ours["S2"], ours["S3"], ours["S4"]]
        assert document.parts[1]["pictures"] == [picture.id]
        assert picture.view["tags"]["rows"] == [ours["S1"], ours["S2"]]
        assert picture.view["tags"]["moved"] == {str(ours["S1"]): [0.1, 0.2]}
    catalogue.remove(TECHNICIAN, piece, piece_alone=True)


@pytest.mark.parametrize(
    ("serial", "identity", "word"),
    [("", "", "1 to 60"), ("x" * 61, "", "1 to 60"), ("7", "no colon", "does not say"), ("7", "a: b\n" * 13, "12 lines"),
     ("7\x00", "", "1 to 60"), ("7", f"a: {'b' * 200}", "does not say"), ("7", "a:", "does not say")],
)  # fmt: skip
def test_what_cannot_be_a_piece_is_refused_whole(planned, serial, identity, word):
    with snapshot() as session:
        before = len(pieces_of(session, planned.job))
    with pytest.raises(InputError, match=word):
        another.measure_another(TECHNICIAN, planned.job, serial, identity)
    with snapshot() as session:
        assert len(pieces_of(session, planned.job)) == before


def test_a_serial_number_is_of_one_piece_only_and_a_reviewer_begins_none(made):
    with pytest.raises(InputError, match="There is a piece 0002 in this job already"):
        another.measure_another(TECHNICIAN, made.job, " 0002 ")
    with pytest.raises(InputError, match="already"):
        another.name_piece(TECHNICIAN, made.pieces[2], "0002", "")
    with pytest.raises(NotAllowed):
        another.measure_another(REVIEWER, made.job, "9")
    another.name_piece(TECHNICIAN, made.pieces[2], "0003", "Order: 4712")  # its own stays free to it


def test_a_row_of_one_piece_alone_stays_behind_with_what_rests_on_it(stack):
    bench = Bench(stack)
    top = bench.plan_plane("Top", [0, 0, 60], [0, 0, 1])
    with transaction() as session:
        scan = adding.add_row(session, TECHNICIAN, bench.job, {"kind": "scan", "name": "Scan 1"})
        cut = {"kind": "scan_section", "name": "Cut here", "scan": scan, "point": [0, 0, 60], "across": [1, 0, 0]}
        section = adding.add_row(session, TECHNICIAN, bench.job, cut | {"in_world": True})
        adding.add_row(session, TECHNICIAN, bench.job, {"kind": "pin", "name": "Pin 1", "map": section, "at": [0, 0, 60]})
        adding.add_row(session, TECHNICIAN, bench.job, cut | {"name": "Cut there"})
        own = own_plan(session, session.get(Job, bench.job))
    assert set(own.left) == {"Cut here", "Pin 1"}
    piece = another.measure_another(TECHNICIAN, bench.job, "2")
    with snapshot() as session:
        assert [row.recipe.name for row in load(session, piece).rows] == ["Top", "Scan 1", "Cut there"]
        assert session.get(Row, load(session, piece).rows[0].id).in_plan == top


def test_a_job_of_its_own_by_the_plan_of_another(planned):
    copied = another.copy_plan(TECHNICIAN, planned.job, "Copied")
    with snapshot() as session:
        like, state = load(session, planned.job), load(session, copied)
        assert [row.recipe.name for row in state.rows] == [row.recipe.name for row in like.rows]
        assert [each.id for each in pieces_of(session, copied)] == [copied]
        assert all(session.get(Row, row.id).in_plan == row.id for row in state.rows)
        assert len(pictures.pictures_of(session, copied)) == 1
    for name in ("", " ", "x" * 81):
        with pytest.raises(InputError, match="needs a name"):
            another.copy_plan(TECHNICIAN, planned.job, name)


def test_rows_that_rest_on_one_another_in_a_circle_end_nothing(stack):
    bench = Bench(stack)
    plane = bench.plan_plane("Top", [0, 0, 60], [0, 0, 1])
    raw = {"kind": "construction", "make": "offset_plane", "offset_mm": 1.0}
    with transaction() as session:
        one = adding.add_row(session, TECHNICIAN, bench.job, raw | {"name": "One", "of": [plane]})
        other = adding.add_row(session, TECHNICIAN, bench.job, raw | {"name": "Other", "of": [one]})
        row = session.get(Row, one)
        row.recipe = row.recipe | {"of": [other]}
    piece = another.measure_another(TECHNICIAN, bench.job, "2")
    assert named(piece, "One").recipe.of == (named(piece, "Other").id,)
    assert named(piece, "Other").recipe.of == (named(piece, "One").id,)


# ---- the plan, changed later --------------------------------------------------------------------


@pytest.fixture
def two(stack):
    bench = Bench(stack)
    bench.rows = [bench.plan_plane(name, point, normal, datum=letter, hits=4) for name, point, normal, letter in PLANES]
    bench.other = another.measure_another(TECHNICIAN, bench.job, "2")
    return bench


def edit(job, name, **texts):
    row = named(job, name)
    sheet.edit_row(TECHNICIAN, job, row.id, texts)


def offered(job):
    with snapshot() as session:
        return carrying_over.offered(session, session.get(Job, job))


def told(found):
    return {(each.name, each.what) for each in found}


def take(job, *names):
    now = offered(job)
    return carrying_over.take_over(TECHNICIAN, job, [each.key for each in now.changes if each.name in names], now.seen)


def test_changes_are_offered_taken_over_and_what_was_measured_is_kept(two):
    bench = two
    touch(bench, bench.other, [0])
    edit(bench.job, "Top", note="deburred")
    bench.plan_plane("Right", [250, 0, 30], [1, 0, 0])
    standing.remove(TECHNICIAN, bench.job, [bench.rows[2]])
    assert told(offered(bench.job).own) == {("Top", "changed"), ("Right", "new"), ("End", "gone")}
    assert not offered(bench.other).changes
    carrying_over.offer(TECHNICIAN, bench.job)
    assert not offered(bench.job).own
    now = offered(bench.other)
    assert told(now.changes) == {("Top", "changed"), ("Right", "new"), ("End", "gone")}
    assert next(each.fields for each in now.changes if each.name == "Top") == ("note",)  # as its form calls it
    with snapshot() as session:
        assert carrying_over.is_offered(session, load(session, bench.other)) is not carrying_over.is_finished(
            load(session, bench.other)
        )
    before = named(bench.other, "Top").id
    assert take(bench.other, "Top", "Right", "End") == 3
    with snapshot() as session:
        state = load(session, bench.other)
        assert [row.recipe.name for row in state.rows] == ["Top", "Side", "Right"]
        top = state.row(before)
        assert top.recipe.note == "deburred"
        assert state.results[before].hits == 4
        assert own_plan(session, state.job).rows == own_plan(session, session.get(Job, bench.job)).rows
    assert not offered(bench.other).changes


def test_what_both_changed_says_so_and_what_is_left_is_not_offered_again(two):
    edit(two.job, "Top", note="ours")
    edit(two.job, "Side", note="ours")
    edit(two.other, "Top", note="theirs")
    carrying_over.offer(TECHNICIAN, two.job)
    now = offered(two.other)
    assert {each.name: each.both for each in now.changes} == {"Top": True, "Side": False}
    with pytest.raises(InputError, match="over, or leave them, first"):
        carrying_over.offer(TECHNICIAN, two.other)
    assert take(two.other, "Side") == 1
    assert named(two.other, "Top").recipe.note == "theirs"
    assert not offered(two.other).changes
    assert told(offered(two.other).own) == {("Top", "changed")}


def test_an_offer_that_has_changed_is_looked_at_again(two):
    edit(two.job, "Top", note="one")
    carrying_over.offer(TECHNICIAN, two.job)
    seen = offered(two.other).seen
    edit(two.job, "Side", note="two")
    carrying_over.offer(TECHNICIAN, two.job)
    with pytest.raises(InputError, match="changed meanwhile"):
        carrying_over.take_over(TECHNICIAN, two.other, [], seen)
    with pytest.raises(InputError, match="not offered any more"):
        carrying_over.take_over(TECHNICIAN, two.other, [-1], offered(two.other).seen)
    with pytest.raises(InputError, match="no changes of its own"):
        carrying_over.offer(TECHNICIAN, two.job)


def test_a_row_that_rests_on_one_that_was_not_taken_is_refused_whole(two):
    bench = two
    right = bench.plan_plane("Right", [250, 0, 30], [1, 0, 0])
    with transaction() as session:
        adding.add_row(session, TECHNICIAN, bench.job, {"kind": "flatness", "name": "Flat", "of": [right], "zone_mm": 0.05})
    carrying_over.offer(TECHNICIAN, bench.job)
    with pytest.raises(InputError, match="Flat rests on a row that this piece does not have"):
        take(bench.other, "Flat")
    assert len(offered(bench.other).changes) == 2
    take(bench.other, "Flat", "Right")
    flat = named(bench.other, "Flat")
    assert flat.recipe.of == (named(bench.other, "Right").id,)


def test_the_rule_and_the_alignment_go_along(two):
    systems.activate(TECHNICIAN, two.job, systems.plan_lettered(TECHNICIAN, two.job))
    sheet.set_rule(TECHNICIAN, two.job, "simple")
    carrying_over.offer(TECHNICIAN, two.job)
    take(two.other, *(each.name for each in offered(two.other).changes))
    with snapshot() as session:
        state = load(session, two.other)
        assert state.job.rule == "simple"
        assert state.row(state.job.alignment_row_id).recipe.role == "system"


# ---- all of them together -----------------------------------------------------------------------


def test_what_was_found_is_kept_until_something_changes(made):
    with transaction() as session:
        together(session, made.job, at_once=True)
    with snapshot() as session:
        assert set(kept.outcomes_of(session, made.pieces)) == set(made.pieces)
        outcome = session.get(Outcome, made.pieces[2])
        assert (outcome.out, outcome.words["out"]) == (1, 1)
    sheet.set_rule(TECHNICIAN, made.pieces[2], "proven")
    with transaction() as session:  # the worker is asked for that one
        assert set(kept.outcomes_of(session, made.pieces)) == set(made.pieces) - {made.pieces[2]}
        assert session.get(Outcome, made.pieces[2]).asked_at is not None
    kept.keep_outcome(made.pieces[2])
    sheet.set_rule(TECHNICIAN, made.pieces[2], "simple")
    kept.keep_outcome(made.pieces[2])
    with snapshot() as session:
        assert set(kept.outcomes_of(session, made.pieces)) == set(made.pieces)


def test_the_worker_looks_for_what_has_changed_once_it_rests(made, monkeypatch):
    def asked():
        with snapshot() as session:
            return session.get(Outcome, made.pieces[3]).asked_at is not None

    kept.keep_outcome(made.pieces[3])
    monkeypatch.setattr(kept, "RESTING_S", 0)
    kept.look_around()
    assert not asked()
    sheet.set_rule(TECHNICIAN, made.pieces[3], "proven")
    monkeypatch.setattr(kept, "RESTING_S", 20)
    kept.look_around()
    assert not asked()  # somebody is at it
    monkeypatch.setattr(kept, "RESTING_S", 0)
    kept.look_around()
    assert asked()
    sheet.set_rule(TECHNICIAN, made.pieces[3], "simple")
    kept.keep_outcome(made.pieces[3])


def test_runs_are_the_numbers_of_the_pieces(made):
    with transaction() as session:
        found = together(session, made.job, at_once=True)
    runs = {each.name: each for each in found.characteristics if each.label == "off" or each.judged}
    for k in range(len(PLACES)):
        run = runs[f"S{k + 1}"]
        values = [each.value for each in run.found]
        assert values == pytest.approx(made.off[:, k], abs=2e-3)
        assert run.run.s == pytest.approx(reference.tstd(values))
        assert (run.lower, run.upper) == (-LIMIT_MM, LIMIT_MM)
    assert [each.word for each in runs["S2"].found] == ["in", "in", "out", "in", "in"]
    assert found.pieces[0].called == "0001"
    assert found.pieces[0].identity == (("Order", "4711"),)
    said = next(each for each in runs_told(found, "mm") if each.of.name == "S2")
    assert said.sentences[0].startswith("5 pieces: mean +0.")
    assert "1 out" in said.sentences[0]
    assert "Too few pieces for an index of capability: at least 10." in said.sentences
    assert not said.indices
    assert re.search(r"<svg.*<title>S2", said.chart)


def test_who_measured_which_with_what(made):
    with snapshot() as session:
        found = measured_with(session, made.pieces)
    assert set(found) == set(made.pieces)
    for each in found.values():
        assert len(each.instruments) == 1
        assert "calibrated" in each.probes[0] or "maker" in each.probes[0]
        assert each.people == ("Tamsin Orrell",)


def report(made, kind):
    asked = making.ask_report(TECHNICIAN, made.pieces[-1], kind, (), _document(made))
    making.make_report(asked)
    with snapshot() as session:
        done = session.get(Report, asked)
        assert done.state == "ready", done.message
        return asked, bytes(done.data)


def _document(made):
    with snapshot() as session:
        return documents.documents_of(session, made.pieces[-1])[0].id


def test_a_report_over_five_pieces_as_pdf_and_xlsx(made):
    _, data = report(made, "xlsx")
    book = openpyxl.load_workbook(io.BytesIO(data))
    pieces = book["Pieces"]
    head = [cell.value for cell in pieces[1]]
    assert head[5:] == ["0001", "0002", "0003", "0004", "0005"]
    line = next(row for row in pieces.iter_rows(min_row=2, values_only=True) if row[0] == "S2")
    assert line[5:] == pytest.approx(made.off[:, 1], abs=2e-3)
    over = {row[0]: row for row in book["Over pieces"].iter_rows(min_row=2, values_only=True)}
    assert over["S2"][5:7] == (5, 1)
    assert len(book["Runs"]._charts) == 0 or book["Runs"].max_row == 6  # charts are not read back
    assert [row[0] for row in book["Measured with"].iter_rows(min_row=2, values_only=True)] == head[5:]
    _, data = report(made, "pdf")
    pages = PdfReader(io.BytesIO(data)).pages
    text = "\n".join(page.extract_text() for page in pages)
    assert "0003" in text
    assert "Order: 4711" in text
    assert "5 pieces: mean" in text


def test_a_piece_is_reported_by_its_serial_number(made):
    with snapshot() as session:
        called = session.get(Job, made.pieces[1]).called
        name = session.get(Job, made.job).name
    assert json.loads(making.made_now(called, "json", None))["title"].startswith(called)
    with pytest.raises(InputError, match="Several jobs or pieces are called"):
        making.made_now(name, "json", None)


def test_a_report_over_pieces_is_out_of_date_when_another_piece_changes(made):
    asked, _ = report(made, "csv")

    def why():
        with snapshot() as session:
            return next(each.changed for each in making.made_of(session, load(session, made.pieces[-1]), 9) if each.id == asked)

    assert why() == ()
    row = named(made.job, "S1")
    sheet.edit_row(TECHNICIAN, made.job, row.id, {"asked.off.upper": "0.001"})
    kept.keep_outcome(made.job)
    assert why() == ("Another piece was measured or changed.",)
    sheet.take_edit_back(TECHNICIAN, made.job, row.id)
    kept.keep_outcome(made.job)
    assert why() == ()


def test_the_page_of_jobs_has_one_line_for_all_pieces(made):
    with snapshot() as session:
        every = catalogue.jobs_there(session, TECHNICIAN).lines
        lines = [line for line in every if line.id in made.pieces]
        assert [(line.pieces, line.measured, line.how_far) for line in lines] == [(5, 5, "5 of 5 pieces measured")]
        assert lines[0].out == 1
        assert made.pieces[2] in [line.id for line in catalogue.jobs_there(session, TECHNICIAN, shown="out").lines]
        assert [line.id for line in catalogue.jobs_there(session, TECHNICIAN, search="0004").lines] == [made.pieces[3]]
        assert catalogue.jobs_there(session, TECHNICIAN, search="1.4301").lines[0].id in made.pieces


def test_removed_together_and_brought_back_together(two):
    from zipplumb.jobs.actor import Actor

    administrator = Actor(3, "Ines", "administrator")
    with transaction() as session:  # the bench's arm goes elsewhere
        elsewhere = Bench.__new__(Bench)
        elsewhere.job = sheet.create_job(TECHNICIAN, "elsewhere", session.get(Job, two.job).part_id)
    stations.bring(TECHNICIAN, elsewhere.job, two.arm)
    catalogue.remove(TECHNICIAN, two.job)
    assert catalogue.is_removed(two.job)
    assert catalogue.is_removed(two.other)
    catalogue.bring_back(administrator, two.other)
    assert not catalogue.is_removed(two.job)
    catalogue.remove(TECHNICIAN, two.other, piece_alone=True)
    assert not catalogue.is_removed(two.job)
    with snapshot() as session:
        assert [each.id for each in pieces_of(session, two.job)] == [two.job]
        assert session.query(Picture).filter(Picture.job_id == two.job).count() == 0
