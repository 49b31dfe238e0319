"""Every road to the part's coordinate system, on the stand-ins' part, against where that really lies."""

import json
import re

import numpy as np
import pytest
from carrier_bench import CORNERS, MADE_MM, NESTS, REAR, SHOP_FROM_PART, TECHNICIAN, UP, instrument
from playwright.sync_api import expect

from zipplumb.core.frames import Motion
from zipplumb.demo import carrier, shop_real
from zipplumb.jobs.hand import move_hand, tell_hand
from zipplumb.jobs.kit import stations
from zipplumb.jobs.plan import listing, sheet


def test_a_rough_fit_is_checked_live_and_then_given_up_for_the_datums(tamsin, bench):
    tamsin.hand_drawer("closed")
    here = bench("Rough")
    page, number = here.page, here.picked_places()
    tamsin.hand_drawer("open")
    page.get_by_role("button", name="Touch these").click()
    expect(page.locator("nav [aria-current=page]")).to_have_text("Measure")
    for place in range(1, number + 1):
        tamsin.measure(f"Place {place}")
    expect(page.locator("#now .active")).to_contain_text("6 of 6, 1 spare")
    rough = here.lies_right(0.0)
    expect(here.shown()).to_contain_text("1 hold is spare to prove it")

    page.get_by_role("button", name="Check it live").click()
    expect(page.locator("#live-off")).to_be_visible()
    for face in (here.plane(REAR, carrier.BODY_WIDTH / 2), here.plane((1, 0, 0), carrier.LENGTH / 2)):
        before = tamsin.hits[0]
        move_hand(TECHNICIAN, here.job, "touch", face=face, hits=2)
        tamsin.until(lambda before=before: tamsin.hits[0] == before + 2)
    tamsin.until_hand_rests()
    expect(page.locator("#live-off")).not_to_have_text("–")  # the tip's own distance, as it moves
    tamsin.hand("Finish")
    proofs = here.shown().get_by_text("Proof points 1, ")
    expect(proofs).to_have_count(4)
    assert tamsin.acts <= 30  # all of it at the screen

    here.datums()
    here.measure("Top", "Side", "End")
    here.road("A drawing with datums A, B, C")
    page.get_by_role("button", name="Align to A, B, C").click()
    here.choose("Alignment 1")
    page.get_by_role("button", name="What would change").click()
    expect(page.locator(".compared")).to_contain_text("It lies, seen from the one before")
    with page.expect_response(lambda answer: "/compared" in answer.url):  # what was asked is asked anew when the rest follows
        sheet.edit_row(TECHNICIAN, here.job, here.rows["End"], {"name": "Left end"})
    expect(page.locator(".compared tr", has_text="Left end").first).to_be_visible()
    expect(page.locator(".compared tr", has_text="Proof points 1").first).to_be_visible()
    page.get_by_role("button", name="Use it").click()
    expect(page.locator("#now .active")).to_contain_text("0 spare: unproven")
    assert here.lies_right() < max(rough, MADE_MM)

    here.road("Many touches, and a rough place")
    for k, name in enumerate(("Top", "Side", "End")):
        if not page.locator(f"[name='features.{k}']").count():
            page.locator(".road [data-more]").first.click()
        page.locator(f"[name='features.{k}']").select_option(str(here.rows[name]))
    rough_fit = page.locator("[name=start] option", has_text="Rough fit 1").get_attribute("value")
    page.locator("[name=start]").select_option(rough_fit)
    page.get_by_role("button", name="Plan this").click()
    here.choose("Alignment 2")
    expect(page.locator(".align-shown")).to_contain_text("13 holds are spare to prove it")
    expect(page.locator(".align-shown")).to_contain_text("The touches span the part by")
    page.get_by_role("button", name="Use it").click()
    expect(page.locator("#now .active")).to_contain_text("6 of 6, 13 spare")
    here.lies_right()


def test_without_cad_it_is_aligned_with_the_devices_buttons_alone(tamsin, running, bench):
    here, page = bench("With CAD"), tamsin.page
    page.goto(running.url)
    page.fill("form:has-text('Begin without CAD') [name=name]", "Without CAD")
    page.get_by_role("button", name="Begin without CAD").click()
    page.wait_for_url(re.compile(r"/jobs/\d+/part"))
    here.job = int(re.search(r"/jobs/(\d+)/", page.url)[1])
    expect(page.locator("#now .ask")).to_contain_text("Bring an instrument to this job")
    stations.bring(TECHNICIAN, here.job, instrument("Workshop arm"))
    expect(page.locator("#now .ask")).to_have_text("Just touch, or type what is to be measured.")
    here.road("No CAD")
    page.get_by_role("button", name="Begin at the device").click()
    title = page.locator("#now .say .ask")
    expect(title).to_have_text("Touch a plane.")
    page.get_by_role("button", name="Touch what the row asks").click()  # a mistake: nobody can know which
    expect(page.locator(".notice").last).to_contain_text("Choose what it is on the table")
    lies = {"+Z": "flat, facing +Z", "-Y": "flat, facing −Y, at X 1, Y -140", "-X": "flat, facing −X, at X -250"}
    table = page.locator("#hand-table")
    for axis, words in lies.items():
        number = table.locator("option", has_text=words).first.get_attribute("value")
        table.locator("select").select_option(number)
        table.get_by_role("button", name="Touch it").click()
        expect(title).to_contain_text("It faces")
        tamsin.until_hand_rests()
        for _ in range(6):
            if f"faces {axis.replace('-', '−')}?" in title.inner_text():
                break
            said = title.inner_text()
            tell_hand({"do": "click", "button": "next"})
            expect(title).not_to_have_text(said)
        tell_hand({"do": "click", "button": "finish"})
        expect(title).not_to_contain_text("It faces")
    expect(here.page.locator("#now .active")).to_contain_text("6 of 6, 0 spare: unproven")
    drawn = Motion(np.eye(3), np.array([carrier.LENGTH / 2, carrier.WIDTH / 2, -carrier.FOOT]))  # its corner is zero
    alignment = here.active
    off = np.linalg.norm(alignment.points(SHOP_FROM_PART.points(CORNERS)) - drawn.points(CORNERS), axis=1)
    assert np.all(off <= 2 * alignment.u_at(drawn.points(CORNERS)) + MADE_MM)


@pytest.mark.usefixtures("tracker")
def test_guided_points_name_two_that_were_exchanged_and_ask_them_again(tamsin, running, bench):
    here = bench("Nests", "Hall tracker")
    port = running.sims["tracker"][0]
    lines = [f"{name};{x};{y};{z}" for name, (x, y, z) in zip(NESTS, shop_real.NESTS, strict=True)]
    listing.plan_list(TECHNICIAN, here.job, "\n".join(lines), "mm")
    here.road("Points with known places")
    tamsin.choose(*NESTS)
    here.page.fill("[name=zone]", "0.2")
    here.page.get_by_role("button", name="Touch them in order").click()
    title = here.page.locator("#now .say .ask")

    def take(name, nest, ahead=None):
        """``ahead``: what is said of the way to it before, where that is looked at."""
        expect(title).to_contain_text(f" {name} ")
        if ahead is not None:
            expect(here.page.locator("#live-to")).to_have_text(ahead)
        tell_hand({"do": "nest", "name": nest}, port)
        tamsin.until(lambda: tamsin.hits[0] == 1)
        tell_hand({"do": "click", "button": "finish"}, port)

    here.page.keyboard.press("e")  # by ear: nothing to hear of before there is an alignment
    assert here.page.evaluate("window.zipplumbPulses") == []
    for k, nest in enumerate((1, 3, 2, 4, 5, 6), start=1):
        take(f"N{k}", f"Nest {nest}", "" if k <= 3 else re.compile("to the target"))  # from the third there is an alignment
    assert {each["word"] for each in here.page.evaluate("window.zipplumbPulses")} & {"in", "out"}  # then of each next target
    here.page.keyboard.press("e")
    found = here.shown()
    expect(found).to_contain_text("N2 and N3 fit if they are exchanged")
    expect(found.locator("tr.out")).to_have_count(2)
    here.page.get_by_role("button", name="Ask those 2 that fail again").click()
    take("N2", "Nest 2")
    take("N3", "Nest 3")
    found = here.shown()
    expect(found.locator("tr.out")).to_have_count(0)
    expect(found).to_contain_text("12 holds are spare to prove it")
    assert max(float(text) for text in found.locator("tr.in .num").all_inner_texts()) < 0.05
    assert tamsin.acts <= 45
    found.locator("[name=zone]").fill("0.001")
    here.page.get_by_role("button", name="Judge by it").click()
    expect(found.locator("tr.out").first).to_be_visible()  # solved and judged again, nothing touched again


def test_as_it_is_mounted_ticked_and_tried_while_one_ticks(tamsin, bench):
    here = bench("Mounted")
    here.planned("Top", here.plane(UP, carrier.FOOT), 9)
    for k, (x, y) in enumerate(((-1, -1), (1, -1), (1, 1)), start=1):
        here.planned(f"Hole {k}", here.hole(carrier.BOLT, x * carrier.BOLT_X, y * carrier.BOLT_Y), 8)
    here.measure("Top", "Hole 1", "Hole 2", "Hole 3")
    here.road("It is held by some of its features")
    page, answer = here.page, here.page.locator("#mounted-answer")
    expect(answer).to_contain_text("Nothing holds the part yet")
    page.get_by_label("Top holds in its own way").check()
    expect(answer).to_contain_text("3 of 6: loose")
    page.get_by_label("Hole 1 holds in X", exact=True).check()
    page.get_by_label("Hole 1 holds in Y", exact=True).check()
    page.locator(".handle i[title='Hole 2']").hover()  # the same at the feature, on the part
    page.locator(".handle button[title='Hole 2 holds in Y']").click()
    expect(page.get_by_label("Hole 2 holds in Y", exact=True)).to_be_checked()
    expect(answer).to_contain_text("6 of 6")
    for row in ("Hole 1", "Hole 2", "Hole 3"):
        page.get_by_label(f"Level of {row}").select_option("2")
    expect(page.locator("tr", has_text="Hole 3").locator(".off span").first).not_to_be_empty()
    page.get_by_role("button", name="Plan this alignment").click()
    expect(here.shown().locator("h2").first).to_contain_text("Mounted 1")
    here.lies_right(0.25)  # one hole is out of place on purpose
    page.get_by_role("button", name="Edit").click()
    expect(page.get_by_label("Hole 1 holds in X", exact=True)).to_be_checked()
    page.get_by_label("Hole 3 holds in Y", exact=True).check()
    expect(page.locator("#mounted-answer")).to_contain_text("spare")
    page.get_by_role("button", name="Keep it so").click()
    expect(here.shown()).not_to_contain_text("0 spare")


def test_step_by_step_level_and_what_is_loose_sways(tamsin, bench):
    here = bench("Steps")
    here.datums()
    here.measure("Top", "Side", "End")
    page = here.page
    here.road("A plane to level, a direction, a zero")
    form = page.locator("details", has_text="Corner of three planes").last
    form.locator("summary").first.click()
    for k, name in enumerate(("1 Top", "2 Side", "1 Top", "2 Side", "3 End")):
        for field in (f"steps.{k}.feature.row", f"steps.{k}.features.0.row"):
            if form.locator(f"[name='{field}']").count():
                form.locator(f"[name='{field}']").first.select_option(label=name)
        if k == 1:
            expect(form.locator(".tried")).to_contain_text("3 of 6: loose")  # what it has fixed so far, and what is left
    expect(form.locator(".tried")).to_contain_text("6 of 6, 0 spare")
    form.get_by_role("button", name="Plan this").click()
    expect(here.shown().locator("h2").first).to_contain_text("Alignment 1")
    here.lies_right()
    page.get_by_role("button", name="Edit").click()  # zero at the corner instead: what follows is seen before it is kept
    page.get_by_text("All that was asked").click()
    page.locator("[name=onto]").select_option("own")
    page.get_by_role("button", name="What would change").click()
    expect(page.locator("#compared tr", has_text="End")).to_contain_text("−250.0")
    assert abs(here.active.points(SHOP_FROM_PART.points(CORNERS)) - CORNERS).max() < 2 * MADE_MM  # nothing is kept of it
    here.road("It has to be level")
    page.locator("[name=plane]").select_option(label="1 Top")
    page.get_by_role("button", name="Plan this").click()
    tamsin.go("Align")
    page.get_by_role("button", name="Level 1", exact=True).click()
    sway = page.locator(".sway").first
    expect(sway).to_contain_text("Loose: it slides")
    still = page.evaluate("window.zipplumb.stage.part.bodies[0].mesh.matrix.elements.join()")
    sway.hover()
    tamsin.until(lambda: page.evaluate("window.zipplumb.stage.part.bodies[0].mesh.matrix.elements.join()") != still)
    page.mouse.move(5, 5)
    tamsin.until(lambda: page.evaluate("window.zipplumb.stage.part.bodies[0].mesh.matrix.elements.join()") == still)


@pytest.mark.usefixtures("tracker")
def test_reference_points_with_scale_and_many_touches_on_surfaces(tamsin, running, bench):
    here = bench("Reference", "Hall tracker")
    port = running.sims["tracker"][0]
    lines = [f"{name};{x};{y};{z}" for name, (x, y, z) in zip(NESTS, shop_real.NESTS, strict=True)]
    rows = listing.plan_list(TECHNICIAN, here.job, "\n".join(lines), "mm")
    tamsin.go("Measure")
    for k in range(1, 7):
        tell_hand({"do": "nest", "name": f"Nest {k}"}, port)
        tamsin.until(lambda: tamsin.hits[0] == 1)
        tell_hand({"do": "click", "button": "finish"}, port)
        expect(tamsin.row(f"N{k}").locator(".mark")).not_to_have_text("○")
    here.road("Reference points, scale and temperature")
    for k, row in enumerate(rows):
        if not here.page.locator(f"[name='points.{k}']").count():
            here.page.locator(".road [data-more]").first.click()
        here.page.locator(f"[name='points.{k}']").select_option(str(row))
    here.page.locator("[name='scale.is'], [name=scale]").first.select_option("free")
    here.page.get_by_role("button", name="Plan this").click()
    found = here.shown()
    expect(found).to_contain_text("Lengths are taken times")
    expect(found).to_contain_text("That would be")  # what the scale says of the temperature
    sigma = np.sqrt(here.active.covariance[6, 6])
    assert abs(here.active.scale - 1) < 4 * sigma  # one draw: 2 sigma would fail once in twenty

    here.road("It has to be level")
    here.page.locator("[name=station]").select_option(index=1)
    here.page.get_by_role("button", name="Plan this").click()
    here.choose("Level 1")
    expect(here.page.locator(".align-shown")).to_contain_text("2 of 6: loose")
    upright = here.solved("Level 1")
    stands = json.loads((running.folder / "shop.json").read_text())["stations"][0]
    plumb = Motion.from_quaternion(stands["quaternion"], [0, 0, 0]).inverse().vectors([0, 0, 1])
    lean = np.linalg.norm(upright.part_from_world.vectors(plumb) - [0, 0, 1])
    assert 0 < lean < 4 * np.sqrt(upright.covariance[3, 3])  # one draw, as above
