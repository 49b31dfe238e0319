"""Scanning in a real browser: a part lit, cut, its points given to rows; and all holes of a face from its edges."""

from __future__ import annotations

import re

import by_hand
import numpy as np
import pytest
from by_hand import TECHNICIAN
from carrier_bench import FRONT, LEFT, SHOP_FROM_PART, UP, instrument
from kit_pages import Kit
from playwright.sync_api import expect
from truth import must_be_true

from zipplumb.demo import bracket, carrier
from zipplumb.jobs.hand import move_hand, tell_hand
from zipplumb.jobs.plan import picking
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction
from zipplumb.store.models import Calibration, Instrument, Probe, Reading
from zipplumb.store.reports import Picture

BELOW_MM = 38.0  # the top's plane, moved into the part so far: what lies deep in the bores is cut away
LINES_MM, DEEP_MM, REACH_MM = 0.7, 36.0, 58.0
KNOWN: list[int] = []  # the scanner's calibration, once there is one
DULL = 3  # so many lie where the part reflects badly: of them too little may be seen
ON_TOP = np.array([[x, y, bracket.THICK] for x in (-180, 180) for y in (-120, 120)], float)
BOLT_AT = [-carrier.BOLT_X, -carrier.BOLT_Y, carrier.FOOT]
ON_PAPER = "p => { const { view } = window.zipplumb.stage; return view.onPaper(view.box.min.clone().set(...p)); }"
PAINTED = "window.zipplumb.stage.painted.points.geometry.getAttribute('off')?.count ?? 0"
SAYS = r"[−+]\d\.\d{3} mm \(U \d\.\d{3}\), Top: (in|not proven|out)"
HERE = [bracket.CIRCLE[1], bracket.CIRCLE[2], bracket.THICK]


@pytest.fixture
def scanner(tamsin, running):
    """The scanner calibrated and on; afterwards the ball is again."""
    port = running.sims["arm"][0]

    def calibrated():
        if KNOWN:  # by the walk before
            with transaction() as session:
                session.get(Instrument, instrument("Workshop arm")).calibration_id = KNOWN[0]
            tell_hand({"do": "swap", "probe": "Line scanner"}, port)
            return
        kit = Kit(tamsin)
        kit.probe("Line scanner")
        kit.begin("scanner", certified="25.4", certified_unit="mm")
        kit.hand("Scanner on")
        kit.hand("Scan the sphere")
        tamsin.until(lambda: "Press finish" in kit.ask().inner_text(), 90)
        tell_hand({"do": "stop"}, port)
        kit.hand("Finish")
        kit.ended("pass")
        with transaction() as session:
            KNOWN.append(session.get(Instrument, instrument("Workshop arm")).calibration_id)

    with transaction() as session:
        ball = session.get(Instrument, instrument("Workshop arm")).calibration_id
    yield calibrated
    for order in ({"do": "stop"}, {"do": "plug"}, {"do": "swap", "probe": "6 mm ruby ball"}):
        tell_hand(order, port)
    with transaction() as session:
        session.get(Instrument, instrument("Workshop arm")).calibration_id = ball


def scanned(tamsin, job, *faces, **how):
    """Light over some faces, squarely (0) or leaning to some of four sides."""
    for face, sides in faces:
        for side in sides:
            move_hand(TECHNICIAN, job, "scan_face", face=face, side=side, **how)
    tamsin.until(lambda: tell_hand({"do": "ask"})["busy"] == 0, 120)


def judged(job):
    with transaction() as session:
        state = load(session, job)
        return {row.recipe.name: state.results[row.id] for row in state.rows}


def sizes(job, bolts, truth):
    """Both bores as they really are, within U."""
    found, real = judged(job), {face["index"]: face for face in truth["faces"]}
    for name, face in zip(("Bore 1", "Bore 2"), bolts, strict=True):
        size = found[name].characteristic("diameter")
        assert size.U < 0.04
        assert abs(size.actual - 2 * real[face]["radius"]) < size.U


def mapped_and_pinned(tamsin, here, top):
    """The whole surface judged: a map with limits, with a mistake and a reload before, asked at a place, and pinned."""
    page, slip = here.page, here.page.locator("#slip")
    with page.expect_response(lambda answer: "/rows/" in answer.url):
        tamsin.row("Scan 1").click()
    expect(page.locator(".htmx-request")).to_have_count(0)
    limits = slip.locator("form", has_text="Map how far it lies off the CAD")
    limits.locator("[name=lower]").fill("0.3")
    limits.locator("[name=upper]").fill("0.2")
    limits.get_by_role("button").click()
    expect(page.locator(".notice").first).to_contain_text("The upper limit lies under the lower one.")
    page.locator(".notice [data-close]").first.click()
    limits.locator("[name=lower]").fill("-0.2")
    limits.get_by_role("button").click()
    expect(tamsin.row("Surface map 1")).to_be_visible()
    page.reload()  # while it is worked out
    expect(tamsin.row("Surface map 1").locator(".word")).to_have_text(re.compile("in|out|not proven"), timeout=60_000)
    tamsin.row("Surface map 1").click()
    expect(slip.locator("#spread rect.whole")).to_have_count(54)
    tamsin.until(lambda: page.evaluate(PAINTED) > 1000)
    expect(page.locator("#scale li")).to_have_count(9)
    expect(page.locator("#scale")).to_contain_text("+0.200")
    found = judged(here.job)["Surface map 1"].map
    on_top = found.of_faces[top]
    assert abs(on_top.mean) < 0.03 and on_top.spread < 0.05
    assert on_top.shares[0] > 0.9
    page.get_by_role("button", name="Top", exact=True).click()
    places = found.found.places.points[found.found.places.faces == top]
    away = np.linalg.norm(places[:, :2] - BOLT_AT[:2], axis=1)
    x, y = page.evaluate(ON_PAPER, places[np.argmin(np.abs(away - 25))].tolist())
    canvas = page.locator("#canvas").bounding_box()
    page.mouse.move(canvas["x"] + x, canvas["y"] + y)
    expect(page.locator(".known")).to_have_text(re.compile(SAYS))  # beside the pointer
    page.mouse.click(canvas["x"] + x, canvas["y"] + y)
    expect(slip.locator("#place .told")).to_have_text(re.compile(SAYS))
    slip.get_by_role("button", name="Pin it").click()
    expect(tamsin.row("Pin 1").locator(".word")).to_have_text(re.compile("in|out|not proven"))
    slip.get_by_role("button", name="Pin the worst place of each face").click()
    expect(tamsin.row("Pin 3")).to_be_visible()
    slip.get_by_role("button", name="Keep this view for the report").click()
    expect(page.locator(".notice", has_text="Surface map 1 is kept as it is seen now")).to_be_visible()
    with transaction() as session:
        assert [each.caption for each in session.query(Picture).filter(Picture.job_id == here.job)] == ["Surface map 1"]
    pins = judged(here.job)
    assert abs(pins["Pin 2"].first.actual) >= abs(pins["Pin 3"].first.actual)


def test_touched_datums_and_a_scan_from_which_planned_rows_take_their_points(tamsin, bench, scanner, truth):
    here = bench("Scanned")
    page = here.page
    here.datums()
    for name in ("Top", "Side", "End"):
        by_hand.measured(here.job, here.rows[name])
    here.road("A drawing with datums A, B, C")
    page.get_by_role("button", name="Align to A, B, C").click()
    expect(page.locator("#now .active")).to_contain_text("0 spare")
    scanner()
    bolts = [here.hole(carrier.BOLT, x * carrier.BOLT_X, -carrier.BOLT_Y) for x in (-1, 1)]
    top = here.plane(UP, carrier.FOOT)
    tamsin.open(here.job)
    tamsin.go("Part")
    page.get_by_text("Plan a scan").click()
    page.get_by_label("What is to be scanned").fill("the bores for the bolts, from all sides")
    expect(page.get_by_label("When it is finished, rows that are not measured")).to_have_value("1")
    page.get_by_role("button", name="Plan this scan").click()
    expect(tamsin.row("Scan 1")).to_be_visible()
    with transaction() as session:
        picking.plan_face(session, TECHNICIAN, here.job, top)

    tamsin.open(here.job)
    band = page.locator("#now .say .ask")
    tamsin.row("Scan 1").click()
    page.locator("#slip").get_by_role("button", name="Scan this").click()
    expect(band).to_have_text("Scan the bores for the bolts, from all sides.")
    scanned(tamsin, here.job, (top, (0,)))
    expect(band).to_have_text(re.compile(r"Scan 1: \d+ lines\."))
    drawn = "window.zipplumb.stage.cloud.points.geometry.getAttribute('position')?.count ?? 0"
    tamsin.until(lambda: page.evaluate(drawn) > 5000)  # what was scanned is seen while it is
    lacks = page.locator("#lacking")
    expect(lacks).to_contain_text("It has enough: finish.")
    with transaction() as session:
        for face in bolts:
            picking.plan_face(session, TECHNICIAN, here.job, face)
    move_hand(TECHNICIAN, here.job, "scan_face", face=top, side=0, lines_mm=9.0)  # it is told with the next light
    expect(lacks).to_contain_text(re.compile(r"Bore \d: \d+ % seen.* 1 of 3 rows have enough\."))
    page.reload()  # in the middle
    tell_hand({"do": "unplug"})
    expect(band).to_contain_text("The arm is lost")
    tell_hand({"do": "plug"})
    expect(band).to_have_text(re.compile(r"Scan 1: \d+ lines\."))
    light = page.locator("#light .word")
    for away, word in ((145.0, "Far"), (78.0, "Near"), (170.0, "Nothing comes back")):  # lines far apart: there are few
        move_hand(TECHNICIAN, here.job, "scan_face", face=top, side=0, away_mm=away, lines_mm=0.9, round=BOLT_AT, reach_mm=40.0)
        expect(light).to_have_text(word, timeout=15_000)
        tamsin.until(lambda: tell_hand({"do": "ask"})["busy"] == 0, 120)
    expect(light).to_be_hidden()  # the button is up
    scanned(tamsin, here.job, *((face, (1, 2, 3, 4)) for face in bolts))
    expect(lacks).to_contain_text(re.compile(r"\d\d % seen|have enough"))
    tell_hand({"do": "click", "button": "finish"})
    expect(band).to_have_text("All rows are done. Make the report.", timeout=60_000)  # nobody went to the screen
    expect(tamsin.row("Scan 1").locator(".wide")).to_contain_text("points")
    sizes(here.job, bolts, truth)
    mapped_and_pinned(tamsin, here, top)
    page.locator("#now .lead").click()
    for kind in ("PDF", "XLSX"):
        page.locator("#slip").get_by_role("button", name=kind, exact=True).click()
        expect(page.locator(".report-line", has_text=kind).first.get_by_text("Download")).to_be_visible(timeout=60_000)

    tamsin.go("Measure")
    slip = page.locator("#slip")
    with page.expect_response(lambda answer: "/rows/" in answer.url):  # it stood there already, and comes anew
        tamsin.row("Scan 1").click()
    expect(page.locator(".htmx-request")).to_have_count(0)
    expect(slip.locator("h2").first).to_contain_text("Scan 1")
    slip.locator(".cutting [name=plane]").select_option(label="Top")
    slip.locator(".cutting [name=offset]").fill("nonsense")
    slip.get_by_role("button", name="Cut it away").click()
    expect(page.locator(".notice").first).to_contain_text("is not a number")
    page.locator(".notice [data-close]").first.click()
    slip.locator(".cutting [name=offset]").fill(f"-{BELOW_MM}")
    slip.get_by_role("button", name="What it would take away").click()
    expect(slip.locator("#would-cut")).to_contain_text(re.compile(r"would take away \d+\.\d %"))
    slip.get_by_role("button", name="Cut it away").click()
    expect(slip.locator(".cuts")).to_contain_text("What lies under Top, 38.000 mm in")
    slip.locator("#by-cad [name=within]").fill("2")
    slip.get_by_role("button", name="What that would take away").click()
    expect(slip.locator("#would-cut-off")).to_contain_text(re.compile(r"would take away \d+\.\d %"))
    slip.get_by_role("button", name="Cut by the CAD").click()
    expect(slip.locator(".cuts")).to_contain_text("What lies farther than 2.000 mm off the CAD, by Alignment 1")
    slip.get_by_role("button", name="Cut by the rectangle").click()
    expect(page.locator(".notice").first).to_contain_text("No rectangle is drawn")
    page.locator(".notice [data-close]").first.click()
    slip.get_by_label("A rectangle drawn on the stage marks what").check()
    canvas = page.locator("#canvas").bounding_box()
    page.mouse.move(canvas["x"] + canvas["width"] / 5, canvas["y"] + canvas["height"] - 5)
    page.mouse.down()
    page.mouse.move(canvas["x"] + canvas["width"] - 5, canvas["y"] + 5, steps=4)
    page.mouse.up()
    expect(page.locator(".rectangle")).to_be_visible()
    expect(slip.locator("#would-cut-there")).to_contain_text(re.compile(r"would take away [1-9]\d*\.\d %"))
    slip.get_by_role("button", name="Cut by the rectangle").click()
    expect(slip.locator(".cuts li")).to_have_count(3)
    for left in (2, 1):
        slip.locator(".cuts").get_by_role("button").last.click()
        expect(slip.locator(".cuts li")).to_have_count(left)
    slip.get_by_role("button", name="Take them back from all rows").click()
    expect(tamsin.row("Bore 1").locator(".word")).to_have_text("to do")
    slip.get_by_role("button", name="Give its points to 3 planned rows").click()
    for name in ("Plane 1", "Bore 1", "Bore 2"):
        expect(tamsin.row(name).locator(".word")).to_have_text("done", timeout=60_000)
    expect(slip.locator("section", has_text="Whose points they are")).to_contain_text("As the part lies by Alignment 1")
    sizes(here.job, bolts, truth)
    cloud = judged(here.job)["Scan 1"].cloud
    assert 0 < cloud.read - cloud.kept < 0.1 * cloud.read
    with transaction() as session:
        kept = session.query(Reading).filter(Reading.job_id == here.job, Reading.kind == "stripes")
        assert sum(len(each.ns) for each in kept) > 300
        assert max(len(each.points) for each in kept) <= 2**20

    slip.locator(".cuts").get_by_role("button").click()  # the cut is taken back
    expect(slip.locator(".cuts")).to_have_count(0)
    with transaction() as session:  # the ball is put on, and touches while the scan is current
        ball = session.query(Calibration).join(Probe).filter(Probe.name == "6 mm ruby ball").order_by(Calibration.id.desc())
        session.get(Instrument, instrument("Workshop arm")).calibration_id = ball.first().id
    tell_hand({"do": "swap", "probe": "6 mm ruby ball"})
    tell_hand({"do": "click", "button": "take"})
    refused = page.locator("#now, .notice", has_text="Scan 1 is scanned, and 6 mm ruby ball is on, which touches")
    expect(refused.first).to_be_visible()
    assert not np.isnan(cloud.points.points).any()


def test_all_holes_of_a_face_from_its_edges_alone(tamsin, bench, scanner, running):
    here = bench("Edges", like=running.bracket_job)
    page, slip = here.page, here.page.locator("#slip")
    scanner()
    tamsin.open(here.job)
    scanned(tamsin, here.job, (here.plane(UP, bracket.THICK), (0,)), lines_mm=LINES_MM, round=HERE, reach_mm=REACH_MM)
    tell_hand({"do": "click", "button": "finish"})
    band = page.locator("#now .say .ask")
    expect(band).to_have_text(re.compile(r"Scan 1: [\d\s]+ points\."), timeout=60_000)
    with page.expect_response(lambda answer: "/rows/" in answer.url):
        tamsin.row("Scan 1").click()
    expect(page.locator(".htmx-request")).to_have_count(0)

    slip.get_by_role("button", name="Let only its edges count").click()
    expect(slip).to_contain_text("Only its edges count.")
    expect(slip.locator("progress")).to_have_count(0)
    slip.locator(".cutting [name=offset]").fill(f"-{DEEP_MM}")
    slip.get_by_role("button", name="What it would take away").click()
    expect(slip.locator("#would-cut")).to_contain_text("would take away")
    slip.get_by_role("button", name="Cut it away").click()
    expect(slip.locator(".cuts")).to_contain_text(f"What lies under its flattest face, {DEEP_MM:.3f} mm in")
    page.reload()  # in the middle
    with page.expect_response(lambda answer: "/rows/" in answer.url):
        tamsin.row("Scan 1").click()
    expect(page.locator(".htmx-request")).to_have_count(0)

    expect(slip.locator("progress")).to_have_count(0)
    slip.get_by_role("button", name="Find them").click()
    boxes = slip.locator("#holes li")
    expect(boxes.first).to_be_visible()
    count = boxes.count()
    assert bracket.BOLTS - DULL <= count <= bracket.BOLTS  # none is invented; tests/outside finds all in seeded scans
    expect(page.locator("#tags span")).to_have_count(count)
    for box in boxes.get_by_role("checkbox").all():
        box.uncheck()
    slip.get_by_role("button", name="Make them rows").click()
    expect(page.locator(".notice").first).to_contain_text("No hole is chosen")
    page.locator(".notice [data-close]").first.click()
    for box in boxes.get_by_role("checkbox").all():
        box.check()
    slip.get_by_role("button", name="Make them rows").click()
    bolts = [f"Hole {k + 1}" for k in range(count)]
    for name in ("Plane 1", *bolts):
        expect(tamsin.row(name).locator(".word")).to_have_text("done")

    here.road("A bolt circle whose middle is zero")
    tamsin.choose(*bolts)
    page.get_by_role("button", name="Plan it").click()
    expect(page.locator("#now .active")).to_contain_text("6 of 6")
    page.click("#chosen >> text=What they make")
    page.locator(".choice", has_text="Table of holes").get_by_text("Add").click()
    expect(tamsin.row("Holes 1")).to_be_visible()
    tamsin.go("Report")
    slip.get_by_role("button", name="PDF", exact=True).click()
    expect(page.locator("#reports")).to_contain_text("PDF")
    compare(here.job, bolts)


def test_laid_on_the_cad_from_no_start_then_on_scanned_datums(tamsin, bench, scanner, running):
    """A system on the whole scan, and one on three planes that it was sorted into: compared, then used."""
    here = bench("Laid", like=running.bracket_job)
    page, slip = here.page, here.page.locator("#slip")
    scanner()
    tamsin.open(here.job)
    front = here.plane(FRONT, bracket.WIDTH / 2)
    left = here.plane(LEFT, bracket.LENGTH / 2)
    top = here.plane(UP, bracket.THICK)
    here.road("A scan, and the CAD")
    expect(slip).to_contain_text("Scan the part first")
    scanned(tamsin, here.job, (top, (0,)), (front, (0,)), (left, (0,)), lines_mm=5.0)
    tell_hand({"do": "click", "button": "finish"})
    expect(page.locator("#now")).to_contain_text(re.compile(r"Scan 1: [\d\s]+ points\."), timeout=60_000)

    here.road("A scan, and the CAD")
    slip.get_by_role("button", name="Find where it lies").click()
    expect(slip.locator(".laid-places li")).to_have_count(1, timeout=60_000)
    expect(slip.locator(".laid-places")).to_contain_text("% of what was scanned lies on the part")
    slip.get_by_role("button", name="Lay it there").click()
    expect(page.locator("#now .active")).to_contain_text("6 of 6")
    off = np.linalg.norm(here.active.points(SHOP_FROM_PART.points(ON_TOP)) - ON_TOP, axis=1)
    assert np.all(off < 2 * here.active.u_at(ON_TOP))  # with what the part's own form is off

    for name, face, letter in (("Top", top, "A"), ("Front", front, "B"), ("Left", left, "C")):
        here.planned(name, face, 9, letter)
    tamsin.open(here.job)
    with page.expect_response(lambda answer: "/rows/" in answer.url):
        tamsin.row("Scan 1").click()
    expect(page.locator(".htmx-request")).to_have_count(0)
    canvas = page.locator("#canvas").bounding_box()
    x, y = page.evaluate(ON_PAPER, [100.0, -90.0, bracket.THICK])
    page.mouse.click(canvas["x"] + x, canvas["y"] + y)
    expect(slip.locator("#surface")).to_contain_text(re.compile(r"Plane, ±0\.0\d\d mm, [\d\s]+ points"))
    slip.get_by_label("Called").fill("Pointed at")
    slip.get_by_role("button", name="Make it a row").click()
    expect(tamsin.row("Pointed at 1").locator(".word")).to_have_text("done")
    slip.get_by_role("button", name="Give its points to 3 planned rows").click()
    for name in ("Top", "Front", "Left"):
        expect(tamsin.row(name).locator(".word")).to_have_text("done", timeout=60_000)

    here.road("A drawing with datums A, B, C")
    page.get_by_role("button", name="Align to A, B, C").click()
    here.choose("Alignment 1")
    page.get_by_role("button", name="What would change").click()
    expect(page.locator(".compared")).to_contain_text("It lies, seen from the one before: X")
    expect(page.locator(".compared tr", has_text="Front")).to_contain_text("held")
    page.get_by_role("button", name="Use it").click()
    expect(page.locator("#now .active")).to_contain_text("6 of 6, 0 spare")
    found = judged(here.job)
    for name in ("Top", "Front", "Left"):
        assert found[name].held and found[name].state == "done"
    height = found["Pointed at 1"].characteristic("height")
    assert abs(height.actual - bracket.THICK) < 2 * height.U  # the same face, as it was found without the CAD


def compare(job, bolts):
    with transaction() as session:
        state = load(session, job)
    found = {row.recipe.name: state.results[row.id] for row in state.rows}
    for name in bolts:
        must_be_true(found[name].characteristic("diameter"), bracket.BOLT)
