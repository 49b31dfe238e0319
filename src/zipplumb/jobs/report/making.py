"""Files of reports, made in the worker."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session, undefer

from ...core.errors import InputError
from ...core.units import written
from ...exchange.csv_file import write_csv
from ...exchange.document import Document as PutTogether
from ...exchange.json_file import write_json
from ...exchange.page_file import write_page
from ...exchange.pdf_file import write_pdf
from ...exchange.text_file import write_text
from ...exchange.xlsx_file import write_xlsx
from ...store.database import stored, tell, transaction
from ...store.models import Job
from ...store.reports import Document, Picture, Report
from ..actor import Actor, record
from ..plan.callouts import model_with_tolerances
from ..queue import defer, said_where_it_fails
from ..state.results import JobResults, load
from .documents import USUAL_NAME, begin, document_of, documents_of, numbers_of, put_together, usual_document
from .on_model import model_shown
from .parts import Gathering
from .standing import fingerprint_of, standing_of, what_changed

NOT_MADE = "It could not be made. The job is untouched. Try again."
OVER_PIECES, OVER_PARTS = "Over pieces", ({"kind": "heading"}, {"kind": "pieces"}, {"kind": "signatures"})
MOST_AT_ONCE = 4  # reports in the making, of one job


def _must_be_known(kind: str) -> None:
    """Raises InputError where it is no key of ``FORMATS``."""
    if kind not in FORMATS:
        raise InputError(f"A report is {WORDS_OF_ALL}.", "Nothing was made.", "Choose one of these.")


def ask_report(actor: Actor, job_id: int, kind: str, row_ids: Sequence[int] = (), document_id: int | None = None) -> int:
    """Note a file to be made of a report (None: the job's first), of the chosen rows (none: all). Returns its id."""
    _must_be_known(kind)
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        known = {r.id for r in state.rows}
        if not set(row_ids) <= known:
            raise InputError("A chosen row is not in this job any more.", "Nothing was made.", "Choose the rows again.")
        document = document_of(session, job_id, document_id)
        waiting = select(func.count()).select_from(Report).where(Report.job_id == job_id, Report.state == "making")
        if (session.scalar(waiting) or 0) >= MOST_AT_ONCE:
            raise InputError(f"{MOST_AT_ONCE} reports of this job are being made.", "No more was asked for.", "Wait for them.")
        number = (session.scalar(select(func.max(Report.number)).where(Report.job_id == job_id)) or 0) + 1
        report = Report(
            job_id=job_id, kind=kind, rows=sorted(row_ids), by=actor.id, number=number, document_id=document.id
        )  # fmt: skip
        session.add(report)
        session.flush()
        record(session, actor, job_id, "report", report=report.id, kind=kind)
        defer(session, "make_report", report_id=report.id)
        return report.id


def ask_over_pieces(actor: Actor, job_id: int, kind: str) -> int:
    """Note a file to be made of the report over all pieces, which is begun where a piece has none. Returns its id."""
    _must_be_known(kind)
    with transaction() as session:
        there = next((each.id for each in documents_of(session, job_id) if each.name == OVER_PIECES), None)
    return ask_report(actor, job_id, kind, (), begin(actor, job_id, OVER_PIECES, parts=OVER_PARTS) if there is None else there)


def make_report(report_id: int) -> None:
    """Make an asked report (in the worker); what went wrong is said on the report itself."""
    with said_where_it_fails(f"report {report_id}", partial(_failed, report_id), NOT_MADE), transaction() as session:
        report = stored(session, Report, report_id)
        state = load(session, report.job_id)
        document = document_of(session, report.job_id, report.document_id)
        report.standing = standing_of(session, state, document, fresh=True)
        report.fingerprint = fingerprint_of(report.standing)
        with written(numbers_of(document)):
            report.data = FORMATS[report.kind].made(session, state, document, report)
        report.state = "ready"
        tell(session, report.job_id, "report", report=report_id)


def _failed(report_id: int, words: str) -> None:
    with transaction() as session:
        report = stored(session, Report, report_id, lock=True)
        if report.state != "making":
            return
        report.state, report.message = "failed", words
        tell(session, report.job_id, "report", report=report_id)


def report_left(report_id: int) -> None:
    """No try to make it came to an end."""
    _failed(report_id, "Making it ended the worker each time. The job is untouched. Choose fewer rows.")


@dataclass(frozen=True)
class MadeReport:
    """A file that was made, or is being made. ``changed``: why it is out of date, a sentence each."""

    id: int
    kind: str
    number: int
    name: str
    at: str
    state: str
    message: str
    fingerprint: str
    changed: tuple[str, ...]


def made_of(session: Session, state: JobResults, most: int) -> list[MadeReport]:
    """The latest files of a job, with what has changed since each."""
    mine = select(Report).where(Report.job_id == state.job.id).order_by(Report.id.desc()).limit(most)
    mine = mine.options(undefer(Report.standing))
    there: dict[int | None, Document] = {each.id: each for each in documents_of(session, state.job.id)}
    now: dict[int | None, Mapping] = {}
    found = []
    for report in session.scalars(mine):
        document = there.get(report.document_id)
        if report.document_id not in now:
            now[report.document_id] = standing_of(session, state, document or usual_document(state.job.id))
        changed = tuple(what_changed(report.standing, now[report.document_id])) if report.state == "ready" else ()
        name = FORMATS[report.kind].words if report.kind in FORMATS else report.kind
        found.append(
            MadeReport(
                report.id, report.kind, report.number, f"{document.name}, {name}" if document is not None else name,
                f"{report.at:%H:%M:%S}", report.state, report.message, report.fingerprint, changed,
            )
        )  # fmt: skip
    return found


def gathered(
    session: Session, state: JobResults, document: Document, report: Report | None = None, pictures: bool = True,
    address: Callable[[str, Picture], str] | None = None,
) -> PutTogether:  # fmt: skip
    """A report put together as the job stands.

    ``report``: the file that is made of it; ``pictures``: with those; ``address``: of a picture in such a state of the job, of
    a report that is looked at: it is drawn when it is asked for there.
    """
    by, rows, number = (None, (), 0) if report is None else (report.by, report.rows, report.number)
    print_of = fingerprint_of(standing_of(session, state, document)) if report is None else report.fingerprint
    at = None if address is None else partial(address, print_of)
    return put_together(document, Gathering(session, state, by, rows, pictures, at), number, print_of)


Made = Callable[[Session, JobResults, Document, Report | None], bytes]


@dataclass(frozen=True)
class Kind:
    """A kind of file: its media type, what it is called, the end of its name, and what makes it. ``quick``: at once, also while
    somebody waits."""

    media_type: str
    words: str
    suffix: str
    made: Made
    quick: bool = False


def _drawn(write: Callable[[PutTogether], bytes]) -> Made:
    return lambda session, state, document, report: write(gathered(session, state, document, report))


def _numbers(write: Callable[[PutTogether], bytes]) -> Made:
    """Of what has no pictures."""
    return lambda session, state, document, report: write(gathered(session, state, document, report, pictures=False))


def _page(session: Session, state: JobResults, document: Document, report: Report | None) -> bytes:
    return write_page(gathered(session, state, document, report), model_shown(state, () if report is None else report.rows))


def _step(session: Session, state: JobResults, document: Document, report: Report | None) -> bytes:
    return model_with_tolerances(session, state)


XLSX = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
FORMATS: dict[str, Kind] = {
    "pdf": Kind("application/pdf", "PDF", "pdf", _drawn(write_pdf)),
    "xlsx": Kind(XLSX, "XLSX", "xlsx", _numbers(write_xlsx), quick=True),
    "csv": Kind("text/csv; charset=utf-8", "CSV", "csv", _numbers(write_csv), quick=True),
    "text": Kind("text/plain; charset=utf-8", "Text in columns", "txt", _numbers(write_text), quick=True),
    "json": Kind("application/json", "JSON", "json", _numbers(write_json), quick=True),
    "page": Kind("text/html; charset=utf-8", "Page with the model", "html", _page),
    "step": Kind("model/step", "Model with tolerances (STEP)", "step", _step),
}
WORDS_OF_ALL = ", ".join(each.words for each in FORMATS.values())


def made_now(job: str, kind: str, name: str | None) -> bytes:
    """A file of a job's report, as it stands. ``job``: its name or number; ``name``: of the report, None for its first. Raises
    InputError for what is not there."""
    nothing = "Nothing was made."
    if kind not in FORMATS:
        raise InputError(f"There is no report of the kind {kind}.", nothing, f"Choose of {', '.join(FORMATS)}.")
    with transaction() as session:
        called = or_(Job.name == job, func.concat(Job.name, ", ", Job.serial) == job)
        wanted = Job.id == int(job) if job.isdecimal() and len(job) < 10 else called
        found = session.scalars(select(Job.id).where(wanted, Job.removed_at.is_(None))).all()
        if len(found) != 1:
            many = "No job is" if not found else "Several jobs or pieces are"
            raise InputError(f"{many} called {job}.", nothing, "Give its number, or its name, a comma and the serial number.")
        there = documents_of(session, found[0])
        document = next((each for each in there if each.name == name), None)
        if document is None and name not in (None, USUAL_NAME):
            raise InputError(f"The job has no report called {name}.", nothing, f"Choose of {', '.join(d.name for d in there)}.")
        state = load(session, found[0])
        document = document or document_of(session, found[0], None)
        with written(numbers_of(document)):
            return FORMATS[kind].made(session, state, document, None)
