"""From results to the words and numbers that pages and reports show: the one place of it."""

from __future__ import annotations

from ..core.sheet import AlignmentRecipe, DistanceRecipe, FeatureRecipe, PlaneRecipe, RowResult, SheetRow
from ..core.units import in_units, length_text
from ..exchange.table import RowText
from .results import JobResults

SHAPES = {"in": "●", "close": "◐", "out": "▲", "not proven": "◇", "to do": "○", "asks": "?"}


def row_texts(state: JobResults) -> list[RowText]:
    """Every row of a job, in order."""
    return [_row_text(state, row, k + 1) for k, row in enumerate(state.rows)]


def row_text(state: JobResults, row_id: int) -> RowText:
    number = next(k for k, r in enumerate(state.rows) if r.id == row_id) + 1
    return _row_text(state, state.row(row_id), number)


def terms_factor(recipe) -> float:
    """What a size on a diameter becomes in the row's own terms."""
    return 0.5 if getattr(recipe, "terms", "") == "radius" else 1.0


def is_round(recipe) -> bool:
    """It has a diameter, and an inside."""
    return hasattr(recipe, "terms")


def _word(found: RowResult) -> str:
    if found.state == "asks":
        return "asks"
    if found.state == "failed":
        return "failed"
    if found.verdict:
        return found.verdict.word
    return "done" if found.state == "done" else "taking" if found.state == "taking" else "to do"


def _quantity(recipe, found: RowResult) -> str:
    if is_round(recipe):
        return "radius" if recipe.terms == "radius" else "diameter"
    if isinstance(recipe, DistanceRecipe):
        return "distance" if recipe.measure == "perpendicular" else f"distance along {recipe.measure[-1].upper()}"
    if isinstance(recipe, PlaneRecipe):
        return "height" if recipe.nominal else "form"
    if isinstance(recipe, AlignmentRecipe):
        return "coordinate system"
    return found.quantity


def _row_text(state: JobResults, row: SheetRow, number: int) -> RowText:
    recipe, found, units = row.recipe, state.results[row.id], state.job.units
    factor = terms_factor(recipe)

    def value(mm: float | None) -> float | None:
        return None if mm is None else in_units(factor * mm, units)

    def shown(mm: float | None, sign: bool = False) -> str:
        return length_text(None if mm is None else factor * mm, units, sign)

    limits = recipe.tolerance
    share = None
    if limits and found.deviation_mm is not None:
        half = (limits.upper_mm - limits.lower_mm) / 2
        middle = (limits.upper_mm + limits.lower_mm) / 2
        share = max(-1.4, min(1.4, (found.deviation_mm - middle) / half)) if half > 0 else 0.0
    word = _word(found)
    feature = isinstance(recipe, FeatureRecipe)
    return RowText(
        id=row.id,
        number=number,
        name=recipe.name,
        kind=recipe.kind,
        datum=(recipe.datum or "") if isinstance(recipe, PlaneRecipe) else "",
        quantity=_quantity(recipe, found),
        state=found.state,
        word=word,
        shape=SHAPES.get(word, "●" if word == "done" else "▲" if word == "failed" else "○"),
        nominal=shown(found.nominal_mm) if found.nominal_mm is not None else "",
        actual=shown(found.actual_mm) if found.actual_mm is not None else _alignment_words(found),
        deviation=shown(found.deviation_mm, sign=True) if found.deviation_mm is not None else "held" if found.held else "",
        tolerance=_limits_text(limits, shown),
        uncertainty=shown(found.U_mm) if found.U_mm is not None else "",
        out_by=shown(found.verdict.out_by_mm) if found.verdict and found.verdict.out_by_mm > 0 else "",
        form=length_text(found.fit.form, units) if found.fit else "",
        share=share,
        hits=found.hits,
        wanted=recipe.hits if feature else 0,
        message=found.message or " ".join((*found.doubts, *(found.warnings if found.state in ("done", "asks") else ()))),
        doubted=bool(found.doubts),
        note=recipe.note,
        current=row.id == state.job.current_row_id,
        measured=feature,
        nominal_value=value(found.nominal_mm),
        actual_value=value(found.actual_mm),
        deviation_value=value(found.deviation_mm),
        lower_value=value(limits.lower_mm if limits else None),
        upper_value=value(limits.upper_mm if limits else None),
        uncertainty_value=value(found.U_mm),
    )


def _limits_text(limits, shown) -> str:
    if limits is None:
        return ""
    if limits.lower_mm == -limits.upper_mm:
        return f"±{shown(limits.upper_mm)}"
    upper, lower = (shown(v, True) if v else "0" for v in (limits.upper_mm, limits.lower_mm))
    return f"{upper} / {lower}"


def _alignment_words(found: RowResult) -> str:
    if found.alignment is None:
        return ""
    return f"{found.alignment.ledger.rank} held, {found.alignment.ledger.spare} spare"


def is_alignment(row: SheetRow) -> bool:
    return isinstance(row.recipe, AlignmentRecipe)
