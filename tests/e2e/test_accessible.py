"""Every page as assistive technology meets it (axe-core), and the sheet worked by the keyboard alone."""

from pathlib import Path

import pytest
from person import Person
from playwright.sync_api import expect

AXE = Path(__file__).parent.parent.parent / "node_modules" / "axe-core" / "axe.min.js"
PAGES = ("/", "/instruments", "/instruments/1", "/probes", "/probes/1", "/people", "/record", "/state", "/me")
STAGES = ("part", "kit", "align", "measure", "derive", "report")


@pytest.fixture(scope="module")
def ines(chromium, running):
    person = Person(chromium, running, "ines", bypass_csp=True)  # the checker is put into the page
    yield person
    person.context.close()


def serious(page):
    page.add_script_tag(path=AXE)
    found = page.evaluate("() => axe.run(document, { resultTypes: ['violations'] })")["violations"]
    return [
        (v["id"], v["impact"], [n["target"] for n in v["nodes"][:3]]) for v in found if v["impact"] in ("serious", "critical")
    ]


def test_the_sign_in_page_is_accessible(chromium, running):
    context = chromium.new_context(bypass_csp=True)
    page = context.new_page()
    page.goto(running.url + "/sign-in")
    assert serious(page) == []
    context.close()


@pytest.mark.parametrize("path", PAGES)
def test_a_page_is_accessible(ines, running, path):
    ines.page.goto(running.url + path)
    assert serious(ines.page) == []


@pytest.mark.parametrize("stage", STAGES)
def test_a_stage_of_a_job_is_accessible(ines, running, stage):
    ines.open(running.job, stage)
    assert serious(ines.page) == []


def test_the_sheet_is_worked_by_the_keyboard_alone(tamsin, running):
    """To the sheet, down two rows, open one, to its form, change a limit, keep it, and take it back."""
    tamsin.hand_drawer("closed")
    tamsin.open(running.job)
    page, keys = tamsin.page, tamsin.page.keyboard
    page.locator("body").focus()
    for _ in range(60):
        keys.press("Tab")
        if page.evaluate("document.activeElement.closest('#sheet-rows') !== null"):
            break
    row = page.evaluate("document.activeElement.dataset.row")
    keys.press("ArrowDown")
    keys.press("ArrowDown")
    assert page.evaluate("document.activeElement.dataset.row") != row
    keys.press("Enter")
    name = page.evaluate("document.activeElement.querySelector('.name b').textContent")
    expect(page.locator("#slip h2")).to_contain_text(name)
    keys.press("Escape")  # to the details
    assert page.evaluate("document.activeElement.id") == "slip"
    for _ in range(40):
        keys.press("Tab")
        if page.evaluate("document.activeElement.name") == "name":
            break
    keys.press("End")
    keys.type("!")
    keys.press("Enter")
    expect(tamsin.row(f"{name}!")).to_be_visible()
    keys.press("End")
    keys.press("Backspace")
    keys.press("Enter")
    expect(tamsin.row(name)).to_be_visible()
