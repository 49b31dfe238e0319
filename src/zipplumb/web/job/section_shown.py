"""A section through a scan as it is drawn in the slip: flat, with places that can be picked."""

from __future__ import annotations

import json
from dataclasses import dataclass

from ...exchange.section_drawing import SectionDrawn
from ...jobs.measure import scan_sections
from ...jobs.state.results import JobResults


@dataclass(frozen=True)
class SectionShown:
    """``picks``: x, y on the drawing and the place on the stage of each point, as JSON; ``kinds``: what can be measured
    in it."""

    drawn: SectionDrawn
    picks: str
    kinds: list[tuple[str, str]]


def section_of(state: JobResults, row_id: int) -> SectionShown | None:
    """None of a row that is no section, or not there yet."""
    flat = scan_sections.flat_of(state, row_id)
    if flat is None:
        return None
    drawn = flat.drawn()
    picks = [[*xy, *place] for xy, place in zip(drawn.at.tolist(), flat.places.round(4).tolist(), strict=True)]
    return SectionShown(drawn, json.dumps(picks), list(scan_sections.MADE.items()))
