"""What the slip of a scan tells."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy.orm import Session

from ...core.units import count_text, length_text
from ...jobs.measure import clouds
from ...jobs.measure.scan_sections import names_across
from ...jobs.state.results import JobResults

REACH_MM = 1.0
THICK_MM = 1.0  # to either side of a section


@dataclass(frozen=True)
class ScanShown:
    """What the slip of a scan tells: counts in words, how far it is, rows that take its points, its cuts, by which planes may
    be cut, how many lines of light it has, how many rows more may take points, whether some do by the CAD, and whether it can
    be told how far it lies off the CAD, and how far what is of the part does so, unless a person says otherwise, and what
    it may be cut ``across``."""

    facts: list[tuple[str, str]]
    share: float | None
    takes: list[tuple[str, int]]
    cuts: list[str]
    planes: list[tuple[int, str]]
    lines: int
    edges_only: bool
    may_take: int
    by_cad: bool
    system: str
    on_cad: bool
    reach: str
    thick: str
    across: list[tuple[str, str]]


def scan_of(session: Session, state: JobResults, row_id: int) -> ScanShown | None:
    """None of a row that is no scan."""
    cloud, recipe = state.results[row_id].cloud, state.row(row_id).recipe
    if cloud is None:
        return None
    facts = [("Lines of light", str(cloud.lines))]
    if cloud.read:
        shown = [("Points", cloud.read), ("Left by the cuts", cloud.kept), ("Worked with", cloud.cells)]
        facts += [(name, count_text(count)) for name, count in shown] + [("Edges", count_text(len(cloud.edges)))]
    takes = clouds.takers(state, row_id)
    given = [(row.recipe.name, clouds.points_of(state, row_id, row)) for row in takes]
    system = recipe.system  # type: ignore[attr-defined]
    named = state.row(system).recipe.name if system in state.sheet.index else ""
    cuts = [cut.name for cut in recipe.cuts]  # type: ignore[attr-defined]
    taking = {row.id for row in takes}
    may_take = 0 if state.alignment is None else sum(row not in taking for row in clouds.may_take(state))
    only = recipe.edges_only  # type: ignore[attr-defined]
    share, planes = clouds.progress_of(session, state.job.id, row_id), clouds.planes_of(state)
    reach, thick = (length_text(mm, state.job.units) for mm in (REACH_MM, THICK_MM))
    on_cad = state.alignment is not None and bool(state.job.part.bodies)
    by_cad = any(row.recipe.takes_by_cad for row in takes)
    across = names_across(state)
    return ScanShown(
        facts, share, given, cuts, planes, cloud.lines, only, may_take, by_cad, named, on_cad, reach, thick, across
    )
