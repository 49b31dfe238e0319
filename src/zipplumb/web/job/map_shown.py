"""What the slip of a map tells."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy.orm import Session

from ...core.sheet.maps.found import FoundMap, shown_of
from ...core.units import count_text, length_text
from ...exchange.map_table import MapLine
from ...jobs.measure import map_limits, maps
from ...jobs.measure.clouds import progress_of
from ...jobs.state.results import JobResults

FACES = 12  # listed, those that are farthest off


@dataclass(frozen=True)
class MapShown:
    """``share``: how far it is worked out; counts in words; bars of how many lie where, the ``scale`` under them; the faces
    that are farthest off."""

    share: float | None
    facts: list[tuple[str, str]]
    bars: list[maps.Bar]
    scale: list[tuple[int, str]]
    faces: list[MapLine]
    judged: bool
    others: list[tuple[int, str]]
    by_face: bool = False
    profiles: int = 0


def map_of(session: Session, state: JobResults, row_id: int) -> MapShown | None:
    """None of a row that is no map."""
    found = state.results[row_id].map
    if found is None:
        return None
    if isinstance(found, FoundMap):
        return MapShown(progress_of(session, state.job.id, row_id), [], [], [], [], False, [])
    judged, units = shown_of(state.results[row_id]), state.job.units
    assert judged is not None
    result = judged.found.result
    step = f"{length_text(result.step_mm, units)} {units}"
    facts = [
        ("Points", count_text(result.read)),
        ("Of them not of the surface, or at an edge", count_text(result.off)),
        (f"Places, one of every {step}", count_text(len(result.places))),
    ]
    if judged.found.apart:
        facts = [("Hits", count_text(result.read)), ("From one to the next, as a rule", step)]
    table = maps.table_of(state, state.row(row_id).recipe.name, judged)
    others = [(row.id, row.recipe.name) for row in maps.maps_of(state) if row.id != row_id]
    profiles = sum(each.face in judged.of_faces for each in map_limits.profiles(state))
    scale = list(enumerate(table.scale, start=1))
    return MapShown(
        None,
        facts,
        maps.bars_of(judged),
        scale,
        list(table.faces[:FACES]),
        judged.words is not None,
        others,
        table.by_face,
        profiles,
    )
