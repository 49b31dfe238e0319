"""Reports by their names: put together from parts, kept, and taken over as a layout."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any, cast, get_args

from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.units import USUAL_NUMBERS, NumberStyle, whole_number
from ...exchange.document import Document as PutTogether
from ...exchange.document import Paper, Stood
from ...store.database import stored, tell, transaction
from ...store.models import Job
from ...store.reports import Document, Layout
from ..actor import Actor, record
from ..editions import edition_of, must_be_as_seen
from ..plan.adding import names_of
from .facts import RULE_WORDS
from .parts import KINDS, Gathering, Part

USUAL_NAME, LONGEST_NAME = "Report", 80
USUAL_ORDER = (
    "heading", "summary", "pieces", "pictures", "about", "rows", "holes", "maps", "sections", "stations", "details", "notes",
    "signatures",
)  # fmt: skip
MOST_PARTS, MOST_DOCUMENTS = 40, 50
KEPT = "The report was left as it was."
FIELDS = ("name", "parts", "paper", "decimals", "mark")
MOST_DECIMALS = 6


def usual_parts() -> list[dict[str, Any]]:
    """The parts of a report of which nobody said anything."""
    return [{"kind": kind} for kind in USUAL_ORDER if KINDS[kind].usual]


def part_of(raw: Mapping[str, Any]) -> Part:
    """Raises InputError."""
    kind = KINDS.get(str(raw.get("kind", "")))
    if kind is None:
        raise InputError("A report has no such part.", KEPT, "Choose one of the list.")
    try:
        return kind.model_validate(dict(raw))
    except ValidationError as error:
        what = ".".join(str(each) for each in error.errors()[0]["loc"])
        raise InputError(f"{kind.noun}: {what} cannot be so.", KEPT, "Correct it.") from None


def documents_of(session: Session, job_id: int) -> list[Document]:
    """Those of a job, the first made first."""
    return list(session.scalars(select(Document).where(Document.job_id == job_id).order_by(Document.id)))


def usual_document(job_id: int) -> Document:
    """The report of a job that has none, which is not kept."""
    return Document(job_id=job_id, name=USUAL_NAME, parts=usual_parts(), paper="A4", mark=".")


def document_of(session: Session, job_id: int, document_id: int | None) -> Document:
    """One of a job; None: its first, or, where it has none, the usual one, which is not kept. Raises InputError."""
    if document_id is None:
        found = next(iter(documents_of(session, job_id)), None)
        return found or usual_document(job_id)
    document = session.get(Document, document_id)
    if document is None or document.job_id != job_id:
        raise InputError("That report is not in this job any more.", KEPT, "Choose another.")
    return document


def put_together(document: Document, of: Gathering, number: int, fingerprint: str) -> PutTogether:
    """The report as the job stands now."""
    parts = [part_of(raw) for raw in document.parts]
    sections = [section for part in parts if (section := part.gather(of)) is not None]
    job = of.state.job
    title = job.called if document.name == USUAL_NAME else f"{job.called}: {document.name}"
    now = datetime.now(UTC).strftime("%Y-%m-%d %H:%M UTC")
    stood = Stood(number, now, fingerprint, RULE_WORDS[job.rule])
    return PutTogether(title, job.units, sections, stood, cast(Paper, document.paper), numbers_of(document))


def numbers_of(document: Document) -> NumberStyle:
    """How its numbers are written."""
    return NumberStyle(document.decimals, "," if document.mark == "," else ".")


def numbers_typed(decimals: str, mark: str) -> NumberStyle:
    """As a form says it, "" for the usual decimals. Raises InputError."""
    known = None if not decimals.strip() else whole_number(decimals, MOST_DECIMALS)
    if (known is None and decimals.strip()) or mark not in (".", ","):
        raise InputError(
            f"Numbers have 0 to {MOST_DECIMALS} decimals, and a point or a comma before them.", KEPT, "Choose of these."
        )
    return NumberStyle(known, "," if mark == "," else ".")


def begin(actor: Actor, job_id: int, name: str, layout_id: int | None = None, parts: Sequence[Any] | None = None) -> int:
    """A new report, of the parts of a layout, of others, or of the usual ones. Returns its id. Raises InputError."""
    actor.must_change()
    name = _name(name)
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        layout = None if layout_id is None else session.get(Layout, layout_id)
        if layout_id is not None and layout is None:
            raise InputError("That layout is not there any more.", "Nothing was begun.", "Choose another.")
        given = usual_parts() if parts is None else list(parts)
        document = Document(job_id=job_id, name=name, parts=given, paper="A4", mark=".")
        if layout is not None:
            document.parts, document.paper = layout.parts, layout.paper
            document.decimals, document.mark = layout.decimals, layout.mark
        return _kept(session, actor, document)


def arrange(
    actor: Actor, job_id: int, document_id: int | None, name: str, paper: str, parts: Sequence[Mapping[str, Any]],
    seen: str | None = None, numbers: NumberStyle = USUAL_NUMBERS,
) -> int:  # fmt: skip
    """What a report (None: the job's first, or the usual one) is called, its paper, how its numbers are written, and its
    parts in their order. Returns its id. Raises InputError."""
    actor.must_change()
    name = _name(name)
    if paper not in get_args(Paper):
        raise InputError("A report is on A4 or Letter.", KEPT, "Choose one of them.")
    if len(parts) > MOST_PARTS:
        raise InputError(f"A report has up to {MOST_PARTS} parts.", KEPT, "Put them into two reports.")
    made = [part_of(raw) for raw in parts]
    found = [part.model_dump(mode="json") for part in made]
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        _must_name_rows(made, names_of(session, job_id))
        document = document_of(session, job_id, document_id)
        if document.id is not None:
            must_be_as_seen(edition_of(document, *FIELDS), seen, f"The report {document.name}")
        document.name, document.paper, document.parts = name, paper, found
        document.decimals, document.mark = numbers.decimals, numbers.mark
        return _kept(session, actor, document)


def _must_name_rows(parts: Sequence[Part], names: Sequence[str]) -> None:
    """Raises InputError where a part names a row that is not there."""
    for part in parts:
        unknown = part.unknown(names)
        if unknown:
            raise InputError(f"{part.noun}: no row is called “{unknown[0]}”.", KEPT, "Type names as they stand on the sheet.")


def give_logo(actor: Actor, job_id: int, document_id: int | None, picture_id: int) -> int:
    """A logo for the title block of a report, which it gets where it has none. Returns the report. Raises InputError."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        document = document_of(session, job_id, document_id)
        parts = list(document.parts)
        at = next((k for k, raw in enumerate(parts) if raw["kind"] == "heading"), None)
        if at is None:
            parts.insert(0, {"kind": "heading"})
        document.parts = [{**raw, "logo": picture_id} if k == (at or 0) else raw for k, raw in enumerate(parts)]
        return _kept(session, actor, document)


def _kept(session: Session, actor: Actor, document: Document) -> int:
    """Keep a report, new or changed. Returns its id. Raises InputError where its name is another's, or there are too many."""
    with session.no_autoflush:
        others = [each for each in documents_of(session, document.job_id) if each is not document]
    if any(each.name == document.name for each in others):
        raise InputError(f"There is a report called {document.name} already.", KEPT, "Choose another name.")
    if document.id is None and len(others) >= MOST_DOCUMENTS:
        raise InputError(f"A job has up to {MOST_DOCUMENTS} reports.", "No more was begun.", "Remove one that is not needed.")
    session.add(document)
    session.flush()
    record(session, actor, document.job_id, "arrange report", document=document.id, name=document.name)
    tell(session, document.job_id, "report")
    return document.id


def remove(actor: Actor, job_id: int, document_id: int) -> None:
    """What was made of it is kept. Raises InputError."""
    actor.must_change()
    with transaction() as session:
        session.delete(document_of(session, job_id, document_id))
        record(session, actor, job_id, "remove report", document=document_id)
        tell(session, job_id, "report")


def layouts(session: Session) -> list[Layout]:
    return list(session.scalars(select(Layout).order_by(Layout.name)))


def keep_layout(actor: Actor, job_id: int, document_id: int, name: str) -> int:
    """Keep the parts of a report for other jobs, in the place of a layout of the same name; what is of this job's own rows and
    pictures is left out. Returns its id. Raises InputError."""
    actor.must_change()
    name = _name(name)
    with transaction() as session:
        document = document_of(session, job_id, document_id)
        kept = [{k: v for k, v in raw.items() if k not in OWN} for raw in document.parts]
        layout = session.scalars(select(Layout).where(Layout.name == name)).first() or Layout(name=name)
        layout.parts, layout.paper, layout.by = kept, document.paper, actor.id
        layout.decimals, layout.mark = document.decimals, document.mark
        session.add(layout)
        session.flush()
        record(session, actor, job_id, "keep layout", layout=layout.id, name=name)
        return layout.id


def drop_layout(actor: Actor, layout_id: int) -> None:
    actor.must_change()
    with transaction() as session:
        layout = session.get(Layout, layout_id)
        if layout is not None:
            session.delete(layout)
            record(session, actor, None, "drop layout", name=layout.name)


OWN = ("rows", "pictures", "logo")  # fields that name what is of one job


def _name(text: str) -> str:
    name = " ".join(text.split())
    if not name or len(name) > LONGEST_NAME or not name.isprintable():
        raise InputError(f"A name is 1 to {LONGEST_NAME} letters.", KEPT, "Type one.")
    return name
