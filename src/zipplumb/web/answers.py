"""Answers of routes without a page of their own: a change was made, the next page, permission to listen."""

from __future__ import annotations

import json
from typing import Any

from flask import Response, jsonify, render_template, request, url_for
from flask_login import current_user

# of an answer that is no page: what its asker may listen to, and the session with which that ends
LISTEN, OF_SESSION = "X-Live", "X-Of-Session"


def done():
    """A change was made: the live events carry what follows from it."""
    if request.headers.get("HX-Request"):
        return "", 204
    return jsonify(ok=True)


def seen() -> str:
    """The edition that the page had seen of what it changes; of one that says nothing, none that there is."""
    return request.form.get("seen", "")


def seen_now(of: object, edition: str) -> str:
    """A change was made: the page may go on editing, it has seen its own."""
    return render_template("_seen.html", of=of, seen=edition, oob=True)


def go_on(job_id: int, stage: str, **shown: Any):
    """A change was made: the slip goes on to a stage's page, which shows what is named; the rest stays."""
    place = {"path": url_for("job.page", job_id=job_id, stage=stage, **shown), "target": "#slip"}
    return "", 200, {"HX-Location": json.dumps(place)}


def in_slip(address: str):
    """A change was made: the slip shows what is at an address as it is now; the page stays."""
    return "", 200, {"HX-Location": json.dumps({"path": address, "target": "#slip", "push": False})}


def may_listen(to: str) -> Response:
    """The answer of a route that lets its asker listen: to "job 5", or to "kit"."""
    return Response("", headers={LISTEN: to, OF_SESSION: current_user.get_id() or ""})
