import pytest
from every_form import made_place
from visitor import Visitor

from zipplumb.web.app import create_app


@pytest.fixture(scope="session")
def app(stack):
    return create_app()


@pytest.fixture
def visitor(app):
    return Visitor(app)


@pytest.fixture(scope="session")
def signed_in(app):
    """Somebody who is signed in, by login: once for all tests, since that is slow on purpose."""
    there = {}

    def visitor_of(login):
        found = there.get(login)
        if found is None or found.get("/jobs/0/part").status_code == 302:  # to the sign-in page
            found = there[login] = Visitor(app)
            found.sign_in(login)
        return found

    return visitor_of


@pytest.fixture
def technician(signed_in):
    return signed_in("tamsin")


@pytest.fixture
def reviewer(signed_in):
    return signed_in("rafe")


@pytest.fixture
def administrator(signed_in):
    return signed_in("ines")


@pytest.fixture
def place(stack):
    return made_place(stack)


@pytest.fixture
def somebody(app, signed_in):
    """Who is signed in for an act: an administrator, a person to be harmed, or a technician."""

    def sign_in(endpoint, place):
        if endpoint == "people.own_password":
            victim = Visitor(app)
            victim.sign_in(f"victim-{place['job_id']}")
            return victim
        if endpoint == "auth.sign_in":
            return Visitor(app, "10.7.7.7")  # whose wrong sign-ins are not ours
        administers = endpoint.startswith("people.") or endpoint in (
            "instruments.add",
            "instruments.correct",
            "instruments.remove",
        )
        return signed_in("ines" if administers else "tamsin")

    return sign_in
