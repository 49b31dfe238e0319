"""J05 in a real browser: only edges, the table cut away, all holes of a face, zero in their circle, a table of them."""

from __future__ import annotations

import re

import numpy as np
from carrier_bench import UP
from playwright.sync_api import expect
from test_scanning import scanned
from test_scanning import scanner as scanner
from truth import must_be_true

from zipplumb.demo import bracket, bracket_real
from zipplumb.jobs.hand import tell_hand
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction

LINES_MM, BELOW_MM = 1.2, 36.0
BALL = bracket.BALL[0] + bracket_real.BALL_BIGGER
# openings of the top by their size: what only the stand-in knows
RIMS = {
    bracket.BORE[0] + bracket_real.BORE_BIGGER: bracket.BORE[1:],
    2 * np.sqrt(BALL**2 / 4 - bracket.BALL_ABOVE**2): bracket.BALL[1:],
    bracket.RING[0] + bracket.RING_TUBE + bracket_real.TUBE_BIGGER: bracket.RING[1:],
    bracket.CONE[0] + 2 * bracket.CONE[0] / 2 * 2 * bracket_real.CONE_WIDER_RAD: bracket.CONE[1:],
}
SLOTS = {
    "round": (bracket.ROUND_SLOT[0], bracket.ROUND_SLOT[1] + bracket_real.SLOT_WIDER),
    "square": bracket.SQUARE_SLOT[:2],
}  # fmt: skip


def test_all_holes_of_a_face_from_its_edges_alone(tamsin, bench, scanner, running):
    here = bench("Edges", like=running.bracket_job)
    page, slip = here.page, here.page.locator("#slip")
    scanner()
    tamsin.open(here.job)
    scanned(tamsin, here.job, (here.plane(UP, bracket.THICK), (0,)), lines_mm=LINES_MM)
    tell_hand({"do": "click", "button": "finish"})
    band = page.locator("#now .say .ask")
    expect(band).to_have_text(re.compile(r"Scan 1: [\d\s]+ points\."), timeout=60_000)
    with page.expect_response(lambda answer: "/rows/" in answer.url):
        tamsin.row("Scan 1").click()
    expect(page.locator(".htmx-request")).to_have_count(0)

    slip.get_by_role("button", name="Let only its edges count").click()
    worked_with = slip.locator(".scanned tr", has_text="Worked with").locator(".num")
    tamsin.until(lambda: worked_with.count() and int(re.sub(r"\D", "", worked_with.inner_text())) < 40_000, 60)
    slip.locator(".cutting [name=offset]").fill(f"-{BELOW_MM}")
    slip.get_by_role("button", name="What it would take away").click()
    expect(slip.locator("#would-cut")).to_contain_text("would take away")
    slip.get_by_role("button", name="Cut it away").click()
    expect(slip.locator(".cuts")).to_contain_text(f"What lies under its flattest face, {BELOW_MM:.3f} mm in")
    page.reload()  # in the middle
    with page.expect_response(lambda answer: "/rows/" in answer.url):
        tamsin.row("Scan 1").click()
    expect(page.locator(".htmx-request")).to_have_count(0)

    slip.get_by_role("button", name="Find them").click()
    boxes = slip.locator("#holes li")
    expect(boxes).to_have_count(bracket.BOLTS + len(RIMS) + len(SLOTS))
    expect(page.locator("#tags span")).to_have_count(bracket.BOLTS + len(RIMS) + len(SLOTS))
    for box in boxes.get_by_role("checkbox").all():
        box.uncheck()
    slip.get_by_role("button", name="Make them rows").click()
    expect(page.locator(".notice").first).to_contain_text("No hole is chosen")
    page.locator(".notice [data-close]").first.click()
    for box in boxes.get_by_role("checkbox").all():
        box.check()
    slip.get_by_role("button", name="Make them rows").click()
    bolts = [f"Hole {k + 1}" for k in range(bracket.BOLTS)]
    for name in ("Plane 1", *bolts, "Slot 1", "Slot 2"):
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


def compare(job, bolts):
    with transaction() as session:
        state = load(session, job)
    found = {row.recipe.name: state.results[row.id] for row in state.rows}
    for name in bolts:
        must_be_true(found[name].characteristic("diameter"), bracket.BOLT)
    for slot in (found["Slot 1"], found["Slot 2"]):
        length, width = SLOTS[slot.feature.feature.shape.ends]
        must_be_true(slot.characteristic("length"), length)
        must_be_true(slot.characteristic("width"), width)
    rims = [
        r.characteristic("diameter")
        for name, r in found.items()
        if name.startswith("Hole ") and name not in bolts and r.feature
    ]
    for size in RIMS:
        must_be_true(min(rims, key=lambda told: abs(told.actual - size)), size)
