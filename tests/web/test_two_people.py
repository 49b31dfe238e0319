"""Two people with the same form open: the later is told, and nothing is overwritten unseen."""

import re

import pytest

from zipplumb.demo.seed import PASSWORD
from zipplumb.jobs import people
from zipplumb.jobs.editions import EDITED, edition_of
from zipplumb.store.database import transaction
from zipplumb.store.models import Instrument, Job, Probe, User

BALL = {"name": "Ball", "kind": "ball", "diameter": "6", "diameter_unit": "mm", "length": "180", "beside": "0"}
ARM = {"name": "Arm", "host": "127.0.0.1", "port": "1"}
PERSON = {"name": "Victim", "role": "technician", "active": "1"}
# where the form is, where it goes, what the first and the second type in it, and what is kept in the end
FORMS = {
    "probe": ("/probes/{probe_id}", "/probes/{probe_id}", BALL | {"name": "Theirs {job_id}"},
              BALL | {"name": "Mine {job_id}", "diameter": "8"}),
    "instrument": ("/instruments/{instrument_id}", "/instruments/{instrument_id}", ARM | {"name": "Theirs {job_id}"},
                   ARM | {"name": "Mine {job_id}", "port": "2"}),
    "person": ("/people", "/people/{user_id}", PERSON | {"name": "Theirs {job_id}"}, PERSON | {"role": "reviewer"}),
    "units": ("/jobs/{job_id}/part", "/jobs/{job_id}/units", {"units": "in"}, {"units": "mm"}),
    "rule": ("/jobs/{job_id}/report", "/jobs/{job_id}/rule", {"rule": "simple"}, {"rule": "simple"}),
    "placing": ("/jobs/{job_id}/place", "/jobs/{job_id}/placing", {"zone": "0.2", "+X": "left"}, {"zone": "0.3", "+X": "up"}),
    "way": ("/jobs/{job_id}/derive", "/jobs/{job_id}/chain", {"way": "last"}, {"way": "pairs"}),
}  # fmt: skip
SAVED = {
    "probe": (Probe, "probe_id"), "instrument": (Instrument, "instrument_id"), "person": (User, "user_id"),
    "units": (Job, "job_id"), "rule": (Job, "job_id"), "placing": (Job, "job_id"), "way": (Job, "job_id"),
}  # fmt: skip


def opened(who, page, action, place):
    """The edition that the form of an action was filled with."""
    text = who.get(page.format(**place)).get_data(as_text=True)
    form = text[text.index(f'"{action.format(**place)}"') :]
    return re.search(r'name="seen"[^>]* value="([^"]+)"', form)[1]


def kept(what, place):
    model, name = SAVED[what]
    with transaction() as session:
        stored = session.get(model, place[name])
        return [getattr(stored, field) for field in EDITED.get(model, ("units", "rule", "placing", "chain"))]


@pytest.mark.parametrize("what", FORMS)
def test_the_later_is_told_and_types_it_again(signed_in, place, what):
    page, action, first, second = FORMS[what]
    first, second = ({k: v.format(**place) for k, v in typed.items()} for typed in (first, second))
    who, path = signed_in("ines"), action.format(**place)
    mine, theirs = opened(who, page, action, place), opened(who, page, action, place)
    done = who.post(path, first | {"seen": theirs})
    assert done.status_code < 400
    stands = kept(what, place)
    late = who.post(path, second | {"seen": mine})
    assert late.status_code == 422
    assert b"was changed by somebody else since you opened it" in late.data
    assert who.post(path, second).status_code == 422  # and whoever does not say what was seen is not obeyed
    assert kept(what, place) == stands
    assert who.post(path, second | {"seen": opened(who, page, action, place)}).status_code < 400
    if again := re.search(rb'name="seen"[^>]* value="([^"]+)"', done.data):  # a page that stays goes on with what it changed
        assert again[1].decode() not in (mine, "")


def test_a_page_that_stays_open_edits_on(signed_in, place):
    who, path = signed_in("ines"), f"/jobs/{place['job_id']}/rule"
    seen = opened(who, "/jobs/{job_id}/report", "/jobs/{job_id}/rule", place)
    for rule in ("simple", "proven", "simple"):
        answer = who.post(path, {"rule": rule, "seen": seen})
        assert answer.status_code == 200
        seen = re.search(r'value="([^"]+)"', answer.get_data(as_text=True))[1]


def test_what_another_has_changed_is_not_removed_unseen(signed_in, place):
    who = signed_in("ines")
    for page, typed in (
        ("/probes/{probe_id}", BALL | {"name": "B {job_id}"}),
        ("/instruments/{instrument_id}", ARM | {"name": "A {job_id}"}),
    ):
        path = page.format(**place)
        seen = opened(who, page, page + "/remove", place)
        typed = {k: v.format(**place) for k, v in typed.items()} | {"seen": seen}
        assert who.post(path, typed).status_code < 400
        assert who.post(f"{path}/remove", {"seen": seen}).status_code == 422


def test_two_administrators_who_demote_each_other_leave_one(stack):
    """Both at once: one is told that somebody has to be administrator, neither that the database is away."""
    from threading import Barrier, Thread

    from zipplumb.core.errors import InputError
    from zipplumb.jobs.actor import Actor

    with transaction() as session:
        others = session.query(User).filter(User.role == "administrator", User.active).all()
        for other in others:
            other.active = False
    pair = [people.add_person(f"boss-{k}", f"Boss {k}", "administrator", PASSWORD) for k in range(2)]
    try:
        for _ in range(5):
            told, both = [], Barrier(2)

            def demote(by, whom, told=told, both=both):
                both.wait()
                try:
                    people.change_person(Actor(by, "Boss", "administrator"), whom, "Boss", "technician", True)
                except InputError as error:
                    told.append(str(error))

            threads = [Thread(target=demote, args=two) for two in (pair, pair[::-1])]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            with transaction() as session:
                bosses = session.query(User).filter(User.role == "administrator", User.active).all()
                assert len(bosses) == 1
                assert len(told) == 1
                assert "Somebody has to be administrator" in told[0]
                for user in session.query(User).filter(User.id.in_(pair)):
                    user.role = "administrator"
    finally:
        with transaction() as session:
            for user in session.query(User).filter(User.id.in_([*pair, *(other.id for other in others)])):
                user.active = user.id not in pair


def test_an_edition_is_of_what_a_form_may_change_and_of_nothing_else(place):
    with transaction() as session:
        probe = session.get(Probe, place["probe_id"])
        before = edition_of(probe)
        probe.removed_at = None
        assert edition_of(probe) == before
        probe.name = "Another"
        assert edition_of(probe) != before
        session.rollback()
