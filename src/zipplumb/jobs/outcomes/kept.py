"""What was found of a piece, kept until something that it rests on changes: many are looked at without working them out."""

from __future__ import annotations

import math
from collections.abc import Collection
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import bindparam, or_, text
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from ...core.sheet import Characteristic, SheetRow
from ...exchange.table import RowText
from ...store.database import only_reads, stored, tell, transaction
from ...store.models import Job, Row
from ...store.pieces import Outcome
from ..queue import defer
from ..state.results import JobResults, load
from ..state.rows_text import row_texts

ASKED_AGAIN = timedelta(seconds=60)  # what was asked for and is not there by then is asked for once more
AT_ONCE, RESTING_S = 20, 20  # pieces that one look takes, and since when nothing may have changed in them
# whatever can change a result: acts on a piece, readings, scans that are worked out, and calibrations taken for others.
# Counts beside the highest numbers: a number may be taken long before it is seen by others.
EDITIONS = """
SELECT jobs.id, concat_ws('-',
  (SELECT count(*) || ':' || coalesce(max(id), 0) FROM changes WHERE changes.job_id = jobs.id),
  (SELECT count(*) || ':' || coalesce(max(id), 0) FROM readings WHERE readings.job_id = jobs.id),
  (SELECT count(*) FROM clouds WHERE clouds.job_id = jobs.id AND state <> 'making'),
  (SELECT count(*) || ':' || count(taken_back_at) FROM recalibrations)) AS edition
FROM jobs"""
OF_THESE = text(f"{EDITIONS} WHERE jobs.id IN :pieces").bindparams(bindparam("pieces", expanding=True))
# of pieces in which something has changed since, and nothing does any more; a scan may be worked out long after it was asked
AT_REST = text(f"""
WITH since AS (
  SELECT jobs.id FROM jobs LEFT JOIN outcomes ON outcomes.piece_id = jobs.id
  WHERE jobs.removed_at IS NULL
    AND (outcomes.asked_at IS NULL OR outcomes.asked_at < now() - interval '1 minute')
    AND NOT EXISTS (SELECT FROM changes WHERE changes.job_id = jobs.id AND changes.at > now() - make_interval(secs => :rest))
    AND (outcomes.piece_id IS NULL OR outcomes.edition = ''
      OR EXISTS (SELECT FROM changes WHERE changes.job_id = jobs.id AND changes.at > outcomes.at)
      OR EXISTS (SELECT FROM clouds WHERE clouds.job_id = jobs.id AND clouds.at > outcomes.at - interval '1 hour')
      OR EXISTS (SELECT FROM recalibrations WHERE greatest(recalibrations.at, taken_back_at) > outcomes.at)))
SELECT editions.id FROM ({EDITIONS} WHERE jobs.id IN (SELECT id FROM since)) AS editions
LEFT JOIN outcomes ON outcomes.piece_id = editions.id
WHERE outcomes.edition IS DISTINCT FROM editions.edition ORDER BY editions.id DESC LIMIT :most""")


def editions(session: Session, pieces: Collection[int]) -> dict[int, str]:
    """By piece, a name of all that its results rest on: another one where they may be others."""
    return {piece: edition for piece, edition in session.execute(OF_THESE, {"pieces": list(pieces)})} if pieces else {}


def outcomes_of(session: Session, pieces: Collection[int]) -> dict[int, Outcome]:
    """Those that are as the pieces stand. Of the others, which are not in it, the worker is asked."""
    now = editions(session, pieces)
    found = {each.piece_id: each for each in session.query(Outcome).filter(Outcome.piece_id.in_(list(pieces)))}
    fresh = {piece: found[piece] for piece, edition in now.items() if piece in found and found[piece].edition == edition}
    if not only_reads(session):
        _ask(session, sorted(now.keys() - fresh.keys()))
    return fresh


def _ask(session: Session, pieces: Collection[int]) -> None:
    """Once, however many look at the same time."""
    if not pieces:
        return
    now = datetime.now(UTC)
    wanted = insert(Outcome).values([{"piece_id": piece, "asked_at": now} for piece in pieces])
    waits = or_(Outcome.asked_at.is_(None), Outcome.asked_at < now - ASKED_AGAIN)
    wanted = wanted.on_conflict_do_update(index_elements=[Outcome.piece_id], set_={"asked_at": now}, where=waits)
    for piece in session.scalars(wanted.returning(Outcome.piece_id)).all():
        defer(session, "keep_outcome", piece_id=piece)


def look_around() -> None:
    """Ask for what was found of pieces in which something has changed, once nothing more does."""
    with transaction() as session:
        pieces = [piece for (piece,) in session.execute(AT_REST, {"rest": RESTING_S, "most": AT_ONCE})]
        outcomes_of(session, pieces)


def keep_outcome(piece_id: int) -> None:
    """Work out what was found of a piece, and keep it (in the worker)."""
    with transaction() as session:
        keep(session, piece_id)
        tell(session, stored(session, Job, piece_id).of_job, "outcome", piece=piece_id)


def left(piece_id: int) -> None:
    """No try came to an end: it is asked for again when somebody looks."""


def keep(session: Session, piece_id: int) -> Outcome:
    """What was found of a piece, as it stands now, within a transaction."""
    edition = editions(session, [piece_id])[piece_id]  # before: what comes in between makes it stale
    state = load(session, piece_id)
    texts = row_texts(state)
    plan = {row.id: row.in_plan for row in session.query(Row).filter(Row.job_id == piece_id, Row.removed_at.is_(None))}
    words: dict[str, int] = {}
    for each in texts.values():
        words[each.word] = words.get(each.word, 0) + 1
    told = {
        "edition": edition, "asked_at": None, "at": datetime.now(UTC), "out": words.get("out", 0), "words": words,
        "rows": [_row(state, row, texts[row.id], plan.get(row.id, row.id)) for row in state.rows],
    }  # fmt: skip
    kept = insert(Outcome).values(piece_id=piece_id, **told).on_conflict_do_update(index_elements=["piece_id"], set_=told)
    session.execute(kept)
    return session.get_one(Outcome, piece_id, populate_existing=True)


def _row(state: JobResults, row: SheetRow, told: RowText, plan_row: int) -> dict[str, Any]:
    found = state.results[row.id]
    labels = [each.label for each in told.characteristics]
    chars = [
        _characteristic(row, c, label) for c, label in zip(found.characteristics, labels, strict=True) if c.actual is not None
    ]  # fmt: skip
    return {"row": plan_row, "name": told.name, "kind": told.kind, "word": told.word, "chars": chars}


def _characteristic(row: SheetRow, found: Characteristic, label: str) -> dict[str, Any]:
    """In mm and rad, in the terms of the drawing."""
    factor = row.recipe.share_of(found.key)

    def value(number: float | None) -> float | None:
        return None if number is None or not math.isfinite(number) else factor * number

    return {
        "key": found.key, "of": found.of, "label": label, "unit": found.unit, "nominal": value(found.nominal),
        "actual": value(found.actual), "deviation": None if found.held else value(found.deviation), "lower": value(found.lower),
        "upper": value(found.upper), "U": value(found.U), "word": found.verdict.word if found.verdict else "",
    }  # fmt: skip
