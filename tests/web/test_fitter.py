"""The fitter's page: by its link alone, of one detail alone, until it is withdrawn."""

import asyncio
import json
import re

import numpy as np
import pytest
from visitor import Visitor

from zipplumb.jobs.actor import Actor
from zipplumb.jobs.place import details, fitter, placement
from zipplumb.jobs.plan import adding, sheet
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction
from zipplumb.store.models import Change, FitterLink, Job
from zipplumb.web.answers import LISTEN
from zipplumb.web.live.hub import Hub
from zipplumb.web.live.listeners import Page, Watched

TECHNICIAN = Actor(1, "Tamsin", "technician")


@pytest.fixture
def linked(stack):
    """A job with two details of two targets each, and a link to the first."""
    with transaction() as session:
        part = session.get(Job, stack.job).part_id
    job = sheet.create_job(TECHNICIAN, "Fitting", part)
    rows = []
    with transaction() as session:
        for k in range(4):
            nominal = {"shape": "point", "position": (300.0 * k, 0, 0)}
            rows.append(adding.add_row(session, TECHNICIAN, job, {"kind": "point", "name": f"Mark {k}", "nominal": nominal}))
    mine = details.add(TECHNICIAN, job, "Forward carrier", rows[:2], "Foot; 0; 0; 0; +Z; 1.5")
    other = details.add(TECHNICIAN, job, "Gearbox foot", rows[2:], "")
    return job, rows, mine, other, fitter.make_link(TECHNICIAN, job, mine)


def test_without_an_account_it_shows_one_detail_and_nothing_else(app, linked):
    job, _, _, _, token = linked
    stranger = Visitor(app)
    page = stranger.get(f"/fit/{token}")
    text = page.get_data(as_text=True)
    assert page.status_code == 200
    assert "Forward carrier" in text and "Gearbox foot" not in text and "Mark 2" not in text
    assert stranger.get(f"/jobs/{job}/place").status_code == 302  # to the sign-in
    assert page.headers["Cache-Control"] == "no-store"


@pytest.mark.parametrize("token", ["x", "x" * 65, "..", "%00", "²"])
def test_a_made_up_link_opens_nothing(app, linked, token):
    for path in (f"/fit/{token}", f"/fit/{token}/live"):
        answer = Visitor(app).get(path)
        assert answer.status_code in (302, 404, 422), path
        assert "Forward carrier" not in answer.get_data(as_text=True)


def test_withdrawn_it_is_over_at_once(app, linked):
    job, _, mine, _, token = linked
    stranger = Visitor(app)
    assert re.fullmatch(rf"link {job} \d+", stranger.get(f"/fit/{token}/live").headers[LISTEN])
    fitter.withdraw(TECHNICIAN, job, mine)
    for path in (f"/fit/{token}", f"/fit/{token}/live"):
        answer = stranger.get(path)
        assert answer.status_code == 404 and LISTEN not in answer.headers
    token = fitter.make_link(TECHNICIAN, job, mine)
    details.remove(TECHNICIAN, job, mine)
    assert stranger.get(f"/fit/{token}").status_code == 404  # it ends with the detail


def test_its_secret_is_kept_nowhere(linked):
    job, _, _, _, token = linked
    with transaction() as session:
        kept = [link.token_hash for link in session.query(FitterLink)]
        told = json.dumps([c.detail for c in session.query(Change).filter(Change.job_id == job)])
    assert token not in kept and token not in told


def test_a_technician_makes_and_withdraws_it_and_a_reviewer_does_not(app, technician, signed_in, linked):
    job, _, mine, other, _ = linked
    made = technician.post(f"/jobs/{job}/details/{other}/links").get_data(as_text=True)
    assert "<svg" in made and "/fit/" in made
    shown = technician.get(f"/jobs/{job}/place").get_data(as_text=True)
    assert "Withdraw 1 link" in shown
    technician.post(f"/jobs/{job}/details/{other}/withdraw")
    assert technician.get(f"/jobs/{job}/place").get_data(as_text=True).count("Withdraw 1 link") == 1  # that of the first detail
    reviewer = signed_in("rafe")
    for act in ("links", "withdraw"):
        assert reviewer.post(f"/jobs/{job}/details/{mine}/{act}").status_code in (403, 422)


def test_it_hears_of_its_own_targets_and_that_it_has_ended(app, linked):
    job, rows, mine, _, token = linked
    hub = Hub(app)
    with transaction() as session:
        state = load(session, job)
        link = fitter.link_of(session, token).id

    async def listen():
        page = Page(link)
        watched = hub.jobs[job] = Watched(fitters={page}, state=state)
        first = hub._whole_of(job, link)
        for row in (rows[0], rows[3]):
            hub._to_fitters(watched, state, {"row": row, "name": "A"}, None, np.zeros(3))
        await asyncio.sleep(0)
        heard = [page.events.get_nowait() for _ in range(page.events.qsize())]
        fitter.withdraw(TECHNICIAN, job, mine)
        over = hub._whole_of(job, link)
        hub._to_fitters(watched, state, {"row": rows[0], "name": "A"}, None, np.zeros(3))
        await asyncio.sleep(0)
        return first, heard, over, page.events.qsize()

    with app.test_request_context():
        first, heard, over, after = asyncio.run(listen())
    assert b"event: detail" in first[0] and b"It is being looked at" in first[0]
    assert len(heard) == 1 and f'"row":{rows[0]}'.encode() in heard[0]
    assert b"event: gone" in over[0] and after == 0


def test_the_words_of_the_place_are_on_it(app, linked):
    job, *_ = linked
    placement.set_placing(TECHNICIAN, job, {"zone": "0.1", "+Z": "up"})
    assert Visitor(app).get(f"/fit/{linked[4]}").status_code == 200
