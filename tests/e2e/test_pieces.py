"""The next piece by the same plan, and many pieces together: begun, measured, a change of the plan carried over, reports."""

import io
import re

import openpyxl
import pytest
from carrier_bench import TECHNICIAN
from person import Person
from playwright.sync_api import expect
from pypdf import PdfReader
from test_accessible import AXE

from zipplumb.demo.seed import DIAMETER_MM, OFFSET_MM
from zipplumb.demo.seed_series import seed_series
from zipplumb.jobs.kit import instruments, stations

MADE = 4
MADE_S = 90_000


@pytest.fixture(scope="module")
def pieces(running):
    """Some measured with an arm of their own; afterwards the workshop's arm is back where it stood."""
    arm = instruments.add_instrument("Arm of the pieces", "arm", "127.0.0.1", 1, 0.012)
    instruments.add_calibrated_probe(arm, "Ball of the pieces", OFFSET_MM, DIAMETER_MM, 0.011, 0.002, "")
    yield seed_series(running.folder, running.job, arm, None, MADE, "Carriers in a row")
    stations.bring(TECHNICIAN, running.job, running.arm, unmoved=True)


@pytest.fixture(autouse=True)
def patient(tamsin):
    """What was found is kept by the worker, after what else it has to do."""
    tamsin.page.set_default_timeout(MADE_S)
    expect.set_options(timeout=MADE_S)
    yield
    expect.set_options(timeout=20_000)


def begin(page, serial, identity=""):
    box = page.locator(".sheet-box", has_text="Measure another")
    box.locator("[name=serial]").fill(serial)
    box.locator("[name=identity]").fill(identity)
    box.get_by_role("button", name="Begin the piece").click()


def file_of(page, kind):
    page.locator(".sheet-box").get_by_role("button", name=kind, exact=True).click()
    line = page.locator(".report-line", has_text=f"Over pieces, {kind}").first
    with page.expect_download(timeout=MADE_S) as download:
        line.get_by_text("Download").click(timeout=MADE_S)
    expect(line).to_contain_text("as the job stands")
    return download.value.path().read_bytes()


def test_five_pieces_by_one_plan_told_together(tamsin, running, pieces):
    page = tamsin.page
    page.get_by_role("link", name=f"{MADE} of {MADE} pieces measured").click()
    expect(page.locator(".piece-line")).to_have_count(MADE)
    page.locator(".piece-line", has_text="B-002").get_by_text("Measured with").click()
    expect(page.locator(".piece-line", has_text="B-002")).to_contain_text("Arm of the pieces")
    expect(page.locator(".piece-line", has_text="B-002")).to_contain_text(re.compile("Ball of the pieces.*calibrated"))
    expect(page.locator(".run", has_text="Bearing bore, diameter")).to_contain_text("4 pieces: mean")
    begin(page, "b-002")
    expect(page.locator(".notice").last).to_contain_text("There is a piece b-002 in this job already. No piece was begun.")
    begin(page, "B-005", "Order 4711")
    expect(page.locator(".notice").last).to_contain_text("“Order 4711” does not say what it is.")
    expect(page.locator("[name=identity]").first).to_have_value("Order 4711")
    page.get_by_label("Arm of the pieces measures it").uncheck()
    begin(page, "B-005", "Order: 4711")
    expect(page.locator("nav", has_text="Measure")).to_contain_text("Piece B-005")
    tamsin.until(lambda: page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
    expect(page.locator("#sheet-rows .entry")).to_have_count(8)

    measured(tamsin)
    page.get_by_role("link", name="Piece B-005").click()
    expect(page.locator(".piece-line.here")).to_contain_text("Order: 4711")
    expect(page.locator(".piece-line.here b")).to_have_text(re.compile(r"^\s*. (in|close|out: . rows?|not proven)\s*$"))
    run = page.locator(".run", has_text="Bearing bore, diameter")
    expect(run).to_contain_text("5 pieces: mean")
    expect(run).to_contain_text("Too few pieces for an index of capability: at least 10.")
    page.get_by_role("searchbox").fill("no such feature")
    page.get_by_role("button", name="Show them").click()
    expect(page.locator("#over")).to_contain_text("Nothing that was measured is called so.")
    page.get_by_role("searchbox").fill("right end")
    page.get_by_role("button", name="Show them").click()
    expect(page.locator(".run")).to_have_count(1)
    reported(page)


def measured(tamsin):
    """The fifth, with the workshop's arm, with a reload in the middle."""
    page = tamsin.page
    page.get_by_role("button", name="Bring Workshop arm").click()
    for name in ("Foot top", "Long side", "Left end"):
        tamsin.measure(name)
    page.reload()
    tamsin.until(lambda: page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
    for name in ("Bearing bore", "Spigot face", "Rear face", "Right end"):
        tamsin.measure(name)
    expect(tamsin.row("Bearing bore")).to_contain_text(re.compile("in|out|not proven|close"))


def reported(page):
    """PDF and XLSX over five pieces, read back by others."""
    text = "\n".join(each.extract_text() for each in PdfReader(io.BytesIO(file_of(page, "PDF"))).pages)
    for wanted in ("Carriers in a row, B-005", "B-001", "Order: 4711", "Bearing bore, diameter", "5 pieces: mean"):
        assert wanted in text
    book = openpyxl.load_workbook(io.BytesIO(file_of(page, "XLSX")))
    assert {"Pieces", "Over pieces", "Runs", "Measured with"} <= set(book.sheetnames)
    lines = list(book["Pieces"].iter_rows(values_only=True))
    assert lines[0][5:] == ("B-001", "B-002", "B-003", "B-004", "B-005")
    bore = next(line for line in lines if line[:2] == ("Bearing bore", "diameter"))
    assert all(isinstance(each, float) for each in bore[5:])


def test_a_change_of_the_plan_is_offered_to_the_next_piece(tamsin, running, pieces):
    page = tamsin.page
    page.goto(f"{running.url}/jobs/{pieces[0]}/pieces")
    begin(page, "B-100")
    tamsin.until(lambda: page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
    page.goto(f"{running.url}/jobs/{pieces[0]}/measure")
    tamsin.until(lambda: page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
    with page.expect_response(lambda answer: "/rows/" in answer.url):
        tamsin.row("Right end").locator(".name").click()
    expect(page.locator(".htmx-request")).to_have_count(0)
    upper = page.locator('#slip [name="asked.height.upper"]')
    upper.fill("0.35")
    page.locator("#slip").get_by_role("button", name="Save", exact=True).click()
    expect(tamsin.row("Right end")).to_contain_text("0.350")
    page.get_by_role("link", name="Piece B-001").click()
    expect(page.locator(".differences")).to_contain_text("Right end changed: limits")
    page.get_by_role("button", name="Offer this to the other pieces").click()
    expect(page.locator(".differences")).to_have_count(0)
    page.locator(".piece-line", has_text="B-100").locator("a").click()
    mark = page.get_by_role("link", name="Piece B-100")
    expect(mark).to_contain_text("its plan was changed")
    mark.click()
    offered = page.locator(".offered")
    expect(offered).to_contain_text("Tamsin Orrell")
    expect(offered).to_contain_text("Right end changed: limits")
    offered.get_by_role("button", name="Take over what is chosen").click()
    expect(page.locator(".offered")).to_have_count(0)
    page.locator(".piece-line.here a").click()
    expect(tamsin.row("Right end")).to_contain_text("0.350")
    expect(page.get_by_role("link", name="Piece B-100")).not_to_contain_text("its plan was changed")


def test_the_page_of_pieces_is_accessible(chromium, running, pieces):
    person = Person(chromium, running, bypass_csp=True)
    person.page.goto(f"{running.url}/jobs/{pieces[0]}/pieces")
    person.page.add_script_tag(path=AXE)
    found = person.page.evaluate("() => axe.run(document, { resultTypes: ['violations'] })")["violations"]
    assert [(v["id"], [n["target"] for n in v["nodes"][:3]]) for v in found if v["impact"] in ("serious", "critical")] == []
    person.context.close()
