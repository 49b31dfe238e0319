"""Report: who can see it and believe it?"""

from __future__ import annotations

from functools import partial
from io import BytesIO
from typing import Any

from flask import Blueprint, Response, g, render_template, request, send_file, url_for
from sqlalchemy.orm import Session
from werkzeug.exceptions import NotFound

from ...core.fingerprints import fingerprint
from ...core.units import USUAL_NUMBERS, NumberStyle, written
from ...exchange.pdf_file import page_of
from ...jobs.editions import edition_of
from ...jobs.plan import sheet
from ...jobs.report import documents, making
from ...jobs.report.facts import RULE_WORDS
from ...jobs.report.office import links_of
from ...jobs.report.parts import KINDS
from ...jobs.report.pictures import key_of, pictures_of
from ...jobs.report.standing import fingerprint_of, standing_of
from ...jobs.report.tagging import kinds_told
from ...jobs.state.results import JobResults, as_it_stands
from ...store.database import snapshot, transaction
from ...store.reports import Picture, Report
from .. import params
from ..answers import done, go_on, seen, seen_now
from ..doors import changes, reads
from ..stages import shows
from ..view import JobView
from .parts import parts_shown, parts_typed

blueprint = Blueprint("report", __name__, url_prefix="/jobs/<int:job_id>")
MADE = 6  # files listed
# a page by itself, which needs and may do nothing
PREVIEW_POLICY = "default-src 'none'; style-src 'unsafe-inline'; img-src 'self' data:; font-src data:; frame-ancestors 'self'"
FORMATS = tuple((key, each.words) for key, each in making.FORMATS.items())


@shows("report")
def panel(session: Session, state: JobResults, view: JobView) -> str:
    job_id = state.job.id
    there = documents.documents_of(session, job_id)
    wanted = params.one_id("report")
    document = next((each for each in there if each.id == wanted), None) or documents.document_of(session, job_id, None)
    print_of = fingerprint_of(standing_of(session, state, document))
    kept = [(picture, _picture_at(print_of, picture)) for picture in pictures_of(session, job_id)]
    told = [getattr(document, field) for field in documents.FIELDS]
    shown = fingerprint(print_of, told, [address for _, address in kept])
    return render_template(
        "_report.html", view=view, pictures=kept, made=making.made_of(session, state, MADE),
        rules=RULE_WORDS.items(), rule=state.job.rule, documents=there, document=document, formats=FORMATS,
        edition=edition_of(document, *documents.FIELDS) if document.id else "", parts=parts_shown(document.parts),
        kinds=[(key, kind.noun) for key, kind in KINDS.items()], layouts=documents.layouts(session), state_of=print_of,
        links=links_of(session, job_id), shown=shown,
        told_kinds=kinds_told(state), choices=[(row.id, f"{row.number} {row.name}", True) for row in view.rows],
    )  # fmt: skip


def _picture_at(state_of: str, picture: Picture, numbers: NumberStyle = USUAL_NUMBERS) -> str:
    """Its address, another where it would be drawn otherwise."""
    told: dict[str, Any] = {} if numbers == USUAL_NUMBERS else {"decimals": numbers.decimals, "mark": numbers.mark}
    return url_for("pictured.picture", job_id=picture.job_id, picture_id=picture.id, of=key_of(state_of, picture), **told)


@blueprint.post("/rule")
@changes
def decide(job_id: int):
    """Set the decision rule."""
    return seen_now("rule", sheet.set_rule(g.actor, job_id, request.form.get("rule", ""), seen()))


@blueprint.get("/reports")
@reads
def reports(job_id: int):
    with snapshot() as session:
        made = making.made_of(session, as_it_stands(session, job_id), MADE)
        return render_template("_reports.html", made=made, job_id=job_id)


@blueprint.post("/reports")
@reads
def make(job_id: int):
    making.ask_report(g.actor, job_id, request.form.get("kind", ""), params.ids("row"), params.one_id("document"))
    return reports(job_id)


@blueprint.get("/reports/<int:report_id>")
@reads
def file(job_id: int, report_id: int):
    with transaction() as session:
        found = session.get(Report, report_id)
        if found is None or found.job_id != job_id or found.data is None:
            raise NotFound()
        kind = making.FORMATS[found.kind]
        name = f"zip-plumb-job-{job_id}-report-{found.number}.{kind.suffix}"
        return send_file(BytesIO(found.data), kind.media_type, as_attachment=True, download_name=name)


@blueprint.get("/preview")
@reads
def preview(job_id: int):
    """The report itself, as it would be made now."""
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        document = documents.document_of(session, job_id, params.one_id("report"))
        numbers = documents.numbers_of(document)
        with written(numbers):
            page = page_of(making.gathered(session, state, document, address=partial(_picture_at, numbers=numbers)))
    headers = {"Content-Security-Policy": PREVIEW_POLICY, "X-Frame-Options": "SAMEORIGIN"}
    return Response(page, mimetype="text/html", headers=headers)


@blueprint.post("/documents")
@changes
def begin(job_id: int):
    """A report of a name of its own."""
    made = documents.begin(g.actor, job_id, request.form.get("name", ""), params.one_id("layout"))
    return _shown(job_id, made)


@blueprint.post("/documents/arrange")
@changes
def arrange(job_id: int):
    """Its name, paper and parts, in their order."""
    document_id = params.one_id("document")
    with snapshot() as session:
        before = documents.document_of(session, job_id, document_id)
        stored_parts = list(before.parts)
    parts = parts_typed(stored_parts, request.form)
    form = request.form
    name = form.get("called", "") or before.name
    numbers = documents.numbers_typed(form.get("decimals", ""), form.get("mark", "."))
    return _shown(job_id, documents.arrange(g.actor, job_id, document_id, name, form.get("paper", ""), parts, seen(), numbers))


@blueprint.post("/documents/<int:document_id>/remove")
@changes
def remove(job_id: int, document_id: int):
    documents.remove(g.actor, job_id, document_id)
    return _shown(job_id, None)


@blueprint.post("/documents/<int:document_id>/layout")
@changes
def keep_layout(job_id: int, document_id: int):
    documents.keep_layout(g.actor, job_id, document_id, request.form.get("name", ""))
    return _shown(job_id, document_id)


@blueprint.post("/layouts/<int:layout_id>/drop")
@changes
def drop_layout(job_id: int, layout_id: int):
    documents.drop_layout(g.actor, layout_id)
    return done()


def _shown(job_id: int, document_id: int | None):
    """The report's page goes on to one of the job's reports."""
    return go_on(job_id, "report", report=document_id)
