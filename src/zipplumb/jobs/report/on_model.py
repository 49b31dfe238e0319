"""What a report's page by itself shows of the part: its model, its rows at their places, and its maps."""

from __future__ import annotations

from collections.abc import Collection

from ...cad import CadModel
from ...core.sheet.maps.found import shown_of
from ...exchange.page_file import MapOnModel, ModelShown, TagOnModel
from ..measure import maps
from ..state.results import JobResults
from ..state.rows_text import row_texts
from .tagging import URGENT, places_of, says
from .views import Tags

TAGS = Tags(shows=("name", "result"))


def model_shown(state: JobResults, only: Collection[int] = ()) -> ModelShown:
    """Of a job, or of some of its rows."""
    part = state.job.part
    model = part.model or CadModel.empty().pack()
    rows = [row.id for row in state.rows if not only or row.id in only]
    painted = [_map(state, i) for i in rows if shown_of(state.results[i]) is not None]
    return ModelShown(model, state.job.kept_bodies, _tags(state, rows), painted)


def _tags(state: JobResults, rows: list[int]) -> list[TagOnModel]:
    """Those that are out first."""
    texts, found = row_texts(state), []
    for text in sorted((texts[i] for i in rows), key=lambda text: (URGENT.get(text.word, len(URGENT)), text.number)):
        places, _ = places_of(state, text.id)
        if text.is_system or text.worst is None or not len(places):
            continue
        x, y, z = places[len(places) // 2].round(3).tolist()
        said = "\u2002".join(says(text, TAGS))
        found.append(TagOnModel(text.id, (x, y, z), said, text.word, state.row(text.id).recipe.cad_face))
    return found


def _map(state: JobResults, row_id: int) -> MapOnModel:
    judged = maps.map_of(state, row_id)
    places, size = maps.drawn_of(state, row_id)
    name = state.row(row_id).recipe.name
    return MapOnModel(row_id, name, maps.steps_of(judged), maps.scale_of(judged, state.job.units), size, places)
