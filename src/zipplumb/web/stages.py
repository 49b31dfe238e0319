"""The stages of the work, in their order, and what each shows in the slip."""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy.orm import Session

from ..jobs.state.results import JobResults
from .view import JobView

STAGES = {
    "part": "Part",
    "kit": "Kit",
    "align": "Align",
    "measure": "Measure",
    "derive": "Derive",
    "place": "Place",
    "report": "Report",
}
Panel = Callable[[Session, JobResults, JobView], str]
_PANELS: dict[str, Panel] = {}


def shows(stage: str) -> Callable[[Panel], Panel]:
    """Register a stage's panel."""

    def register(make: Panel) -> Panel:
        _PANELS[stage] = make
        return make

    return register


def panel(stage: str, session: Session, state: JobResults, view: JobView) -> str:
    return _PANELS[stage](session, state, view)
