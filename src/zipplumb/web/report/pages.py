"""Report: who can see it and believe it?"""

from __future__ import annotations

import base64
import binascii

from flask import Blueprint, Response, g, jsonify, render_template, request
from sqlalchemy import select
from sqlalchemy.orm import Session
from werkzeug.exceptions import NotFound

from ...core.errors import InputError
from ...jobs.plan import sheet
from ...jobs.report import making
from ...jobs.state.results import JobResults
from ...store.database import transaction
from ...store.models import Picture, Report
from .. import params
from ..answers import done, seen, seen_now
from ..doors import changes, reads
from ..sizes import takes
from ..stages import shows
from ..view import JobView

blueprint = Blueprint("report", __name__, url_prefix="/jobs/<int:job_id>")


@shows("report")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    pictures = session.scalars(select(Picture).where(Picture.job_id == state.job.id).order_by(Picture.id)).all()
    rules = making.RULE_WORDS.items()
    return render_template(
        "_report.html", view=view, pictures=pictures, reports=_reports(session, state.job.id), rules=rules,
        rule=state.job.rule, choices=[(row.id, f"{row.number} {row.name}", True) for row in view.rows],
    )  # fmt: skip


def _reports(session: Session, job_id: int) -> list[Report]:
    return list(session.scalars(select(Report).where(Report.job_id == job_id).order_by(Report.id.desc()).limit(6)))


@blueprint.post("/rule")
@changes
def decide(job_id: int):
    """Set the decision rule."""
    return seen_now("rule", sheet.set_rule(g.actor, job_id, request.form.get("rule", ""), seen()))


@blueprint.get("/reports")
@reads
def reports(job_id: int):
    with transaction() as session:
        return render_template("_reports.html", reports=_reports(session, job_id), job_id=job_id)


@blueprint.post("/reports")
@reads
def make(job_id: int):
    making.ask_report(g.actor, job_id, request.form.get("kind", ""), params.ids("row"))
    return reports(job_id)


@blueprint.get("/reports/<int:report_id>")
@reads
def file(job_id: int, report_id: int):
    with transaction() as session:
        found = session.get(Report, report_id)
        if found is None or found.job_id != job_id or found.data is None:
            raise NotFound()
        name = f"zip-plumb-job-{job_id}-report-{report_id}.{found.kind}"
        headers = {"Content-Disposition": f'attachment; filename="{name}"'}
        return Response(found.data, mimetype=making.FORMATS[found.kind].media_type, headers=headers)


@blueprint.post("/pictures")
@changes
@takes(12)
def keep(job_id: int):
    try:
        png = base64.b64decode(request.form.get("png", "").partition(",")[2], validate=True)
    except binascii.Error:
        raise InputError("That is no picture.", "Nothing was kept.", "Press “Keep this view” again.") from None
    picture_id = making.keep_picture(g.actor, job_id, png, request.form.get("caption", ""))
    return done() if request.headers.get("HX-Request") else jsonify(picture=picture_id)


@blueprint.get("/pictures/<int:picture_id>")
@reads
def picture(job_id: int, picture_id: int):
    with transaction() as session:
        found = session.get(Picture, picture_id)
        if found is None or found.job_id != job_id:
            raise NotFound()
        return Response(found.png, mimetype="image/png")


@blueprint.post("/pictures/<int:picture_id>/drop")
@changes
def drop(job_id: int, picture_id: int):
    making.drop_picture(g.actor, job_id, picture_id)
    return done()
