"""The fitter's page: a phone at the jig, one detail, large numbers, no account."""

from __future__ import annotations

import io

import segno
from flask import Blueprint, current_app, g, render_template, request, url_for
from markupsafe import Markup
from sqlalchemy.orm import Session

from ...jobs.place import fitter
from ...jobs.place.details import placed
from ...jobs.state.results import as_it_stands
from ...store.database import snapshot
from ...store.models import Detail
from ..answers import done, may_listen
from ..doors import changes, unguarded
from .fitter_now import now_html

blueprint = Blueprint("fitter", __name__)


@blueprint.get("/fit/<token>")
@unguarded
def page(token: str):
    with snapshot() as session:
        detail = _detail(session, token)
        if detail is None:
            return render_template("fitter_gone.html"), 404
        state = as_it_stands(session, detail.job_id)
        return render_template(
            "fitter.html", token=token, name=detail.recipe["name"], now=now_html(state, placed(state, detail))
        )


def _detail(session: Session, token: str) -> Detail | None:
    link = fitter.link_of(session, token)
    return None if link is None else fitter.detail_of(session, link.id)


@blueprint.get("/fit/<token>/live")
@unguarded
def live(token: str):
    """Who may listen to what happens at that detail, and to nothing else."""
    with snapshot() as session:
        link = fitter.link_of(session, token)
        detail = None if link is None else fitter.detail_of(session, link.id)
        if link is None or detail is None:
            return render_template("fitter_gone.html"), 404
        return may_listen(f"link {detail.job_id} {link.id}")


@blueprint.post("/jobs/<int:job_id>/details/<int:detail_id>/links")
@changes
def make(job_id: int, detail_id: int):
    """A link, shown once, with its code to be scanned."""
    root = current_app.config["ADDRESS"] or request.url_root  # what the browser says of where it is may be made up
    address = root.rstrip("/") + url_for("fitter.page", token=fitter.make_link(g.actor, job_id, detail_id))
    drawn = io.BytesIO()
    segno.make(address, error="m").save(drawn, kind="svg", scale=5, border=2, xmldecl=False, svgns=True, dark="#1F2933")
    return render_template("_fitter_link.html", address=address, code=Markup(drawn.getvalue().decode()))


@blueprint.post("/jobs/<int:job_id>/details/<int:detail_id>/withdraw")
@changes
def withdraw(job_id: int, detail_id: int):
    fitter.withdraw(g.actor, job_id, detail_id)
    return done()
