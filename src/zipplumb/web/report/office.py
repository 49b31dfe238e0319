"""A job's reports for an office's own programs, by an address with a secret in it (docs/formats.md)."""

from __future__ import annotations

from io import BytesIO

from flask import Blueprint, abort, current_app, g, jsonify, make_response, render_template, request, send_file, url_for
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...jobs.report import documents, making, office
from ...jobs.state.results import as_it_stands
from ...store.database import snapshot
from ...store.reports import Report
from ..answers import done
from ..doors import changes, unguarded

blueprint = Blueprint("office", __name__)
LISTED = 200
GONE = {"error": "This link opens nothing: it was withdrawn, or never was. Ask who gave it to you for another."}
NOTHING = {"error": "There is no such report. The list of them is at the same address, with /reports behind the secret."}


def _opened(session: Session, token: str) -> int:
    """The job of a link; of one that opens nothing the answer is that."""
    job_id = office.job_of(session, token)
    if job_id is None:
        abort(make_response(jsonify(GONE), 404))
    return job_id


@blueprint.get("/office/<token>/reports")
@unguarded
def reports(token: str):
    """The files that were made, the latest first."""
    with snapshot() as session:
        job_id = _opened(session, token)
        state = as_it_stands(session, job_id)
        made = making.made_of(session, state, LISTED)
        told = [
            {"number": each.number, "kind": each.kind, "name": each.name, "fingerprint": each.fingerprint,
             "as_the_job_stands": not each.changed, "changed": list(each.changed),
             "address": url_for("office.file", token=token, number=each.number)}
            for each in made if each.state == "ready"
        ]  # fmt: skip
        names = [document.name for document in documents.documents_of(session, job_id)]
        return jsonify(job=state.job.name, reports=told, documents=names or [documents.USUAL_NAME])


@blueprint.get("/office/<token>/reports/<int:number>")
@unguarded
def file(token: str, number: int):
    """One of them."""
    with snapshot() as session:
        job_id = _opened(session, token)
        found = session.scalar(select(Report).where(Report.job_id == job_id, Report.number == number))
        if found is None or found.data is None:
            return jsonify(NOTHING), 404
        kind = making.FORMATS[found.kind]
        return send_file(BytesIO(found.data), kind.media_type, download_name=f"report-{number}.{kind.suffix}")


@blueprint.get("/office/<token>/now.<suffix>")
@unguarded
def now(token: str, suffix: str):
    """A report as the job stands, of the kinds that are quickly made; ``report``: its name."""
    with snapshot() as session:
        job_id = _opened(session, token)
        wanted = request.args.get("report", "")
        named = next((each for each in documents.documents_of(session, job_id) if each.name == wanted), None)
        kind = next((each for each in making.FORMATS.values() if each.quick and each.suffix == suffix), None)
        if kind is None or (wanted and named is None and wanted != documents.USUAL_NAME):
            return jsonify(NOTHING), 404
        state = as_it_stands(session, job_id)
        document = named or documents.document_of(session, job_id, None)
        data = kind.made(session, state, document, None)
        return send_file(BytesIO(data), kind.media_type, download_name=f"report.{suffix}")


@blueprint.post("/jobs/<int:job_id>/office")
@changes
def make(job_id: int):
    """A link, shown once."""
    root = current_app.config["ADDRESS"] or request.url_root  # what the browser says of where it is may be made up
    token = office.make_link(g.actor, job_id, request.form.get("name", ""))
    address = root.rstrip("/") + url_for("office.reports", token=token)
    return render_template("_office_link.html", address=address)


@blueprint.post("/jobs/<int:job_id>/office/<int:link_id>/withdraw")
@changes
def withdraw(job_id: int, link_id: int):
    office.withdraw(g.actor, job_id, link_id)
    return done()
