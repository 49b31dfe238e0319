"""Whole jobs from an empty sheet, each with a mistake in it, in no more acts at the screen than a person has patience for.

Counted is what is pressed, filled and keyed at the screen; what the device's own buttons do is not.
"""

import by_hand
import numpy as np
import pytest
from carrier_bench import FRONT, LEFT, TECHNICIAN, UP
from playwright.sync_api import expect

from zipplumb.demo import bracket, carrier
from zipplumb.jobs.hand import move_hand
from zipplumb.jobs.plan import sheet
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction
from zipplumb.store.models import Job, Part


@pytest.fixture
def here(bench, tamsin):
    def begun(name):
        made = bench(name)
        tamsin.open(made.job, "part")
        tamsin.count_anew()
        return made

    return begun


def planned(here, face, letter="", words="Plan a row from it"):
    """By a press on the part; with its letter, if it has one."""
    page = here.page
    here.person.pick(face)
    page.get_by_role("button", name=words, exact=True).click()
    if letter:
        row = page.locator("#picked form.face-row")
        row.locator("[name=datum]").fill(letter)
        row.get_by_role("button", name="Set").click()
        expect(page.locator("#sheet-rows .letter", has_text=letter)).to_be_visible()


DATUMS = (("A", UP, carrier.FOOT), ("B", FRONT, carrier.WIDTH / 2), ("C", LEFT, carrier.LENGTH / 2))


def datums(here):
    for letter, normal, at in DATUMS:
        planned(here, here.plane(normal, at), letter)


def measured(here, *names):
    """With the device's buttons alone, row after row."""
    for name in names:
        expect(here.page.locator("#now .ask")).to_contain_text(name)
        here.person.until(lambda: here.person.hits[0] == 0)
        move_hand(TECHNICIAN, here.job, "touch", hits=here.person.hits[1])
        by_hand.finish(here.job)
        expect(here.person.row(name).locator(".mark")).not_to_have_text("○")


def aligned(here):
    here.road("A drawing with datums A, B, C")
    here.page.get_by_role("button", name="Align to A, B, C").click()
    expect(here.page.locator("#now .active")).to_contain_text("0 spare")


def test_from_cad_to_a_report(tamsin, here):
    """J15: datums, holes alike, a wrong hit undone, a length, a report."""
    here, page = here("Fifteen"), tamsin.page
    datums(here)
    tamsin.pick(here.hole(carrier.BOLT, -carrier.BOLT_X, -carrier.BOLT_Y))
    page.click("text=Plan all 4")
    expect(tamsin.row("Bore 4")).to_be_visible()
    tamsin.go("Measure")
    expect(page.locator("#now .ask")).to_contain_text("Plane 1")
    move_hand(TECHNICIAN, here.job, "clumsy")  # a mistake, taken back with the device's own button
    tamsin.until(lambda: tamsin.hits[0] == 1)
    move_hand(TECHNICIAN, here.job, "click", button="undo")
    measured(here, "Plane 1", "Plane 2", "Plane 3", "Bore 1", "Bore 2", "Bore 3", "Bore 4")
    aligned(here)
    tamsin.choose("Bore 1", "Bore 2")
    page.click("#chosen >> text=What they make")
    page.locator(".choice").first.get_by_text("Add").click()
    expect(tamsin.row("Distance 1")).to_be_visible()
    assert tamsin.number("Distance 1", 1) == pytest.approx(tamsin.number("Distance 1", 0), abs=0.5)
    tamsin.go("Report")
    page.locator("#slip").get_by_role("button", name="PDF", exact=True).click()
    expect(page.locator("#reports")).to_contain_text("PDF")
    assert tamsin.acts <= 36


def test_widths_angles_and_a_line_through_two_centers(tamsin, here):
    """J01 and J20, from what is measured: chosen, seen, added; a wrong choice let go again."""
    here, page = here("One"), tamsin.page
    here.datums()
    for k, x in enumerate((-1, 1), start=1):
        here.planned(f"Hole {k}", here.hole(carrier.BOLT, x * carrier.BOLT_X, -carrier.BOLT_Y), 8)
    here.planned("Far end", here.plane((1, 0, 0), carrier.LENGTH / 2), 4)
    here.measure("Top", "Side", "End", "Hole 1", "Hole 2", "Far end")
    aligned(here)
    tamsin.count_anew()
    for name in ("End", "Far end"):
        tamsin.row(name).locator(".mark").click()
    page.click("#chosen >> text=What they make")
    width = page.locator(".choice", has_text="Width")
    width.hover()
    expect(page.locator("#dimension text")).to_contain_text("500.")  # drawn before it is chosen
    width.get_by_text("Add").click()
    expect(page.locator("#sheet-rows a.row").last).to_contain_text("500.")
    tamsin.row("Far end").locator(".mark").click()
    tamsin.row("Side").locator(".mark").click()
    angle = page.locator(".choice", has_text="Angle").first
    angle.get_by_text("Add").click()
    tamsin.until(lambda: page.locator("#sheet-rows a.row").count() == 9)
    assert tamsin.acts <= 8
    tamsin.count_anew()
    page.click("#chosen >> text=Let go")
    tamsin.row("Hole 2").locator(".mark").click()
    tamsin.row("Hole 1").locator(".mark").click()
    page.locator(".choice", has_text="Line through the centers").get_by_text("Add").click()
    line = page.locator("#sheet-rows a.row").last
    expect(line).to_contain_text("Line")
    tamsin.row("Hole 2").locator(".mark").click()
    tamsin.row("Hole 1").locator(".mark").click()
    line.locator(".mark").click()
    tamsin.row("End").locator(".mark").click()
    page.fill("[name=zone]", "0.5")
    page.locator("[name=zone]").press("Tab")
    page.locator(".choice", has_text="Perpendicularity").first.get_by_text("Add").click()
    tamsin.until(lambda: page.locator("#sheet-rows a.row").count() == 11)
    assert tamsin.acts <= 12


def test_held_as_it_is_mounted(tamsin, here):
    """J03: two holes and the top hold it; a hold too many is seen to disagree, and taken away."""
    here, page = here("Three"), tamsin.page
    here.planned("Top", here.plane(UP, carrier.FOOT), 9)
    for k, x in enumerate((-1, 1), start=1):
        here.planned(f"Hole {k}", here.hole(carrier.BOLT, x * carrier.BOLT_X, -carrier.BOLT_Y), 8)
    here.planned("Side", here.plane(FRONT, carrier.WIDTH / 2), 6)
    here.measure("Top", "Hole 1", "Hole 2", "Side")
    tamsin.choose("Top", "Hole 1", "Hole 2")
    tamsin.count_anew()
    page.click("#chosen >> text=Hold by them")
    expect(page.locator("[data-of-row]:visible")).to_have_count(3)
    page.get_by_label("Top holds in its own way").check()
    for label in ("Hole 1 holds in X", "Hole 1 holds in Y", "Hole 2 holds in X", "Hole 2 holds in Y"):
        page.get_by_label(label, exact=True).check()
    answer = page.locator("#mounted-answer")
    expect(answer).to_contain_text("5 spare")
    page.get_by_label("Hole 2 holds in X", exact=True).uncheck()  # it is to float along there
    expect(answer).not_to_contain_text("5 spare")
    page.get_by_role("button", name="Plan this alignment").click()
    expect(page.locator("#sheet-rows a.row").last).to_contain_text("Mounted 1")
    assert tamsin.acts <= 8


def test_step_by_step(tamsin, here):
    """J18: level, direction, zero with what is measured; a wrong zero is seen and corrected before it is kept."""
    here, page = here("Eighteen"), tamsin.page
    here.datums()
    here.measure("Top", "Side", "End")
    tamsin.count_anew()
    here.road("A plane to level, a direction, a zero")
    form = page.locator("details", has_text="Corner of three planes").last
    form.locator("summary").first.click()
    for k, name in enumerate(("1 Top", "2 Side", "1 Top", "2 Side", "2 Side")):
        for field in (f"steps.{k}.feature.row", f"steps.{k}.features.0.row"):
            if form.locator(f"[name='{field}']").count():
                form.locator(f"[name='{field}']").first.select_option(label=name)
    expect(form.locator(".tried")).not_to_contain_text("6 of 6")  # the third plane twice is no corner
    last = form.locator("[name='steps.4.feature.row'], [name='steps.4.features.0.row']").first
    last.select_option(label="3 End")
    expect(form.locator(".tried")).to_contain_text("6 of 6, 0 spare")
    form.get_by_role("button", name="Plan this").click()
    expect(page.locator("#sheet-rows a.row").last).to_contain_text("Alignment 1")
    assert tamsin.acts <= 23


def test_places_touched_thrice_are_targets_of_datums(tamsin, here):
    """J14: three targets of A, two of B, one of C; one picked at a wrong place is taken back; the part lies where it does."""
    here, page = here("Fourteen"), tamsin.page
    faces = {letter: here.plane(normal, at) for letter, normal, at in DATUMS}
    normals = {letter: normal for letter, normal, _ in DATUMS}
    high, front, left = carrier.FOOT / 2, -carrier.WIDTH / 2, -carrier.LENGTH / 2
    spots = [("A1", (-220, -120, 60)), ("A2", (220, -120, 60)), ("A3", (-220, 120, 60)), ("B1", (-200, front, high)),
             ("B2", (200, front, high)), ("C1", (left, 0, high))]  # fmt: skip

    def pick(name, at):
        tamsin.pick(faces[name[0]], point=at, normal=normals[name[0]])

    def stands(name):
        expect(page.get_by_text(f"Take back the last plan: {name}")).to_be_visible()

    pick(*spots[0])
    page.fill("#picked form.place [name=stem]", "A")
    page.select_option("#picked form.place [name=hits]", "3")
    page.click("text=Plan a surface point there")
    stands("A1")
    page.get_by_label("Each click on the part plans the next").check()
    pick("A2", (180, -120, 60))
    stands("A2")
    page.get_by_text("Take back the last plan: A2").click()  # not there
    expect(tamsin.row("A2")).to_be_hidden()
    pick(*spots[0])  # and the form anew
    page.fill("#picked form.place [name=stem]", "A")
    page.select_option("#picked form.place [name=hits]", "3")
    page.get_by_label("Each click on the part plans the next").check()
    for name, at in spots[1:]:
        if name in ("B1", "C1"):
            page.fill("#picked form.place [name=stem]", name[0])
        pick(name, at)
        stands(name)
    tamsin.go("Measure")
    measured(here, *(name for name, _ in spots))
    expect(page.locator("#now .big")).not_to_contain_text("10.0")  # how far three hits stand apart is no form
    aligned(here)
    expect(page.locator("#sheet-rows a.row").last).to_contain_text("6 held, 0 spare")
    here.lies_right(0.1)
    assert tamsin.acts <= 24


def test_guided_places_then_just_touch_and_position_to_three_datums(tamsin, here):
    """J09: places picked on the CAD lead the hand; what is touched near the CAD is offered by it; a wrong offer is passed over;
    position to A, B, C, hole to hole, a report."""
    here, page = here("Nine"), tamsin.page
    number = here.picked_places()  # with the drawer open: where they lie is not the same as in other walks
    page.get_by_role("button", name="Touch these").click()
    for place in range(1, number + 1):
        measured(here, f"Place {place}")
    expect(page.locator("#now .active")).to_contain_text("6 of 6, 1 spare")
    page.keyboard.press("r")
    asked, rows = page.locator("#now .say .ask"), page.locator("#sheet-rows a.row")
    expect(asked).to_contain_text("Just touch")
    begun = rows.count()
    flat = [(here.plane(normal, at), 4) for _, normal, at in DATUMS]
    holes = [(here.hole(carrier.BOLT, x * carrier.BOLT_X, -carrier.BOLT_Y), 8) for x in (-1, 1)]
    for k, (face, hits) in enumerate((*flat, *holes), start=1):
        move_hand(TECHNICIAN, here.job, "touch", face=face, hits=hits)
        what = "Plane" if k <= 3 else "Bore"
        expect(asked).to_contain_text(f"{what} of the CAD? Finish to accept.")
        if k == 1:  # passed over by mistake, and come back to
            by_hand.tell_hand({"do": "click", "button": "next"})
            expect(asked).to_contain_text("Plane? Finish to accept.")
            by_hand.tell_hand({"do": "click", "button": "back"})
            expect(asked).to_contain_text("Plane of the CAD?")
        tamsin.until_hand_rests()  # what is touched after it would be another row
        by_hand.tell_hand({"do": "click", "button": "finish"})
        tamsin.until(lambda k=k: rows.count() == begun + k)
    expect(page.locator("#slip h2").first).to_contain_text("Bore 2")
    for letter, name in zip("ABC", ("Plane 1", "Plane 2", "Plane 3"), strict=True):
        tamsin.row(name).click()
        expect(page.locator("#slip h2").first).to_contain_text(name)
        page.fill("#slip [name=datum]", letter)
        page.locator("#slip").get_by_role("button", name="Save").click()
        expect(page.locator("#sheet-rows .letter", has_text=letter)).to_be_visible()
    here.road("A drawing with datums A, B, C")
    page.get_by_role("button", name="Align to A, B, C").click()
    page.get_by_role("button", name="Use it").click()
    expect(page.locator("#now .active")).to_contain_text("0 spare")
    for name in ("Plane 1", "Plane 2", "Plane 3", "Bore 1"):
        tamsin.row(name).locator(".mark").click()
    page.click("#chosen >> text=What they make")
    page.fill("[name=zone]", "0.4")
    page.locator("[name=zone]").press("Tab")
    position = page.locator(".choice", has_text="Position of Bore 1 to A, B, C")
    position.get_by_text("Add").click()
    expect(tamsin.row("Position 1")).to_contain_text("≤ 0.400")
    tamsin.choose("Bore 1", "Bore 2")
    page.locator(".choice", has_text="Distance of the middles").get_by_text("Add").click()
    expect(tamsin.row("Distance 1")).to_be_visible()
    assert tamsin.number("Distance 1", 0) == pytest.approx(2 * carrier.BOLT_X)
    assert tamsin.number("Distance 1", 1) == pytest.approx(2 * carrier.BOLT_X, abs=0.5)
    tamsin.go("Report")
    page.locator("#slip").get_by_role("button", name="PDF", exact=True).click()
    expect(page.locator("#reports")).to_contain_text("PDF")
    assert tamsin.acts <= 50


def test_an_arc_in_its_plane_as_diameter_and_as_radius(tamsin, bench, running):
    """J06: limits typed for the radius turn with the terms, are seen to be too wide, and typed again; its form is live."""
    here, page = bench("Six", like=running.bracket_job), tamsin.page
    with transaction() as session:
        edges = session.get(Part, session.get(Job, here.job).part_id).edges
    tamsin.open(here.job, "part")
    tamsin.count_anew()
    top = here.plane(UP, bracket.THICK)
    planned(here, top)
    drawn = {"shape": "arc", "radius": bracket.CRADLE_RADIUS}
    arc = next(e for e in edges if e["face"] == top and drawn.items() <= (e["nominal"] or {}).items())
    tamsin.pick(top, edge=arc["index"])
    page.get_by_role("button", name="Plan the edge").click()
    row, form = tamsin.row("Hollow arc 1"), page.locator("#slip")
    row.click()
    expect(form.locator("h2").first).to_contain_text("arc, radius")

    def limits(lower, upper):
        form.locator("[name='asked.diameter.lower']").fill(lower)
        form.locator("[name='asked.diameter.upper']").fill(upper)
        form.get_by_role("button", name="Save").click()

    form.locator("[name=hits]").fill("9")
    limits("-0.1", "0.1")
    expect(row).to_contain_text("radius ±0.100")
    form.get_by_role("button", name="As diameter").click()  # as the drawing has it
    expect(row).to_contain_text("diameter ±0.200")
    expect(form.locator("[name='asked.diameter.upper']")).to_have_value("0.2")
    limits("-0.1", "0.1")
    expect(row).to_contain_text("diameter ±0.100")
    tamsin.go("Measure")
    measured(here, "Plane 1")
    expect(page.locator("#now .ask")).to_contain_text("Hollow arc 1")
    told = page.locator("#now .big", has_text="Form")
    expect(told).to_contain_text("–")
    move_hand(TECHNICIAN, here.job, "touch", hits=5)
    tamsin.until(lambda: tamsin.hits[0] == 5)
    before = told.inner_text()  # there before it is finished
    assert "0.0" in before
    move_hand(TECHNICIAN, here.job, "touch", hits=4)
    tamsin.until(lambda: tamsin.hits[0] == 9 and told.inner_text() != before)
    by_hand.finish(here.job)
    expect(row.locator(".mark")).not_to_have_text("○")
    across, off = tamsin.number("Hollow arc 1", 1), tamsin.number("Hollow arc 1", 2)
    assert across == pytest.approx(2 * bracket.CRADLE_RADIUS, abs=1.5)  # an arc of less than 50° tells little of its diameter
    with page.expect_response(lambda answer: "/rows/" in answer.url):
        row.click()
    expect(page.locator(".htmx-request")).to_have_count(0)
    form.get_by_role("button", name="As radius").click()
    expect(row).to_contain_text("radius ±0.050")
    assert tamsin.number("Hollow arc 1", 1) == pytest.approx(across / 2, abs=0.001)
    assert tamsin.number("Hollow arc 1", 2) == pytest.approx(off / 2, abs=0.001)
    assert tamsin.acts <= 18


@pytest.fixture
def bracket_job(tamsin, running):
    with transaction() as session:
        number = session.get(Job, running.bracket_job).part_id
        part = session.get(Part, number)
        faces, edges = part.faces, part.edges
    job = sheet.create_job(TECHNICIAN, "Twelve", number)
    tamsin.page.goto(f"{running.url}/jobs/{job}/part")
    tamsin.until(lambda: tamsin.page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
    tamsin.count_anew()
    return faces, edges


def test_a_plan_from_cad(tamsin, bracket_job):
    """J12: datums, holes alike, a slot, a ball, an edge, targets, a section; settings for many; one taken back."""
    page, (faces, edges) = tamsin.page, bracket_job

    def of(surface, fits=lambda f: True):
        return next(f["index"] for f in faces if f["surface"] == surface and fits(f))

    top = of("plane", lambda f: np.allclose([*f["nominal"]["normal"], f["nominal"]["point"][2]], [0, 0, 1, bracket.THICK]))

    def by_edge(fits):
        edge = next(e for e in edges if e["nominal"] and e["face"] == top and fits(e["nominal"]))
        tamsin.pick(edge["face"], edge=edge["index"])
        page.get_by_role("button", name="Plan the edge").click()

    def rows(count):
        tamsin.until(lambda: page.locator("#sheet-rows .entry").count() == count)

    sides = [of("plane", lambda f, n=normal: np.allclose(f["nominal"]["normal"], n)) for normal in ((0, -1, 0), (-1, 0, 0))]
    for letter, face in zip("ABC", (top, *sides), strict=True):
        tamsin.pick(face)
        page.get_by_role("button", name="Plan a row from it", exact=True).click()
        page.fill("#picked form.face-row [name=datum]", letter)
        page.click("#picked form.face-row >> text=Set")
        expect(page.locator("#sheet-rows .letter", has_text=letter)).to_be_visible()
    tamsin.pick(of("cylinder", lambda f: abs(f["nominal"]["radius"] - bracket.BOLT / 2) < 1e-6))
    page.click("text=Plan all 12")
    rows(15)
    tamsin.pick(of("sphere"))
    page.get_by_role("button", name="Plan a row from it", exact=True).click()
    rows(16)
    tamsin.pick(of("torus"))  # a mistake, taken back whole
    page.get_by_role("button", name="Plan a row from it", exact=True).click()
    rows(17)
    torus = page.locator("#sheet-rows .entry .name b").last.inner_text()
    page.get_by_role("button", name=f"Take back the last plan: {torus}").click()
    rows(16)
    expect(page.locator("#picked")).to_contain_text("Nothing picked")
    by_edge(lambda n: n["shape"] == "slot" and n["ends"] == "round")
    rows(17)
    by_edge(lambda n: n["shape"] == "line" and abs(n["direction"][0]) > 0.99)
    rows(18)
    leaning = max(
        (f for f in faces if f["surface"] == "plane" and 0.3 < f["nominal"]["normal"][2] < 0.95), key=lambda f: f["area_mm2"]
    )
    middle = (np.array(leaning["box"][:3]) + leaning["box"][3:]) / 2
    normal = np.array(leaning["nominal"]["normal"])
    middle -= ((middle - leaning["nominal"]["point"]) @ normal) * normal
    across = np.cross(normal, [0.0, 1.0, 0.0])
    tamsin.pick(leaning["index"], point=middle.tolist(), normal=normal.tolist())
    page.fill("#picked form.place [name=stem]", "D")
    page.select_option("#picked form.place [name=hits]", "3")
    page.click("text=Plan a surface point there")
    rows(19)
    page.get_by_label("Each click on the part plans the next").check()
    for k, step in enumerate((4.0, -4.0), start=20):
        tamsin.pick(leaning["index"], point=(middle + step * across).tolist(), normal=normal.tolist())
        rows(k)
    page.get_by_label("Each click on the part plans the next").uncheck()
    wavy = next(f for f in faces if f["surface"] == "free surface" and f["box"][4] > bracket.WIDTH / 2 - 1)
    tamsin.pick(wavy["index"], point=[0.0, bracket.WIDTH / 2, bracket.THICK / 2], normal=[0.0, 1.0, 0.0])
    page.click("text=Cut it by a plane")
    page.select_option("#picked .section [name=across]", "Z")
    page.click("text=Plan the section")
    rows(22)
    tamsin.row("Bore 1").locator(".mark").click()
    tamsin.row("Bore 12").locator(".mark").click(modifiers=["Shift"])
    page.click("#chosen >> text=Settings")
    page.fill("#many [name='set.hits']", "8")
    page.select_option("#many [name=key]", "diameter")
    page.fill("#many [name=lower]", "0")
    page.fill("#many [name=upper]", "0.1")
    page.click("text=See what would change")
    page.click("text=Set 12 rows")
    expect(tamsin.row("Bore 12")).to_contain_text("0.100")
    page.click("header nav >> text=Derive")
    expect(page.locator("#derive-form .of-chosen .check:visible")).to_have_count(12)
    assert tamsin.acts <= 50


def test_zero_in_a_bolt_circle_and_a_table_of_its_holes(tamsin, here):
    """J05, touched: two holes are too few and refused; four make the zero, clocked by the first; their table, and a report."""
    here, page = here("Five"), tamsin.page
    here.planned("Top", here.plane(UP, carrier.FOOT), 6)
    holes = [f"Hole {k}" for k in range(1, 5)]
    for name, (x, y) in zip(holes, ((1, 1), (-1, 1), (-1, -1), (1, -1)), strict=True):
        here.planned(name, here.hole(carrier.BOLT, x * carrier.BOLT_X, y * carrier.BOLT_Y), 6)
    here.measure("Top", *holes)
    tamsin.count_anew()
    here.road("A bolt circle whose middle is zero")
    for name in holes[:2]:
        tamsin.row(name).locator(".mark").click()
    page.get_by_role("button", name="Plan it").click()
    expect(page.locator(".notice").last).to_contain_text("hole")
    for name in holes[2:]:
        tamsin.row(name).locator(".mark").click()
    page.get_by_role("button", name="Plan it").click()
    expect(page.locator("#now .active")).to_contain_text("6 of 6")
    page.click("#chosen >> text=What they make")
    table = page.locator(".choice", has_text="Table of holes")
    table.get_by_text("Add").click()
    tamsin.until(lambda: page.locator("#sheet-rows a.row").count() == 7)
    tamsin.go("Report")
    page.locator("#slip").get_by_role("button", name="PDF", exact=True).click()
    expect(page.locator("#reports")).to_contain_text("PDF")
    assert tamsin.acts <= 14
    with transaction() as session:
        state = load(session, here.job)
        first = state.results[here.rows["Hole 1"]].feature.feature.shape
    assert abs(state.alignment.shape(first).point[1]) < 0.2  # X runs through the first
