"""Takes the pictures of the main views from fresh demo data: ./run shots."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

ROOT = Path(__file__).parent.parent
sys.path[:0] = [str(ROOT / "tests" / "e2e")]

from kit_pages import Kit  # noqa: E402
from person import Person, launched  # noqa: E402
from playwright.sync_api import sync_playwright  # noqa: E402

from zipplumb.demo.processes import Processes  # noqa: E402
from zipplumb.jobs.hand import tell_hand  # noqa: E402

TARGET = ROOT / "docs" / "screenshots"


def main() -> None:
    TARGET.mkdir(exist_ok=True)
    with Processes.for_a_while(ROOT / "var" / "shots", pace=5.0) as processes, sync_playwright() as playwright:
        browser = launched(playwright)
        walk(Person(browser, processes), processes)
        browser.close()


def walk(person: Person, processes: Processes) -> None:
    page = person.page

    def shot(name: str) -> None:
        time.sleep(0.6)
        page.evaluate("document.getElementById('hand')?.removeAttribute('open')")  # the stand-in covers nothing
        page.screenshot(path=TARGET / f"{name}.png")
        page.evaluate("document.getElementById('hand')?.setAttribute('open', '')")

    shot("jobs")
    person.open(processes.job)
    for name in ("Foot top", "Long side", "Left end"):
        person.measure(name)
    person.touch_row()
    shot("measure")
    person.hand("Finish")
    person.measure("Spigot")
    person.touch_row()
    person.hand("One clumsy hit")
    time.sleep(1.2)
    shot("spoilt")
    page.keyboard.press("u")
    time.sleep(0.4)
    person.hand("Pull off, wrong side")
    time.sleep(0.6)
    person.hand("Finish")
    shot("side")
    page.get_by_text("Air on the other side").click()
    for name in (
        "Rear face",
        "Right end",
        "Bolt hole 1",
        "Bolt hole 2",
        "Bolt hole 3",
        "Bolt hole 4",
        "Dowel hole 1",
        "Dowel hole 2",
    ):
        person.measure(name)
    person.row("Bearing bore").click()
    page.locator("#slip h2", has_text="Bearing bore").wait_for()
    page.locator("#row-" + page.locator("#slip article").get_attribute("data-selected") + " [data-unfold]").click()
    shot("row")
    person.go("Part")
    person.pick(3)
    shot("part")
    for stage in ("Kit", "Align"):
        person.go(stage)
        shot(stage.lower())
    person.go("Derive")
    for name in ("Bolt hole 1", "Bolt hole 3"):
        page.locator(".tick-list").get_by_label(name, exact=True).check()
    page.locator(".choice").first.hover()
    person.until(lambda: page.evaluate("window.zipplumb.stage.marks.drawn.visible"))
    shot("derive")
    page.locator("[data-slip-size=whole]").click()
    person.go("Align")
    page.locator("summary", has_text="Another alignment").click()
    page.select_option(".typed-rows select", "holds")
    page.locator(".plan-form").wait_for()
    shot("plan")
    page.locator("[data-slip-size=third]").click()
    person.go("Report")
    page.locator("#slip").get_by_role("button", name="PDF", exact=True).click()
    with page.expect_download() as download:
        page.locator(".report-line >> text=Download").first.click()
    subprocess.run(
        ["pdftoppm", "-r", "70", "-png", "-f", "1", "-l", "1", "-singlefile", download.value.path(), TARGET / "report-page"],
        check=True,
    )
    shot("report")
    kit_walk(person, processes, shot)
    page.set_viewport_size({"width": 390, "height": 844})
    person.open(processes.job)
    shot("phone")


def kit_walk(person: Person, processes: Processes, shot) -> None:
    """A pivot of a new ball, a sphere, and a check with the wrong probe on."""
    kit, page = Kit(person), person.page
    shot("instruments")
    kit.room("Probes")
    for field, value in (("name", "25 mm steel ball"), ("diameter", "25"), ("length", "142")):
        page.fill(f"[name={field}]", value)
    page.select_option("[name=diameter_unit]", "mm")
    page.click("button:has-text('Keep it')")
    kit.begin("pivot", seat="bore")
    for words in ("25 mm ball on", "Swing away", "Back left"):
        kit.hand(words)
    person.until(lambda: "to the right" in kit.ask().inner_text(), 60)
    shot("pivot")
    tell_hand({"do": "stop"}, processes.sims["arm"][0])
    page.click("button:has-text('Give it up')")
    kit.probe("6 mm ruby ball")
    shot("probe")
    kit.begin("sphere", certified="25.4", certified_unit="mm")
    kit.hand("6 mm ball on, without a word")
    kit.hand("Touch the sphere all round")
    kit.until_taken(60)
    shot("sphere")
    tell_hand({"do": "stop"}, processes.sims["arm"][0])
    kit.hand("Finish")
    kit.ended("pass")
    kit.room("Instruments")
    page.click("text=Workshop arm")
    shot("instrument")
    kit.begin("sphere_check", certified="25.4", certified_unit="mm")
    kit.hand("3 mm ball on")
    kit.hand("Nine hits on it")
    kit.until_taken(9)
    kit.hand("Finish")
    kit.ended("fail")
    shot("check-failed")


if __name__ == "__main__":
    main()
