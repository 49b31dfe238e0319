"""One choice of rows: made on the sheet, by keys or on the part, seen in all of them, taken by whatever works on several."""

import pytest
from carrier_bench import LEFT, REAR, UP
from playwright.sync_api import expect

from zipplumb.demo import carrier
from zipplumb.jobs.actor import Actor
from zipplumb.jobs.plan import listing

TECHNICIAN = Actor(1, "Tamsin", "technician")
ON_PAPER = "face => { const { view, part } = window.zipplumb.stage; return view.onPaper(part.spot(face)); }"


@pytest.fixture
def four(bench, tamsin):
    """A job of two faces that are seen from the front, one that is not, and a row that has none."""
    here = bench("Choosing", "Workshop arm")
    for name, normal, at in (("Top", UP, carrier.FOOT), ("Left", LEFT, carrier.LENGTH / 2), ("Back", REAR, carrier.WIDTH / 2)):
        here.planned(name, here.plane(normal, at), 6)
    listing.plan_list(TECHNICIAN, here.job, "Nest;900;0;0", "mm")
    tamsin.open(here.job)
    return here


def chosen(tamsin):
    return tamsin.page.locator("#rows-frame .entry.chosen .name b").all_inner_texts()


def names(tamsin):
    return tamsin.page.locator("#rows-frame .entry .name b").all_inner_texts()


def test_on_the_sheet_and_by_keys(tamsin, four):
    page = tamsin.page
    tamsin.choose("Top", "Back")
    expect(page.locator("#chosen")).to_contain_text("2 chosen Top, Back")
    page.reload()
    expect(page.locator("#chosen")).to_contain_text("2 chosen Top, Back")
    tamsin.row("Back").focus()
    page.keyboard.press("Shift+ArrowDown")
    assert chosen(tamsin) == ["Top", "Back", "Nest"]
    page.keyboard.press("x")  # the row that has the focus now
    assert chosen(tamsin) == ["Top", "Back"]
    tamsin.row("Left").locator(".mark").click(modifiers=["Shift"])  # from the last one on
    page.click("#chosen >> text=Let go")
    expect(page.locator("#chosen")).to_be_hidden()

    tamsin.choose("Top", "Back")
    page.get_by_label("Chosen rows down").click()  # they go together
    tamsin.until(lambda: names(tamsin) == ["Left", "Nest", "Top", "Back"])
    page.get_by_label("Chosen rows up").click()
    tamsin.until(lambda: names(tamsin) == ["Left", "Top", "Back", "Nest"])
    page.click("#chosen >> text=Settings")
    expect(page.locator("#many .of-chosen .check:visible")).to_have_text(["Top", "Back"])
    page.get_by_label("Back", exact=True).uncheck()  # there too it is the same choice
    assert chosen(tamsin) == ["Top"]
    page.click("#many >> text=List all 4")
    page.get_by_label("Left", exact=True).check()
    assert chosen(tamsin) == ["Left", "Top"]

    page.once("dialog", lambda dialog: dialog.dismiss())
    page.click("#chosen >> text=Remove")
    assert len(names(tamsin)) == 4
    page.once("dialog", lambda dialog: dialog.accept())
    page.click("#chosen >> text=Remove")
    tamsin.until(lambda: names(tamsin) == ["Back", "Nest"])
    expect(page.locator("#chosen")).to_be_hidden()
    expect(page.locator(".taken-off")).to_contain_text("Top")  # and can come back


def test_on_the_part(tamsin, four):
    page, left = tamsin.page, four.plane(LEFT, carrier.LENGTH / 2)
    tamsin.until(lambda: page.evaluate("window.zipplumb.stage.ready"))
    box = page.locator("#canvas").bounding_box()

    def at(face):
        x, y = page.evaluate(ON_PAPER, face)
        return box["x"] + x, box["y"] + y

    def dragged(begin, end):
        page.keyboard.down("Shift")
        page.mouse.move(*begin)
        page.mouse.down()
        page.mouse.move(*end, steps=3)
        page.mouse.up()
        page.keyboard.up("Shift")

    camera = "window.zipplumb.stage.view.camera.position.toArray().join()"
    before = page.evaluate(camera)
    dragged((box["x"] + 4, box["y"] + 60), (box["x"] + box["width"] - 4, box["y"] + box["height"] - 4))
    assert chosen(tamsin) == ["Top", "Left"]  # what is behind, and what has no place on the part, is not
    assert page.evaluate(camera) == before  # the picture stands still
    page.mouse.move(*at(left))
    page.keyboard.down("Shift")
    page.mouse.click(*at(left))
    assert chosen(tamsin) == ["Top"]
    page.mouse.click(*at(left))
    page.keyboard.up("Shift")
    assert chosen(tamsin) == ["Top", "Left"]
    expect(page.locator("#tags")).to_contain_text("Left")
    x, y = at(left)
    dragged((x - 6, y - 6), (x + 6, y + 6))
    expect(page.locator(".notice").last).to_contain_text("No row is whole in that rectangle")
    assert tamsin.page.locator("#picked").count() == 0  # no face was picked meanwhile


def test_a_refusal_is_read_though_what_was_pressed_is_gone(tamsin, four):
    page, held = tamsin.page, []
    tamsin.open(four.job, "part")
    page.route("**/take-back", lambda route: held.append(route))
    page.get_by_role("button", name="Take back the last plan: Nest").click()
    tamsin.until(lambda: held)
    page.evaluate("document.querySelector('.take-back').remove()")  # as when the details come anew meanwhile
    held[0].continue_(post_data="row=999999")  # not the newest any more
    expect(page.locator("#notices")).to_contain_text("The sheet was changed meanwhile. Nothing was taken back.")
