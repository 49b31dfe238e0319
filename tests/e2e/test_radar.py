"""The fairing flange with a radar: three datums aimed at by hand, then lines on the part where somebody clicks."""

import io
import json
import re

import numpy as np
import pytest
from playwright.sync_api import expect
from pypdf import PdfReader
from truth import AT_MOST, must_be_true

from zipplumb.core.alignment.reference_points import expansion_scale
from zipplumb.core.frames import Motion
from zipplumb.core.sheet.maps.found import shown_of
from zipplumb.core.uncertainty import coverage_factor
from zipplumb.demo import bedplate, bedplate_real
from zipplumb.jobs.hand import tell_hand
from zipplumb.jobs.state.part_model import model_of
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction

# once the stage has kept its place for some frames: the band above it grows and shrinks with its words
ON_SCREEN = """async ([x, y, z]) => {
  const stage = window.zipplumb.stage;
  const frame = () => new Promise(requestAnimationFrame);
  let box = stage.view.canvas.getBoundingClientRect();
  for (let still = 0; still < 8; still += 1) {
    await frame();
    const now = stage.view.canvas.getBoundingClientRect();
    if (now.top !== box.top || now.height !== box.height) still = 0;
    box = now;
  }
  const at = stage.view.camera.position.clone().set(x, y, z).project(stage.view.camera);
  return [box.left + (at.x + 1) / 2 * box.width, box.top + (1 - at.y) / 2 * box.height];
}"""
LINES, POINTS = 5, 80
pytestmark = pytest.mark.usefixtures("radar")


@pytest.fixture
def fairing(tamsin, running):
    tamsin.page.goto(f"{running.url}/jobs/{running.fairing_job}/measure")
    tamsin.until(lambda: tamsin.page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
    return tamsin.page


def clicked(page, place):
    x, y = page.evaluate(ON_SCREEN, [float(v) for v in place])
    page.mouse.click(x, y)


def test_the_fairing_flange_by_lines_where_the_part_is_clicked(tamsin, running, fairing):
    page, port = fairing, running.sims["radar"][0]
    ask, told = page.locator("#now .ask"), page.locator("#look-told")
    page.get_by_role("button", name="Back", exact=True).click()
    clicked(page, (0.0, 812.0, 360.0))  # nobody knows yet where the part lies
    expect(page.locator(".notice").last).to_contain_text("Where the part lies is not known yet")
    for name in ("Top", "Long side", "End stop"):
        expect(ask).to_contain_text(name)
        page.get_by_role("button", name="Aim it at what the row asks").click()
        tamsin.until(lambda: tamsin.hits == (54, 54), 60)
        tell_hand({"do": "click", "button": "finish"}, port)
    expect(page.locator("#slip h2").first).to_contain_text("Fairing flange")
    low, high = bedplate.FLANGE_Z
    points = page.locator("#look [name=points]")
    points.fill("many")
    page.get_by_label("a line, by two clicks").check()
    clicked(page, (-950.0, 790.0, low + 30))
    expect(told).to_contain_text("click where the line ends")
    clicked(page, (1150.0, 790.0, low + 30))
    expect(page.locator(".notice").last).to_contain_text("“many” is not a number of points")
    points.fill(str(POINTS))
    for k, z in enumerate(np.linspace(low + 25, high - 25, LINES)):
        clicked(page, (-950.0, 790.0, z))
        clicked(page, (1150.0, 790.0, z))
        expect(told).to_contain_text(re.compile(r"U 0\.0\d\d of one point"))
        expect(told).to_contain_text("Its points go to Fairing flange")
        page.get_by_role("button", name="Look there").click()
        tamsin.until(lambda k=k: tamsin.hits[0] == (k + 1) * POINTS, 60)
        if k == 1:
            page.reload()  # in the middle
            tamsin.until(lambda: page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"))
            page.get_by_role("button", name="Back", exact=True).click()
            page.get_by_label("a line, by two clicks").check()
            points.fill(str(POINTS))
        if k == 2:  # lost, and back
            tell_hand({"do": "unplug"}, port)
            expect(ask).to_contain_text("lost", timeout=20_000)
            clicked(page, (-950.0, 790.0, z))
            clicked(page, (1150.0, 790.0, z))
            expect(page.locator(".notice").last).to_contain_text("Fairing radar is lost")
            tell_hand({"do": "plug"}, port)
            expect(ask).to_contain_text("Fairing flange")
    page.locator("#now .ask").click()
    page.keyboard.press("f")
    row = tamsin.row("Fairing flange")
    expect(row).to_contain_text(re.compile("in|out|not proven|close"))
    compare(running)
    mapped(tamsin)
    the_wave_is_found_within_u(running)
    with transaction() as session:  # taken back, for whoever comes after
        state = load(session, running.fairing_job)
    assert state.results[state.measured[3].id].hits == LINES * POINTS


def late(route):
    answer = route.fetch()
    route.request.frame.page.wait_for_timeout(1500)
    route.fulfill(response=answer)


def mapped(tamsin):
    """A map of what was touched, with a mistake in its limits; a pin at the worst place, and both in the report."""
    page, row = tamsin.page, tamsin.row("Fairing flange")
    with page.expect_response(lambda answer: "/rows/" in answer.url):  # what stood in the slip before has such a form too
        row.locator(".name").click()
    expect(page.locator(".htmx-request")).to_have_count(0)
    lower, upper = (page.locator(f"#slip form.cutting [name={name}]") for name in ("lower", "upper"))
    lower.fill("0.15")
    upper.fill("-0.15")
    page.get_by_role("button", name="Map how far they lie off the CAD").click()
    expect(page.locator(".notice").last).to_contain_text("The upper limit lies under the lower one")
    lower.fill("-0.15")
    upper.fill("0.15")
    page.get_by_role("button", name="Map how far they lie off the CAD").click()
    expect(page.locator("#slip h2").first).to_contain_text("Touched map 1")
    expect(page.locator("#slip .slip-main")).to_contain_text(re.compile(r"% of what was seen is in, .* % out"))
    expect(page.locator("#scale li")).to_have_count(9)
    page.get_by_role("button", name="Pin the worst place of each face").click()
    expect(tamsin.row("Pin 1")).to_contain_text("out")
    tamsin.go("Report")
    page.route("**/pictures/keep", late)  # the slip is anew before the picture's answer is there
    page.locator("#slip").get_by_role("button", name="PDF", exact=True).click()
    line = page.locator(".report-line", has_text="PDF").first
    with page.expect_download(timeout=60_000) as download:
        line.get_by_text("Download").click(timeout=60_000)
    text = "\n".join(p.extract_text() for p in PdfReader(io.BytesIO(download.value.path().read_bytes())).pages)
    assert "Touched map 1" in text
    assert "Pin 1" in text


def the_wave_is_found_within_u(running):
    """Place by place, with the datums as they really stand to one another (closed form): the top as drawn, the side turned
    and off, the end stop off."""
    with transaction() as session:
        state = load(session, running.fairing_job)
        model = model_of(state.job.part)
    judged = next(found for found in (shown_of(r) for r in state.results.values()) if found is not None)
    places = judged.found.places
    (side_way, _, side_off, lean), (stop_way, _, stop_off, _) = bedplate_real.OFF
    side = next(r for r in state.measured if r.recipe.name == "Long side")
    middle = model.mesh_of(side.recipe.cad_face)[0].reshape(-1, 3).mean(axis=0)
    moved = -side_off * np.array(side_way) - stop_off * np.array(stop_way)
    moved = moved + np.cross([0, 0, -lean[2]], places.points - middle)
    real = bedplate_real.flange_off(places.points) + np.einsum("ij,ij->i", places.normals, moved)
    assert np.mean(np.abs(places.means - real) <= judged.U) > 0.9  # of errors that most places share
    assert np.all(np.abs(places.means - real) <= AT_MOST * judged.U)
    far = np.abs(real) > 0.15 + 2 * judged.U
    assert far.any()
    assert np.all(judged.words[far] == 2)  # out where it is
    assert not np.any(judged.words[np.abs(real) < 0.15 - judged.U] == 2)
    assert real.max() - real.min() > 0.3  # the wave is there


def compare(running):
    """What was found with what only the stand-in knows."""
    with transaction() as session:
        state = load(session, running.fairing_job)
    flange = next(r for r in state.measured if r.recipe.name == "Fairing flange")
    found, stood = state.results[flange.id], state.alignment
    warm = expansion_scale(bedplate_real.STEEL, bedplate_real.SHOP_C)
    shop = json.loads((running.folder / "shop.json").read_text())
    raw = shop["radar_stations"][0]
    shop_from_radar = Motion.from_quaternion(raw["quaternion"], raw["translation_mm"])
    part_from_shop = bedplate_real.WORLD_FROM_PART.inverse()
    contacts_radar = found.feature.centers
    true = part_from_shop.points(shop_from_radar.points(contacts_radar)) / warm
    spline = state.surfaces.of_face(flange.recipe.cad_face)
    feet, normals = spline.nearest(true)
    off = np.einsum("ij,ij->i", true - feet, normals)
    noise = off - bedplate_real.flange_off(feet)
    u_hit = found.feature.u_hit_mm
    assert np.std(noise) < 1.2 * u_hit
    assert abs(noise.mean()) < 7000 * shop["face_rad"] / 2 + 0.005  # by what one face alone is off, at seven metres
    # the datums lie off on purpose: what is found is the flange as it lies to them
    moved = stood.points(contacts_radar)
    shift = moved - true
    side = next(fault for fault in bedplate_real.OFF if fault[0][1] == 1.0)
    assert shift[:, 1].mean() == pytest.approx(-side[2], abs=0.03)
    for key, by in (("highest", np.max), ("lowest", np.min)):
        judged = found.characteristic(key)
        real = by(bedplate_real.flange_off(feet) + np.einsum("ij,ij->i", shift, normals))
        must_be_true(judged, real)
        assert judged.U < 0.1
    assert coverage_factor() * u_hit < 0.1
