"""Every field of every route, given what nobody should send: refused in words, nothing half-written, no page broken."""

import io

import pytest
from every_form import FORMS, PLANE, WORDS, address, filled, made_place, posts, sent
from sqlalchemy import text

from zipplumb.store.database import transaction
from zipplumb.store.models import Base, Row, SignedIn, SignInAttempt

BEYOND = ("0", "2147483647", "2147483648", "9" * 40)
TEXTS = (
    "", " ", "-1", "²", "１", "1.5", "1e-400", "1e400", "-1e400", "nan", "inf", "None", "[]", "1,2", "\x00", "a\x00b", "../..",
    "<script>x</script>", "{{7*7}}", "x" * 5000, "'; DROP TABLE rows; --", "\u202e", "1e308 mm", "0 in", "💥", *BEYOND,
)  # fmt: skip
STAGES = ("part", "kit", "align", "measure", "derive", "place", "report")
KIT_PAGES = ("/", "/instruments", "/instruments/1", "/probes", "/probes/1")
# what changes rows of one job, of which the pages of jobs and of the kit say nothing
OF_A_SHEET = ("planning", "part", "section", "many", "align", "mounted", "derive", "measure", "place", "rehearsal", "report")
ALIKE = ("many.look", "many.set_them", "planning.refill", "planning.refill_row", "job.edit")


@pytest.fixture(scope="module")
def untouched(stack):
    """A place where whatever is sent is refused."""
    return made_place(stack)


COUNTED = sorted(set(Base.metadata.tables) - {SignInAttempt.__tablename__, SignedIn.__tablename__})
COUNT = text(" UNION ALL ".join(f"SELECT '{name}', count(*) FROM {name}" for name in COUNTED))
WRITTEN = text("SELECT pg_snapshot_xmax(pg_current_snapshot())::text")  # the same while nobody has written anything


def counts(before=None):
    """How many rows every table has, counted anew where something was written since ``before``."""
    with transaction() as session:
        written = session.scalar(WRITTEN)
        if before is not None and before[0] == written:
            return before
        return written, dict(session.execute(COUNT).all())


def held(answer, before, path, what):
    """No fault of ours; nothing half-written where it was refused. How many rows there are now."""
    assert path == "/sign-in" or not answer.headers.get("Location", "").startswith("/sign-in"), path
    assert answer.status_code != 500, (path, what, answer.get_data(as_text=True)[:400])
    now = counts(before)
    if answer.status_code >= 400:
        assert now[1] == before[1], (path, what)
    return now


def test_the_table_knows_every_route_that_changes_something(app):
    assert set(posts(app)) == set(FORMS)


@pytest.mark.parametrize("endpoint", FORMS)
def test_no_field_breaks_anything(app, somebody, technician, place, endpoint):
    rule = posts(app)[endpoint]
    who, path, form = somebody(endpoint, place), address(app, rule, place), filled(FORMS[endpoint], place)
    if endpoint == "auth.sign_out":
        return  # it has no field
    first = before = counts()
    for number, field in enumerate(form):
        # fields share their converters: neighbours get every word between them, forms that are alike every fourth
        every = 4 if endpoint in ALIKE else 2 if len(form) > 1 else 1
        for word in TEXTS[number % every :: every]:
            changed = {name: value for name, value in {**form, field: word}.items() if value is not None}
            if endpoint == "home.upload":
                changed["file"] = (io.BytesIO(b"x"), word[:300] if field == "file" else "part.step")
            before = held(who.post(path, sent(who, changed, place)), before, path, {field: word[:40]})
        if field != "file":
            short = {name: value for name, value in form.items() if name != field and value is not None}
            before = held(who.post(path, sent(who, short, place)), before, path, f"without {field}")
    if before[0] == first[0]:
        return  # nothing was written, so no page can say it
    blueprint = endpoint.split(".")[0]
    pages = [] if "job_id" not in rule.arguments else [f"/jobs/{place['job_id']}/{stage}" for stage in STAGES]
    for page in (*pages, "/record", *(() if blueprint in OF_A_SHEET else KIT_PAGES)):
        assert technician.get(page).status_code == 200, page


@pytest.mark.parametrize("endpoint", [e for e in FORMS if e not in ("auth.sign_in", "auth.sign_out")])
def test_no_address_breaks_anything(app, somebody, untouched, endpoint):
    """Ids of nothing, of another job, beyond an id; words that are none."""
    place = untouched
    rule = posts(app)[endpoint]
    form = {name: value for name, value in filled(FORMS[endpoint], place).items() if value is not None}
    who = somebody(endpoint, place)
    for name, converter in rule._converters.items():
        if "_Id" in type(converter).__name__:
            path = address(app, rule, place)
            now = str(place.get(name, 1))
            tries = [path.replace(f"/{now}", f"/{word}", 1) for word in (*BEYOND, "²", "-1")]
            tries += [address(app, rule, place, row_id=place["other_row"])] if name == "row_id" else []
        else:
            tries = [address(app, rule, place, **{name: word}) for word in ("x", "nan", "1." + "9" * 30, "-1.0", "²", "a%00b")]
        before = counts()
        for path in tries:
            before = held(who.post(path, sent(who, form, place)), before, path, name)


def test_a_get_with_ids_of_nothing_is_not_found(app, administrator, place):
    for rule in app.url_map.iter_rules():
        if "GET" not in rule.methods or rule.endpoint in ("static", "job.live", "instruments.live"):
            continue
        for beyond in BEYOND:
            path = str(rule)
            for name, converter in rule._converters.items():
                word = beyond if "_Id" in type(converter).__name__ else WORDS.get(name, "x")
                path = path.replace(f"<int:{name}>", word).replace(f"<{name}>", word)
            answer = administrator.get(path)
            assert answer.status_code in (200, 302, 404, 405, 422, 503), (path, answer.status_code)


def test_rows_of_another_job_are_not_there(technician, place):
    with transaction() as session:
        before = session.get(Row, place["other_row"]).recipe
    for act in ("edit", "current", "terms", "remove", "side", "move/up", "form"):
        answer = technician.post(f"/jobs/{place['job_id']}/rows/{place['other_row']}/{act}", {**PLANE, "air": "1"})
        assert answer.status_code in (404, 422), act
    with transaction() as session:
        assert session.get(Row, place["other_row"]).recipe == before
