"""What routes answer that show no page of their own: that a change was made, where to go on, what may be listened to."""

from __future__ import annotations

import json

from flask import Response, jsonify, request, url_for

LISTEN = "X-Live"  # of an answer that is no page: what its asker may listen to


def done():
    """A change was made: the live events carry what follows from it."""
    if request.headers.get("HX-Request"):
        return "", 204
    return jsonify(ok=True)


def go_on(job_id: int, stage: str):
    """A change was made: the slip goes on to a stage's page; the rest of the page stays."""
    place = {"path": url_for("job.page", job_id=job_id, stage=stage), "target": "#slip"}
    return "", 200, {"HX-Location": json.dumps(place)}


def may_listen(to: str) -> Response:
    """The answer of a route that lets its asker listen: to "job 5", or to "kit"."""
    return Response("", headers={LISTEN: to})
