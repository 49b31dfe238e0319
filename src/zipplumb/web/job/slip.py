"""The slip of one row: its hits, its residuals, its recipe, and where its number comes from."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

from flask import render_template
from sqlalchemy.orm import Session

from ...core.units import in_units, length_text
from ...jobs.prompts import spoiling, spoiling_words
from ...jobs.report import alignment_words, calibration_words
from ...jobs.results import JobResults
from ...jobs.rows_text import row_text, terms_factor
from ...store.models import Calibration, Instrument, Station
from ..view import JobView

SHOWN = 400  # hits drawn as bars; beyond that the largest are listed


@dataclass(frozen=True)
class HitBar:
    """One hit: its residual as shown, and as a share of the largest."""

    key: str
    number: int
    text: str
    share: float
    aside: bool
    worst: bool


def hit_bars(state: JobResults, row_id: int) -> list[HitBar]:
    """Every hit of a row in order of time, those set aside without a residual."""
    reading = state.readings.get(row_id)
    if reading is None:
        return []
    found = state.results[row_id]
    residuals = {} if found.residuals is None else dict(zip(found.counted, found.residuals, strict=True))
    largest = max((abs(v) for v in residuals.values()), default=0.0) or 1.0
    worst = spoiling(found)
    worst_key = found.counted[worst.index] if worst else None
    return [
        HitBar(
            key, k + 1, length_text(residuals.get(key), state.job.units, sign=True),
            residuals.get(key, 0.0) / largest, bool(aside), key == worst_key,
        )
        for k, (key, aside) in enumerate(zip(reading.keys, reading.aside, strict=True))
    ]  # fmt: skip


def provenance(session: Session, state: JobResults, row_id: int) -> list[tuple[str, str]]:
    """Where a row's number comes from."""
    found, reading = state.results[row_id], state.readings.get(row_id)
    facts = []
    if reading is not None:
        stations = [session.get(Station, s) for s in sorted(set(reading.stations.tolist()))]
        first, last = (datetime.fromtimestamp(t, UTC) for t in (reading.times.min(), reading.times.max()))
        when = f"{first:%Y-%m-%d %H:%M:%S} to {last:%H:%M:%S} UTC"
        names = [f"{session.get(Instrument, s.instrument_id).name}, {s.name}" for s in stations]
        facts.append(("Read", f"{'; '.join(names)}, {when}"))
        cals = [session.get(Calibration, c) for c in sorted(set(reading.calibrations.tolist()))]
        facts.append(("Probe", "; ".join(calibration_words(c) for c in cals)))
    if found.uses:
        facts.append(("Made from", " and ".join(state.row(i).recipe.name for i in found.uses)))
    if found.aligned_by:
        facts.append(("Alignment", alignment_words(state)))
    units = state.job.units
    if found.fit:
        rms = length_text(found.fit.rms, units, extra=1)
        facts.append(("Fit", f"gaussian, {found.hits} hits, {found.fit.spare} spare, rms {rms}"))
    if found.U_mm is not None:
        placed = found.aligned_by and found.quantity == "height"
        sources = "the hits, the tip and the alignment" if placed else "the scatter of the hits and the tip"
        expanded = length_text(terms_factor(state.row(row_id).recipe) * found.U_mm, units)
        facts.append(("Uncertainty", f"U = {expanded} (k = 2), from {sources}"))
    return facts


def row_slip(session: Session, state: JobResults, row_id: int) -> str:
    """The rendered slip."""
    row, found = state.row(row_id), state.results[row_id]
    recipe, units = row.recipe, state.job.units
    factor = terms_factor(recipe)
    limits = recipe.tolerance

    def typed(mm: float | None) -> str:
        return "" if mm is None else f"{in_units(factor * mm, units):.{3 if units == 'mm' else 4}f}"

    bars = hit_bars(state, row_id)
    return render_template(
        "_slip_row.html",
        view=JobView.of(state),
        row=row_text(state, row_id),
        recipe=recipe,
        found=found,
        bars=bars[:SHOWN],
        more=max(0, len(bars) - SHOWN),
        spoils=spoiling_words(state, row, found),
        facts=provenance(session, state, row_id),
        lower=typed(limits.lower_mm if limits else None),
        upper=typed(limits.upper_mm if limits else None),
        nominal=typed(getattr(recipe, "nominal_mm", None)),
        spacing=f"{in_units(recipe.spacing_mm, units):g}" if row_is_feature(recipe) else "",
        components=[length_text(c, units, sign=True) for c in found.components] if found.components else [],
    )


def row_is_feature(recipe) -> bool:
    return recipe.kind in ("plane", "cylinder")
