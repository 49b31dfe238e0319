"""Of which state of a job a file was made, and what has changed since."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Text, cast, func, select
from sqlalchemy.orm import Session

from ...core.fingerprints import fingerprint
from ...store.pieces import Outcome
from ...store.reports import Document
from ..outcomes.over import pieces_of, together
from ..state.results import JobResults
from .parts import KINDS

SHORT = 8  # letters of a fingerprint that stand for one row
NAMED = 4  # rows in a sentence


def standing_of(session: Session, state: JobResults, document: Document, fresh: bool = False) -> dict[str, Any]:
    """What a report rests on: recipes and readings of every row, how it is told, its parts, and, where it is of all pieces,
    what was found of the others. ``fresh``: that is worked out anew where it changed. For ``what_changed``."""
    job = state.job
    rows = {
        str(row.id): fingerprint(row.digest, state.readings[row.id].digest if row.id in state.readings else "")[: 2 * SHORT]
        for row in state.rows
    }
    names = {str(row.id): row.recipe.name for row in state.rows}
    told = {"units": job.units, "rule": job.rule, "alignment": job.alignment_row_id}
    kit = fingerprint(*sorted(each.digest for each in state.kit.calibrations.values()))
    standing = {
        "rows": rows,
        "names": names,
        "told": told,
        "kit": kit,
        "parts": fingerprint(document.parts),
        "order": fingerprint(*rows),
    }
    if document.decimals is not None or document.mark == ",":
        standing["numbers"] = f"{document.decimals} {document.mark}"
    if any(KINDS[part["kind"]].over_pieces for part in document.parts):
        standing["pieces"] = _others(session, job.id, fresh)
    return standing


def _others(session: Session, piece_id: int, fresh: bool) -> str:
    if fresh:
        together(session, piece_id, at_once=True)
    ids = [piece.id for piece in pieces_of(session, piece_id) if piece.id != piece_id]
    found = select(Outcome.piece_id, func.md5(cast(Outcome.rows, Text))).where(Outcome.piece_id.in_(ids))
    return fingerprint(*(f"{piece} {rows}" for piece, rows in session.execute(found.order_by(Outcome.piece_id))))


def fingerprint_of(standing: Mapping[str, Any]) -> str:
    """A short name for it, the same for the same recipes and readings."""
    rows = (f"{key}={value}" for key, value in standing["rows"].items())
    found = fingerprint(*rows, repr(standing["told"]), standing["kit"], *filter(None, [standing.get("pieces")]))
    return f"{found[:4]}-{found[4:8]}-{found[8:12]}"


def what_changed(then: Mapping[str, Any], now: Mapping[str, Any]) -> list[str]:
    """Why a file is out of date, a sentence each; none: it is as the job stands."""
    if not then:
        return []
    was, rows, names = then["rows"], now["rows"], then["names"] | now["names"]
    found = [
        _sentence([names[i] for i in rows if i in was and was[i] != rows[i]], "measured or changed"),
        _sentence([names[i] for i in rows if i not in was], "added"),
        _sentence([names[i] for i in was if i not in rows], "taken off the sheet"),
    ]
    told = then["told"], now["told"]
    found += [words for key, words in TOLD.items() if told[0].get(key) != told[1].get(key)]
    if then["kit"] != now["kit"]:
        found.append("A calibration that it rests on is another.")
    if then.get("pieces") != now.get("pieces"):
        found.append("Another piece was measured or changed.")
    if then.get("numbers") != now.get("numbers"):
        found.append("Its numbers are written otherwise.")
    if then["parts"] != now["parts"]:
        found.append("What stands in the report was changed.")
    if not any(found) and then["order"] != now["order"]:
        found.append("The rows stand in another order.")
    return [each for each in found if each]


TOLD = {
    "units": "Lengths are shown in another unit.",
    "rule": "It is decided by another rule.",
    "alignment": "Another alignment is in use.",
}


def _sentence(names: list[str], what: str) -> str:
    if not names:
        return ""
    more = f" and {len(names) - NAMED} more" if len(names) > NAMED else ""
    return f"{', '.join(names[:NAMED])}{more} {'was' if len(names) == 1 else 'were'} {what}."
