import re

import pytest

from zipplumb.demo.seed import PASSWORD
from zipplumb.web.app import create_app


@pytest.fixture(scope="session")
def app(stack):
    return create_app()


class Visitor:
    """A browser without scripts: keeps its cookies, and sends the page's own token."""

    def __init__(self, app):
        self.client = app.test_client()
        self.token = ""

    def get(self, path, **more):
        page = self.client.get(path, **more)
        if found := re.search(rb'name="csrf-token" content="([^"]+)"', page.data):
            self.token = found[1].decode()
        return page

    def post(self, path, data=None, **more):
        headers = {"X-CSRFToken": self.token, "HX-Request": "true"} | more.pop("headers", {})
        return self.client.post(path, data=data or {}, headers=headers, **more)

    def sign_in(self, login, password=PASSWORD):
        self.get("/sign-in")
        answer = self.client.post("/sign-in", data={"login": login, "password": password, "csrf_token": self.token})
        self.get("/")
        return answer


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
