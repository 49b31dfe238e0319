"""A browser without scripts, for tests of pages."""

from __future__ import annotations

import html
import re

from zipplumb.demo.seed import PASSWORD


class Visitor:
    """A browser without scripts: keeps its cookies, and sends the page's own token."""

    def __init__(self, app, address="127.0.0.1"):
        self.client = app.test_client()
        self.client.environ_base["REMOTE_ADDR"] = address
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


def words(answer) -> str:
    """What is read on a page."""
    return " ".join(html.unescape(re.sub(r"<[^>]+>", " ", answer.get_data(as_text=True))).split())
