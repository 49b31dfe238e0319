"""J07 and J09 to their ends in a real browser: tags, pictures round the part, a report put together, and its page by itself."""

import io
import re

import openpyxl
import pytest
from playwright.sync_api import expect
from pypdf import PdfReader
from test_accessible import AXE

from zipplumb.demo.seed import DIAMETER_MM, OFFSET_MM
from zipplumb.demo.seed_inspected import seed_inspected
from zipplumb.jobs.kit import instruments
from zipplumb.jobs.report.drawn import tags_of
from zipplumb.jobs.report.pictures import pictures_of
from zipplumb.jobs.report.views import view_of
from zipplumb.jobs.state.results import load
from zipplumb.jobs.state.rows_text import row_texts
from zipplumb.store.database import snapshot

POINTS = 120
PATIENT_S, PATIENT_MS, USUAL_MS = 90.0, 90_000, 20_000
ENDS = """() => [...document.querySelectorAll(".over-tags .tag")].map((tag) => {
  const [, x, y] = tag.querySelector("path").getAttribute("d").match(/L([-0-9.]+) ([-0-9.]+)/).map(Number);
  const box = tag.querySelector("rect").getBBox();
  return { text: tag.textContent, word: tag.getAttribute("class"), end: [x, y], box: [box.x, box.y, box.width, box.height] };
})"""


@pytest.fixture(scope="module")
def inspected(running):
    """A carrier with 120 surface points, touched with an arm of its own; no instrument stands there any more."""
    arm = instruments.add_instrument("Arm of the inspected", "arm", "127.0.0.1", 1, 0.012)
    instruments.add_calibrated_probe(arm, "Ball of the inspected", OFFSET_MM, DIAMETER_MM, 0.011, 0.002, "")
    return seed_inspected(running.folder, running.job, arm, None, "Carrier, to be reported", POINTS)


@pytest.fixture(autouse=True)
def patient(tamsin):
    """Pictures are drawn by the server, one after another: where much else runs they take their time."""
    tamsin.page.set_default_timeout(PATIENT_MS)
    expect.set_options(timeout=PATIENT_MS)
    yield
    expect.set_options(timeout=USUAL_MS)


def told(job):
    with snapshot() as session:
        return {text.name: text for text in row_texts(load(session, job)).values()}


def tags_over(page, count=None):
    """The tags over the stage, once they are laid out."""
    tags = page.locator(".over-tags .tag")
    if count is None:
        expect(tags).not_to_have_count(0)
    else:
        expect(tags).to_have_count(count)
    return page.evaluate(ENDS)


def made(page, kind, name):
    line = page.locator(".report-line").first
    before = int(line.inner_text().split()[0])
    page.locator("#slip").get_by_role("button", name=kind, exact=True).click()
    expect(line).to_contain_text(re.compile(rf"^{before + 1} {name}, {kind}"))
    with page.expect_download(timeout=90_000) as download:
        line.get_by_text("Download").click(timeout=90_000)
    return download.value.path()


def test_tags_pictures_and_a_report_that_is_put_together(tamsin, running, inspected):
    page, slip, texts = tamsin.page, tamsin.page.locator("#slip"), told(inspected)
    out = {name for name, text in texts.items() if text.word == "out"}
    page.goto(f"{running.url}/jobs/{inspected}/report", wait_until="domcontentloaded")
    tamsin.until(lambda: page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"), PATIENT_S)
    form = page.locator("#tags-asked")

    # a mistake: nobody is called so; then a stretch of names, and of them those that are out
    form.get_by_label("Tags that say what was found").check()
    form.locator("[name=first]").fill("Nobody")
    expect(page.locator("#tags-told")).to_have_text("No row is seen that a tag was asked for.")
    form.locator("[name=first]").fill("S12")
    form.locator("[name=last]").fill("S40")
    asked = {f"S{k}" for k in range(12, 41)}
    tamsin.until(lambda: (now := page.evaluate(ENDS)) and {tag["text"].split("\u2002")[0] for tag in now} <= asked, PATIENT_S)
    shown = tags_over(page)
    assert len(shown) > 5
    for tag in shown:
        name, number, _ = tag["text"].split("\u2002")
        assert number == texts[name].first.deviation
    boxes = [tag["box"] for tag in shown]
    assert not any(
        a[0] < b[0] + b[2] and b[0] < a[0] + a[2] and a[1] < b[1] + b[3] and b[1] < a[1] + a[3]
        for k, a in enumerate(boxes) for b in boxes[k + 1 :]
    )  # fmt: skip

    # they follow while one turns
    turned = page.evaluate(f"() => {{ window.zipplumb.stage.view.turnBy(0.1, 0); return ({ENDS})(); }}")
    assert [tag["text"] for tag in turned] == [tag["text"] for tag in shown]
    tamsin.until(lambda: [tag["end"] for tag in page.evaluate(ENDS)] != [tag["end"] for tag in shown], PATIENT_S)

    # only those out; kept, and one from each side
    form.locator("[name=first]").fill("")
    form.locator("[name=last]").fill("")
    form.locator("[name=word]").select_option("out")
    tamsin.until(lambda: (now := page.evaluate(ENDS)) and {tag["text"].split("\u2002")[0] for tag in now} <= out, PATIENT_S)
    form.locator("[name=caption]").fill("What is out")
    before = page.locator(".pictures figure").count()
    form.get_by_role("button", name="Keep this view").click()
    expect(page.locator(".pictures figure")).to_have_count(before + 1)
    form.get_by_role("button", name="Keep one from each side").click()
    expect(page.locator(".pictures figcaption", has_text="What is out, from the right")).to_be_visible()
    with snapshot() as session:
        state, kept = load(session, inspected), pictures_of(session, inspected)
        (mine,) = [each for each in kept if each.caption == "What is out"]
        sides = [each for each in kept if each.caption.startswith("What is out, from")]
        tags = {state.row(tag.row).recipe.name for each in sides for tag in tags_of(state, view_of(each.view))}
    assert len(sides) >= 4
    assert tags == out

    # by dragging round: those that are chosen
    page.reload(wait_until="domcontentloaded")
    tamsin.until(lambda: page.evaluate("Boolean(window.zipplumb && window.zipplumb.stage.ready)"), PATIENT_S)
    form.get_by_label("Tags that say what was found").check()
    form.locator("[name=of]").select_option("chosen")
    form.get_by_role("button", name="Keep this view").click()
    expect(page.locator(".notice")).to_contain_text("No row is chosen for the tags")
    stage = page.locator("#canvas").bounding_box()
    page.keyboard.down("Shift")
    page.mouse.move(stage["x"] + 20, stage["y"] + 60)
    page.mouse.down()
    page.mouse.move(stage["x"] + stage["width"] / 2, stage["y"] + stage["height"] - 60, steps=4)
    page.mouse.up()
    page.keyboard.up("Shift")
    tamsin.until(lambda: page.evaluate("window.zipplumb.stage.chosen.size") > 3, PATIENT_S)
    form.locator("[name=arranged]").select_option("columns")
    chosen = {tag["text"].split("\u2002")[0] for tag in tags_over(page)}
    assert len(chosen) > 3

    # a tag is put somewhere by hand, and stays there
    page.locator(f'[data-picture="{mine.id}"] [data-open-picture]').click()
    tag = page.locator(".large-picture [data-tag]").first
    number, box = tag.get_attribute("data-tag"), tag.bounding_box()
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] / 2 + 60, box["y"] + box["height"] / 2 + 90, steps=4)
    with page.expect_response(re.compile(r"/tag$")):
        page.mouse.up()
    with snapshot() as session:
        view = view_of(next(each for each in pictures_of(session, inspected) if each.id == mine.id).view)
    assert list(view.tags.moved) == [int(number)]
    page.locator(".large-picture").get_by_role("button", name="Close").click()

    # put together: what is out goes before the pictures, by keys; a part more, with words
    parts = slip.locator("#parts")
    up = parts.get_by_role("button", name="Move Rows of the sheet up")
    with page.expect_response(re.compile(r"/documents/arrange$")):
        up.press("Enter")
    expect(parts.locator("li summary").nth(2)).to_have_text("Rows of the sheet")
    parts.locator("[name=add]").select_option("notes")
    parts.get_by_role("button", name="Keep this report").click()
    expect(parts.locator("li")).to_have_count(7)
    notes = parts.locator("li").last
    notes.locator("summary").click()
    notes.locator("textarea").fill("The bolt hole is to be reworked.")
    notes.get_by_role("button", name="Keep these words").click()
    preview = page.frame_locator(".preview iframe")
    expect(preview.get_by_text("The bolt hole is to be reworked.")).to_be_attached()

    pdf = PdfReader(made(page, "PDF", "Inspection"))
    words = " ".join(" ".join(each.extract_text() for each in pdf.pages).split())
    for said in ("MT-2207", "The bolt hole is to be reworked.", "What is out, from the right", "Measured by", "state"):
        assert said in words
    assert sum(len(each.images) for each in pdf.pages) >= 1 + len(sides)
    first = min((name for name in out if name.startswith("S")), key=lambda name: int(name[1:]) if name[1:].isdigit() else 999)
    assert words.count(first) >= 3  # in the table, and as a tag
    book = openpyxl.load_workbook(io.BytesIO(made(page, "XLSX", "Inspection").read_bytes()))
    assert book["Run sheet"].max_row > POINTS

    # what changes makes it out of date, and says why
    expect(page.locator(".report-line").first).to_contain_text("as the job stands")
    page.locator("[name=rule]").select_option("simple")
    expect(page.locator(".report-line").first).to_contain_text("Out of date. It is decided by another rule.")
    page.locator("[name=rule]").select_option("proven")
    expect(page.locator(".report-line").first).to_contain_text("as the job stands")


def test_the_page_by_itself_turns_selects_and_needs_no_network(chromium, tamsin, running, inspected, tmp_path):
    page = tamsin.page
    page.goto(f"{running.url}/jobs/{inspected}/report", wait_until="domcontentloaded")
    path = tmp_path / "report.html"
    path.write_bytes(made(page, "Page with the model", "Inspection").read_bytes())
    assert path.stat().st_size < 15e6
    context = chromium.new_context(viewport={"width": 1280, "height": 800}, offline=True, bypass_csp=True)
    alone = context.new_page()
    wrong: list[str] = []
    alone.on("pageerror", lambda error: wrong.append(str(error)))
    alone.on("request", lambda request: None if request.url.startswith(("file:", "data:")) else wrong.append(request.url))
    alone.goto(path.as_uri())
    out = [name for name, text in told(inspected).items() if text.word == "out"]
    expect(alone.locator("#tags .tag")).to_have_count(min(len(out), 40))
    before = alone.locator("#tags .tag path").first.get_attribute("d")
    alone.get_by_role("button", name="Top").click()
    expect(alone.locator("#tags .tag path").first).not_to_have_attribute("d", before)
    row = alone.locator("[data-row]", has_text="Bearing bore").first
    row.click()
    expect(alone.locator("#tags .tag.chosen")).to_contain_text("Bearing bore")
    tag = alone.locator("#tags .tag", has_text=out[-1]).first
    tag.locator("rect").click()
    expect(alone.locator("[data-row].chosen")).to_contain_text(out[-1])
    alone.add_script_tag(path=AXE)
    found = alone.evaluate("() => axe.run(document, { resultTypes: ['violations'] })")["violations"]
    assert [(v["id"], v["nodes"][0]["html"]) for v in found if v["impact"] in ("serious", "critical")] == []
    assert wrong == []
    context.close()
