import pytest
from visitor import Visitor

from zipplumb.web.app import create_app


@pytest.fixture(scope="session")
def app(stack):
    return create_app()


@pytest.fixture
def visitor(app):
    return Visitor(app)


@pytest.fixture
def technician(visitor):
    visitor.sign_in("tamsin")
    return visitor


@pytest.fixture
def reviewer(visitor):
    visitor.sign_in("rafe")
    return visitor


@pytest.fixture
def administrator(app):
    found = Visitor(app)
    found.sign_in("ines")
    return found
