import pytest
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
