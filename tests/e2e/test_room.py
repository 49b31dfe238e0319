"""Room for the work: the part is the largest thing in the window, details open when they are asked for, and a phone will do."""

import pytest
from carrier_bench import TECHNICIAN
from person import Person
from playwright.sync_api import expect

from zipplumb.jobs.kit import stations
from zipplumb.jobs.plan import sheet
from zipplumb.store.database import transaction
from zipplumb.store.models import Instrument, Job, Station

SHARE = """() => {
  const { width, height } = document.getElementById("stage").getBoundingClientRect();
  return (width * height) / (innerWidth * innerHeight);
}"""
# what is cut off at its right end, of the band's words
CUT = """() => [...document.querySelectorAll("#now dd, #now .ask, #now .why")]
  .filter((each) => each.offsetParent && each.scrollWidth > each.clientWidth + 1).map((each) => each.textContent)"""
NEEDED = {"measure": 0.45, "place": 0.45} | dict.fromkeys(("part", "kit", "align", "derive", "report"), 0.40)


@pytest.fixture
def fresh(running):
    """A job of the carrier at which nothing stands; the arm goes back to where it stood."""
    with transaction() as session:
        arm = session.query(Instrument).filter_by(name="Workshop arm").one()
        number, stood = arm.id, session.get(Station, arm.station_id).job_id if arm.station_id else running.job
        part = session.get(Job, running.job).part_id
    yield sheet.create_job(TECHNICIAN, "Room", part)
    stations.bring(TECHNICIAN, stood, number, unmoved=True)


def test_the_part_has_the_room_and_details_open_when_they_are_asked_for(tamsin, fresh):
    page, slip = tamsin.page, tamsin.page.locator("#left")
    tamsin.hand_drawer("closed")
    for stage, needed in NEEDED.items():
        tamsin.page.goto(f"{tamsin.running.url}/jobs/{fresh}/{stage}")
        expect(page.locator("#now")).to_be_visible()
        assert page.evaluate(SHARE) >= needed, (stage, page.evaluate(SHARE))
        assert page.evaluate(CUT) == [], stage
    page.goto(f"{tamsin.running.url}/jobs/{fresh}/part")
    page.get_by_role("button", name="Bring Workshop arm").click()  # what is asked for is done where it is asked
    expect(page.locator("#now .ask")).to_contain_text("pick a face of the part")
    tamsin.until(lambda: page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
    tamsin.pick(0)
    page.get_by_role("button", name="Plan a row from it").click()
    row = page.locator("#sheet-rows a.row").first
    name = row.locator("b").inner_text()
    expect(page.locator("#picked")).to_contain_text(f"It is planned as {name}.")
    page.get_by_role("button", name="Plan another row from it").click()
    expect(page.locator("#sheet-rows a.row")).to_have_count(2)
    tamsin.go("Measure")
    expect(slip).to_have_attribute("data-slip", "line")
    row.click()
    expect(slip).to_have_attribute("data-slip", "third")
    page.once("dialog", lambda asked: asked.accept())
    page.get_by_role("button", name="Remove").click()
    expect(page.locator("#sheet-rows a.row")).to_have_count(1)
    page.get_by_text("1 row taken off the sheet").click()
    page.get_by_role("button", name="Bring it back").click()
    expect(page.locator("#sheet-rows a.row")).to_have_count(2)
    first = page.locator("#sheet-rows a.row b")
    before = first.all_inner_texts()
    page.locator("#sheet-rows a.row").first.focus()
    page.keyboard.press("Alt+ArrowDown")
    expect(first.first).to_have_text(before[1])
    page.locator("#sheet-rows a.row").nth(1).drag_to(page.locator("#sheet-rows a.row").first, target_position={"x": 60, "y": 4})
    expect(first.first).to_have_text(before[0])
    assert page.locator(".notice").count() == 0


def test_on_a_phone_the_details_lie_over_all_and_are_closed_again(chromium, running):
    person = Person(chromium, running)
    page = person.page
    page.set_viewport_size({"width": 390, "height": 844})
    for stage in NEEDED:
        page.goto(f"{running.url}/jobs/{running.job}/{stage}")
        expect(page.locator("#now")).to_be_visible()
        pane = page.locator(".slip-pane")
        if stage in ("measure", "place"):
            expect(pane).to_be_hidden()
            first, then = (f"document.getElementById('{each}').getBoundingClientRect().top" for each in ("now", "sheet-rows"))
            assert page.evaluate(f"{first} < {then}")
        else:
            expect(pane).to_be_visible()
            assert pane.bounding_box()["height"] > 800
            page.get_by_role("button", name="Close", exact=True).click()
            expect(pane).to_be_hidden()
        assert page.evaluate("document.documentElement.scrollWidth") <= 390, stage
    page.goto(f"{running.url}/jobs/{running.job}/measure")
    expect(page.locator("#tip-line")).to_contain_text("X")
    page.locator("#sheet-rows a.row").nth(3).click()
    expect(page.locator(".slip-pane")).to_be_visible()
    page.get_by_role("button", name="Close", exact=True).click()
    expect(page.locator(".slip-pane")).to_be_hidden()
    person.context.close()
    assert person.complaints == []
