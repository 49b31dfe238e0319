"""What each page says, and what goes out live."""

import asyncio
import io
import json
import re
from dataclasses import replace

import flask
import pytest
from sqlalchemy import select
from sqlalchemy.exc import OperationalError
from visitor import words

from zipplumb.cad import CadModel
from zipplumb.core.errors import InputError
from zipplumb.core.units import mm
from zipplumb.jobs.plan import parts
from zipplumb.jobs.state.results import load
from zipplumb.jobs.state.rows_text import row_texts
from zipplumb.store.database import transaction
from zipplumb.store.models import Job, Part, Row
from zipplumb.web.app import _in_the_persons_units
from zipplumb.web.live.hub import Hub, _together
from zipplumb.web.live.listeners import BACKLOG
from zipplumb.web.rows import changed_html


@pytest.mark.parametrize(
    ("stage", "said"),
    [
        ("part", "drawn in mm, 1 body, 20 faces"),
        ("kit", "Workshop arm"),
        ("align", "Waits for Foot top and Long side and Left end"),
        ("measure", "Foot top"),
        ("derive", "Left end (not measured)"),
        ("report", "to do"),
    ],
)
def test_each_stage_has_its_words_whole_and_as_a_fragment(technician, stack, stage, said):
    whole = technician.get(f"/jobs/{stack.job}/{stage}")
    piece = technician.get(f"/jobs/{stack.job}/{stage}", headers={"HX-Request": "true"})
    assert said in words(whole)
    assert said in words(piece)
    assert "<html" in whole.get_data(as_text=True)
    assert "<html" not in piece.get_data(as_text=True)
    assert 'aria-current="page"' in piece.get_data(as_text=True)
    by_itself = technician.get(f"/jobs/{stack.job}/{stage}", headers={"HX-Request": "true", "X-By-Itself": "0"})
    assert said in words(by_itself)
    assert 'id="words"' not in by_itself.get_data(as_text=True)  # a press on them, under way, would be lost


def test_a_face_says_what_it_is(technician, stack):
    with transaction() as session:
        faces = session.scalars(select(Part.faces).order_by(Part.id)).first()
    bore = next(f["index"] for f in faces if f["nominal"] and f["nominal"].get("radius") == pytest.approx(80))
    assert "Bore Ø160.000, axis along Y" in words(technician.get(f"/jobs/{stack.job}/faces/{bore}"))
    assert technician.get(f"/jobs/{stack.job}/faces/999").status_code == 404


def test_the_stage_gets_a_model_that_a_browser_may_keep(technician, stack):
    answer = technician.get(f"/jobs/{stack.job}/model")
    assert "immutable" in answer.headers["Cache-Control"]
    assert len(CadModel.unpack(answer.data).faces) == 20


def test_a_rows_slip_shows_its_limits_in_the_jobs_units(technician, stack):
    with transaction() as session:
        row = session.scalar(select(Row.id).where(Row.recipe["name"].astext == "Bearing bore").order_by(Row.id))
    slip = technician.get(f"/jobs/{stack.job}/rows/{row}").get_data(as_text=True)
    assert 'name="asked.diameter.upper" value="0.04"' in slip
    assert technician.get(f"/jobs/{stack.job}/rows/999999").status_code == 422


def test_upload_progress_and_the_choice_of_bodies(technician, stack):
    file = (io.BytesIO((stack.folder / "bearing-carrier.step").read_bytes()), "carrier.step")
    answer = technician.client.post("/parts", data={"name": "Second", "file": file, "csrf_token": technician.token})
    where = answer.headers["Location"]
    assert "Waiting for its turn" in words(technician.get(where))
    part = int(where.rsplit("/", 1)[1])
    parts.import_part(part)
    assert "the file is in mm , with 1 body and 20 faces" in words(technician.get(f"{where}/progress"))
    form = {"name": "Second job", "body": "0", "csrf_token": technician.token}
    made = technician.client.post(f"{where}/job", data=form)
    assert re.fullmatch(r"/jobs/\d+/part", made.headers["Location"])


def test_a_file_that_failed_says_why_and_offers_another(technician, stack):
    part = parts.add_part(technician_actor(), "Poem", "poem.step", io.BytesIO(b"Shall I compare thee"))
    parts.import_part(part)
    page = words(technician.get(f"/parts/{part}"))
    assert "poem.step is not a STEP, IGES, PLY, STL or OBJ file." in page
    assert "Choose another file" in page


def technician_actor():
    from zipplumb.jobs.actor import Actor

    return Actor(1, "Tamsin", "technician")


def test_mistakes_come_as_a_notice_and_leave_the_page_alone(technician, stack):
    answer = technician.post(f"/jobs/{stack.job}/faces/999/plan")
    assert answer.headers["HX-Reswap"] == "none"
    assert answer.headers["Notice"]  # shown by the page wherever what was pressed is by now
    assert 'role="alert"' in answer.get_data(as_text=True)


def told(event):
    return json.loads(event.split(b"data: ", 1)[1])


def listening(hub, to, then):
    """What is written to a page that listens, until ``then(hub, page, seen)`` is over; ``seen(n)`` waits for n events."""

    async def run():
        written, more = [], asyncio.Event()

        async def write(event):
            written.append(event)
            more.set()

        async def seen(count):
            while len(written) <= count:  # the first is how soon to come back
                more.clear()
                await asyncio.wait_for(more.wait(), 10)
            return [told(e) for e in written[1:]]

        task = asyncio.create_task(hub.listen(to, write))
        await seen(1)
        pages = hub.jobs[int(to.split()[1])].pages if " " in to else hub.kit
        try:
            return await then(next(iter(pages)), seen)
        finally:
            task.cancel()
            await asyncio.gather(task, return_exceptions=True)

    return asyncio.run(run())


def test_a_page_begins_with_everything_and_then_only_what_changed(app, stack):
    hub = Hub(app)

    async def then(page, seen):
        first = (await seen(1))[0]
        assert 'id="now"' in first["html"]
        assert first["html"].count('class="entry ') == len(first["scene"]["order"])
        await asyncio.to_thread(hub._changed, stack.job, {"what": "hits", "tone": "taken"})
        last = (await seen(2))[-1]
        assert (last["html"], last["rows"], last["tone"]) == ("", [], "taken")

    listening(hub, f"job {stack.job}", then)
    assert hub.jobs == {}


def test_a_row_that_looks_as_it_did_is_not_sent_again(app, stack):
    with transaction() as session, app.test_request_context():
        row = next(iter(row_texts(load(session, stack.job)).values()))
        again, renamed = replace(row), replace(row, name="Another")
        assert changed_html(row, None, stack.job)
        assert changed_html(again, row, stack.job) == ""
        assert "Another" in changed_html(renamed, again, stack.job)


def test_a_page_that_began_meanwhile_is_sent_what_the_others_saw_before(app, stack):
    """It may have seen what was never sent: what is now as it was then is sent all the same."""
    hub = Hub(app)

    async def then(page, seen):
        await seen(1)
        await asyncio.to_thread(hub._whole, stack.job, page)
        await asyncio.to_thread(hub._changed, stack.job, {"what": "hits"})
        await asyncio.to_thread(hub._changed, stack.job, {"what": "hits"})
        _, _, sent, later = await seen(4)
        assert 'id="now"' in sent["html"] and later["html"] == ""

    listening(hub, f"job {stack.job}", then)


def test_a_page_that_is_too_slow_is_sent_everything_anew(app, stack):
    hub = Hub(app)

    async def then(page, seen):
        await seen(1)
        for _ in range(3 * BACKLOG):  # more than it takes, before it writes the first of them
            page.put(b'event: update\ndata: {"what": "hits"}\n\n', may_drop=False)
        assert page.behind
        words = await seen(BACKLOG + 2)
        assert words[-1]["what"] == "begin"
        assert not page.behind

    listening(hub, f"job {stack.job}", then)


def test_a_change_that_cannot_be_shown_is_said_and_the_next_is_shown_whole(app, stack, monkeypatch):
    hub = Hub(app)

    async def then(page, seen):
        await seen(1)
        monkeypatch.setattr("zipplumb.web.live.hub.scene_of", lambda *_: 1 / 0)
        await asyncio.to_thread(hub._one, stack.job, {"what": "hits"})
        monkeypatch.undo()
        await asyncio.to_thread(hub._one, stack.job, {"what": "hits"})
        said, whole = (await seen(3))[-2:]
        assert "could not be shown" in said["words"]
        assert whole["html"].count('class="entry ') == len(whole["scene"]["order"])

    listening(hub, f"job {stack.job}", then)


@pytest.mark.parametrize(
    ("fault", "said"),
    [(ZeroDivisionError(), "could not be shown here"), (OperationalError("", {}, Exception()), "database is away"),
     (InputError("That job is not there.", "Nothing.", "Choose."), "That job is not there")],
)  # fmt: skip
def test_what_is_in_the_way_of_a_page_that_begins_is_said_as_what_it_is(app, stack, monkeypatch, fault, said):
    hub = Hub(app)

    def raises(*_):
        raise fault

    monkeypatch.setattr("zipplumb.web.live.hub.scene_of", raises)

    async def then(page, seen):
        first = (await seen(1))[0]
        assert said in first["words"]

    listening(hub, f"job {stack.job}", then)


def test_changes_that_wait_go_together(app):
    """Every row that any of them names, the newest tone; where one does not say which rows, all are looked at."""
    both = _together(_together(None, {"what": "hits", "row": 1, "tone": "taken"}), {"what": "hits", "row": 2, "tone": None})
    assert (both["named"], both["tone"]) == ({1, 2}, "taken")
    assert _together(both, {"what": "sheet", "row": 3})["named"] is None
    assert _together(_together(None, {"what": "back"}), {"what": "hits", "row": 1})["what"] == "back"
    for first, then in (("sheet", "kit"), ("kit", "sheet"), ("sheet", "hits")):  # followed too
        assert _together(_together(None, {"what": first}), {"what": then})["what"] == "sheet"


def test_rows_are_rendered_alike_for_everybody(visitor, app, stack):
    visitor.sign_in("tamsin")
    one = visitor.get(f"/jobs/{stack.job}/measure").get_data(as_text=True)
    visitor.post("/sign-out", headers={"HX-Request": ""})
    visitor.sign_in("rafe")
    other = visitor.get(f"/jobs/{stack.job}/measure").get_data(as_text=True)
    cut = re.compile(r'<div id="sheet-rows".*?</section>', re.S)
    assert cut.search(one)[0] == cut.search(other)[0]
    assert 'class="job reader"' in other


def test_sentences_of_the_core_come_in_the_units_of_the_page(app, stack):
    def told(path):
        with app.test_request_context(path):
            return _in_the_persons_units(flask.Response(f"It lies {mm(25.4)} off.", mimetype="text/html")).get_data(
                as_text=True
            )

    with transaction() as session:
        session.get(Job, stack.job).units = "in"
    try:
        assert told(f"/jobs/{stack.job}/measure").replace("\u00a0", " ") == "It lies 1.0000 in off."
        assert told("/probes").replace("\u00a0", " ") == "It lies 25.400 mm off."
    finally:
        with transaction() as session:
            session.get(Job, stack.job).units = "mm"
