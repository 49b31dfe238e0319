"""Who gets in, who may change, and what a page may do."""

import io
import re
from collections import Counter
from concurrent.futures import ThreadPoolExecutor

import pytest
from every_form import sent
from sqlalchemy import func, select
from visitor import Visitor, words

from zipplumb.core.errors import InputError, NotAllowed, PlumbError
from zipplumb.jobs import attempts, people
from zipplumb.jobs.actor import Actor
from zipplumb.store.database import transaction
from zipplumb.store.models import Change, Row, User
from zipplumb.web.doors import must_pass


def routes(app):
    for rule in app.url_map.iter_rules():
        if rule.endpoint not in ("static", "auth.sign_in", "health.word"):
            values = {name: 1 if "int" in str(rule) else "x" for name in rule.arguments}
            values |= {
                n: {"stage": "part", "direction": "up", "do": "touch", "key": "1.0"}[n]
                for n in rule.arguments
                if n in ("stage", "direction", "do", "key")
            }
            with app.test_request_context():
                yield rule, rule.build(values)[1]


def test_no_address_leads_to_two_routes(app):
    """The one that was made known first would answer for both."""
    known = Counter()
    for rule in app.url_map.iter_rules():
        address = re.sub(r"<(?:(\w+):)?\w+>", r"<\1>", rule.rule)
        known.update((address, method) for method in rule.methods & {"GET", "POST"})
    assert [each for each, count in known.items() if count > 1] == []


# open by a secret in their address: a made-up one is not there
BY_LINK = ("fitter.page", "fitter.live", "office.reports", "office.file", "office.now")


def test_nothing_but_the_sign_in_page_for_a_stranger(app, visitor):
    visitor.get("/sign-in")
    for rule, path in routes(app):
        for method in rule.methods & {"GET", "POST"}:
            answer = visitor.get(path) if method == "GET" else visitor.post(path)
            if rule.endpoint in BY_LINK:
                assert answer.status_code == 404, path
                continue
            assert answer.status_code == 302, path
            assert answer.headers["Location"].startswith("/sign-in")


def test_every_change_needs_the_pages_token(app, technician, stack):
    for rule, path in routes(app):
        if "POST" in rule.methods:
            assert technician.post(path, headers={"X-CSRFToken": "forged"}).status_code == 400, path


def test_a_reviewer_reads_and_cannot_change(app, reviewer, stack):
    job = stack.job
    for stage in ("part", "kit", "align", "measure", "derive", "place", "report"):
        assert reviewer.get(f"/jobs/{job}/{stage}").status_code == 200
    with transaction() as session:
        before = session.scalar(select(func.count(Row.id)))
        row = session.scalar(select(Row.id).where(Row.job_id == job))
    for path in ("finish", "undo", "step/next", "units", "plan", "bodies", "faces/3/plan", "alignments", "derived",
                 f"rows/{row}/edit", "rows/remove", f"rows/{row}/current", f"rows/{row}/terms", f"rows/{row}/side",
                 f"rows/{row}/hits/1.0", "rows/move/up", "instruments/1/bring", "hand/unplug"):  # fmt: skip
        form = {"units": "in", "air": "1", "first": "1", "second": "2", "kind": "plane", "body": "0", "row": str(row)}
        answer = reviewer.post(f"/jobs/{job}/{path}", form)
        assert answer.status_code == 403, path
        assert b"Nothing was changed" in answer.data
    with transaction() as session:
        assert session.scalar(select(func.count(Row.id))) == before


def test_the_content_security_policy_allows_no_inline_script(technician, stack):
    page = technician.get(f"/jobs/{stack.job}/measure")
    policy = page.headers["Content-Security-Policy"]
    assert "default-src 'self'" in policy
    assert "unsafe" not in policy
    text = page.get_data(as_text=True)
    assert "onclick=" not in text
    assert 'style="' not in text


def test_sign_in_attempts_are_limited(visitor):
    people.add_person("guessed", "Somebody", "reviewer", "the right one")
    for _ in range(attempts.ATTEMPTS):
        assert b"name or the password is wrong" in visitor.sign_in("guessed", "wrong").data
    assert b"Wait ten minutes" in visitor.sign_in("guessed", "the right one").data


@pytest.mark.parametrize(
    "target",
    ["https://elsewhere.example/", "//elsewhere.example", "/\\elsewhere.example", "/\t/elsewhere.example", "/\n//x", "\t//x"],
)
def test_sign_in_sends_nobody_elsewhere(visitor, target):
    visitor.get("/sign-in")
    answer = visitor.client.post(
        "/sign-in",
        query_string={"next": target},
        data={"login": "tamsin", "password": "plumb-line", "csrf_token": visitor.token},
    )
    assert answer.headers["Location"] == "/"


def test_an_upload_beyond_the_limit_gets_its_sentence(app, technician):
    big = io.BytesIO(b"\0" * (app.view_functions["home.upload"].takes_bytes + 10))
    answer = technician.client.post("/parts", data={"file": (big, "big.step"), "csrf_token": technician.token})
    assert answer.status_code == 413
    assert b"larger than 200 MB" in answer.data
    assert b"Nothing of it was kept" in answer.data


def test_changes_are_recorded_with_who_and_when(technician, stack):
    technician.post(f"/jobs/{stack.job}/units", sent(technician, {"units": "mm", "seen": "@units"}, {"job_id": stack.job}))
    with transaction() as session:
        last = session.scalars(select(Change).order_by(Change.id.desc())).first()
        assert last.act == "units"
        assert last.user_id is not None
        assert last.at is not None


NOWHERE = {f"nominal.{part}.{k}": "0" for part in ("point", "normal") for k in range(3)}


@pytest.mark.parametrize(
    ("path", "form", "words"),
    [
        ("plan", {"kind": "plane", "nominal.point.0": "far"}, "is not a number"),
        ("plan", NOWHERE | {"kind": "plane"}, "no length"),
        (
            "plan",
            {
                "kind": "sphere",
                "nominal.center.0": "0",
                "nominal.center.1": "0",
                "nominal.center.2": "0",
                "nominal.radius": "-5",
            },
            "radius",
        ),
        ("plan", {"kind": "spoon"}, "no such kind"),
        ("plan", {"kind": "circle", "plane": "99999999"}, "not in this job"),
        ("faces/999/plan", {}, "not on this part"),
        ("units", {"units": "cubits"}, "mm or inches"),
        ("reports", {"kind": "tablet"}, "PDF, XLSX, CSV, Text in columns"),
        ("pictures/keep", {"seen": "{}"}, "cannot be so"),
        ("derived", {"of": "1", "key": "spoon"}, "not in this job|no such thing|not measured"),
        ("derived", {"of": "²", "key": "axis"}, "different features"),
    ],
)
def test_bad_input_gets_its_sentence(technician, stack, path, form, words):
    import html
    import re

    answer = technician.post(f"/jobs/{stack.job}/{path}", form)
    text = html.unescape(answer.get_data(as_text=True))
    assert answer.status_code in (409, 422), text
    assert re.search(words, text), text
    assert "Traceback" not in text


def test_a_job_that_is_not_there(technician):
    assert technician.get("/jobs/999999/measure").status_code in (404, 422)
    assert technician.get("/jobs/1/no-such-stage").status_code == 404


def test_many_attempts_at_once_are_no_way_round_the_limit(stack):
    people.add_person("hurried", "Somebody", "reviewer", "the right one")

    def attempt(k):
        while True:
            try:
                people.sign_in("hurried", f"guess {k}", "10.0.0.9")
            except InputError:
                return "checked"
            except attempts.TooManyAtOnce:
                continue
            except PlumbError:
                return "refused"

    with ThreadPoolExecutor(16) as pool:
        answers = list(pool.map(attempt, range(40)))
    assert answers.count("checked") == attempts.ATTEMPTS


def test_a_cookie_is_worth_nothing_after_signing_out(app, visitor):
    visitor.sign_in("tamsin")
    kept = visitor.client.get_cookie("session").value
    visitor.post("/sign-out")
    visitor.client.set_cookie("session", kept)
    assert visitor.get("/").status_code == 302


def test_the_old_password_is_not_guessed_at_either(app):
    people.add_person("guesses-own", "Somebody", "reviewer", "the old password")
    here = Visitor(app)
    assert here.sign_in("guesses-own", "the old password").status_code == 302
    for _ in range(attempts.ATTEMPTS):
        assert here.post("/me/password", {"old": "wrong", "password": "a new password"}).status_code == 422
    told = here.post("/me/password", {"old": "the old password", "password": "a new password"})
    assert told.status_code == 409 and b"too many" in told.data
    assert Visitor(app).sign_in("guesses-own", "the old password").status_code == 302  # who is right gets in


def test_a_changed_password_ends_all_other_sessions(app):
    people.add_person("changes", "Somebody", "reviewer", "the old password")
    here, there = Visitor(app), Visitor(app)
    for visitor in (here, there):
        visitor.sign_in("changes", "the old password")
    assert here.post("/me/password", {"old": "wrong", "password": "a new password"}).status_code == 422
    assert here.post("/me/password", {"old": "the old password", "password": "short"}).status_code == 422
    here.post("/me/password", {"old": "the old password", "password": "a new password"})
    assert here.get("/").status_code == 200
    assert there.get("/").status_code == 302
    there.sign_in("changes", "a new password")
    assert there.get("/").status_code == 200


def test_the_administrator_adds_people_changes_them_and_ends_their_sessions(app, administrator, technician):
    assert technician.get("/people").status_code == 403
    form = {"login": "fresh.one", "name": "Fresh", "role": "technician", "password": "a fine password"}
    administrator.post("/people", form)
    assert administrator.post("/people", form).status_code == 422  # there already
    fresh = Visitor(app)
    fresh.sign_in("fresh.one", "a fine password")
    assert fresh.get("/").status_code == 200
    with transaction() as session:
        number, ines = (session.scalar(select(User.id).where(User.login == who)) for who in ("fresh.one", "ines"))
    typed = {"name": "Fresh", "role": "technician", "active": "", "seen": "@person"}
    administrator.post(f"/people/{number}", sent(administrator, typed, {"user_id": number}))
    assert fresh.get("/").status_code == 302
    assert b"wrong" in fresh.sign_in("fresh.one", "a fine password").data
    typed = {"name": "Ines Hadlow", "role": "reviewer", "active": "1", "seen": "@person"}
    last = administrator.post(f"/people/{ines}", sent(administrator, typed, {"user_id": ines}))
    assert b"Somebody has to be administrator" in last.data
    assert "change person" in administrator.get("/record").get_data(as_text=True)


def test_a_route_that_says_nothing_of_who_may_refuses(app, administrator):
    for rule in app.url_map.iter_rules():
        if rule.endpoint != "static":
            assert getattr(app.view_functions[rule.endpoint], "roles", ()), rule
    with pytest.raises(NotAllowed, match="open to nobody"):
        must_pass(lambda: "", Actor(1, "Ines", "administrator"))


def test_the_record_tells_what_was_before_and_is_after(technician, stack):
    for units in ("in", "mm"):
        form = sent(technician, {"units": units, "seen": "@units"}, {"job_id": stack.job})
        technician.post(f"/jobs/{stack.job}/units", form)
    assert "in → mm" in words(technician.get(f"/record?job={stack.job}"))


def test_choosing_and_stepping_are_in_the_record(technician, place):
    job, row = place["job_id"], place["row_id"]
    technician.post(f"/jobs/{job}/rows/{row}/current")
    technician.post(f"/jobs/{job}/step/next")
    technician.post(f"/jobs/{job}/step/back")
    with transaction() as session:
        went = select(Change.detail["row"]).where(Change.job_id == job, Change.act == "go to").order_by(Change.id)
        gone = session.scalars(went).all()
    assert len(gone) >= 2 and gone[-1] == row != gone[-2]


def test_a_stale_slip_is_told_and_not_obeyed(app, technician, stack):
    with transaction() as session:
        row = session.scalar(select(Row.id).where(Row.recipe["name"].astext == "Foot top").order_by(Row.id))
    path = f"/jobs/{stack.job}/rows/{row}"
    seen = re.search(r'name="seen" id="seen-\d+" value="([^"]+)"', technician.get(path).get_data(as_text=True))[1]
    other = {"seen": seen, "name": "Foot's top"}
    assert technician.post(f"{path}/edit", other).status_code == 200
    for late_act in (f"{path}/edit", f"{path}/terms", f"/jobs/{stack.job}/rows/remove"):
        late = technician.post(late_act, {"seen": seen, "name": "Mine", "row": str(row)})
        assert late.status_code == 422
        assert b"changed by somebody else" in late.data
    again = re.search(r'name="seen" id="seen-\d+" value="([^"]+)"', technician.get(path).get_data(as_text=True))[1]
    assert technician.post(f"{path}/edit", {"seen": again, "name": "Foot top"}).status_code == 200
