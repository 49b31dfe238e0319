"""The tracker is carried: tied again by nests, of which one was knocked meanwhile."""

import io
import json
import re
from functools import partial

import numpy as np
import openpyxl
import pytest
from carrier_bench import NESTS, TECHNICIAN, instrument
from playwright.sync_api import expect
from truth import must_be_true

from zipplumb.core.alignment.reference_points import expansion_scale
from zipplumb.core.frames import Motion
from zipplumb.core.placing.adjusters import Turn, answers_of
from zipplumb.core.placing.detail import moves_of
from zipplumb.core.uncertainty import coverage_factor
from zipplumb.demo import bedplate, bedplate_real, shop_real
from zipplumb.devices.sim.on_screws import OnScrews
from zipplumb.jobs.hand import tell_hand
from zipplumb.jobs.kit import probes, stations
from zipplumb.jobs.measure import measuring
from zipplumb.jobs.place import placement
from zipplumb.jobs.place.details import details_of
from zipplumb.jobs.plan import adding, listing, picking, sheet
from zipplumb.jobs.state.results import load
from zipplumb.store.database import stored, transaction
from zipplumb.store.models import Job, Probe

pytestmark = pytest.mark.usefixtures("tracker")
KNOCK = [0.3, -0.2, 0.1]
DRIFT_MM = 0.005  # by which the stand creeps in an hour, more than a test takes


def test_carried_to_a_second_station_with_a_nest_knocked_on_the_way(tamsin, running, bench):
    here = bench("Carried", "Hall tracker")
    port, page = running.sims["tracker"][0], here.page
    title = page.locator("#now .say .ask")
    lines = [f"{name};{x};{y};{z}" for name, (x, y, z) in zip(NESTS, shop_real.NESTS, strict=True)]
    listing.plan_list(TECHNICIAN, here.job, "\n".join(lines), "mm")
    tell_hand({"do": "station", "number": 0}, port)

    def take(name):
        expect(title).to_contain_text(f" {name} ")
        tell_hand({"do": "nest", "name": f"Nest {name[1:]}"}, port)
        tamsin.until(lambda: tamsin.hits[0] == 1, 60)
        tell_hand({"do": "click", "button": "finish"}, port)

    tamsin.go("Kit")
    expect(page.locator(".stations")).to_contain_text("none is seen from Station 1 yet")
    tamsin.go("Measure")
    for name in NESTS:
        take(name)
    tamsin.go("Kit")
    expect(page.locator(".stations")).to_contain_text("6 points are seen from Station 1: enough to move it")
    try:
        page.get_by_role("button", name="was moved: begin a new station").click()
        tell_hand({"do": "station", "number": 1}, port)
        tell_hand({"do": "knock", "name": "Nest 3", "by": KNOCK}, port)
        expect(page.locator("#now .active")).to_contain_text("2 ◇ not tied")
        tamsin.go("Measure")
        expect(page.locator("#tip-line")).to_contain_text("is not tied: no place yet")
        for name in NESTS[:2]:
            take(name)
        page.reload()  # in the middle
        expect(page.locator("#now .why")).to_contain_text(["Station 2 is not tied yet: 2 of 3 common points."])
        for name in NESTS[2:]:
            take(name)
        tamsin.go("Kit")
        expect(page.locator(".stations")).to_contain_text("N3 seen from Station")
        page.get_by_role("button", name="Set N3 from").click()
        expect(page.locator(".stations .inline-warn")).to_be_hidden()
        expect(page.locator(".stations")).to_contain_text("by 5 common points")
        expect(page.locator(".stations")).to_contain_text(
            re.compile(r"N3 from Station \d was set aside: Station 2 went 0\.\d+ mm")
        )
        expect(page.locator("#tip-line")).to_contain_text("X")
    finally:
        tell_hand({"do": "knock", "name": "Nest 3", "by": [-v for v in KNOCK]}, port)
        tell_hand({"do": "station", "number": 0}, port)
    with transaction() as session:
        state = load(session, here.job)
    first, second = list(state.stations.values())
    shop = json.loads((running.folder / "shop.json").read_text())["stations"]
    stood = [Motion.from_quaternion(s["quaternion"], s["translation_mm"]) for s in shop]
    true = stood[0].inverse() @ stood[1]
    for corner in np.array([[0.0, 0, 0], [1000, 0, 0], [0, 1000, 0], [0, 0, 1000]]):
        x, y, z = second.world_from_station.points(corner)
        moves = second.pose_terms[:3] + np.array([[0.0, z, -y], [-z, 0.0, x], [y, -x, 0.0]]) @ second.pose_terms[3:]
        u = np.sqrt(np.linalg.eigvalsh(moves @ moves.T)[-1])
        off = np.linalg.norm(second.world_from_station.points(corner) - true.points(corner))
        assert off < 2 * coverage_factor() * u + DRIFT_MM, (off, u)
    assert first.pose_terms is None


def test_a_nest_is_moved_until_it_sits_where_it_belongs(tamsin, running, bench):
    here = bench("Placing", "Hall tracker")
    port, page = running.sims["tracker"][0], here.page
    lines = [f"{name};{x};{y};{z}" for name, (x, y, z) in zip(NESTS, shop_real.NESTS, strict=True)]
    rows = listing.plan_list(TECHNICIAN, here.job, "\n".join(lines), "mm")
    tamsin.go("Measure")
    for name in NESTS:
        tell_hand({"do": "nest", "name": f"Nest {name[1:]}"}, port)
        tamsin.until(lambda: tamsin.hits[0] == 1, 60)
        tell_hand({"do": "click", "button": "finish"}, port)
        expect(tamsin.row(name).locator(".mark")).not_to_have_text("○")
    tamsin.go("Place")
    expect(page.locator("#placing")).to_contain_text("No coordinate system is active")
    with transaction() as session:
        raw = {"kind": "reference_points", "name": "Reference", "points": rows}
        stored(session, Job, here.job).alignment_row_id = adding.add_row(session, TECHNICIAN, here.job, raw)
    page.reload()
    form = page.locator("#placing form")
    form.locator("[name=zone]").fill("0.1")
    form.locator("[name='-X']").fill("toward the wall")
    form.get_by_role("button", name="Keep").click()
    now, line = page.locator("#placing-now"), page.locator(f"[data-aim='{rows[4]}']")
    moved = np.zeros(3)

    def carry(by):
        moved[:] += by
        tell_hand({"do": "knock", "name": "Nest 5", "by": list(by)}, port)
        tell_hand({"do": "nest", "name": "Nest 5", "take": False}, port)

    try:
        carry([1.5, 0, 0])
        expect(now).to_contain_text("▲ N5: 1.")
        expect(now).to_contain_text("toward the wall")
        expect(line).to_contain_text("now")
        carry([-1.5, 0, 0])
        expect(now).to_contain_text("● N5 is in")
        expect(line).to_contain_text("leave it")
        page.reload()  # in the middle
        expect(line).to_contain_text("leave it")
        page.get_by_role("button", name="Zero here").click()
        expect(page.locator("#from-zero")).to_contain_text(re.compile(r"From zero: X [+−]0\.0\d\d"))
        carry([0, 2, 0])
        expect(page.locator("#from-zero")).to_contain_text(re.compile(r"[+−](1\.9|2\.0)\d\d"))  # in a turned system
        page.keyboard.press("z")
        expect(page.locator("#from-zero")).to_be_empty()
        tell_hand({"do": "block"}, port)
        expect(now).to_contain_text("this number is old")
        lost = page.locator("#now .say .ask")  # in the place of the number
        expect(lost).to_have_text("Target lost.")
        expect(lost).to_be_visible()
        expect(now).not_to_be_visible()
    finally:
        tell_hand({"do": "block"}, port)
        tell_hand({"do": "knock", "name": "Nest 5", "by": list(-moved)}, port)


ADJUSTERS = """Foot 1; -300; 2500; 0; up; 1.5; 4; 4
Foot 2; 600; 1700; 0; up; 1.5; 4; 4
Foot 3; 700; -200; 0; up; 1.5; 4; 4
Side left; -300; 2500; 90; +Y; 1.25
Side right; 1500; 900; 90; +Y; 1.25
End; 180; 240; 90; +X; 1
"""


def is_left(count, turn: Turn, seems_mm: float = 0.15) -> bool:
    """The turn stands on the fitter's page: live, and so less what the reflector's noise seems to have moved already."""
    shown = re.fullmatch(r"([\d.]+) turns?", count.inner_text())
    gone = abs(turn.turns) - float(shown[1]) if shown else np.inf
    return -0.006 < gone < seems_mm * abs(turn.turns / turn.move_mm)


def test_a_detail_is_turned_round_after_round_until_it_sits(tamsin, running, bench, chromium):
    """Its screws move it a tenth otherwise than stated; the nests that it carries are moved by what is turned."""
    here = bench("Foot", "Hall tracker")
    port, page = running.sims["tracker"][0], here.page
    lines = [f"{name};{x};{y};{z}" for name, (x, y, z) in zip(NESTS, shop_real.NESTS, strict=True)]
    rows = listing.plan_list(TECHNICIAN, here.job, "\n".join(lines), "mm")

    def take(k):
        expect(page.locator("#now .say .ask")).to_contain_text(f" N{k} ")
        tell_hand({"do": "nest", "name": f"Nest {k}"}, port)
        tamsin.until(lambda: tamsin.hits[0] == 1, 60)
        tell_hand({"do": "click", "button": "finish"}, port)

    tamsin.go("Measure")
    for k in (1, 2, 3):
        take(k)
    with transaction() as session:
        raw = {"kind": "reference_points", "name": "Reference", "points": rows[:3]}
        stored(session, Job, here.job).alignment_row_id = adding.add_row(session, TECHNICIAN, here.job, raw)
    tamsin.go("Place")
    tamsin.unfold("A detail or a frame that is moved on adjusters")
    form = page.locator(".detail-form")
    placement.set_placing(TECHNICIAN, here.job, {"zone": "0.2", "+Z": "up", "-Z": "down"})
    expect(page.locator("#placing [name=zone]")).to_have_value("0.200")  # the page is new, and what was unfolded stays so
    form.locator("[name=name]").fill("Gearbox foot")
    tamsin.choose(*NESTS[3:])
    form.locator("[name=adjusters]").fill(ADJUSTERS.replace("Foot 2; 600", "Foot 2; x"))
    held = []
    page.route("**/details", lambda route: held.append(route))
    form.get_by_role("button", name="Add it").click()
    tamsin.until(lambda: held)
    placement.set_placing(TECHNICIAN, here.job, {"zone": "0.3", "+Z": "up", "-Z": "down"})  # the page follows meanwhile
    with page.expect_response("**/place"):
        held[0].continue_()
    page.unroute("**/details")
    expect(page.locator(".notice").last).to_contain_text("Line 2: “x” in a number is not a number")
    for zone in ("0.300", "0.200"):  # and once more: what was typed and refused stays
        expect(page.locator("#placing [name=zone]")).to_have_value(zone)
        expect(form.locator("[name=name]")).to_have_value("Gearbox foot")
        placement.set_placing(TECHNICIAN, here.job, {"zone": "0.2", "+Z": "up", "-Z": "down"})
    form.locator("[name=adjusters]").fill(ADJUSTERS)
    form.get_by_role("button", name="Add it").click()
    detail = page.locator("[data-detail]")
    expect(detail).to_contain_text("Look at N4, N5, N6.")
    detail.get_by_role("button", name="A page for the fitter's phone").click()
    address = page.locator(".link-code a").get_attribute("href")
    page.locator(".link-code").get_by_role("button", name="Close").click()
    phone = chromium.new_context(viewport={"width": 390, "height": 844}).new_page()  # nobody is signed in there
    phone.goto(address)
    expect(phone.locator("#fitter-now")).to_contain_text("It is being looked at")
    nominal = np.array(shop_real.NESTS[3:])
    with transaction() as session:
        (now,) = details_of(session, load(session, here.job))
    adjusters = [a.adjuster({}) for a in now.recipe.adjusters]
    pitch = [a.mm_per_turn * k for a, k in zip(adjusters, (1.08, 0.93, 1.06, 0.95, 1.07, 0.92), strict=True)]
    stood = np.zeros((3, 3))

    def stand(off):
        for k, by in zip((4, 5, 6), off - stood, strict=True):
            tell_hand({"do": "knock", "name": f"Nest {k}", "by": by.tolist()}, port)
        stood[:] = off

    try:
        stand(np.array([[1.1, 0.9, -1.2], [1.0, 1.0, -0.7], [0.9, 0.9, -0.4]]))
        for _ in range(5):  # so often it is looked at: four rounds of turns
            tamsin.go("Measure")
            for k in (4, 5, 6):
                take(k)
            tamsin.go("Place")
            expect(detail.locator(".detail-word")).to_have_text(re.compile("off at most|It sits"))
            if "● It sits" in detail.inner_text():
                break
            with transaction() as session:
                (now,) = details_of(session, load(session, here.job))
            turns = {t.name: t.turns for t in now.plan.turns}
            expect(detail.locator(".turns li")).to_have_count(len(turns))
            first = now.plan.turns[0]
            expect(phone.locator(".next")).to_contain_text(first.name)
            tamsin.until(partial(is_left, phone.locator(".next .count"), first))
            moves = [turns.get(a.name, 0.0) * p for a, p in zip(adjusters, pitch, strict=True)]
            motion = np.linalg.solve(answers_of(adjusters, nominal.mean(axis=0)), moves)
            stand(stood + moves_of(nominal, nominal.mean(axis=0)) @ motion)
            detail.get_by_role("button", name="Turned so: look again").click()
            expect(detail).to_contain_text("Look at N4, N5, N6.")
        expect(detail).to_contain_text("● It sits")
        expect(phone.locator("#fitter-now")).to_contain_text("● It sits")
        expect(phone.locator("#fitter-place")).to_contain_text("N6")  # where the reflector sits
        assert np.linalg.norm(stood, axis=1).max() < 0.2
        detail.get_by_role("button", name="It is fixed: inspect it").click()
        expect(phone.locator("#fitter-now")).to_contain_text("■ Fixed")
        expect(detail).to_contain_text("Fixed; 3 of 3 targets are to be measured")
        tamsin.go("Measure")
        for k in (4, 5, 6):
            take(k)
        tamsin.go("Place")
        expect(detail).to_contain_text("Fixed: all targets are in.")
        line = detail.locator(".inspected tr", has_text="N4")
        assert float(line.locator("td").nth(0).inner_text()) > 1.5  # as it was found
        expect(line.locator("td").nth(1)).to_contain_text("●")
        tamsin.go("Report")
        page.locator("#slip").get_by_role("button", name="XLSX", exact=True).click()
        with page.expect_download(timeout=60_000) as download:
            page.locator(".report-line", has_text="XLSX").first.get_by_text("Download").click(timeout=60_000)
        sheet = openpyxl.load_workbook(io.BytesIO(download.value.path().read_bytes()))["Details"]
        left = {line[1]: line for line in sheet.iter_rows(min_row=2, values_only=True)}
        assert set(left) == {"N4", "N5", "N6"}
        for name, true in zip(NESTS[3:], stood, strict=True):
            assert left[name][-1] == "in"
            assert np.linalg.norm(np.array(left[name][6:9], float) - true) < 0.06
    finally:
        stand(np.zeros((3, 3)))
    tamsin.go("Place")
    detail.get_by_role("button", name="Withdraw 1 link").click()
    expect(phone.locator("h1")).to_have_text("This link has ended")
    phone.context.close()


def test_the_corners_of_a_frame_are_brought_to_one_height(tamsin, running, bench):
    """By the tracker's own level, before anything is aligned: highest, lowest, and which foot to turn."""
    here = bench("Frame", "Hall tracker")
    port, page = running.sims["tracker"][0], here.page
    listing.plan_list(TECHNICIAN, here.job, "\n".join(f"C{k};0;0;0" for k in (1, 2, 3, 4)), "mm")
    stood = np.array([shop_real.NESTS[k][2] for k in range(4)], float)
    heights = np.array([640.0, 641.4, 639.1, 640.3])  # to which they are brought first
    placement.set_placing(TECHNICIAN, here.job, {"zone": "0.1", "+Z": "up", "-Z": "down"})
    tamsin.go("Place")
    tamsin.unfold("A detail or a frame that is moved on adjusters")
    form = page.locator(".detail-form")
    form.locator("[name=name]").fill("Frame")
    form.locator("[name=belongs]").select_option("instrument highest")
    tamsin.choose("C1", "C2", "C3", "C4")
    form.locator("[name=adjusters]").fill("Foot 1; 0; 0; 0; up; 2")
    form.get_by_role("button", name="Add it").click()
    expect(page.locator(".notice").last).to_contain_text("moved corner by corner")
    form.locator("[name=adjusters]").fill("\n".join(f"Foot {k}; C{k}; up; 2" for k in (1, 2, 3, 4)))
    form.get_by_role("button", name="Add it").click()
    detail = page.locator("[data-detail]")
    expect(detail).to_contain_text("Look at C1, C2, C3, C4.")
    now_at = stood.copy()

    def lift(k, by):
        tell_hand({"do": "knock", "name": f"Nest {k}", "by": [0, 0, float(by)]}, port)
        now_at[k - 1] += by

    def look():
        tamsin.go("Measure")
        for k in (1, 2, 3, 4):
            expect(page.locator("#now .say .ask")).to_contain_text(f" C{k} ")
            tell_hand({"do": "nest", "name": f"Nest {k}"}, port)
            tamsin.until(lambda: tamsin.hits[0] == 1, 60)
            tell_hand({"do": "click", "button": "finish"}, port)
        tamsin.go("Place")
        expect(detail.locator(".detail-word")).to_have_text(re.compile("off at most|It sits"))

    def turn():
        with transaction() as session:
            (now,) = details_of(session, load(session, here.job))
        for t in now.plan.turns:
            k = int(t.name.split()[1])
            lift(k, t.turns * 2 * 1.06)  # its screw does more than is stated
        detail.get_by_role("button", name="Turned so: look again").click()

    try:
        for k in (1, 2, 3, 4):
            lift(k, heights[k - 1] - stood[k - 1])
        look()
        expect(detail).to_contain_text("Highest: C2. Lowest: C3, 2.")
        band = page.locator("#placing-now")  # the count is live while its foot is turned
        for lifted, still in (
            (0.0, r"C3: 2\.[23]\d+\s*Foot 3: still 1\.1\d turns"),
            (1.5, r"C3: 0\.[78]\d+\s*Foot 3: still 0\.[34]\d turns"),
        ):
            lift(3, lifted)
            tell_hand({"do": "nest", "name": "Nest 3", "take": False}, port)
            expect(band).to_contain_text(re.compile(still))
        lift(3, -1.5)
        for _ in range(4):
            if "It sits" in detail.locator(".detail-word").inner_text():
                break
            turn()
            look()
        expect(detail.locator(".detail-word")).to_contain_text("It sits")
        assert np.ptp(now_at) < 0.15
    finally:
        for k in (1, 2, 3, 4):
            lift(k, stood[k - 1] - now_at[k - 1])


def test_where_to_stand_is_looked_for_before_anything_is_carried(tamsin, running):
    """The demo job: two places round the part are compared, then one is typed."""
    page = tamsin.page
    page.goto(f"{running.url}/jobs/{running.job}/kit")
    page.get_by_role("button", name="Look for a place").click()
    form = page.locator("#rehearsal")
    form.locator("[name=instrument]").select_option(label="Hall tracker")
    form.get_by_role("button", name="Propose two places").click()
    found = page.locator("#rehearsed")
    expect(found).to_contain_text("the better one")
    expect(found).to_contain_text("too narrow for a tip of 38.100")
    bore = found.locator("tr", has_text="Spigot face")
    expect(bore.locator("td")).to_have_count(8)
    form.get_by_role("button", name="Look from there").click()
    expect(page.locator(".notice").last).to_contain_text("No place was typed")
    for axis, value in zip("XYZ", ("0", "-2500", "x"), strict=True):
        form.locator(f"[name='A.{axis}']").fill(value)
    form.get_by_role("button", name="Look from there").click()
    expect(page.locator(".notice").last).to_contain_text("Z of place A")
    form.locator("[name='A.Z']").fill("1200")
    form.get_by_role("button", name="Look from there").click()
    expect(bore.locator("td")).to_have_count(4)
    expect(bore).to_contain_text(re.compile(r"● \d+ of \d+"))
    expect(bore).to_contain_text(re.compile(r"0\.0\d\d height"))
    page.get_by_role("radio", name="B").check()  # and one is put on the stage: from above, beside the part
    box = page.locator("#canvas").bounding_box()
    page.mouse.click(box["x"] + 0.15 * box["width"], box["y"] + 0.5 * box["height"])
    assert float(form.locator("[name='B.X']").input_value()) < -300
    assert float(form.locator("[name='B.Z']").input_value()) == 1500
    form.get_by_role("button", name="Look from there").click()
    expect(bore.locator("td")).to_have_count(8)


def test_a_detail_of_the_bedplate_is_placed_to_its_end(tamsin, running, chromium):
    """The demo's own job: aligned by eight references with material and temperature, and a foot turned by the stand-in's hand
    until it sits, as the fitter's phone tells it. The test turns the same screws in a copy of what only the stand-in knows."""
    shop = json.loads((running.folder / "shop.json").read_text())
    foot = OnScrews.of_data(shop["details"]["Gearbox foot"])
    nests = {name: np.array(at) for name, at in shop["nests"].items()}
    page, job = tamsin.page, running.bedplate_job
    take = with_the_references_read(tamsin, running)
    with transaction() as session:
        first = next(row.id for row in load(session, job).rows if row.recipe.name == "G1")
    measuring.make_current(TECHNICIAN, job, first)
    for name in foot.nests:
        take(name)
    tamsin.go("Place")
    told_apart_and_picked(tamsin)
    detail = page.locator("section.detail", has_text="Gearbox foot")
    detail.get_by_role("button", name="A page for the fitter's phone").click()
    address = page.locator("dialog.link-code a").get_attribute("href")
    page.locator("dialog.link-code").get_by_role("button", name="Close").click()
    phone = chromium.new_context(viewport={"width": 390, "height": 844}).new_page()
    phone.goto(address)
    for _ in range(4):
        expect(detail.locator(".detail-word")).to_have_text(re.compile("off at most|It sits"))
        if "● It sits" in detail.locator(".detail-word").inner_text():
            break
        with transaction() as session:
            now = next(d for d in details_of(session, load(session, job)) if d.recipe.name == "Gearbox foot")
        if not now.plan.turns:
            break  # it sits, but not surely: nothing that could be seen is to be turned
        outside = bool(np.any(np.linalg.norm(now.off_mm, axis=1) > now.zones_mm))
        if outside:  # the reflector rests on the last of the targets: until it moves, all of the first turn is left
            expect(phone.locator(".next .label")).to_have_text("Left to turn")
            expect(phone.locator(".next .name")).to_have_text(now.plan.turns[0].name)
        else:
            expect(phone.locator("#fitter-now")).to_contain_text("Nearly sure")
        names = [t.name for t in now.plan.turns]
        nests |= foot.turned({t.name: t.turns for t in now.plan.turns}, nests)
        detail.get_by_role("button", name="Stand-in hand: turn them").click()
        tamsin.until(lambda: tell_hand({"do": "ask"}, running.sims["tracker"][0])["busy"] == 0, 60)
        if now.rounds == 0:  # it rode along, and the phone says how far that went before anybody looks again
            expect(phone.locator(".next .name")).not_to_have_text(names[0])
            expect(phone.locator(".next")).not_to_contain_text("another way")
        detail.get_by_role("button", name="Turned so: look again").click()
        expect(detail).to_contain_text("Look at G1, G2, G3, G4.")
        tamsin.go("Measure")
        for name in foot.nests:
            take(name)
        tamsin.go("Place")
    expect(detail.locator(".detail-word")).to_contain_text("It sits")
    surely = "● It sits" in detail.locator(".detail-word").inner_text()
    expect(phone.locator("#fitter-now")).to_contain_text("● It sits" if surely else "Nearly sure")  # the phone says the same
    phone.context.close()
    warm = expansion_scale(bedplate_real.STEEL, bedplate_real.SHOP_C)
    (movable,) = [each for each in bedplate.MOVABLE if each.name == "Gearbox foot"]
    at = bedplate_real.WORLD_FROM_PART.inverse().points(np.array([nests[name] for name in foot.nests])) / warm
    assert np.linalg.norm(at - list(movable.targets.values()), axis=1).max() < 0.05 + 0.03  # the zone, and U of one target


def told_apart_and_picked(tamsin):
    """The details of the bedplate are bodies that can be shown alone; a click on the frame's top adds an adjuster's line."""
    page = tamsin.page
    bodies = "() => window.zipplumb.stage.part.bodies.map((body) => body.mesh.visible)"
    assert page.evaluate(bodies) == [True] * 4
    page.get_by_role("button", name="only what is moved").click()
    assert page.evaluate(bodies) == [False, True, True, True]
    page.get_by_role("button", name="only the frame").click()
    assert page.evaluate(bodies) == [True, False, False, False]
    tamsin.unfold("A detail or a frame that is moved on adjusters")
    page.get_by_label("Each click on the part adds an adjuster").check()
    page.get_by_role("button", name="Top", exact=True).click()
    box = page.locator("#canvas").bounding_box()
    page.mouse.click(box["x"] + 0.5 * box["width"], box["y"] + 0.5 * box["height"])
    line = page.locator("[name=adjusters]")
    expect(line).to_have_value(re.compile(r"^Screw 1; .* mm; .* mm; .* mm; -Z; length a turn\?$"))
    page.locator(".detail-form [name=name]").fill("Rail")
    page.click(".detail-form >> text=List all")
    page.locator(".detail-form [name=target]").first.check()
    page.get_by_role("button", name="Add it").click()
    expect(page.locator("#notices, [role=alert]").first).to_contain_text("Line 1")  # its length a turn is to be typed
    page.get_by_label("Each click on the part adds an adjuster").uncheck()
    page.get_by_role("button", name="all", exact=True).click()


def with_the_references_read(tamsin, running):
    """The tracker at the bedplate, whose eight references it has read. Returns what it takes another nest with."""
    port, page, job = running.sims["tracker"][0], tamsin.page, running.bedplate_job
    stations.bring(TECHNICIAN, job, instrument("Hall tracker"), unmoved=True)
    page.goto(f"{running.url}/jobs/{job}/measure")
    with transaction() as session:
        state = load(session, job)
        left = [row for row in state.rows if row.recipe.name[0] == "R" and row.recipe.ties_stations and not row.finished]
        if left:
            measuring.make_current(TECHNICIAN, job, left[0].id)

    def take(name):
        expect(page.locator("#now .say .ask")).to_contain_text(f" {name} ")
        tamsin.hand("Carry it to the nest that is asked")
        tamsin.until(lambda: tamsin.hits[0] == 1, 60)
        tell_hand({"do": "click", "button": "finish"}, port)

    for row in left:
        take(row.recipe.name)
    expect(tamsin.row("References at 20 °C")).to_contain_text("6 held, 18 spare")
    return take


def test_the_arm_at_its_one_seat_is_tied_to_the_tracker_and_measures_a_bearing_seat(tamsin, running):
    """By a ball of the reflector's size in nests that the tracker read; with another ball on nothing is tied, and that is
    said before and after."""
    with_the_references_read(tamsin, running)
    page, job, (arm, _) = tamsin.page, running.bedplate_job, running.sims["arm"]
    why = page.locator("#now .why:not(.aim)")
    try:
        tamsin.go("Kit")
        page.locator(".kit-card", has_text="Workshop arm").get_by_role("button", name="Bring it to this job").click()
        expect(page.locator("#now .active")).to_contain_text("2 ◇ not tied")
        tamsin.go("Measure")
        expect(why).to_contain_text("A ball of 6.0 mm is on, and R1 was read with one of 38.1 mm")
        tamsin.hand("Touch what the row asks")
        tamsin.until(lambda: tamsin.hits[0] == 1, 60)
        expect(tamsin.row("R1").locator(".mark")).to_be_visible()
        tamsin.go("Kit")
        expect(page.locator(".sightings")).to_contain_text("◇ another ball")
        expect(page.locator(".stations")).to_contain_text("1 point was read from it with a ball of another size")
        tamsin.go("Measure")
        tell_hand({"do": "click", "button": "undo"}, arm)
        expect(page.locator("#now .big .num").first).to_have_text("0/1")
        puts_on("38.1 mm nest ball")
        for k in range(1, 5):
            expect(page.locator("#now .say .ask")).to_contain_text(f"R{k} ")
            tamsin.hand("Touch what the row asks")
            tamsin.until(lambda: tamsin.hits[0] == 1, 60)
            tell_hand({"do": "click", "button": "finish"}, arm)
            if k == 2:
                page.reload()  # in the middle
        expect(page.locator("#now .active")).not_to_contain_text("not tied")
        puts_on("6 mm ruby ball")
        with transaction() as session:
            faces = session.get(Job, job).part.faces
        bores = [f for f in faces if (f["nominal"] or {}).get("radius") == bedplate.SEAT_BORE / 2]
        bore = min(bores, key=lambda f: f["box"][0])["index"]
        row = picking.plan_from_face(TECHNICIAN, job, bore)
        sheet.edit_row(TECHNICIAN, job, row, {"name": "Aft bearing seat", "hits": "12"})
        measuring.make_current(TECHNICIAN, job, row)
        tamsin.measure("Aft bearing seat")
        surfaces_reported(tamsin)
    finally:
        puts_on("6 mm ruby ball")
        stations.bring(TECHNICIAN, running.job, instrument("Workshop arm"), unmoved=True)
    y, z, wider = bedplate_real.BORES_OFF[0]
    with transaction() as session:
        found = {c.key: c for c in load(session, job).results[row].characteristics}
    must_be_true(found["diameter"], bedplate.SEAT_BORE + wider)
    must_be_true(found["off"], np.hypot(y, z))


def surfaces_reported(tamsin):
    """How far what was measured on the CAD's faces lies off them, hit by hit, in the report beside the placed details."""
    page = tamsin.page
    tamsin.row("Aft bearing seat").click()
    form = page.locator("#slip form", has_text="Map how far they lie off the CAD")
    form.locator("[name=lower]").fill("-0.1")
    form.locator("[name=upper]").fill("0.1")
    form.locator("[name=of]").select_option("all")
    form.get_by_role("button").click()
    expect(tamsin.row("Touched map 1").locator(".word")).to_have_text(re.compile("in|out|not proven"))
    tamsin.go("Report")
    page.locator("#slip").get_by_role("button", name="XLSX", exact=True).click()
    line = page.locator(".report-line", has_text="XLSX").first
    with page.expect_download(timeout=60_000) as download:
        line.get_by_text("Download").click(timeout=60_000)
    book = openpyxl.load_workbook(io.BytesIO(download.value.path().read_bytes()))
    told = {row[1]: row for row in book["Surface maps"].iter_rows(values_only=True) if row[0] == "Touched map 1"}
    assert told["Aft bearing seat"][2] == 12


def puts_on(name):
    """On the arm, in the application and really."""
    with transaction() as session:
        probe = session.query(Probe).filter_by(name=name).one().id
    probes.put_on(TECHNICIAN, instrument("Workshop arm"), probe)
    tell_hand({"do": "swap", "probe": name})
