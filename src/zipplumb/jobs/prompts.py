"""What to do now, in words that can be read from three metres."""

from __future__ import annotations

from dataclasses import dataclass

from ..core.fitting import SURE, SpoilingHit
from ..core.sheet import RowResult, SheetRow
from ..core.units import length_text, sentence_in
from ..store.models import Instrument
from .results import JobResults
from .rows_text import row_text
from .words import words_for

MATTERS_MM = 0.03  # a hit less far off is left alone, however sure


@dataclass(frozen=True)
class Prompt:
    """The Now band. ``tone`` is "", "warn" or "ask"; ``line`` explains or warns."""

    title: str
    line: str = ""
    tone: str = ""
    row: int | None = None
    number: int = 0
    of: int = 0
    hits: int = 0
    wanted: int = 0
    form: str = ""
    size_name: str = ""
    size: str = ""
    side: str = ""
    question: tuple[tuple[int, str], ...] = ()
    last: str = ""


def prompt(state: JobResults, instrument: Instrument | None) -> Prompt:
    """The prompt for a job's current row."""
    measured = state.measured
    row = state.current
    if row is None:
        return Prompt("Plan a row: pick a face of the part.", of=len(measured))
    found, words = state.results[row.id], words_for(row.recipe)
    title, line, tone = _words(state, row, found, instrument)
    asks = found.state == "asks"
    air = found.side.air if found.side else 0
    size_name, size = _size(state, row, found)
    return Prompt(
        title=title,
        line=sentence_in(line, state.job.units),
        tone=tone,
        row=row.id,
        number=measured.index(row) + 1,
        of=len(measured),
        hits=found.hits,
        wanted=row.recipe.wanted_hits,
        form=length_text(found.fit.form, state.job.units) if found.fit and found.fit.spare > 0 else "–",
        size_name=size_name,
        size=size,
        side=words.side(row.recipe, air) if air and not asks else "",
        question=words.answers(row.recipe) if asks else (),
        last=_last(state, row),
    )


def _words(state: JobResults, row: SheetRow, found: RowResult, instrument: Instrument | None) -> tuple[str, str, str]:
    name, words = row.recipe.name, words_for(row.recipe)
    if instrument is None:
        return "Bring an arm to this job.", "On the Kit page, choose which one stands here.", "warn"
    if not instrument.connected:
        kept = f"{found.hits} hits of {name} are kept" if found.hits else "All hits are kept"
        return "The arm is lost. Look at its cable.", f"{instrument.trouble} {kept}; measuring goes on when it is back.", "warn"
    if found.state == "asks" and found.side is not None:
        why = words.doubt(row.recipe, found.side)
        return f"{name}: which side is air?", f"{why} Pull off again and press finish, or choose here.", "ask"
    if row.finished and found.state == "done" and state.sheet.finished:
        return "All rows are done. Make the report.", f"Touch again, and the hits go to {name}.", ""
    if found.state == "failed":
        return f"{name} cannot be worked out.", found.message, "warn"
    if found.hits == 0:
        return words.ask(row.recipe, state.job.units), instrument.trouble, "warn" if instrument.trouble else ""
    if warning := spoiling_words(state, row, found):
        return f"{name}: one hit is off.", warning, "warn"
    left = row.recipe.wanted_hits - found.hits
    if left > 0:
        return f"{name}: {left} more.", found.message if found.message and found.hits > 3 else "", ""
    if found.state == "waits":
        return f"{name}: finish.", found.message, ""
    return f"{name}: pull off and finish.", " ".join(found.warnings), ""


def spoiling(found: RowResult) -> SpoilingHit | None:
    """The hit that surely spoils a row's form by an amount that matters, if there is one."""
    worst = found.fit.worst if found.fit else None
    return worst if worst and worst.sure > SURE and abs(worst.off_by_mm) >= MATTERS_MM else None


def spoiling_words(state: JobResults, row: SheetRow, found: RowResult) -> str:
    """A sentence naming the hit that spoils the form, where one surely does."""
    worst = spoiling(found)
    if worst is None or found.feature is None:
        return ""
    number = state.readings[row.id].keys.index(found.feature.counted[worst.index]) + 1
    off = length_text(abs(worst.off_by_mm), state.job.units)
    return f"Hit {number} lies {off} off what the others say. Undo it, or set it aside."


def _size(state: JobResults, row: SheetRow, found: RowResult) -> tuple[str, str]:
    """The large number: the deviation of the row's first characteristic, or the size itself of what has one."""
    text = row_text(state, row.id)
    first = text.first
    if first is None or found.state == "asks":
        return "Deviation", "–"
    if found.first is not None and (found.first.nominal is None or found.first.key in ("diameter", "width")):
        return first.label.capitalize(), first.actual or "–"
    return "Deviation", first.deviation or "–"


def _last(state: JobResults, current: SheetRow) -> str:
    """The result of the row before, so that a finish is seen although the prompt has moved on."""
    before = (state.rows[place] for place in range(state.place(current.id) - 1, -1, -1))
    done = next((r for r in before if r.finished and state.results[r.id].characteristics), None)
    if done is None:
        return ""
    text = row_text(state, done.id)
    first = text.worst
    if first is None or not first.actual:
        return ""
    if first.deviation == "held":
        return f"{text.shape} {text.name}: held by the alignment, form {text.form}"
    value = first.actual + (f" ({first.deviation})" if first.deviation else "")
    return f"{text.shape} {text.name}: {value} {text.word}" + (f" by {text.out_by}" if text.out_by else "")
