"""Guided points: an alignment that grows point by point, and asks again for those that fail."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.features import point_of, radius_of
from ...core.sheet import SheetRow
from ...core.sheet.bases.systems import ActualFeature
from ...core.units import Units, length_from_text, length_text
from ...store.database import stored, tell, transaction
from ...store.models import Job, Reading, Row
from ..actor import Actor, record
from ..plan.adding import add_rows, named
from ..state.readings import set_all_aside
from ..state.recipes import changed
from ..state.results import JobResults, load

KIND = "guided"


@dataclass(frozen=True)
class InZone:
    """One point of an alignment that judges its points. ``off``: as text; ``word``: in, out, or "to do"."""

    row: int
    name: str
    off: str
    word: str


def may_guide(state: JobResults) -> list[SheetRow]:
    """Points that are measured, and whose nominals say where they should be."""
    return [row for row in state.measured if _is_point(row.recipe.should_be)]


def _is_point(nominal: Any) -> bool:
    return point_of(nominal) is not None and radius_of(nominal) == 0.0


def zones_of(state: JobResults, row: SheetRow) -> list[InZone]:
    """Every point with its verdict, the worst first; none where the alignment judges none."""
    zone, alignment = row.recipe.zone, state.results[row.id].alignment
    if zone is None:
        return []
    found: list[tuple[float, InZone]] = []
    for needed in row.needs:
        if needed.what != "feature" or needed.id not in state.sheet.index:
            continue
        name, there = state.row(needed.id).recipe.name, state.results[needed.id].feature
        if alignment is None or there is None or there.state != "done" or there.feature is None:
            found.append((-1.0, InZone(needed.id, name, "–", "to do")))
            continue
        off = float(np.linalg.norm(ActualFeature.of(there).offset_in(alignment)))
        word = "in" if off <= zone else "out"
        found.append((off, InZone(needed.id, name, length_text(off, state.job.units), word)))
    return [point for _, point in sorted(found, key=lambda pair: -pair[0])]


def plan(actor: Actor, job_id: int, rows: Sequence[int], zone: str) -> int:
    """The alignment through some points, in their order; the first that is not measured is current. Returns its row."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        zone_mm = _zone(zone, job.units)
        chosen = [row for row in may_guide(state) if row.id in set(rows)]
        if len(chosen) < 3:
            raise InputError("Guided points need three at least.", "Nothing was planned.", "Choose more of them.")
        raw = {"kind": KIND, "points": [row.id for row in chosen], "zone_mm": zone_mm}
        alignment = add_rows(session, actor, job_id, named(session, job_id, [raw], "Guided points"))[0]
        job.alignment_row_id, job.touching = alignment, ""
        job.current_row_id = next((row.id for row in chosen if not row.finished), chosen[0].id)
        tell(session, job_id, "sheet")
        return alignment


def _zone(text: str, units: Units) -> float:
    zone_mm = length_from_text(text, units, "the zone")
    if not 0 < zone_mm < 1e6:
        raise InputError("The zone is larger than nothing.", "Nothing was changed.", "Type how far a point may lie off.")
    return zone_mm


def tighten(actor: Actor, job_id: int, row_id: int, zone: str) -> None:
    """Another zone; it is solved and judged again, and nothing is touched again."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        _judging(load(session, job_id), row_id)
        row = stored(session, Row, row_id)
        before = changed(row, zone_mm=_zone(zone, job.units))
        record(session, actor, job_id, "edit", row=row_id, before=before, after=row.recipe)
        tell(session, job_id, "sheet", row=row_id)


def ask_again(actor: Actor, job_id: int, row_id: int) -> list[int]:
    """Open the points that fail: their hits are set aside, not deleted, and the first is current. Returns their rows."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        failing = [point.row for point in zones_of(state, _judging(state, row_id)) if point.word == "out"]
        failing.sort(key=state.index_of)  # as they stand in the sheet
        if not failing:
            raise InputError("No point fails.", "Nothing was changed.", "Make the zone tighter, or go on.")
        for each in failing:
            open_anew(session, actor, each)
        job.current_row_id, job.touching = failing[0], ""
        record(session, actor, job_id, "ask again", rows=failing)
        tell(session, job_id, "sheet", tone="moved")
        return failing


def open_anew(session: Session, actor: Actor, row_id: int) -> None:
    """A row is to be measured anew: its hits are set aside, not deleted."""
    row = stored(session, Row, row_id)
    row.finished_at = None
    set_all_aside(session, Reading.row_id.in_([row_id, *row.recipe.get("hits_of", ())]), actor.id)


def _judging(state: JobResults, row_id: int) -> SheetRow:
    row = state.row(row_id)
    if row.recipe.zone is None:
        raise InputError("That row judges no points.", "Nothing was changed.", "Choose an alignment by guided points.")
    return row
