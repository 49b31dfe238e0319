"""What to do now, in words that can be read from three metres."""

from __future__ import annotations

from dataclasses import dataclass

from ..core.fitting import SURE, SpoilingHit
from ..core.sheet import FeatureRecipe, RowResult, SheetRow
from ..core.units import length_text
from ..store.models import Instrument
from .results import JobResults
from .rows_text import is_round, row_text, terms_factor

MATTERS_MM = 0.03  # a hit less far off is left alone, however sure


@dataclass(frozen=True)
class Prompt:
    """The Now band. ``tone`` is "", "warn" or "ask"; ``line`` explains or warns."""

    title: str
    line: str
    tone: str
    row: int | None
    number: int
    of: int
    hits: int
    wanted: int
    form: str
    size_name: str
    size: str
    side: str
    question: tuple[tuple[int, str], ...]
    last: str


def prompt(state: JobResults, instrument: Instrument | None) -> Prompt:
    """The prompt for a job's current row."""
    features = [r for r in state.rows if isinstance(r.recipe, FeatureRecipe)]
    row = state.current
    if row is None:
        return Prompt("Plan a row: pick a face of the part.", "", "", None, 0, len(features), 0, 0, "", "", "", "", (), "")
    found = state.results[row.id]
    title, line, tone = _words(state, row, found, instrument)
    return Prompt(
        title,
        line,
        tone,
        row.id,
        features.index(row) + 1,
        len(features),
        found.hits,
        row.recipe.hits,
        length_text(found.fit.form, state.job.units) if found.fit and found.fit.spare > 0 else "–",
        *_size(state, row, found),
        _side_words(row, found),
        _question(row, found),
        _last(state, row),
    )


def _words(state: JobResults, row: SheetRow, found: RowResult, instrument: Instrument | None) -> tuple[str, str, str]:
    name = row.recipe.name
    if instrument is None:
        return "Bring an arm to this job.", "On the Kit page, choose which one stands here.", "warn"
    if not instrument.connected:
        kept = f"{found.hits} hits of {name} are kept" if found.hits else "All hits are kept"
        return "The arm is lost. Look at its cable.", f"{instrument.trouble} {kept}; measuring goes on when it is back.", "warn"
    if found.state == "asks":
        return f"{name}: which side is air?", _doubt(row, found) + " Pull off again and press finish, or choose here.", "ask"
    if row.finished and found.state == "done" and all(r.finished for r in state.rows if hasattr(r.recipe, "hits")):
        return "All rows are done. Make the report.", f"Touch again, and the hits go to {name}.", ""
    if found.state == "failed":
        return f"{name} cannot be worked out.", found.message, "warn"
    left = row.recipe.hits - found.hits
    if found.hits == 0:
        return _ask(row), instrument.trouble, "warn" if instrument.trouble else ""
    if warning := spoiling_words(state, row, found):
        return f"{name}: one hit is off.", warning, "warn"
    if left > 0:
        return f"{name}: {left} more.", found.message if found.message and found.hits > 3 else "", ""
    return f"{name}: pull off and finish.", " ".join(found.warnings), ""


def _ask(row: SheetRow) -> str:
    recipe = row.recipe
    if is_round(recipe):
        where = "inside" if recipe.nominal is None or recipe.nominal.inside else "round"
        return f"Touch {where} {recipe.name}, {recipe.hits} hits at three depths."
    datum = getattr(recipe, "datum", None)
    letter = f" (datum {datum})" if datum else ""
    return f"Touch {recipe.name}{letter}, {recipe.hits} hit{'s, far apart' if recipe.hits > 1 else ''}."


def spoiling(found: RowResult) -> SpoilingHit | None:
    """The hit that surely spoils a row's form by an amount that matters, if there is one."""
    worst = found.fit.worst if found.fit else None
    return worst if worst and worst.sure > SURE and abs(worst.off_by_mm) >= MATTERS_MM else None


def spoiling_words(state: JobResults, row: SheetRow, found: RowResult) -> str:
    """A sentence naming the hit that spoils the form, where one surely does."""
    worst = spoiling(found)
    if worst is None:
        return ""
    number = state.readings[row.id].keys.index(found.counted[worst.index]) + 1
    off = length_text(abs(worst.off_by_mm), state.job.units)
    return f"Hit {number} lies {off} off what the others say. Undo it, or set it aside."


def _size(state: JobResults, row: SheetRow, found: RowResult) -> tuple[str, str]:
    units = state.job.units
    if found.surface_world is None or found.state == "asks":
        return ("Radius" if terms_factor(row.recipe) < 1 else "Diameter", "–") if is_round(row.recipe) else ("Deviation", "–")
    if is_round(row.recipe):
        factor = terms_factor(row.recipe)
        return "Radius" if factor < 1 else "Diameter", length_text(factor * 2 * found.surface_world.radius, units)
    return "Deviation", length_text(found.deviation_mm, units, sign=True)


def _side_words(row: SheetRow, found: RowResult) -> str:
    if found.side is None or not found.side.air or found.state == "asks":
        return ""
    if is_round(row.recipe):
        return "inside, a bore" if found.side.air < 0 else "outside, a boss"
    return "as the tip came" if found.side.air > 0 else "turned"


_WITNESS = {"pull_off": "The pull-off", "approach": "the way in", "nominal": "the nominal"}


def _doubt(row: SheetRow, found: RowResult) -> str:
    round_one = is_round(row.recipe)
    if found.side is None or not found.side.witnesses:
        return "Nothing tells the side."
    if not round_one and len(set(found.side.witnesses.values())) == 1:
        return "The touched side lies opposite to the nominal one."
    if not round_one:
        return "The tip came in from one side and left through the other."
    words = {1: "outside", -1: "inside"}
    said = [f"{_WITNESS[k]} says {words[v]}" for k, v in found.side.witnesses.items()]
    return ", ".join(said) + "."


def _question(row: SheetRow, found: RowResult) -> tuple[tuple[int, str], ...]:
    if found.state != "asks":
        return ()
    if is_round(row.recipe):
        return ((-1, "Inside: a bore"), (1, "Outside: a boss"))
    return ((1, "Air where it left"), (-1, "Air on the other side"))


def _last(state: JobResults, current: SheetRow) -> str:
    """The result of the row before, so that a finish is seen although the prompt has moved on."""
    index = state.rows.index(current)
    done = [r for r in state.rows[:index] if r.finished and state.results[r.id].actual_mm is not None]
    if not done:
        return ""
    text = row_text(state, done[-1].id)
    if state.results[done[-1].id].held:
        return f"{text.shape} {text.name}: held by the alignment, form {text.form}"
    value = f"{text.actual}" + (f" ({text.deviation})" if text.deviation else "")
    return f"{text.shape} {text.name}: {value} {text.word}" + (f" by {text.out_by}" if text.out_by else "")
