"""The fairing flange with a radar: three datums aimed at by hand, then lines on the part where somebody clicks."""

import json
import re

import numpy as np
import pytest
from playwright.sync_api import expect
from truth import must_be_true

from zipplumb.core.alignment.reference_points import expansion_scale
from zipplumb.core.frames import Motion
from zipplumb.core.uncertainty import coverage_factor
from zipplumb.demo import bedplate, bedplate_real
from zipplumb.jobs.hand import tell_hand
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
    with transaction() as session:  # taken back, for whoever comes after
        state = load(session, running.fairing_job)
    assert state.results[state.measured[3].id].hits == LINES * POINTS


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
