"""The slip of one row: its hits, its residuals, its recipe, and where its number comes from."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import cast

from flask import render_template, url_for
from sqlalchemy.orm import Session

from ...core.sheet import Characteristic, MeasuredRecipe, criteria_of
from ...core.sheet.proving.chance import open_characteristics
from ...core.units import length_text, quantity_text
from ...jobs.kit import looks
from ...jobs.kit.looks import sees_surfaces
from ...jobs.measure.again import history, may_join, other_kinds
from ...jobs.measure.maps import may_be_mapped
from ...jobs.measure.prompts import spoiling, spoiling_words, unnamed_words
from ...jobs.plan.sheet import before_last_edit, seen_of
from ...jobs.proving.told import foretold_words
from ...jobs.report.facts import alignment_words, calibration_words
from ...jobs.state.results import JobResults
from ...jobs.state.rows_text import hits_words, row_text
from ...jobs.words import words_for
from ...jobs.words._shared import CHOICES
from ...jobs.words._sources import remedy_words, source_words
from ...store.database import stored
from ...store.models import Calibration, Instrument, Station
from ..answers import in_slip
from ..plan.forms import row_fields
from ..view import JobView
from .form_plot import form_plot
from .map_shown import map_of
from .scan_shown import scan_of
from .section_shown import section_of

SOURCES = 5  # named of a budget, the largest
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
    found = state.results[row_id]
    if reading is None or found.cloud is not None:  # a scan has lines, not hits
        return []
    counted, values = (found.feature.counted, found.residuals) if found.feature else ((), None)
    residuals = {} if values is None else dict(zip(counted, values, strict=True))
    largest = max((abs(v) for v in residuals.values()), default=0.0) or 1.0
    worst = spoiling(found)
    worst_key = counted[worst.index] if worst else None
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
        stations = [stored(session, Station, s) for s in sorted(set(reading.stations.tolist()))]
        first, last = (datetime.fromtimestamp(t, UTC) for t in (reading.times.min(), reading.times.max()))
        when = f"{first:%Y-%m-%d %H:%M:%S} to {last:%H:%M:%S} UTC"
        names = [f"{stored(session, Instrument, s.instrument_id).name}, {s.name}" for s in stations]
        facts.append(("Read", f"{'; '.join(names)}, {when}"))
        cals = [stored(session, Calibration, c) for c in sorted(set(reading.calibrations.tolist()))]
        facts.append(("Probe", "; ".join(calibration_words(c) for c in cals)))
    if scans := [state.row(n.id).recipe.name for n in state.row(row_id).needs if n.what == "cloud"]:
        facts.append(("Scanned", " and ".join(scans)))
    if found.uses:
        facts.append(("Made from", " and ".join(state.row(i).recipe.name for i in found.uses)))
    if found.aligned_by:
        facts.append(("Alignment", alignment_words(state)))
    units = state.job.units
    if found.fit:
        rms = length_text(found.fit.rms, units, extra=1)
        facts.append(("Fit", f"{CHOICES[found.fit.criterion]}, {hits_words(found)}, {found.fit.spare} spare, rms {rms}"))
    if found.first is not None and found.first.U is not None:
        facts.append(("Uncertainty", budget_words(state, row_id, found.first)))
    if said := foretold_words(session, state, row_id):
        facts.append(("Foretold", said))
    return facts


def budget_words(state: JobResults, row_id: int, found: Characteristic) -> str:
    """U of a characteristic and its sources, largest first."""
    recipe, units = state.row(row_id).recipe, state.job.units
    factor, names = recipe.share_of(found.key), {r.id: r.recipe.name for r in state.rows}

    def shown(value: float) -> str:
        return quantity_text(factor * value, found.unit, units)

    label = words_for(recipe).label(recipe, found.key)
    if found.unproven:
        return f"The {label} is not proven. {found.unproven}"
    parts = [f"{source_words(source, names)} {shown(U)}" for source, U in found.budget[:SOURCES]]
    told = f"U = {shown(found.U or 0.0)} (95 %) of the {label}: {', '.join(parts) or 'nothing'}"
    if found.lowered is None or not (remedy := remedy_words(found.lowered[0], names)):
        return told
    return f"{told}. With {remedy} it would be about {shown(found.lowered[1])}."


def row_slip(session: Session, state: JobResults, row_id: int) -> str:
    """The rendered slip."""
    row, found = state.row(row_id), state.results[row_id]
    read = cast(MeasuredRecipe, row.recipe) if row.recipe.takes_hits and found.hits else None
    bars = hit_bars(state, row_id)
    return render_template(
        "_slip_row.html",
        view=JobView.of(state),
        row=row_text(state, row_id),
        recipe=row.recipe,
        seen=seen_of(row.recipe),
        bars=bars[:SHOWN],
        more=max(0, len(bars) - SHOWN),
        spoils=spoiling_words(state, row, found) or (unnamed_words(state, row, found) or ("", ""))[1],
        facts=provenance(session, state, row_id),
        fields=row_fields(session, state, row_id),
        looks_again=read is not None,
        compares=found.fit is not None and found.fit.spare > 0 and len(criteria_of(type(row.recipe))) > 1,
        plot=form_plot(read, found, state.job.units) if read is not None else None,
        other_kinds=other_kinds(read) if read is not None else [],
        may_join=may_join(state, row_id),
        history=history(session, state.job.id, row_id),
        look_points=looks.POINTS if sees_surfaces(state.instrument) and row.recipe.takes_hits else 0,
        look_side=length_text(looks.SIDE_MM, state.job.units),
        scan=scan_of(session, state, row_id),
        map=map_of(session, state, row_id),
        cut=section_of(state, row_id),
        may_map=any(each.id == row_id for each in may_be_mapped(state)),
        points=hits_words(found) if found.feature is not None and found.feature.scanned else "",
        edited=before_last_edit(session, state.job.id, row_id) is not None,
        settles=bool(open_characteristics(found)),
    )


def go_on_with(job_id: int, row_id: int):
    """A change was made: the slip shows a row as it is now."""
    return in_slip(url_for("job.row", job_id=job_id, row_id=row_id))
