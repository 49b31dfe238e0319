"""Planning a part at the screen: all alike at once, from a list, from a mesh."""

import pytest
import trimesh
from playwright.sync_api import expect

from zipplumb.jobs.actor import Actor
from zipplumb.jobs.plan import sheet
from zipplumb.store.database import transaction
from zipplumb.store.models import Job

TECHNICIAN = Actor(1, "Tamsin", "technician")


@pytest.fixture
def part_page(tamsin, running):
    """A fresh job's page of the part. Returns a face of one of the four bolt holes."""
    with transaction() as session:
        part = session.get(Job, running.job).part_id
        faces = session.get(Job, running.job).part.faces
    job = sheet.create_job(TECHNICIAN, "Planning", part)
    tamsin.page.goto(f"{running.url}/jobs/{job}/part")
    tamsin.until(lambda: tamsin.page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
    return next(f["index"] for f in faces if f["nominal"] and f["nominal"].get("radius") == 11 and f["inside"])


def test_all_alike_are_seen_planned_and_taken_back(tamsin, part_page):
    page = tamsin.page
    tamsin.pick(part_page)
    expect(page.locator("#picked h3")).to_have_text("4 alike")
    expect(page.locator("#tags span", has_text="4")).to_be_visible()  # numbered on the part before anything is planned
    page.fill("#picked form.alike [name=stem]", "Bolt hole")
    page.click("text=Plan all 4")
    for k in range(1, 5):
        expect(tamsin.row(f"Bolt hole {k}")).to_be_visible()
    expect(page.locator("#picked h3")).to_have_count(0)  # there is nothing left to plan of them
    page.click("text=Take back the last plan: Bolt hole 1 and 3 more")
    expect(page.locator("#sheet-rows .empty")).to_be_visible()
    expect(page.locator("#slip #picked")).to_contain_text("Nothing picked")  # and the page is as it was
    expect(page.locator("#slip .take-back button")).to_have_count(0)


def test_a_removed_row_leaves_the_page_standing(tamsin, part_page):
    page = tamsin.page
    tamsin.pick(part_page)
    page.click("text=Plan a row from it")
    tamsin.row("Bore 1").click()
    page.on("dialog", lambda dialog: dialog.accept())
    page.locator("#slip .quiet-button").click()
    expect(page.locator("#sheet-rows .empty")).to_be_visible()
    expect(page.locator("#slip #picked")).to_be_visible()


def test_a_list_with_a_bad_line_keeps_nothing_and_says_which(tamsin, part_page, tmp_path):
    page = tamsin.page
    bad, good = tmp_path / "bad.csv", tmp_path / "good.csv"
    bad.write_text("Name;X;Y;Z;I;J;K\nB1;10,5;20;60;0;0;1\nB2;10,5;20;sixty;0;0;1\n")
    good.write_text("Name;X;Y;Z;I;J;K\nB1;10,5;20;60;0;0;1\nB2;30,5;20;60;0;0;1\n")
    page.click("text=Bring in a list of points")
    page.set_input_files(".list-form [name=file]", bad)
    page.click("text=Look at it first")
    expect(page.locator(".list-read")).to_contain_text("Its z is “sixty”, which is no number.")
    expect(page.locator(".list-read button")).to_have_count(0)
    page.set_input_files(".list-form [name=file]", good)
    page.click("text=Look at it first")
    page.click("text=Plan 2 points")
    expect(tamsin.row("B2")).to_be_visible()
    expect(page.locator("#sheet-rows .entry")).to_have_count(2)


def test_a_mesh_in_inches_is_brought_in_and_a_place_on_it_planned(tamsin, running, tmp_path):
    page = tamsin.page
    trimesh.creation.annulus(2, 4, 1.5).export(tmp_path / "ring.stl")
    page.goto(running.url + "/")
    page.fill("[name=name]", "Ring")
    page.set_input_files("[name=file]", tmp_path / "ring.stl")
    page.select_option("[name=units]", "in")
    page.click("text=Read the file")
    expect(page.locator("main")).to_contain_text("the file is in inches", timeout=60_000)
    page.click("text=Begin the job")
    tamsin.until(lambda: page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
    page.click("nav >> text=Part")
    page.keyboard.press("h")  # the stand-in's drawer is closed

    def picked():  # the part is drawn anew where the slip gives it another size
        page.locator("#canvas").click(position={"x": 320, "y": 250})
        return page.locator("#picked .place button").is_visible()

    tamsin.until(picked)
    expect(page.locator("#tags span", has_text="here")).to_be_visible()
    page.click("text=Plan a surface point there")
    expect(tamsin.row("Surface point 1")).to_be_visible()
    job = int(page.url.split("/jobs/")[1].split("/")[0])
    with transaction() as session:
        (face,) = session.get(Job, job).part.faces
    assert face["box"][5] - face["box"][2] == pytest.approx(1.5 * 25.4)


def test_settings_for_many_are_seen_and_then_made(tamsin, part_page):
    page = tamsin.page
    tamsin.pick(part_page)
    page.click("text=Plan all 4")
    expect(tamsin.row("Bore 4")).to_be_visible()
    page.click("text=Set many")
    page.fill("#many [name='set.hits']", "9")
    tamsin.choose("Bore 1")
    tamsin.row("Bore 3").locator(".mark").click(modifiers=["Shift"])
    expect(page.locator("#many .of-chosen")).to_contain_text("Bore 2")
    page.select_option("#many [name=key]", "diameter")
    page.fill("#many [name=upper]", "0.021")
    page.click("text=See what would change")
    expect(page.locator("#would-change tr")).to_have_count(4)
    expect(page.locator("#would-change")).to_contain_text("hits 12 → 9")
    page.click("text=Set 3 rows")
    expect(tamsin.row("Bore 3")).to_contain_text("0.021")
    expect(tamsin.row("Bore 4")).not_to_contain_text("0.021")


def test_the_edge_at_which_a_face_was_picked_can_be_planned(tamsin, part_page):
    page = tamsin.page
    with transaction() as session:
        job = int(page.url.split("/jobs/")[1].split("/")[0])
        rim = next(e for e in session.get(Job, job).part.edges if e["shape"] == "circle" and e["inside"])
    page.evaluate("([face, place]) => window.zipplumb.pick(face, place)", [rim["face"], {"edge": rim["index"]}])
    expect(page.locator("#picked")).to_contain_text("Edge there: Hole")
    page.click("text=Plan the edge")
    expect(tamsin.row("Hole 1")).to_be_visible()
