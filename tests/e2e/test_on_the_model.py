"""Tolerances on faces of the model, from a file that carries them to a file that carries them; and dimensions as one goes."""

import re

import pytest
from carrier_bench import FRONT, TECHNICIAN, UP
from playwright.sync_api import expect

from zipplumb.cad import read_cad
from zipplumb.cad.callouts import Callout, Callouts, Lettered, Sized
from zipplumb.cad.writer import with_callouts
from zipplumb.demo import carrier
from zipplumb.jobs.hand import move_hand, tell_hand
from zipplumb.jobs.kit import stations
from zipplumb.store.database import transaction
from zipplumb.store.models import Instrument

PROPOSED = "? Finish to accept."


@pytest.fixture
def carrying(running, tmp_path):
    """The carrier's file with tolerances on its faces, and what they are."""
    file = running.folder / "bearing-carrier.step"
    faces = read_cad(file).faces

    def plane(normal, height):
        return next(
            f.index for f in faces
            if f.surface == "plane" and [round(v) for v in f.nominal["normal"]] == list(normal)
            and sum(n * p for n, p in zip(normal, f.nominal["point"], strict=True)) == pytest.approx(height)
        )  # fmt: skip

    top, side = plane(UP, carrier.FOOT), plane(FRONT, carrier.WIDTH / 2)
    bore = next(f.index for f in faces if f.surface == "cylinder" and f.nominal["radius"] == pytest.approx(carrier.BORE / 2))
    told = Callouts(
        (
            Callout("flatness", 0.2, (top,)),
            Callout("perpendicularity", 0.2, (side,), (("A",),), boundaries=("none",)),
            Callout("parallelism", 0.5, (bore,), (("A",),), boundaries=("none",), round=True),
        ),
        (Lettered("A", (top,)),),
        (Sized((bore,), carrier.BORE, -0.1, 0.1),),
    )
    path = tmp_path / "carrier-with-tolerances.step"
    path.write_bytes(with_callouts([file.read_bytes()], told))
    return path, told


def test_a_file_with_tolerances_is_planned_measured_and_written_again(tamsin, running, carrying, tmp_path):
    page, (path, told) = tamsin.page, carrying
    page.fill("[name=name]", "Carrier with tolerances")
    page.set_input_files("[name=file]", path)
    page.click("text=Read the file")
    page.locator("main").get_by_text("Begin the job").last.click()
    page.wait_for_url(re.compile(r"/jobs/\d+"))
    job = int(re.search(r"/jobs/(\d+)", page.url)[1])
    with transaction() as session:
        arm = session.query(Instrument).filter_by(name="Workshop arm").one()
        arm_id, stood = arm.id, running.job
    stations.bring(TECHNICIAN, job, arm_id, unmoved=True)
    try:
        tamsin.open(job, "part")
        carried = page.locator(".callouts li")
        expect(carried).to_have_count(3)
        carried.nth(1).hover()
        tamsin.until(lambda: page.evaluate("window.zipplumb.stage.pointed.faces.length") == 1)  # its face lights up
        page.get_by_role("button", name="Plan what they need").click()
        expect(tamsin.row("Parallelism 1")).to_be_visible()
        expect(tamsin.row("Bore 1")).to_contain_text("±0.100")
        tamsin.go("Measure")
        for name in ("Plane 1", "Plane 2", "Bore 1"):
            tamsin.measure(name)
        for name in ("Flatness 1", "Perpendicularity 1", "Parallelism 1"):
            expect(tamsin.row(name).locator(".mark")).to_have_text(re.compile("[●◐▲◇]"))

        tamsin.go("Report")
        page.get_by_role("button", name="Model with tolerances (STEP)").click()
        link = page.locator(".report-line", has_text="STEP").first.get_by_text("Download")
        expect(link).to_be_visible(timeout=60_000)
        with page.expect_download() as download:
            link.click()
        out = tmp_path / "out.step"
        download.value.save_as(out)
        again = read_cad(out).callouts
        assert sorted(again.tolerances, key=lambda c: c.kind) == sorted(told.tolerances, key=lambda c: c.kind)
        assert again.datums == told.datums
        assert again.sizes == told.sizes
    finally:
        stations.bring(TECHNICIAN, stood, arm_id, unmoved=True)


def test_a_tolerance_on_one_face_and_then_on_all_that_face_this_way(tamsin, bench):
    here = bench("On the model")
    page = here.page
    here.planned("Top", here.plane(UP, carrier.FOOT), 4, "A")
    tamsin.go("Part")
    tamsin.pick(here.plane(FRONT, carrier.WIDTH / 2))
    form = page.locator(".tolerance form")
    page.get_by_text("Put a tolerance on it").click()
    form.locator("[name=kind]").select_option("perpendicularity")
    form.locator("[name=zone]").fill("0.05")
    form.locator("[name=datums]").fill("Z")
    form.get_by_role("button", name="Put it on").click()
    expect(page.locator(".notice").last).to_contain_text("There is no datum Z on the sheet")
    form.locator("[name=datums]").fill("A")
    form.get_by_role("button", name="Put it on").click()
    expect(page.locator(".held")).to_contain_text("Perpendicularity 1 ≤ 0.050")
    page.get_by_text("Put a tolerance on it").click()
    form.locator("[name=kind]").select_option("surface_profile")
    form.locator("[name=zone]").fill("0.2")
    form.locator("[name=on]").select_option("facing")
    form.get_by_role("button", name="Put it on").click()
    expect(page.locator(".held")).to_contain_text("Profile of a surface 1")
    tamsin.row("Profile of a surface 1").hover()
    same = sum([round(v) for v in (f["nominal"] or {}).get("normal", ())] == [0, -1, 0] for f in here.faces)
    tamsin.until(lambda: page.evaluate("window.zipplumb.stage.pointed.faces.length") == same)
    page.get_by_role("button", name="Take back the last plan").click()
    expect(tamsin.row("Profile of a surface 1")).to_be_hidden()
    expect(tamsin.row("Perpendicularity 1")).to_be_visible()


def test_dimensions_as_one_goes_with_nothing_but_the_devices_buttons(tamsin, bench):
    here = bench("As one goes")
    page, title = here.page, here.page.locator("#now .say .ask")
    tamsin.go("Derive")
    page.get_by_label("Each to the one before").check()
    tamsin.go("Measure")
    tell_hand({"do": "click", "button": "touch"})
    expect(title).to_contain_text("Just touch")
    for x, y in ((-1, -1), (1, -1), (1, 1)):
        face = here.hole(carrier.BOLT, x * carrier.BOLT_X, y * carrier.BOLT_Y)
        move_hand(TECHNICIAN, here.job, "touch", face=face, hits=9)
        tamsin.until_hand_rests()
        tamsin.until(lambda: tamsin.hits[0] == 9)
        for _ in range(6):  # so few hits may as well be of a cone: it is chosen from the device
            expect(title).to_contain_text(PROPOSED)
            if (said := title.inner_text()).startswith("Bore?"):
                break
            tell_hand({"do": "click", "button": "next"})
            tamsin.until(lambda: PROPOSED in (now := title.inner_text()) and now != said)
        tell_hand({"do": "click", "button": "finish"})
        expect(page.locator("#now .big .num").first).to_have_text("0")
    expect(title).to_contain_text("Bore 2 to Bore 3")
    assert float(re.search(r": ([\d.]+)\.$", title.inner_text())[1]) == pytest.approx(2 * carrier.BOLT_Y, abs=0.6)
    tamsin.page.reload()  # in the middle
    expect(title).to_contain_text("Bore 2 to Bore 3")
    said = title.inner_text()
    for _ in range(3):
        tell_hand({"do": "click", "button": "next"})
        expect(title).not_to_have_text(said)
        said = title.inner_text()
    tell_hand({"do": "click", "button": "finish"})
    expect(title).to_contain_text("Just touch")
    assert tamsin.number("Distance 1", 1) == pytest.approx(2 * carrier.BOLT_X, abs=0.6)
    expect(tamsin.row("Distance 2")).to_be_visible()
