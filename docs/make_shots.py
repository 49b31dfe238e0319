"""Takes the pictures of the main views from fresh demo data: ./run shots."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

ROOT = Path(__file__).parent.parent
sys.path[:0] = [str(ROOT / "tests" / "e2e")]

from by_hand import is_finished  # noqa: E402
from kit_pages import Kit  # noqa: E402
from person import Person, launched  # noqa: E402
from playwright.sync_api import sync_playwright  # noqa: E402

from zipplumb.demo import bracket, shop_real  # noqa: E402
from zipplumb.demo.processes import Processes  # noqa: E402
from zipplumb.jobs.actor import Actor  # noqa: E402
from zipplumb.jobs.hand import move_hand, tell_hand  # noqa: E402
from zipplumb.jobs.kit import instruments, stations  # noqa: E402
from zipplumb.jobs.plan import adding, listing, sheet  # noqa: E402
from zipplumb.jobs.state.results import load  # noqa: E402
from zipplumb.store.database import transaction  # noqa: E402
from zipplumb.store.models import Job  # noqa: E402

TECHNICIAN = Actor(1, "Tamsin", "technician")
TARGET = ROOT / "docs" / "screenshots"


def main() -> None:
    TARGET.mkdir(exist_ok=True)
    made = Processes.for_a_while(ROOT / "var" / "shots", pace=5.0, started=False)
    with made as processes, sync_playwright() as playwright:
        scan, pieces, inspected = processes.seed_scan(), processes.seed_series(), processes.seed_inspected()
        processes.start()
        processes.wait_for_web()
        browser = launched(playwright)
        person = Person(browser, processes, smooth=True)
        report_walk(person, inspected)
        pieces_walk(person, pieces[-1])
        scan_walk(person, scan)
        walk(person, processes)
        browser.close()


def shooting(page):
    """What takes a picture of a page, as a newcomer sees it."""

    def shot(name: str) -> None:
        page.evaluate("document.getElementById('hand')?.setAttribute('hidden', '')")
        time.sleep(0.8)
        page.screenshot(path=TARGET / f"{name}.png")
        page.evaluate("document.getElementById('hand')?.removeAttribute('hidden')")

    return shot


def scan_walk(person: Person, scan: int) -> None:
    """The scanned job: a surface is pointed at; how far all of it lies off the CAD."""
    page, shot = person.page, shooting(person.page)
    page.goto(f"{person.running.url}/jobs/{scan}/measure")  # the arm is at another job
    person.until(lambda: page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
    person.row("Scan 1").click()
    page.locator("#slip [data-tool=surface]").wait_for()
    person.until(lambda: page.evaluate("window.zipplumb.stage.cloud.points.visible"))
    canvas = page.locator("#canvas").bounding_box()
    on_paper = "p => { const { view } = window.zipplumb.stage; return view.onPaper(view.box.min.clone().set(...p)); }"
    x, y = page.evaluate(on_paper, [bracket.BOSS[1] + 3, bracket.BOSS[2] - 19.6, bracket.THICK + 14])
    page.mouse.click(canvas["x"] + x, canvas["y"] + y)
    page.locator("#surface form").first.wait_for()
    shot("scan")
    person.row("Surface map 1").click()
    person.until(lambda: page.evaluate("window.zipplumb.stage.painted.points.visible"))
    page.locator("#spread").wait_for()
    shot("map")
    person.row("Scan 1").click()
    form = page.locator("#slip form", has_text="Plan these sections")
    form.locator("[name=axis]").select_option("Z")
    form.locator("[name=at]").fill("36")
    form.locator("[name=zone]").fill("0.3")
    form.get_by_role("button").click()
    page.locator("#cut-flat svg").wait_for()
    page.locator("[data-slip-size=whole]").click()
    shot("section")
    page.locator("[data-slip-size=third]").click()


def walk(person: Person, processes: Processes) -> None:
    page, shot = person.page, shooting(person.page)
    shot("jobs")
    person.open(processes.job)
    for name in ("Foot top", "Long side", "Left end"):
        person.measure(name)
    person.touch_row()
    shot("measure")
    person.hand("Finish")
    person.measure("Spigot")
    person.touch_row()
    person.hand("Pull off, wrong side")
    time.sleep(0.6)
    person.hand("Finish")
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
    person.go("Part")
    person.pick(3)
    page.get_by_text("Put a tolerance on it").click()
    shot("part")
    for stage in ("Kit", "Align"):
        person.go(stage)
        shot(stage.lower())
    person.go("Derive")
    person.choose("Foot top", "Bolt hole 1")
    page.fill("#derive-form [name=zone]", "0.05")
    page.locator("#derive-form [name=zone]").press("Tab")
    page.locator(".choice", has_text="Perpendicularity of Bolt hole 1").wait_for()
    shot("derive")
    touch_walk(person, processes.bracket_job, processes.job, shot)
    kit_walk(person, processes, shot)
    tracker_walk(person, processes, shot)
    bedplate_walk(person, processes, shot)
    page.set_viewport_size({"width": 390, "height": 844})
    person.open(processes.job)
    shot("phone")


def pieces_walk(person: Person, piece: int) -> None:
    """A batch of carriers: what stands out of it, and a tool that wears."""
    page, shot = person.page, shooting(person.page)
    page.goto(f"{person.running.url}/jobs/{piece}/pieces")
    page.locator(".run").first.wait_for()
    shot("pieces")


def report_walk(person: Person, job: int) -> None:
    """The finished job: tags on the part, and the first page of its report."""
    page, shot = person.page, shooting(person.page)
    page.goto(f"{person.running.url}/jobs/{job}/report")
    person.until(lambda: page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
    page.get_by_label("Tags that say what was found").check()
    page.locator("#tags-asked [name=kind]").select_option(label="surface point")
    page.locator(".over-tags .tag").first.wait_for()
    shot("report")
    proving_walk(person, job, shot)
    page.goto(f"{person.running.url}/jobs/{job}/report")
    page.locator("#slip").get_by_role("button", name="PDF", exact=True).click()
    with page.expect_download() as download:
        page.locator(".report-line >> text=Download").first.click()
    subprocess.run(
        ["pdftoppm", "-r", "70", "-png", "-f", "1", "-l", "1", "-singlefile", download.value.path(), TARGET / "report-page"],
        check=True,
    )


def proving_walk(person: Person, job: int, shot) -> None:
    """The finished job: a row that is not proven, and where hits would tell the most of it."""
    page = person.page
    page.goto(f"{person.running.url}/jobs/{job}/measure")
    person.until(lambda: page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
    person.row("Rear face").click()
    page.locator("#slip [data-slip-size=third], [data-slip-size=third]").first.click()
    page.locator(".settling .settles li").first.wait_for()
    shot("proving")


def touch_walk(person: Person, job: int, back: int, shot) -> None:
    """The bracket's planes, and then a seat that was just touched; the arm goes back to the other job."""
    arm = next(i.id for i in instruments.instruments() if i.name == "Workshop arm")
    stations.bring(TECHNICIAN, job, arm)
    person.open(job)
    for name in ("Top", "Side", "End"):
        person.measure(name)
    with transaction() as session:
        rows = {row.recipe.name: row.recipe for row in load(session, job).rows}
    person.page.keyboard.press("r")
    move_hand(TECHNICIAN, job, "touch", face=rows["Cone seat"].cad_face, hits=9)
    person.until(lambda: person.hits[0] >= 9, 60)
    person.until_hand_rests()
    shot("touch")
    stations.bring(TECHNICIAN, back, arm, unmoved=True)


def tracker_walk(person: Person, processes: Processes, shot) -> None:
    """The tracker carried to a second station, with a nest knocked."""
    port, page = processes.sims["tracker"][0], person.page
    tracker = next(i.id for i in instruments.instruments() if i.name == "Hall tracker")
    with transaction() as session:
        part = session.get(Job, processes.job).part_id
    job = sheet.create_job(TECHNICIAN, "Carrier in the hall", part)
    stations.bring(TECHNICIAN, job, tracker)
    lines = [f"N{k};{x};{y};{z}" for k, (x, y, z) in enumerate(shop_real.NESTS, start=1)]
    rows = listing.plan_list(TECHNICIAN, job, "\n".join(lines), "mm")
    with transaction() as session:
        raw = {"kind": "reference_points", "name": "Reference", "points": rows}
        session.get(Job, job).alignment_row_id = adding.add_row(session, TECHNICIAN, job, raw)
    person.open(job)

    def round_all() -> None:
        for k in range(1, 7):
            page.locator("#now .ask", has_text=f" N{k} ").wait_for()
            tell_hand({"do": "nest", "name": f"Nest {k}"}, port)
            person.until(lambda: tell_hand({"do": "ask"}, port)["busy"] == 0, 60)
            person.until(lambda: person.hits[0] >= 1, 60)
            tell_hand({"do": "click", "button": "finish"}, port)
            person.until(lambda row=rows[k - 1]: is_finished(row))

    round_all()
    stations.bring(TECHNICIAN, job, tracker)
    tell_hand({"do": "station", "number": 1}, port)
    tell_hand({"do": "knock", "name": "Nest 3", "by": [0.3, -0.2, 0.1]}, port)
    person.go("Measure")
    round_all()
    person.go("Kit")
    page.get_by_role("button", name="Whole", exact=True).last.click()
    page.locator(".stations .inline-warn").wait_for()
    shot("stations")
    page.get_by_role("button", name="A third", exact=True).click()


def bedplate_walk(person: Person, processes: Processes, shot) -> None:
    """A carrier on its adjusters, seen once: what to turn; and the same on the fitter's phone."""
    port, page, job = processes.sims["tracker"][0], person.page, processes.bedplate_job
    tell_hand({"do": "station", "number": 0}, port)
    tracker = next(i.id for i in instruments.instruments() if i.name == "Hall tracker")
    stations.bring(TECHNICIAN, job, tracker, unmoved=True)
    page.goto(f"{processes.url}/jobs/{job}/measure")
    for name in (*(f"R{k}" for k in range(1, 9)), *(f"F{k}" for k in range(1, 5))):
        page.locator("#now .ask", has_text=f" {name} ").wait_for()
        tell_hand({"do": "nest", "name": name}, port)
        person.until(lambda: person.hits[0] == 1, 60)
        tell_hand({"do": "click", "button": "finish"}, port)
    person.go("Place")
    detail = page.locator("section.detail", has_text="Forward carrier")
    detail.locator(".turns").wait_for()
    shot("place")
    detail.get_by_role("button", name="A page for the fitter's phone").click()
    address = page.locator(".link-code a").get_attribute("href")
    page.locator(".link-code").get_by_role("button", name="Close").click()
    phone = person.context.browser.new_context(viewport={"width": 390, "height": 844}).new_page()
    phone.goto(address)
    phone.locator("#fitter-place .what").wait_for()
    time.sleep(0.6)
    phone.screenshot(path=TARGET / "fitter.png")
    phone.context.close()


def kit_walk(person: Person, processes: Processes, shot) -> None:
    """A new ball, and a sphere."""
    kit_pages, page = Kit(person), person.page
    kit_pages.room("Probes")
    for field, value in (("name", "25 mm steel ball"), ("diameter", "25"), ("length", "142")):
        page.fill(f"[name={field}]", value)
    page.select_option("[name=diameter_unit]", "mm")
    page.click("button:has-text('Keep it')")
    kit_pages.probe("6 mm ruby ball")
    kit_pages.begin("sphere", certified="25.4", certified_unit="mm")
    kit_pages.hand("6 mm ball on, without a word")
    kit_pages.hand("Touch the sphere all round")
    kit_pages.until_taken(60)
    tell_hand({"do": "stop"}, processes.sims["arm"][0])
    kit_pages.hand("Finish")
    kit_pages.ended("pass")
    kit_pages.room("Instruments")
    page.click("text=Workshop arm")
    shot("instrument")


if __name__ == "__main__":
    main()
