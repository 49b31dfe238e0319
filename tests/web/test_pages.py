"""What each page says, and what goes out live."""

import io
import json
import re

import flask
import pytest
from sqlalchemy import select
from visitor import words

from zipplumb.cad import CadModel
from zipplumb.core.units import mm
from zipplumb.jobs import parts
from zipplumb.store.database import transaction
from zipplumb.store.models import Job, Part, Row
from zipplumb.web.app import _in_the_persons_units
from zipplumb.web.live import Hub


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
    part = parts.add_part(technician_actor(), "Poem", "poem.step", b"Shall I compare thee")
    parts.import_part(part)
    page = words(technician.get(f"/parts/{part}"))
    assert "poem.step is not a STEP file." in page
    assert "Choose another file" in page


def technician_actor():
    from zipplumb.jobs.actor import Actor

    return Actor(1, "Tamsin", "technician")


def test_mistakes_come_as_a_notice_and_leave_the_page_alone(technician, stack):
    answer = technician.post(f"/jobs/{stack.job}/faces/999/plan")
    assert answer.headers["HX-Retarget"] == "#notices"
    assert 'role="alert"' in answer.get_data(as_text=True)


def test_a_page_begins_with_everything_and_then_only_what_changed(app, stack):
    hub = Hub(app)
    hub._start = lambda: None
    stream = hub.stream(stack.job)
    assert next(stream).startswith(b"retry")
    first = json.loads(next(stream).split(b"data: ", 1)[1])
    assert 'id="now"' in first["html"]
    assert first["html"].count('class="entry ') == len(first["scene"]["order"])
    hub._changed(stack.job, {"what": "hits"})
    hub._changed(stack.job, {"what": "hits", "tone": "taken"})
    waiting = [json.loads(e.split(b"data: ", 1)[1]) for e in hub.pages[stack.job].copy().pop().queue]
    assert waiting[-1]["html"] == ""
    assert waiting[-1]["rows"] == []
    assert waiting[-1]["tone"] == "taken"
    stream.close()
    assert hub.pages == {}


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
