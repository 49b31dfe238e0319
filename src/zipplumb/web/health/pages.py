"""Whether it runs: a word for machines, a page for people."""

from __future__ import annotations

from flask import Blueprint, jsonify, render_template

from ...jobs.health import STALE_S, health
from ..doors import reads, unguarded

blueprint = Blueprint("health", __name__)


@blueprint.get("/health")
@unguarded
def word():
    """200 where all is well, else 503; it says nothing more to strangers."""
    good = health().good
    return jsonify(good=good), 200 if good else 503


@blueprint.get("/state")
@reads
def state():
    return render_template("state.html", health=health(), stale_s=STALE_S)
