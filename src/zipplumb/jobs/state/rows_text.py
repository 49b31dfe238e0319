"""From results to the words and numbers that pages and reports show: the one place of it."""

from __future__ import annotations

import math
from dataclasses import dataclass

from ...core.sameness import Layered
from ...core.sheet import Characteristic, RowResult, Sheet, SheetRow
from ...core.tolerances import Verdict
from ...core.units import Units, count_text, length_text, number_style, quantity_text, quantity_value, sentence_in
from ...exchange.symbols import SYMBOL_OF, Symbol
from ...exchange.table import CharacteristicText, RowText
from ..words import words_for
from .results import JobResults

PLACES = 9  # decimals of a number in a file: what is less is rounding


@dataclass(frozen=True, eq=False)
class _Told:
    """The texts rendered last, and what they were rendered from."""

    sheet: Sheet
    results: Layered[int, RowResult]
    units: Units
    current: int | None
    texts: Layered[int, RowText]


def row_texts(state: JobResults) -> Layered[int, RowText]:
    """Texts of all rows by id, in order; a row whose text is unchanged keeps the same object."""
    key = "texts", number_style()
    told: _Told | None = state.remembered.get(key)
    sheet, units, current = state.sheet, state.job.units, state.job.current_row_id
    if told is None or told.units != units or not sheet.stands_as(told.sheet):
        texts = Layered({row.id: _row_text(state, row, number) for number, row in enumerate(sheet.rows, start=1)})
    else:
        differ = set(state.results.differing(told.results))
        differ.update(sheet.rows[place].id for place in sheet.places_that_differ(told.sheet))
        if told.current != current:
            differ.update(i for i in (told.current, current) if i in sheet.index)
        anew = ((i, row_text(state, i)) for i in differ)  # much is worked out again that comes to the same words
        texts = told.texts.replaced({i: text for i, text in anew if not text.says_as(told.texts[i])})
    state.remembered[key] = _Told(sheet, state.results, units, current, texts)
    return texts


def row_text(state: JobResults, row_id: int) -> RowText:
    return _row_text(state, state.row(row_id), state.index_of(row_id) + 1)


def _unproven(found: RowResult) -> tuple[str, ...]:
    """Why characteristics that are to be judged are not proven, each reason once."""
    judged = [c.unproven for c in found.characteristics if c.verdict and c.unproven]
    return tuple(dict.fromkeys(judged))


def word_of(found: RowResult) -> str:
    """The state of a row in one word."""
    if found.state in ("asks", "failed"):
        return found.state
    if found.verdict:
        return found.verdict.word
    if found.alignment is not None and found.alignment.doubt:
        return "not proven"
    return found.state if found.state in ("done", "taking") else "to do"


def hits_words(found: RowResult) -> str:
    """How many hits count, and how many points of scans; of a scan, how many lines of light it has."""
    if found.cloud is not None:
        return f"{count_text(found.cloud.lines)} lines of light"
    points = found.feature.scanned if found.feature is not None else 0
    hits = found.hits - points
    told = f"{count_text(points)} points of a scan"
    return f"{hits} hits and {told}" if hits and points else told if points else f"{hits} hits"


def form_text(row: SheetRow, found: RowResult, units: Units) -> str:
    """How far the hits leave the fitted shape, from the first one to spare on; "" where that is nothing of the part."""
    told = found.fit is not None and found.fit.spare > 0 and not row.recipe.hits_stand_apart
    return length_text(found.fit.form, units) if found.fit is not None and told else ""


def _row_text(state: JobResults, row: SheetRow, number: int) -> RowText:
    recipe, found, units = row.recipe, state.results[row.id], state.job.units
    word = word_of(found)
    notes = (found.elsewhere, *found.doubts, *_unproven(found), *(found.warnings if found.state in ("done", "asks") else ()))
    return RowText(
        id=row.id,
        number=number,
        name=recipe.name,
        kind=words_for(recipe).noun,
        datum=recipe.datum_letter,
        state=found.state,
        word=word,
        shape=SYMBOL_OF.get(word, Symbol.TO_DO),
        line=_line(found, words_for(recipe).noun),
        form=form_text(row, found, units),
        hits=found.hits if found.cloud is None else found.cloud.lines,
        wanted=recipe.wanted_hits,
        message=sentence_in(found.message or " ".join(filter(None, notes)), units),
        note=recipe.note,
        asks="" if word != "asks" else "belongs here?" if found.elsewhere else "which side?",
        taken=hits_words(found),
        told=sentence_in(found.told, units).replace(" -", " −"),
        doubted=bool(found.doubts),
        current=row.id == state.job.current_row_id,
        takes_hits=recipe.takes_hits,
        is_system=recipe.role == "system",
        tell=lambda: tuple(characteristic_text(row, c, units) for c in found.characteristics),
    )


def characteristic_text(row: SheetRow, found: Characteristic, units: Units) -> CharacteristicText:
    """One characteristic of a row, in its own terms and the job's units."""
    recipe, unit = row.recipe, found.unit
    factor = recipe.share_of(found.key)

    def value(number: float | None) -> float | None:
        return None if number is None or math.isinf(number) else round(quantity_value(factor * number, unit, units), PLACES)

    def shown(number: float | None, sign: bool = False) -> str:
        return "" if number is None else quantity_text(factor * number, unit, units, sign)

    verdict = found.verdict
    word = verdict.word if verdict else ""
    return CharacteristicText(
        key=found.key,
        label=found.of or words_for(recipe).label(recipe, found.key),
        unit="°" if unit == "rad" else units,
        word=word,
        shape=SYMBOL_OF.get(word, ""),
        nominal=shown(found.nominal),
        actual=shown(found.actual),
        deviation="held" if found.held else shown(found.deviation, sign=True),
        tolerance=_limits_text(found, shown),
        uncertainty="∞" if found.unproven else shown(found.U),
        out_by=shown(verdict.out_by) if verdict and verdict.out_by > 0 else "",
        share=_share(found, verdict),
        nominal_value=value(found.nominal),
        actual_value=value(found.actual),
        deviation_value=value(found.deviation),
        lower_value=value(found.lower),
        upper_value=value(found.upper),
        uncertainty_value=value(found.U),
    )


def _share(found: Characteristic, verdict: Verdict | None) -> float | None:
    """Where the deviation lies between the limits, -1 to 1 and a little beyond."""
    if found.deviation is None or (found.lower is None and found.upper is None):
        return None
    if found.lower is None or found.upper is None:
        limit = found.upper if found.upper is not None else found.lower
        share = found.deviation / abs(limit) if limit else (verdict.used if verdict else 0.0)
    else:
        half = (found.upper - found.lower) / 2
        share = (found.deviation - (found.upper + found.lower) / 2) / half if half > 0 else 0.0
    return max(-1.4, min(1.4, share))


def _limits_text(found: Characteristic, shown) -> str:
    lower, upper = found.lower, found.upper
    if lower is None and upper is None:
        return ""
    if lower is None:
        return f"≤ {shown(upper, bool(found.nominal))}"
    if upper is None:
        return f"≥ {shown(lower, True)}"
    if lower == -upper:
        return f"±{shown(upper)}"
    high, low = (shown(v, True) if v else "0" for v in (upper, lower))
    return f"{high} / {low}"


def _line(found: RowResult, noun: str) -> str:
    if found.cloud is not None and found.cloud.read:
        return f"{count_text(found.cloud.read)} points"
    if found.cloud is not None and found.cloud.lines:
        return f"{found.cloud.lines} lines of light"
    if found.alignment is None:
        return noun
    return f"{found.alignment.ledger.rank} held, {found.alignment.ledger.spare} spare"
