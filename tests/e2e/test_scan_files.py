"""Scans that come as files, in a real browser: as found and as left, laid on the CAD, compared, cut, measured in the cut."""

import io
import re

import numpy as np
import pytest
from playwright.sync_api import expect
from scipy.spatial.transform import Rotation

from zipplumb.cad.surfaces import Surfaces
from zipplumb.demo import bracket
from zipplumb.exchange.clouds.e57 import write_e57
from zipplumb.jobs.actor import Actor
from zipplumb.jobs.plan import sheet
from zipplumb.jobs.state.part_model import model_of
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction
from zipplumb.store.models import Job, User

COUNT, NOISE_MM, GROUND_MM, DEEP = 300_000, 0.01, 0.12, 30.0  # points; what was ground off the top; where it is cut
LIES = Rotation.from_euler("xyz", [35, -20, 70], degrees=True)
RADIUS = bracket.BORE[0] / 2
ON_PAPER = "p => { const { view } = window.zipplumb.stage; return view.onPaper(view.box.min.clone().set(...p)); }"


@pytest.fixture(scope="module")
def files(running, tmp_path_factory):
    """A bracket as found (E57, metres) and as left (a list in inches), in the same coordinates, which are not the part's."""
    with transaction() as session:
        model = model_of(session.get(Job, running.bracket_job).part)
    surfaces = Surfaces(model)
    points, normals = surfaces.nearest(surfaces.spread(COUNT, seed=3)[0])  # on the surfaces, not on their triangles
    points += np.random.default_rng(4).normal(0, NOISE_MM, (COUNT, 1)) * normals
    top = (normals[:, 2] > 0.999) & (np.abs(points[:, 2] - bracket.THICK) < 1)
    left = points - GROUND_MM * np.where(top, 1.0, 0.0)[:, None] * normals
    folder, out = tmp_path_factory.mktemp("clouds"), LIES.apply(normals)
    found, left = (LIES.apply(each) + [400.0, -90, 70] for each in (points, left))
    write_e57(folder / "as found.e57", found, {}, out)
    text = io.BytesIO()
    np.savetxt(text, np.hstack([left / 25.4, out]), "%.6f", delimiter=";", header="X;Y;Z;I;J;K", comments="")
    (folder / "as left.txt").write_bytes(text.getvalue().replace(b".", b","))  # as it is written where commas are
    return folder


@pytest.fixture
def job(running):
    with transaction() as session:
        part, user = session.get(Job, running.bracket_job).part_id, session.query(User).filter_by(login="tamsin").one()
        actor = Actor(user.id, user.name, "technician")
    return sheet.create_job(actor, "From files", part)


def test_as_found_and_as_left_from_files(tamsin, running, files, job):
    page, slip = tamsin.page, tamsin.page.locator("#slip")
    page.goto(f"{running.url}/jobs/{job}/part")  # no instrument stands there
    page.get_by_text("Bring in a scan from a file").click()
    form = page.locator("#point-file")

    def bring(name, unit, u, station=None):
        form.locator("[name=file]").set_input_files(files / name)
        form.locator("[name=unit]").select_option(unit)
        form.locator("[name=u]").fill(u)
        if station:
            form.locator("[name=station]").select_option(label=station)
        form.get_by_role("button", name="Bring in this scan").click()

    bring("as left.txt", "", "0.02")  # which says no unit
    expect(page.locator("#point-files .inline-error")).to_contain_text("does not say in which unit", timeout=60_000)
    page.get_by_role("button", name="Take it off the list").click()
    bring("as found.e57", "", "much")
    expect(page.locator(".notice").last).to_contain_text("is not a number")
    bring("as found.e57", "", "0.02")
    expect(tamsin.row("Scan 1")).to_contain_text("done", timeout=120_000)
    laid(tamsin)
    tamsin.go("Part")
    page.get_by_text("Bring in a scan from a file").click()
    bring("as left.txt", "in", "0.02", "those of as found.e57")
    page.reload()  # while it is read
    expect(tamsin.row("Scan 2")).to_contain_text("done", timeout=120_000)
    for scan in ("Scan 1", "Scan 2"):
        mapped(tamsin, scan)
    changed(tamsin, job)
    cut_and_measured(tamsin, job)
    cut_where_it_is_clicked(tamsin)
    tamsin.read_in("in")
    tamsin.row("Scan section 1").click()
    expect(slip.locator("#cut-flat svg")).to_be_visible()
    tamsin.read_in("mm")


def laid(tamsin):
    page = tamsin.page
    tamsin.go("Align")
    page.get_by_role("button", name="A scan, and the CAD").click()
    page.get_by_role("button", name="Find where it lies").click()
    page.locator("#laid-places").get_by_role("button", name="Lay it there").first.click(timeout=60_000)
    expect(tamsin.row("Laid scan 1")).to_contain_text("done", timeout=60_000)


def opened(tamsin, name):
    with tamsin.page.expect_response(lambda answer: "/rows/" in answer.url):
        tamsin.row(name).click()
    expect(tamsin.page.locator(".htmx-request")).to_have_count(0)


def mapped(tamsin, scan):
    page = tamsin.page
    opened(tamsin, scan)
    form = page.locator("#slip form", has_text="Map how far it lies off the CAD")
    form.locator("[name=lower]").fill("-0.1")
    form.locator("[name=upper]").fill("0.1")
    form.get_by_role("button").click()
    name = f"Surface map {scan[-1]}"
    expect(tamsin.row(name).locator(".word")).to_have_text(re.compile("in|out|not proven"), timeout=120_000)


def changed(tamsin, job):
    """What was ground off, and nothing else, within a U that holds only what the two do not share."""
    page = tamsin.page
    opened(tamsin, "Surface map 2")
    form = page.locator("#slip form", has_text="Compare the two")
    expect(form.locator("[name=first]")).to_contain_text("Surface map 1")
    form.locator("[name=lower]").fill("-0.06")
    form.locator("[name=upper]").fill("0.06")
    form.get_by_role("button").click()
    expect(page.locator("#slip h2").first).to_contain_text("Comparison 1")
    expect(tamsin.row("Comparison 1").locator(".word")).to_have_text(re.compile("out"))
    expect(page.locator("#scale li")).to_have_count(9)
    found = results(job)["Comparison 1"].map
    places = found.found.places
    on_top = (places.normals[:, 2] > 0.999) & (np.abs(places.points[:, 2] - bracket.THICK) < 0.01)
    real = np.where(on_top, -GROUND_MM, 0.0)
    near = np.abs(places.means - real) <= found.U
    assert np.mean(near) > 0.95
    assert np.mean(found.words[on_top] == 2) > 0.9
    assert np.mean(found.words[~on_top] == 2) < 0.01


def cut_and_measured(tamsin, job):
    """A section across Z, with a mistake; in it the bore's radius between two clicks, and all round it."""
    page, slip = tamsin.page, tamsin.page.locator("#slip")
    opened(tamsin, "Scan 1")
    form = slip.locator("form", has_text="Plan these sections")
    form.locator("[name=axis]").select_option("Z")
    form.locator("[name=count]").fill("2")
    form.locator("[name=at]").fill(str(DEEP))
    form.get_by_role("button").click()
    expect(page.locator(".notice").last).to_contain_text("Several sections stand apart")
    form.locator("[name=apart]").fill("-10")
    form.locator("[name=zone]").fill("0.4")
    form.get_by_role("button").click()
    expect(tamsin.row("Scan section 2")).to_be_visible()
    page.locator("[data-slip-size=whole]").click()
    svg = slip.locator("#cut-flat svg")
    expect(svg).to_be_visible()
    for kind, ends in (("arc", (20, 150)), ("circle", (0, 90))):
        tamsin.until(lambda: page.locator(".htmx-request").count() == 0)
        for degrees in ends:
            clicked(page, svg, degrees)
        slip.locator("#cut-measure [name=kind]").select_option(kind)
        slip.locator("#cut-measure").get_by_role("button", name="Make it a row").click()
        row = tamsin.row("Hollow arc 1" if kind == "arc" else "Hole 1")
        expect(row).to_be_visible()
    found = results(job)
    for name, least_deg in (("Hollow arc 1", 100), ("Hole 1", 0)):
        shape = found[name].feature.feature.shape
        told = found[name].characteristic("diameter")
        assert abs(2 * shape.radius - 2 * RADIUS) < 2 * told.U
        assert told.U < 0.1
        assert np.degrees(getattr(shape, "span_rad", 7)) > least_deg
    assert found["Scan section 1"].characteristic("profile").verdict is not None


def cut_where_it_is_clicked(tamsin):
    page = tamsin.page
    page.locator("[data-slip-size=third]").click()
    opened(tamsin, "Scan 1")
    page.get_by_role("button", name="Top", exact=True).click()
    tamsin.until(lambda: page.evaluate("window.zipplumb.stage.cloud.points.visible"))  # a click meets what is drawn
    canvas = page.locator("#canvas").bounding_box()
    x, y = page.evaluate(ON_PAPER, [-60.0, 0.0, bracket.THICK])
    page.mouse.click(canvas["x"] + x, canvas["y"] + y)
    form = page.locator("#surface form", has_text="Cut it there")
    form.locator("[name=axis]").select_option("X")
    form.get_by_role("button").click()
    expect(tamsin.row("Scan section 3")).to_contain_text("profile")


def clicked(page, svg, degrees):
    """The place of the section that lies that way round the bore."""
    turn = np.radians(degrees)
    at = [bracket.BORE[1] + RADIUS * np.cos(turn), bracket.BORE[2] + RADIUS * np.sin(turn)]
    x, y = svg.evaluate(
        """(svg, at) => {
          const off = (p) => (p[2] - at[0]) ** 2 + (p[3] - at[1]) ** 2;
          const [x, y] = JSON.parse(svg.dataset.picks).reduce((a, b) => (off(a) < off(b) ? a : b));
          const { a, d, e, f } = svg.getScreenCTM();
          return [x * a + e, y * d + f];
        }""",
        at,
    )
    page.mouse.click(x, y)


def results(job):
    with transaction() as session:
        state = load(session, job)
    return {row.recipe.name: state.results[row.id] for row in state.rows}
