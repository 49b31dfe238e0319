"""From a STEP file to a report, as a person would, and against the stand-in's truth."""

import csv
import io
import re

import numpy as np
import openpyxl
import pytest
from playwright.sync_api import expect
from pypdf import PdfReader

from zipplumb.demo import carrier
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction


def face_of(truth, kind, **near):
    """The true face whose nominal-like numbers match: axis component and radius, or height."""
    for face in truth["faces"]:
        if face["kind"] != kind:
            continue
        axis = np.array(face["axis"])
        if kind == "cylinder" and abs(2 * face["radius"] - near["diameter"]) < 0.5 and abs(axis[1]) > 0.9:
            return face
        if (
            kind == "plane"
            and axis @ near["normal"] > 0.99
            and abs(np.array(face["point"]) @ near["normal"] - near["height"]) < 0.5
        ):
            return face
    raise LookupError(near)


def exactly(job, name):
    """What a row has found, with all its digits."""
    with transaction() as session:
        state = load(session, job)
        return next(state.results[row.id].first.actual for row in state.rows if row.recipe.name == name)


@pytest.fixture(scope="module")
def faces(truth):
    return {
        "top": face_of(truth, "plane", normal=[0, 0, 1], height=carrier.FOOT),
        "side": face_of(truth, "plane", normal=[0, -1, 0], height=carrier.WIDTH / 2),
        "left": face_of(truth, "plane", normal=[-1, 0, 0], height=carrier.LENGTH / 2),
        "right": face_of(truth, "plane", normal=[1, 0, 0], height=carrier.LENGTH / 2),
        "bore": face_of(truth, "cylinder", diameter=carrier.BORE),
    }


def test_from_a_step_file_to_a_report(tamsin, running, faces, truth):
    page = tamsin.page

    # a new job from a STEP file
    expect(page.get_by_role("heading", name="Jobs")).to_be_visible()
    page.fill("[name=name]", "Carrier 17")
    page.set_input_files("[name=file]", running.folder / "bearing-carrier.step")
    page.click("text=Read the file")
    expect(page.get_by_text("20 faces", exact=False).first).to_be_visible(timeout=60_000)
    expect(page.locator("main")).to_contain_text("in mm, with 1 body and 20 faces")
    page.click("text=Begin the job")
    job = int(re.search(r"/jobs/(\d+)", page.url)[1])

    # Kit: the arm comes to this job, and its tip moves
    page.goto(f"{running.url}/jobs/{job}/kit")
    page.locator(".kit-card", has_text="Workshop arm").get_by_role("button").click()
    expect(page.locator("#slip")).to_contain_text("Stands at this job")
    expect(page.locator("#slip")).to_contain_text("calibrated")
    tamsin.open(job, "kit")

    # Part: pick faces, plan rows, set datum letters
    tamsin.go("Part")
    for name, letter in (("top", "A"), ("side", "B"), ("left", "C"), ("right", ""), ("bore", "")):
        tamsin.pick(faces[name]["index"])
        expect(page.locator("#picked h2")).to_contain_text("Bore Ø160.000" if name == "bore" else "Plane, facing")
        page.click("text=Plan a row from it")
        expect(page.locator("#picked .face-row")).to_have_count(1)
        if letter:
            page.fill("#picked [name=datum]", letter)
            page.click("#picked >> text=Set")
            expect(page.locator("#sheet-rows .letter", has_text=letter)).to_be_visible()
    expect(page.locator("#sheet-rows a.row")).to_have_count(5)

    # a letter that is taken is refused in words
    tamsin.pick(faces["right"]["index"])
    expect(page.locator("#picked h2")).to_contain_text("Plane, facing")
    page.fill("#picked .face-row [name=datum]", "A")
    page.click("#picked >> text=Set")
    expect(page.locator(".notice").last).to_contain_text("Datum A is on Plane 1")

    # Align: planned, then measured as prompted
    tamsin.go("Align")
    page.click("text=Align to A, B, C")
    expect(tamsin.row("Alignment 1")).to_contain_text("Waits for")
    tamsin.go("Measure")
    for name in ("Plane 1", "Plane 2", "Plane 3"):
        tamsin.measure(name)
    tamsin.go("Align")
    expect(page.locator("#slip")).to_contain_text("6 of 6, 0 spare: unproven")
    expect(page.locator("#slip")).to_contain_text("How far from square")
    error = np.arccos(np.dot(faces["top"]["axis"], faces["left"]["axis"])) - np.pi / 2
    shown = page.locator(".lines tr", has_text="A to C").locator(".num").first.inner_text()
    # 10 µm on four hits of a face 60 mm high leave this much of an angle
    assert float(shown.replace("−", "-").rstrip("°")) == pytest.approx(np.degrees(error), abs=0.07)

    # Measure: the bore with a limit, a sweep among its hits, undone in one press
    tamsin.go("Measure")
    tamsin.measure("Plane 4")
    expect(page.locator("#now .say .ask")).to_contain_text("Bore 1")
    expect(page.locator("#slip h2")).to_contain_text("Bore 1")
    page.fill("#slip [name='asked.diameter.lower']", "0")
    page.fill("#slip [name='asked.diameter.upper']", "0.05")
    page.click("#slip >> text=Save")
    expect(tamsin.row("Bore 1")).to_contain_text("+0.050 / 0")
    tamsin.hand("Sweep along it")
    tamsin.until(lambda: tamsin.hits[0] > 12)
    tamsin.until_still()
    page.keyboard.press("Shift+U")
    tamsin.until(lambda: tamsin.hits[0] == 0)
    tamsin.measure("Bore 1")

    # the diameter and the distance are true within what the noise implies
    tamsin.row("Bore 1").click()
    slip = page.locator("#slip")
    expect(slip).to_contain_text("Uncertainty")
    expanded = float(re.search(r"U = ([\d.]+)", slip.inner_text())[1])
    assert 0.003 < expanded < 0.03
    assert tamsin.number("Bore 1", 1) == pytest.approx(2 * faces["bore"]["radius"], abs=1.5 * expanded)
    for words in ("Workshop arm", "6 mm ruby ball", "Alignment 1", "UTC"):
        expect(slip).to_contain_text(words)

    # radius or diameter: nominal and limits turn together
    before = tamsin.number("Bore 1", 0)
    page.click("#slip >> text=As radius")
    expect(tamsin.row("Bore 1")).to_contain_text("radius +0.025 / 0")
    assert tamsin.number("Bore 1", 0) == pytest.approx(before / 2)
    page.click("#slip >> text=As diameter")
    expect(tamsin.row("Bore 1")).to_contain_text("diameter")

    # Derive
    tamsin.go("Derive")
    tamsin.choose("Plane 3", "Plane 4")
    expect(page.locator(".choice", has_text="Along X").first.locator(".num")).to_contain_text("500.")
    page.locator(".choice", has_text="Perpendicular distance").hover()
    tamsin.until(lambda: page.evaluate("window.zipplumb.stage.marks.drawn.visible"))  # it is drawn before it is chosen
    page.locator(".choice", has_text="Perpendicular distance").get_by_text("Add").click()
    expect(tamsin.row("Distance 1")).to_contain_text("500.")
    left, right = faces["left"], faces["right"]
    gap = np.array(right["point"]) - np.array(left["point"])
    true = abs(gap @ np.array(left["axis"]))
    assert tamsin.number("Distance 1", 1) == pytest.approx(true, abs=0.05)

    # open a row, set a hit aside: the row and what rests on it change
    tamsin.row("Plane 4").click()
    expect(page.locator("#slip .hit")).to_have_count(4)
    distance = exactly(job, "Distance 1")
    page.locator("#slip .hit").nth(1).click()
    expect(page.locator("#slip .hit.aside")).to_have_count(1)
    tamsin.until(lambda: exactly(job, "Distance 1") != distance)  # by less, it may be, than its row shows
    now = tamsin.row("Distance 1").locator(".num").nth(1)
    expect(now).to_have_text(f"{exactly(job, 'Distance 1'):.3f}")
    page.locator("#slip .hit").nth(1).click()
    expect(page.locator("#slip .hit.aside")).to_have_count(0)
    expect(now).to_have_text(f"{distance:.3f}")

    # inches and back: nothing stored changes
    shown = page.locator("#sheet-rows").inner_text()
    tamsin.read_in("in")
    expect(tamsin.row("Bore 1")).to_contain_text("6.2992")
    tamsin.until(lambda: page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
    tamsin.read_in("mm")
    expect(page.locator("#sheet-rows")).to_have_text(shown, use_inner_text=True)

    report_files(tamsin)


def report_files(tamsin):
    """Step 10: PDF with a picture, XLSX with numbers, CSV."""
    page = tamsin.page
    tamsin.go("Report")
    got = {}
    for kind in ("PDF", "XLSX", "CSV"):
        page.locator("#slip").get_by_role("button", name=kind, exact=True).click()
        line = page.locator(".report-line", has_text=kind).first
        with page.expect_download(timeout=60_000) as download:
            line.get_by_text("Download").click(timeout=60_000)
        got[kind] = download.value.path().read_bytes()
    pdf = PdfReader(io.BytesIO(got["PDF"]))
    text = "\n".join(p.extract_text() for p in pdf.pages)
    for words in ("Bore 1", "Distance 1", "Tamsin Orrell", "6 mm ruby ball", "Alignment 1"):
        assert words in text
    assert sum(len(p.images) for p in pdf.pages) >= 1
    sheet = openpyxl.load_workbook(io.BytesIO(got["XLSX"]))["Run sheet"]
    bore = next(r for r in sheet.iter_rows(values_only=True) if r[1] == "Bore 1" and r[3] == "diameter")
    assert bore[5] == pytest.approx(tamsin.number("Bore 1", 1), abs=6e-4)
    rows = list(csv.DictReader(io.StringIO(got["CSV"].decode("utf-8-sig"))))
    assert [r["Name"] for r in rows] == [r[1] for r in sheet.iter_rows(min_row=2, values_only=True)]
    assert {r["Unit"] for r in rows} == {"mm", "°", ""}
