"""Who gets in, who may change, and what a page may do."""

import io

import pytest
from sqlalchemy import func, select

from zipplumb.jobs import people
from zipplumb.store.database import transaction
from zipplumb.store.models import Change, Row


def routes(app):
    for rule in app.url_map.iter_rules():
        if rule.endpoint not in ("static", "auth.sign_in"):
            values = {name: 1 if "int" in str(rule) else "x" for name in rule.arguments}
            values |= {
                n: {"stage": "part", "direction": "up", "do": "touch", "key": "1.0"}[n]
                for n in rule.arguments
                if n in ("stage", "direction", "do", "key")
            }
            with app.test_request_context():
                yield rule, rule.build(values)[1]


def test_nothing_but_the_sign_in_page_for_a_stranger(app, visitor):
    visitor.get("/sign-in")
    for rule, path in routes(app):
        for method in rule.methods & {"GET", "POST"}:
            answer = visitor.get(path) if method == "GET" else visitor.post(path)
            assert answer.status_code == 302, path
            assert answer.headers["Location"].startswith("/sign-in")


def test_every_change_needs_the_pages_token(app, technician, stack):
    for rule, path in routes(app):
        if "POST" in rule.methods:
            assert technician.post(path, headers={"X-CSRFToken": "forged"}).status_code == 400, path


def test_a_reviewer_reads_and_cannot_change(app, reviewer, stack):
    job = stack.job
    for stage in ("part", "kit", "align", "measure", "derive", "report"):
        assert reviewer.get(f"/jobs/{job}/{stage}").status_code == 200
    with transaction() as session:
        before = session.scalar(select(func.count(Row.id)))
        row = session.scalar(select(Row.id).where(Row.job_id == job))
    for path in ("finish", "undo", "step/next", "units", "plan", "bodies", "faces/3/plan", "alignments", "derived",
                 f"rows/{row}/edit", f"rows/{row}/remove", f"rows/{row}/current", f"rows/{row}/terms", f"rows/{row}/side",
                 f"rows/{row}/hits/1.0", f"rows/{row}/move/up", "instruments/1/bring", "hand/unplug"):  # fmt: skip
        form = {"units": "in", "air": "1", "first": "1", "second": "2", "kind": "plane", "body": "0"}
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
    people.add_person("guessed", "Somebody", "reviewer", "right-one")
    for _ in range(people.ATTEMPTS):
        assert b"name or the password is wrong" in visitor.sign_in("guessed", "wrong").data
    assert b"Wait ten minutes" in visitor.sign_in("guessed", "right-one").data


@pytest.mark.parametrize("target", ["https://elsewhere.example/", "//elsewhere.example", "/\\elsewhere.example"])
def test_sign_in_sends_nobody_elsewhere(visitor, target):
    visitor.get("/sign-in")
    answer = visitor.client.post(
        "/sign-in",
        query_string={"next": target},
        data={"login": "tamsin", "password": "plumb-line", "csrf_token": visitor.token},
    )
    assert answer.headers["Location"] == "/"


def test_an_upload_beyond_the_limit_gets_its_sentence(app, technician):
    big = io.BytesIO(b"\0" * (app.config["MAX_CONTENT_LENGTH"] + 10))
    answer = technician.client.post("/parts", data={"file": (big, "big.step"), "csrf_token": technician.token})
    assert answer.status_code == 413
    assert b"larger than 200 MB" in answer.data
    assert b"Nothing of it was kept" in answer.data


def test_changes_are_recorded_with_who_and_when(technician, stack):
    technician.post(f"/jobs/{stack.job}/units", {"units": "mm"})
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
        ("reports", {"kind": "tablet"}, "PDF, XLSX or CSV"),
        ("pictures", {"png": "data:image/png;base64,AAAA"}, "no picture"),
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
