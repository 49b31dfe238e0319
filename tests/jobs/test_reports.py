"""Reports put together from parts; pictures drawn with tags, as the numbers are; and what has changed since a file was made."""

import base64
import io
import itertools
import json
import os
import re
import subprocess
import sys
import time
from types import SimpleNamespace

import numpy as np
import openpyxl
import pytest
from job_bench import REVIEWER, TECHNICIAN, Bench, batch, numbers
from pypdf import PdfReader
from sqlalchemy import text

from zipplumb.cad import CadModel
from zipplumb.cli import main
from zipplumb.core.errors import InputError, PlumbError
from zipplumb.core.sheet.base import Needed
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import measuring
from zipplumb.jobs.plan import adding, sheet
from zipplumb.jobs.report import documents, making, office, pictures
from zipplumb.jobs.report.drawn import draw, over_stage, tags_of
from zipplumb.jobs.report.parts import KINDS
from zipplumb.jobs.report.tagging import places_of
from zipplumb.jobs.report.views import Tags, named_between, view_of
from zipplumb.jobs.state.results import load
from zipplumb.store.database import snapshot, transaction
from zipplumb.store.reports import Picture, Report

RADIUS_MM = 3.0
TOP, LEFT = (0.0, 0, 1), (-1.0, 0, 0)
PLACES = [((x, y, 60.0), TOP) for x in (-220, -200, 200, 220) for y in (-125, -40, 40)] + [
    ((-250.0, y, z), LEFT) for y in (-100, 0, 100) for z in (15, 45)
]
FROM_ABOVE = {"camera": {"eye": [0, -0.2, 1], "up": [0, 1, 0], "middle": [0, 0, 60], "half_mm": 220}, "shape": 1.6}


@pytest.fixture(scope="module")
def inspected(stack):
    """The carrier with points on its top and left end, every fourth of them 0.2 mm high (part = world)."""
    from zipplumb.jobs.align import systems

    bench = Bench(stack)
    for name, point, normal, letter in (
        ("Top", [0, 0, 60], [0, 0, 1], "A"), ("Side", [0, -140, 30], [0, -1, 0], "B"), ("End", [-250, 0, 30], [-1, 0, 0], "C"),
    ):  # fmt: skip
        bench.touch_plane(bench.plan_plane(name, point, normal, datum=letter, hits=4))
    limits = [{"key": "off", "lower": -0.1, "upper": 0.1}]
    with transaction() as session:
        raws = [adding.surface_point(at, out, name=f"S{k}", asked=limits) for k, (at, out) in enumerate(PLACES, start=1)]
        bench.points = adding.add_rows(session, TECHNICIAN, bench.job, adding.named(session, bench.job, raws))
    for k, ((at, out), row) in enumerate(zip(PLACES, bench.points, strict=True)):
        measuring.make_current(TECHNICIAN, bench.job, row)
        center = np.array(at) + (RADIUS_MM + (0.2 if k % 4 == 0 else 0.0)) * np.array(out)
        presses.keep(bench.arm, batch(center=center, came_from=center + 15 * np.array(out)), next(numbers))
        presses.finish(bench.arm, batch("pull_off", center=center + 30 * np.array(out)), next(numbers))
    systems.activate(TECHNICIAN, bench.job, systems.plan_lettered(TECHNICIAN, bench.job))
    sheet.set_rule(TECHNICIAN, bench.job, "simple")
    return bench


@pytest.fixture
def state(inspected):
    with snapshot() as session:
        yield load(session, inspected.job)


def names(state, tags, look=FROM_ABOVE):
    return {state.row(each.row).recipe.name for each in tags_of(state, view_of(look | {"tags": tags}))}


# ---- which rows have tags -----------------------------------------------------------------------


def test_tags_are_put_on_by_names_by_result_by_kind_by_choice_and_by_what_is_seen(inspected, state):
    on_top = {f"S{k}" for k in range(1, 13)}
    assert names(state, {"kind": "surface_point"}) == on_top
    assert names(state, {"first": "S3", "last": "S5"}) == {"S3", "S4", "S5"}
    assert names(state, {"word": "out"}) == {"S1", "S5", "S9"}
    assert names(state, {"rows": inspected.points[:2]}) == {"S1", "S2"}
    assert names(state, {"kind": "surface_point", "seen": False}) == on_top | {f"S{k}" for k in range(13, 19)}
    assert names(state, {"first": "S4", "last": "S17", "word": "out"}) == {"S5", "S9"}
    hidden = tags_of(state, view_of(FROM_ABOVE | {"tags": {"rows": inspected.points[-1:], "seen": False}}))
    assert [each.hidden for each in hidden] == [True]


@pytest.mark.parametrize(
    ("first", "last", "found"),
    [
        ("S2", "S10", {"S2", "S3", "S10"}), ("s10", "S2", {"S2", "S3", "S10"}), ("S3", "", {"S3", "S10"}),
        ("", "S3", {"S2", "S3"}),
        ("Top", "Bore", {"Top", "S2", "S3", "Bore"}), ("Top", "S3", {"Top", "S2", "S3"}), ("Nobody", "S3", set()),
        ("", "", {"Top", "S2", "S3", "Bore", "S10"}),
    ],
)  # fmt: skip
def test_a_stretch_of_names_goes_by_its_numbers_or_by_the_sheet(first, last, found):
    assert named_between(["Top", "S2", "S3", "Bore", "S10"], first, last) == found


def test_a_tag_says_what_is_wanted(state):
    def first(**shows):
        tags = Tags.model_validate({"first": "S1", "last": "S1", **shows})
        (found,) = tags_of(state, view_of(FROM_ABOVE | {"tags": tags.model_dump()}))
        return found.texts

    assert first(shows=()) == ("+0.200",)
    assert first(shows=("name", "limits", "result")) == ("S1", "+0.200", "±0.100", "▲ out")


# ---- pictures -----------------------------------------------------------------------------------


def test_a_picture_is_drawn_with_the_part_its_edges_and_tags_in_margins_of_its_own(state):
    plain = draw(state, view_of(FROM_ABOVE), "From above")
    assert (plain.wide, plain.high) == (1600, 1000)
    colors = np.unique(plain.image.reshape(-1, 3), axis=0)
    assert len(colors) > 3
    assert sum(map(len, plain.edges)) > 100
    tagged = draw(state, view_of(FROM_ABOVE | {"tags": {"kind": "surface_point"}}), "From above")
    assert tagged.wide > 1600
    x, y = tagged.at
    for tag in tagged.tags:
        left, top, wide, high = tag.box
        assert left + wide <= x or left >= x + 1600 or top + high <= y or top >= y + 1000
        assert x <= tag.place[0] <= x + 1600 and y <= tag.place[1] <= y + 1000
    assert "S1 +0.200 ▲ out" in tagged.alt


def test_a_kept_picture_follows_the_numbers_and_a_moved_tag_stays(inspected):
    look = FROM_ABOVE | {"tags": {"first": "S1", "last": "S1", "shows": ["name"]}}
    kept = pictures.keep(TECHNICIAN, inspected.job, look, "  Top ")
    row = inspected.points[0]
    pictures.move_tag(TECHNICIAN, inspected.job, kept, row, (0.25, 0.5))
    with transaction() as session:
        state, picture = load(session, inspected.job), session.get(Picture, kept)
        assert picture.caption == "Top"
        drawn = draw(state, view_of(picture.view), "Top")
        (tag,) = drawn.tags
        assert tag.box[:2] == pytest.approx([0.25 * drawn.wide, 0.5 * drawn.high])
    sheet.set_limits(TECHNICIAN, inspected.job, row, "-0.3", "0.3")
    with transaction() as session:
        svg = pictures.shown(load(session, inspected.job), session.get(Picture, kept)).svg
    assert "S1\u2002+0.200" in svg
    assert "#0F6B62" in svg  # in
    sheet.set_limits(TECHNICIAN, inspected.job, row, "-0.1", "0.1")
    with pytest.raises(InputError, match="no tags"):
        bare = pictures.keep(TECHNICIAN, inspected.job, FROM_ABOVE, "")
        pictures.move_tag(TECHNICIAN, inspected.job, bare, row, None)
    pictures.drop(TECHNICIAN, inspected.job, bare)
    pictures.drop(TECHNICIAN, inspected.job, kept)


def test_one_from_each_side_shows_those_that_are_seen_from_there(inspected):
    kept = pictures.keep_all_round(TECHNICIAN, inspected.job, FROM_ABOVE | {"tags": {"kind": "surface_point"}}, "")
    with transaction() as session:
        state = load(session, inspected.job)
        found = {session.get(Picture, i).caption: tags_of(state, view_of(session.get(Picture, i).view)) for i in kept}
    assert {caption: len(tags) for caption, tags in found.items()} == {"From above": 12, "From the left": 6}
    for each in kept:
        pictures.drop(TECHNICIAN, inspected.job, each)
    with pytest.raises(InputError, match="From no side"):
        pictures.keep_all_round(TECHNICIAN, inspected.job, FROM_ABOVE | {"tags": {"first": "Nobody"}}, "")


@pytest.mark.parametrize(
    "raw",
    [
        {}, {"camera": {}}, FROM_ABOVE | {"shape": 0}, FROM_ABOVE | {"shape": 1e9}, FROM_ABOVE | {"what": 1},
        FROM_ABOVE | {"camera": FROM_ABOVE["camera"] | {"up": [0, -0.2, 1]}}, FROM_ABOVE | {"tags": {"arranged": "heap"}},
        FROM_ABOVE | {"camera": FROM_ABOVE["camera"] | {"eye": [0, 0, 0]}},
        FROM_ABOVE | {"camera": FROM_ABOVE["camera"] | {"half_mm": float("nan")}},
    ],
)  # fmt: skip
def test_what_sees_nothing_is_refused_and_nothing_is_kept(inspected, raw):
    with snapshot() as session:
        before = len(pictures.pictures_of(session, inspected.job))
    with pytest.raises(InputError, match="Nothing was kept"):
        pictures.keep(TECHNICIAN, inspected.job, raw, "")
    with snapshot() as session:
        assert len(pictures.pictures_of(session, inspected.job)) == before


def test_over_the_stage_they_stand_within_it(state):
    rows, laid = over_stage(state, view_of(FROM_ABOVE | {"tags": {"kind": "surface_point"}}), 500)
    assert len(laid.which) == len(rows) == 12
    assert (laid.boxes[:, :2] >= 0).all()
    assert ((laid.boxes[:, :2] + laid.boxes[:, 2:]) <= [800, 500]).all()


# ---- documents ----------------------------------------------------------------------------------


def made(job, kind, document=None):
    report = making.ask_report(TECHNICIAN, job, kind, (), document)
    making.make_report(report)
    with transaction() as session:
        found = session.get(Report, report)
        assert found.state == "ready", found.message
        return found.data


def words(pdf):
    return " ".join("\n".join(page.extract_text() for page in PdfReader(io.BytesIO(pdf)).pages).split())


def test_a_report_is_what_its_parts_say_in_their_order(inspected):
    parts = [
        {"kind": "heading", "lines": [("Order", "4711")]}, {"kind": "notes", "text": "First.\n\nSecond."},
        {"kind": "rows", "title": "What is out", "word": "out", "order": "result"},
        {"kind": "signatures", "names": ("Checked by",)},
    ]  # fmt: skip
    document = documents.begin(TECHNICIAN, inspected.job, "Only out", parts=parts)
    told = words(made(inspected.job, "pdf", document))
    places = [told.index(each) for each in ("Order", "4711", "First.", "Second.", "What is out", "S1", "S5", "Checked by")]
    assert places == sorted(places)
    assert "S2 " not in told and "Top" not in told
    assert documents.arrange(TECHNICIAN, inspected.job, document, "Only out", "Letter", list(reversed(parts))) == document
    pages = PdfReader(io.BytesIO(made(inspected.job, "pdf", document))).pages
    assert round(float(pages[0].mediabox[2])) == 612
    told = pages[0].extract_text()
    assert told.index("Checked by") < told.index("What is out") < told.index("4711")
    with pytest.raises(InputError, match="changed by somebody else"):
        documents.arrange(TECHNICIAN, inspected.job, document, "Only out", "A4", parts, "another")
    book = openpyxl.load_workbook(io.BytesIO(made(inspected.job, "xlsx", document)))
    assert book.sheetnames == ["Run sheet", "Notes", "Title block", "State"]
    documents.remove(TECHNICIAN, inspected.job, document)


def test_every_kind_of_part_is_gathered_and_drawn_or_left_out(inspected):
    document = documents.begin(TECHNICIAN, inspected.job, "All", parts=[{"kind": kind} for kind in KINDS])
    kept = pictures.keep(TECHNICIAN, inspected.job, FROM_ABOVE, "The top")
    told = words(made(inspected.job, "pdf", document))
    for said in ("The top", "Who, when, with what", "Measured by", "S1"):
        assert said in told
    for kind in ("text", "json", "csv"):
        assert b"S1" in made(inspected.job, kind, document)
    pictures.drop(TECHNICIAN, inspected.job, kept)
    documents.remove(TECHNICIAN, inspected.job, document)


def test_a_layout_is_for_other_jobs_and_takes_nothing_of_this_one_along(inspected, stack):
    parts = [{"kind": "rows", "rows": inspected.points[:1], "order": "kind"}, {"kind": "notes", "text": "As ever."}]
    document = documents.begin(TECHNICIAN, inspected.job, "Chosen", parts=parts)
    layout = documents.keep_layout(TECHNICIAN, inspected.job, document, "Shop's own")
    other = documents.begin(TECHNICIAN, stack.job, "Taken over", layout)
    with snapshot() as session:
        assert documents.document_of(session, stack.job, other).parts == [
            {"kind": "rows", "order": "kind"}, {"kind": "notes", "text": "As ever."},
        ]  # fmt: skip
    documents.drop_layout(TECHNICIAN, layout)
    documents.remove(TECHNICIAN, stack.job, other)
    documents.remove(TECHNICIAN, inspected.job, document)


def test_what_makes_no_report_is_refused(inspected):
    document = documents.begin(TECHNICIAN, inspected.job, "Sound")
    for name, paper, parts, said in (
        ("", "A4", [], "1 to 80 letters"), ("x" * 81, "A4", [], "1 to 80 letters"), ("A", "A0", [], "A4 or Letter"),
        ("A", "A4", [{"kind": "poem"}], "no such part"), ("A", "A4", [{"kind": "rows", "order": "heap"}], "order cannot be so"),
        ("A", "A4", [{"kind": "notes"}] * 41, "up to 40 parts"),
    ):  # fmt: skip
        with pytest.raises(InputError, match=said):
            documents.arrange(TECHNICIAN, inspected.job, document, name, paper, parts)
    with pytest.raises(InputError, match="called Sound already"):
        documents.begin(TECHNICIAN, inspected.job, " Sound  ")
    with pytest.raises(InputError, match="not in this job"):
        documents.remove(TECHNICIAN, inspected.job, 10**6)
    for act in (
        lambda: documents.begin(REVIEWER, inspected.job, "Mine"), lambda: documents.remove(REVIEWER, inspected.job, document),
        lambda: pictures.keep(REVIEWER, inspected.job, FROM_ABOVE, ""),
    ):  # fmt: skip
        with pytest.raises(PlumbError):
            act()
    documents.remove(TECHNICIAN, inspected.job, document)


def test_a_file_says_of_which_state_it_is_and_what_has_changed_since(inspected):
    made(inspected.job, "pdf")

    def latest():
        with snapshot() as session:
            return making.made_of(session, load(session, inspected.job), 1)[0]

    fresh = latest()
    assert re.fullmatch("[0-9a-f]{4}(-[0-9a-f]{4}){2}", fresh.fingerprint)
    assert fresh.changed == ()
    row = inspected.points[1]
    sheet.set_limits(TECHNICIAN, inspected.job, row, "-0.3", "0.3")
    assert latest().changed == ("S2 was measured or changed.",)
    sheet.set_limits(TECHNICIAN, inspected.job, row, "-0.1", "0.1")
    assert latest().changed == ()
    sheet.set_rule(TECHNICIAN, inspected.job, "proven")
    new = adding.plan_typed(TECHNICIAN, inspected.job, "plane", PLANE)
    assert latest().changed == ("Plane 1 was added.", "It is decided by another rule.")
    from zipplumb.jobs.plan import standing

    standing.remove(TECHNICIAN, inspected.job, [new])
    sheet.set_rule(TECHNICIAN, inspected.job, "simple")
    assert latest().changed == ()
    assert latest().fingerprint == fresh.fingerprint


PLANE = {
    "name": "Plane 1", "nominal.shape": "plane", "nominal.point.0": "0", "nominal.point.1": "0", "nominal.point.2": "60",
    "nominal.normal.0": "0", "nominal.normal.1": "0", "nominal.normal.2": "1", "hits": "6", "datum": "",
}  # fmt: skip


def test_a_logo_stands_in_the_title_block_and_is_a_png(inspected):
    from PIL import Image

    out = io.BytesIO()
    Image.new("RGB", (40, 20), "navy").save(out, "PNG")
    with pytest.raises(InputError, match="PNG of up to 1 MB"):
        pictures.keep_logo(TECHNICIAN, inspected.job, b"GIF89a")
    logo = pictures.keep_logo(TECHNICIAN, inspected.job, out.getvalue())
    document = documents.give_logo(TECHNICIAN, inspected.job, None, logo)
    with snapshot() as session:
        assert documents.document_of(session, inspected.job, document).parts[0] == {"kind": "heading", "logo": logo}
        assert logo not in [each.id for each in pictures.pictures_of(session, inspected.job)]
    pdf = PdfReader(io.BytesIO(made(inspected.job, "pdf", document)))
    assert len(pdf.pages[0].images) >= 1
    documents.remove(TECHNICIAN, inspected.job, document)


def test_an_office_reads_by_its_link_until_it_is_withdrawn(inspected):
    token = office.make_link(TECHNICIAN, inspected.job, " The  office ")
    with snapshot() as session:
        assert office.job_of(session, token) == inspected.job
        assert office.job_of(session, token + "x") is None
        assert office.job_of(session, "x" * 500) is None
        (link,) = office.links_of(session, inspected.job)
        assert (link.name, token in link.token_hash) == ("The office", False)
    for name in ("", "x" * 61, "a\x07"):
        with pytest.raises(InputError, match="Whom it is for"):
            office.make_link(TECHNICIAN, inspected.job, name)
    with pytest.raises(PlumbError):
        office.make_link(REVIEWER, inspected.job, "Me")
    with pytest.raises(InputError, match="not of this job"):
        office.withdraw(TECHNICIAN, inspected.job + 1, link.id)
    office.withdraw(TECHNICIAN, inspected.job, link.id)
    with snapshot() as session:
        assert office.job_of(session, token) is None
        assert office.links_of(session, inspected.job) == []


def test_the_command_line_writes_the_same_file(inspected, tmp_path, capsysbinary):
    where = tmp_path / "report.json"
    assert main(["report", str(inspected.job), "--kind", "json", "--out", str(where)]) == 0
    told = json.loads(where.read_text())
    with snapshot() as session:
        state = load(session, inspected.job)
        document = documents.document_of(session, inspected.job, None)
        assert told["state"]["fingerprint"] == making.gathered(session, state, document).stood.fingerprint
    assert main(["report", str(inspected.job), "--kind", "csv"]) == 0
    assert b"S1" in capsysbinary.readouterr().out
    mine = str(inspected.job)
    for _ in range(2):
        sheet.create_job(TECHNICIAN, "Twice", inspected.part)
    for wrong, said in (
        (["Nobody's job"], "No job is called"), (["Twice"], "Several jobs"), ([mine, "--kind", "poem"], "kind poem"),
        ([mine, "--report", "Nobody's"], "no report called"), ([mine, "--out", str(tmp_path)], "could not"),
    ):  # fmt: skip
        assert main(["report", *wrong]) == 2
        assert said in capsysbinary.readouterr().err.decode()


def test_a_page_with_the_model_in_it_needs_nothing_else_and_names_no_address(inspected):
    told = made(inspected.job, "page").decode()
    assert len(told) < 15e6
    assert not re.findall(r"""(?:src|href)=["'](?!data:)[^"']*["']""", told)
    data = json.loads(re.search(r'<script type="application/json" id="told">(.*?)</script>', told)[1])
    assert {tag["text"].split("\u2002")[0] for tag in data["tags"]} >= {f"S{k}" for k in range(1, 19)}
    assert data["tags"][0]["word"] == "out"
    model = re.search(r'id="model">([^<]*)</script>', told)[1]
    assert len(CadModel.unpack(base64.b64decode(model)).faces) == 20


def test_rows_that_rest_on_one_another_in_a_circle_are_nowhere():
    nothing = SimpleNamespace(contacts_part=None, draw=None, feature=None)
    rows = {1: SimpleNamespace(needs=(Needed("feature", 2),)), 2: SimpleNamespace(needs=(Needed("feature", 1),))}
    state = SimpleNamespace(results={1: nothing, 2: nothing}, row=rows.get, sheet=SimpleNamespace(index=rows))
    places, on_surface = places_of(state, 1)
    assert (len(places), on_surface) == (0, False)


# ---- how numbers are written, and which rows stand in a part ---------------------------------------


numbers_of_reports = itertools.count(1)


def arranged(bench, parts, **numbers):
    """A new report of some parts; its id."""
    made = documents.begin(TECHNICIAN, bench.job, f"Begun {next(numbers_of_reports)}")
    typed = documents.numbers_typed(numbers.get("decimals", ""), numbers.get("mark", "."))
    return documents.arrange(TECHNICIAN, bench.job, made, f"Arranged {made}", "A4", parts, numbers=typed)


def page_now(bench, document, kind="text"):
    with snapshot() as session:
        name = documents.document_of(session, bench.job, document).name
    return making.made_now(str(bench.job), kind, name).decode("utf-8", "replace")


def test_numbers_stand_in_a_report_as_is_chosen(inspected):
    usual = arranged(inspected, [{"kind": "rows"}])
    german = arranged(inspected, [{"kind": "rows"}], decimals="2", mark=",")
    before, after = (page_now(inspected, each, "page") for each in (usual, german))
    assert "±0.100" in before
    assert "±0,10" in after
    assert "mm to 0,01" in after
    assert "mm to 0.001" in before
    book = openpyxl.load_workbook(io.BytesIO(making.made_now(str(inspected.job), "xlsx", name_of(inspected, german))))
    line = next(row for row in book["Run sheet"].iter_rows(min_row=2) if row[1].value == "S1")
    assert isinstance(line[6].value, float)
    assert line[6].number_format == "0.00"
    json.loads(page_now(inspected, german, "json"))  # numbers as numbers, whatever is printed


def test_a_file_is_out_of_date_when_its_numbers_are_written_otherwise(inspected):
    document = arranged(inspected, [{"kind": "notes", "text": "x"}])
    asked = making.ask_report(TECHNICIAN, inspected.job, "csv", (), document)
    making.make_report(asked)
    with snapshot() as session:
        name = documents.document_of(session, inspected.job, document).name
    numbers = documents.numbers_typed("1", ",")
    documents.arrange(TECHNICIAN, inspected.job, document, name, "A4", [{"kind": "notes", "text": "x"}], numbers=numbers)
    with snapshot() as session:
        made = making.made_of(session, load(session, inspected.job), 99)
    assert next(each.changed for each in made if each.id == asked) == ("Its numbers are written otherwise.",)


def name_of(bench, document):
    with snapshot() as session:
        return documents.document_of(session, bench.job, document).name


@pytest.mark.parametrize(("decimals", "mark"), [("7", "."), ("-1", "."), ("two", "."), ("2", ";"), ("1.5", ",")])
def test_numbers_that_cannot_be_written_so_are_refused(decimals, mark):
    with pytest.raises(InputError, match="0 to 6 decimals"):
        documents.numbers_typed(decimals, mark)


def test_a_part_has_the_rows_that_are_named(inspected):
    named = arranged(inspected, [{"kind": "rows", "named": "S12 to S14, Top"}])
    text = page_now(inspected, named, "csv")
    found = [line.split(",")[1] for line in text.splitlines() if re.match(r"\d+,", line)]
    assert list(dict.fromkeys(found)) == ["Top", "S12", "S13", "S14"]
    for wrong in ("S99", "nobody to nobody else", "S1, Bore"):
        with pytest.raises(InputError, match="no row is called"):
            arranged(inspected, [{"kind": "rows", "named": wrong}])


# ---- made all the same ------------------------------------------------------------------------------


def the_worker():
    command = [sys.executable, "-m", "zipplumb.cli", "serve", "worker"]
    return subprocess.Popen(command, env=os.environ | {"ZIPPLUMB_SECRET": "of the tests"})


def until(true, seconds=180.0):
    end = time.monotonic() + seconds
    while not (found := true()):
        assert time.monotonic() < end
        time.sleep(0.05)
    return found


def test_a_report_with_pictures_whose_worker_is_killed_is_made_all_the_same(inspected):
    for number in range(8):
        pictures.keep(TECHNICIAN, inspected.job, FROM_ABOVE | {"tags": {"kind": "surface_point"}}, f"Kept {number}")
    document = arranged(inspected, [{"kind": "pictures"}, {"kind": "rows"}])
    asked = making.ask_report(TECHNICIAN, inspected.job, "pdf", (), document)

    def doing():
        with snapshot() as session:
            at = text("SELECT count(*) FROM procrastinate_jobs WHERE task_name = 'make_report' AND status = 'doing'")
            return session.scalar(at)

    def report():
        with snapshot() as session:
            return session.get(Report, asked)

    first = the_worker()
    until(doing)
    first.kill()
    first.wait()
    assert report().state == "making"
    second = the_worker()
    try:
        until(lambda: report().state != "making")
    finally:
        second.terminate()
        second.wait()
    with snapshot() as session:
        made = session.get(Report, asked)
        assert made.state == "ready", made.message
        pages = PdfReader(io.BytesIO(made.data)).pages
        told = "\n".join(page.extract_text() for page in pages)
        assert all(f"Kept {number}" in told for number in range(8))
        assert any(len(page.images) for page in pages)  # those that are the same are in it once
