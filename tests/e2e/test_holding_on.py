"""Reloads, second screens, dead processes, a lost arm: nothing confirmed is lost or doubled."""

import re
from functools import partial

import pytest
from person import Person
from playwright.sync_api import expect
from sqlalchemy import func, select

from zipplumb.jobs.actor import Actor
from zipplumb.jobs.measure import chain, measuring
from zipplumb.jobs.plan import picking, sheet
from zipplumb.store.database import engine, transaction
from zipplumb.store.models import Instrument, Job, Reading, Row, Station

TECHNICIAN = Actor(1, "Tamsin", "technician")


@pytest.fixture
def job(running):
    """A fresh job with a bore and a plane planned, the arm standing at it."""
    from zipplumb.jobs.kit import stations

    with transaction() as session:
        part = session.get(Job, running.job).part_id
        arm = session.scalar(select(Instrument.id).where(Instrument.name == "Workshop arm"))
        faces = session.get(Job, running.job).part.faces
    bore = next(f["index"] for f in faces if f["nominal"] and f["nominal"].get("radius") == pytest.approx(80))
    job = sheet.create_job(TECHNICIAN, "Holding on", part)
    picking.plan_from_face(TECHNICIAN, job, bore)
    plane = next(
        f["index"] for f in faces if f["nominal"] and f["nominal"]["shape"] == "plane" and f["nominal"]["normal"][2] > 0.9
    )
    picking.plan_from_face(TECHNICIAN, job, plane)
    stations.bring(TECHNICIAN, job, arm)
    return job


def kept(job) -> int:
    with transaction() as session:
        query = select(func.sum(func.cardinality(Reading.ns))).where(Reading.job_id == job, Reading.kind != "pull_off")
        return session.scalar(query) or 0


def doubled(job) -> int:
    with transaction() as session:
        samples = (
            select(func.unnest(Reading.ns).label("n"), Reading.session)
            .where(Reading.job_id == job, Reading.kind != "pull_off")
            .subquery()
        )
        total = session.scalar(select(func.count()).select_from(samples))
        single = session.scalar(select(func.count()).select_from(select(samples).distinct().subquery()))
        return total - single


def take_one(person, of):
    person.page.locator(".hand").get_by_text("One clumsy hit").click()
    person.until(lambda: person.hits[0] == of, 30)


def test_a_reload_and_a_second_screen_show_the_same(tamsin, chromium, running, job):
    tamsin.open(job)
    for k in range(1, 4):
        take_one(tamsin, k)
    tamsin.page.reload()
    tamsin.until(lambda: tamsin.hits == (3, 12))
    other = Person(chromium, running, "rafe")
    other.open(job)
    assert other.hits == (3, 12)
    take_one(tamsin, 4)
    other.until(lambda: other.hits == (4, 12))
    expect(other.page.locator(".hand")).to_be_hidden()  # a reviewer has no hand
    other.context.close()


def test_a_browser_that_draws_no_3d_measures_and_reports_all_the_same(tamsin, job):
    page = tamsin.page
    tamsin.context.add_init_script("HTMLCanvasElement.prototype.getContext = () => null")
    page.goto(f"{tamsin.running.url}/jobs/{job}/measure")
    expect(page.locator("#stage .empty")).to_contain_text("draws no 3D")
    take_one(tamsin, 1)
    expect(page.locator("#sheet-rows .row.current .word")).to_have_text("1/12")
    tamsin.go("Report")
    page.click("[data-keep-view]")
    expect(page.locator(".notice")).to_contain_text("no picture of the stage here")
    page.get_by_role("button", name="PDF").click()
    expect(page.locator("#reports")).to_contain_text("Download", timeout=60_000)


@pytest.mark.parametrize("victim", ["web-1", "link", "serve"])
def test_a_killed_process_in_the_middle_of_a_feature(tamsin, running, job, victim):
    tamsin.open(job)
    tamsin.hand("Touch what the row asks")
    tamsin.until(lambda: tamsin.hits[0] >= 4)
    running.kill(victim)
    tamsin.until_hand_rests()  # it has gone on meanwhile
    running.mend()  # what supervises the supervisor
    running.wait_for_web()
    tamsin.until(lambda: tamsin.hits[0] == 12, 40)
    assert (kept(job), doubled(job)) == (12, 0)


def test_a_restarted_database_in_the_middle_of_a_feature(tamsin, running, job):
    tamsin.open(job)
    tamsin.hand("Touch what the row asks")
    tamsin.until(lambda: tamsin.hits[0] >= 3)
    running.cluster.restart()
    expect(tamsin.page.locator(".notice").first).to_contain_text("away for a moment")
    tamsin.until(lambda: tamsin.hits[0] == 12, 40)
    engine().dispose()
    assert (kept(job), doubled(job)) == (12, 0)


def test_an_unplugged_arm_is_said_and_measuring_goes_on(tamsin, running, job):
    tamsin.open(job)
    for k in range(1, 3):
        take_one(tamsin, k)
    tamsin.hand("Unplug")
    expect(tamsin.page.locator("#now .say .ask")).to_contain_text("The arm is lost")
    expect(tamsin.page.locator("#now .say")).to_contain_text("2 hits of Bore 1 are kept")
    tamsin.hand("One clumsy hit")
    tamsin.until_hand_rests()
    tamsin.hand("Plug in")
    expect(tamsin.page.locator("#now .say .ask")).not_to_contain_text("lost")
    tamsin.until(lambda: tamsin.hits[0] == 3)  # the press made meanwhile comes after, once
    assert doubled(job) == 0


def test_a_clumsy_hit_is_named_and_undone(tamsin, running, job):
    tamsin.open(job)
    tamsin.page.keyboard.press("j")
    expect(tamsin.page.locator("#now .say .ask")).to_contain_text("Plane 1")
    expect(tamsin.page.locator("#slip h2")).to_contain_text("Plane 1")
    tamsin.page.fill("#slip [name=hits]", "9")
    tamsin.page.click("#slip >> text=Save")
    tamsin.until(lambda: tamsin.hits[1] == 9)
    tamsin.page.locator("#canvas").focus()
    tamsin.touch_row()
    take_one(tamsin, 10)
    expect(tamsin.page.locator("#now .say")).to_contain_text("Hit 10 lies")
    expect(tamsin.page.locator("#slip .hit.worst")).to_have_count(1)
    tamsin.page.keyboard.press("u")
    tamsin.until(lambda: tamsin.hits[0] == 9)
    expect(tamsin.page.locator("#now .say .ask")).to_contain_text("pull off and finish")


def test_a_pull_off_to_the_wrong_side_is_asked_about(tamsin, running, job):
    tamsin.open(job)
    tamsin.touch_row()
    tamsin.hand("Pull off, wrong side")
    tamsin.until_hand_rests()
    tamsin.hand("Finish")
    say = tamsin.page.locator("#now .say")
    expect(say).to_contain_text("which side is air?")
    expect(say).to_contain_text("The pull-off says outside")
    tamsin.page.get_by_text("Inside: a bore").click()
    expect(tamsin.row("Bore 1").locator(".mark")).to_have_text("●")
    assert tamsin.number("Bore 1", 1) == pytest.approx(160.024, abs=0.03)


def test_nothing_is_half_written_when_a_reading_is_no_number(tamsin, running, job):
    from zipplumb.jobs.hand import tell_hand

    tamsin.open(job)
    take_one(tamsin, 1)
    tell_hand({"do": "nan"})
    take_one(tamsin, 2)
    with transaction() as session:
        assert session.scalar(select(func.count(Row.id)).where(Row.job_id == job)) == 2
        station = session.scalar(select(Station.id).where(Station.job_id == job))
        assert session.scalar(select(Instrument.trouble).where(Instrument.station_id == station)) is not None
    assert kept(job) == 2


@pytest.mark.parametrize("width", [390])
def test_on_a_phone_nothing_is_wider_than_the_screen(tamsin, running, job, width):
    tamsin.page.set_viewport_size({"width": width, "height": 844})
    tamsin.open(job)
    wide = tamsin.page.evaluate("document.documentElement.scrollWidth")
    assert wide <= width
    assert re.search(r"Touch inside Bore 1", tamsin.page.locator("#now").inner_text())


def test_the_slip_shows_the_last_of_many_quick_hits(tamsin, running, job):
    tamsin.open(job)
    expect(tamsin.page.locator("#slip h2")).to_contain_text("Bore 1")
    tamsin.touch_row()
    expect(tamsin.page.locator("#slip .hit")).to_have_count(12)
    expect(tamsin.page.locator("#slip")).to_contain_text("12 hits, 7 spare")


def test_a_late_answer_neither_pushes_a_choice_away_nor_stops_what_follows(tamsin, job):
    """The slip asks for itself anew; before the answer comes, a person chooses another row."""
    page, slip, held = tamsin.page, tamsin.page.locator("#slip"), []
    with transaction() as session:
        bore, plane = session.scalars(select(Row.id).where(Row.job_id == job).order_by(Row.position)).all()
    tamsin.open(job)
    tamsin.row("Bore 1").click()
    expect(slip.locator("h2")).to_contain_text("Bore 1")
    page.route("**/rows/*", lambda r: held.append(r) if "x-by-itself" in r.request.headers else r.continue_())
    sheet.switch_terms(TECHNICIAN, job, bore)
    tamsin.until(lambda: page.evaluate("true") and held)
    tamsin.row("Plane 1").click()
    expect(slip.locator("h2")).to_contain_text("Plane 1")
    with page.expect_event("requestfinished"):
        held.pop().continue_()
    page.unroute("**/rows/*")
    expect(slip.locator("h2")).to_contain_text("Plane 1")
    sheet.edit_row(TECHNICIAN, job, plane, {"note": "by the door"})
    expect(slip.locator("[name=note]")).to_have_value("by the door")


def test_nothing_is_put_in_the_place_of_what_is_pressed(tamsin, job):
    """The slip asks for itself anew, and the answer comes between the press of a button and its release."""
    page, slip, held = tamsin.page, tamsin.page.locator("#slip"), []
    tamsin.open(job)
    tamsin.row("Bore 1").click()
    expect(slip.locator("h2")).to_contain_text("Bore 1")
    page.route("**/rows/*", lambda r: held.append(r) if "x-by-itself" in r.request.headers else r.continue_())
    chain.set_way(TECHNICIAN, job, "last")
    tamsin.until(lambda: page.evaluate("true") and held)
    slip.get_by_role("button", name="As radius").hover()
    page.mouse.down()
    with page.expect_event("requestfinished"):
        held.pop().continue_()
    page.unroute("**/rows/*")
    page.mouse.up()
    expect(slip.get_by_role("button", name="As diameter")).to_be_visible()


def test_a_form_that_is_sent_before_the_page_has_reached_it_loses_nothing(tamsin, running, job):
    tamsin.open(job)
    tamsin.page.evaluate("htmx.config.defaultSettleDelay = 5000")  # a page that is long in coming to its forms
    tamsin.row("Plane 1").click()
    expect(tamsin.page.locator("#slip h2")).to_contain_text("Plane 1")
    name = tamsin.page.locator("#slip form input[name=name]")
    name.fill("Renamed in time")
    name.press("Enter")
    expect(tamsin.row("Renamed in time")).to_be_visible()
    assert "name=" not in tamsin.page.url


def test_of_a_long_sheet_only_what_somebody_came_to_is_in_the_page(tamsin, running, job):
    with transaction() as session:
        like = session.scalars(select(Row).where(Row.job_id == job).order_by(Row.position.desc())).first()
        more = [Row(job_id=job, position=100 + k, recipe={**like.recipe, "name": f"More {k}"}) for k in range(600)]
        session.add_all(more)
        session.flush()
        far, farther = more[350].id, more[450].id
    tamsin.open(job)
    page, rows = tamsin.page, tamsin.page.locator("#sheet-rows a.row")
    tamsin.until(lambda: 100 <= rows.count() <= 200)
    first = rows.count()
    expect(page.locator(f"#row-{far}")).to_have_count(0)
    measuring.make_current(TECHNICIAN, job, far)  # what is current comes to everybody
    expect(page.locator(f"#row-{far} .row.current")).to_be_in_viewport()
    assert first < rows.count() <= first + 200
    sheet.edit_row(TECHNICIAN, job, farther, {"name": "Renamed while nobody looked"})
    page.locator(".later", has_text="More 398").scroll_into_view_if_needed()
    expect(tamsin.row("Renamed while nobody looked")).to_be_visible()
    page.locator(f"#row-{far} a.row").focus()

    def up_at(name):
        page.keyboard.press("ArrowUp")
        return page.locator(":focus .name b").inner_text() == name

    for k in range(349, 280, -1):  # over the edge of a block, without a gap
        tamsin.until(partial(up_at, f"More {k}"))
