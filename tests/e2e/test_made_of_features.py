"""What features make of each other, chosen by looking, and whether it is good: on the bracket, against what is true of it."""

import re

import by_hand
import numpy as np
import pytest
from carrier_bench import FRONT, LEFT, TECHNICIAN, UP, CarrierBench
from playwright.sync_api import expect
from scipy.optimize import least_squares
from truth import must_be_true

from zipplumb.demo import bracket, bracket_real
from zipplumb.jobs.align import systems
from zipplumb.jobs.kit import stations
from zipplumb.jobs.plan import picking, sheet
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction
from zipplumb.store.models import Instrument, Job, Part, Station

AROUND = (0, 3, 6, 9)  # four of the twelve bolt holes
TURN = 2 * np.pi * np.array(AROUND) / bracket.BOLTS
HOLES = [f"Hole {k + 1}" for k in AROUND]
DRAWN = np.array(bracket.CIRCLE[1:]) + bracket.CIRCLE[0] / 2 * np.column_stack([np.cos(TURN), np.sin(TURN)])
REAL = DRAWN + np.eye(4)[0][:, None] * bracket_real.BOLT_SHIFT
TO_DIAMETER = {"asked.diameter.on": "1", "asked.diameter.lower": "0", "asked.diameter.upper": "0.1", "asked.first": "diameter"}


def rim_of(edges, place):
    """The upper edge of a bolt hole."""
    round_ = [e for e in edges if e["nominal"] and e["nominal"]["shape"] == "circle"]
    at = np.array([*place, bracket.THICK])
    return next(e["index"] for e in round_ if np.allclose(e["nominal"]["center"], at, atol=1e-6))


@pytest.fixture
def here(tamsin, running):
    """Datum faces, the bore, four bolt holes and both faces of the bent sheet, planned; and the arm back afterwards."""
    with transaction() as session:
        arm = session.query(Instrument).filter_by(name="Workshop arm").one()
        number, stood = arm.id, session.get(Station, arm.station_id).job_id if arm.station_id else running.job
        part = session.get(Job, running.bracket_job).part_id
        faces, edges = session.get(Part, part).faces, session.get(Part, part).edges
    bench = CarrierBench(tamsin, "Made of features", part, number, faces)
    bench.planned("Top", bench.plane(UP, bracket.THICK), 9, "A")
    bench.planned("Side", bench.plane(FRONT, bracket.WIDTH / 2), 6, "C")
    bench.planned("End", bench.plane(LEFT, bracket.LENGTH / 2), 4)
    systems.plan_datum_planes(TECHNICIAN, bench.job, [bench.rows[name] for name in ("Top", "Side", "End")])
    bench.planned("Bore", bench.hole(bracket.BORE[0], *bracket.BORE[1:]), 12, "B")
    sheet.edit_row(TECHNICIAN, bench.job, bench.rows["Bore"], TO_DIAMETER)
    bench.walls = {}
    for name, place in zip(HOLES, DRAWN, strict=True):
        bench.walls[name] = bench.hole(bracket.BOLT, *place)
        bench.rows[name] = picking.plan_from_edge(TECHNICIAN, bench.job, rim_of(edges, place))
        sheet.edit_row(TECHNICIAN, bench.job, bench.rows[name], {"name": name, "hits": "9", **TO_DIAMETER})
    leaning = sorted((f for f in faces if f["surface"] == "plane" and 0.3 < abs(f["nominal"]["normal"][2]) < 0.95),
                     key=lambda f: -f["area_mm2"])[:2]  # fmt: skip
    for name, face in zip(
        ("Sheet above", "Sheet below"), sorted(leaning, key=lambda f: -f["nominal"]["normal"][2]), strict=True
    ):
        bench.planned(name, face["index"], 6)
    yield bench
    tamsin.until_hand_rests()
    stations.bring(TECHNICIAN, stood, number, unmoved=True)


def results(here):
    with transaction() as session:
        state = load(session, here.job)
        return {row.recipe.name: state.results[row.id] for row in state.rows}


def ticked(here, *names):
    """Only these, on Derive."""
    page = here.page
    here.person.choose(*names)
    of = page.locator("#derive-form .of-chosen input:checked").evaluate_all("boxes => boxes.map(b => b.value).join(' ')")
    expect(page.locator("#choices > div")).to_have_attribute("data-of", of)  # shown of these, no longer of those before


def choice(here, words):
    return here.page.locator(".choice", has=here.page.get_by_text(words, exact=True))


def add(here, words, *names):
    """Choose what some features make. Returns the name of its row."""
    before = set(results(here))
    ticked(here, *names)
    choice(here, words).get_by_role("button", name="Add").click()
    here.person.until(lambda: set(results(here)) - before)
    return (set(results(here)) - before).pop()


def typed(here, kind, fields, lists):
    """Fill the form of a kind, its lists with one more field where one is missing, and plan it. Returns the row's name."""
    page, before = here.page, set(results(here))
    details = page.locator("details", has_text="A tolerance with datums A, B, C")
    if details.get_attribute("open") is None:
        details.locator("summary").click()
    kinds, form = details.locator("select[name=kind]"), page.locator(".typed-form")
    if kinds.input_value() != kind:
        kinds.select_option(kind)
    expect(form.locator("input[name=kind]")).to_have_value(kind)
    for path, count in lists:
        for k in range(count):
            if not form.locator(f"[name^='{path}.{k}']").count():
                form.locator(f"[data-more][value^='{path}#']").click()
            expect(form.locator(f"[name^='{path}.{k}']").first).to_be_attached()
    for path, value in fields.items():
        field = form.locator(f"[name='{path}']")
        if field.evaluate("e => e.tagName") == "SELECT":
            field.select_option(value)
        else:
            field.fill(value)
    form.get_by_role("button", name="Plan this").click()
    here.person.until(lambda: set(results(here)) - before)
    return (set(results(here)) - before).pop()


def test_width_angle_line_pattern_and_table(here, tamsin):
    page, holes = here.page, HOLES
    here.measure("Top", "Side", "End", "Bore", "Sheet above", "Sheet below")
    tamsin.leave()
    for name in holes:
        by_hand.measured(here.job, here.rows[name], [(here.walls[name], 9)])
    tamsin.open(here.job, "derive")

    # a slanted plate: how thick it is, and its angle or the supplement, each seen with its value before it is chosen
    name = add(here, "Width", "Sheet above", "Sheet below")
    width = results(here)[name].first
    must_be_true(width, bracket.SHEET[2])
    ticked(here, "Sheet above", "Top")
    angle, supplement = (
        float(re.search(r"[\d.]+(?=°)", choice(here, words).inner_text())[0]) for words in ("Angle", "Supplement")
    )
    assert angle + supplement == pytest.approx(180, abs=0.01)
    assert min(angle, supplement) == pytest.approx(bracket.SHEET_LEAN_DEG, abs=0.2)
    choice(here, "Angle").hover()  # drawn as a drawing would, with its value
    expect(page.locator("#dimension text")).to_have_text(f"{angle:.4f}°")
    expect(page.locator("#dimension .arrow")).to_have_count(2)
    page.mouse.move(5, 5)
    expect(page.locator("#dimension text")).to_have_count(0)
    page.fill("[name=zone]", "0.5")
    page.locator("[name=zone]").press("Tab")
    leaning = page.locator(".choice", has_text="Angularity of Sheet above to Top at 35")  # as the CAD has it
    expect(leaning).to_contain_text(re.compile("● in|◐ close|not proven"))
    page.fill("[name=zone]", "")
    page.locator("[name=zone]").press("Tab")
    name = add(here, "Supplement", "Sheet above", "Top")
    assert np.degrees(results(here)[name].first.actual) == pytest.approx(supplement, abs=0.01)

    # a line through two studs' centers, against a datum line through two holes
    datum = add(here, "Line through the centers", "Hole 4", "Hole 10")
    line = add(here, "Line through the centers", "Hole 1", "Hole 7")
    rows = {r.recipe.name: r.id for r in _state(here).rows}
    sheet.edit_row(TECHNICIAN, here.job, rows[datum], {"datum": "D"})
    page.reload()
    page.fill("[name=zone]", "0.05")
    ticked(here, line, datum)
    square = page.locator(".choice", has_text=f"Perpendicularity of {line} to {datum}")
    expect(square).to_contain_text("▲ out")
    square.get_by_role("button", name="Add").click()
    found = tamsin.row("Perpendicularity 1")
    expect(found.locator(".mark")).to_have_text("▲")
    first = results(here)["Perpendicularity 1"].first
    must_be_true(first, abs(bracket_real.BOLT_SHIFT[1]))
    expect(found).to_contain_text(f"{first.actual - 0.05:.3f}")  # and by how much

    # four holes at maximum material, the bore at its boundary: the part shifts in the clearance
    of = {f"of.{k}": str(here.rows[name]) for k, name in enumerate(holes)}
    datums = {f"datums.{k}.features.0": str(here.rows[name]) for k, name in enumerate(("Top", "Bore", "Side"))}
    many = (("of", 4), ("datums", 3))
    more = {"zone_mm": "0.5", "condition": "maximum", "datums.1.boundary": "maximum"}
    name = typed(here, "position", {**of, **more, **datums}, many)
    found = results(here)[name]
    lean = bracket_real.SIDE_TILT_RAD  # by which the side turns the system
    from_bore = REAL - np.add(bracket.BORE[1:], bracket_real.BORE_SHIFT)
    off = from_bore @ [[1, -lean], [lean, 1]] - (DRAWN - bracket.BORE[1:])
    worst = 2 * (np.linalg.norm(off, axis=1).max() - bracket_real.BORE_BIGGER / 2)  # which its clearance all goes to
    must_be_true(found.first, worst)
    tamsin.row(name).click()
    clear = results(here)["Bore"].first.deviation > 0.002  # as it was measured: one time in a hundred it has none
    shifted = "In the clearance of its datums the part was shifted by "
    expect(page.locator("#slip")).to_contain_text(shifted + ("X" if clear else ""))

    # a table of the holes, from the middle of their circle
    tamsin.go("Derive")
    circle = add(here, "Circle through the centers", *holes)
    rows = {r.recipe.name: r.id for r in _state(here).rows}
    name = typed(here, "hole_table", {**of, "origin": str(rows[circle]), "polar": "1"}, (("of", 4),))
    table = {c.of: c for c in results(here)[name].characteristics}
    middle = least_squares(lambda p: np.hypot(*(REAL - p[:2]).T) - p[2], [*DRAWN.mean(axis=0), 38.0]).x[:2]
    from_middle = (REAL - middle) @ [[1, -lean], [lean, 1]]
    for hole, place in zip(holes, from_middle, strict=True):
        for head, true in (("X", place[0]), ("Y", place[1]), ("from zero", np.hypot(*place))):
            must_be_true(table[f"{hole} {head}"], true)
    tamsin.row(name).click()
    expect(page.locator("#slip .characteristics")).to_contain_text("Hole 7 from zero")


def _state(here):
    with transaction() as session:
        return load(session, here.job)
