"""The ways to an alignment, by what one has; each leads to a page where the recipe is made."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from flask import render_template
from sqlalchemy.orm import Session

from ...jobs.align import systems
from ...jobs.state.results import JobResults
from ..plan.forms import plan_form
from .bolt_circle import bolt_circle_page
from .laid import laid_page
from .mounted import mounted_page
from .points import points_page
from .rough import rough_page
from .without_cad import without_cad_page

Page = Callable[[Session, JobResults], str]


@dataclass(frozen=True)
class Road:
    """``have``: what one begins with; ``way``: what is done then, in a sentence."""

    key: str
    have: str
    way: str
    page: Page


def _by_form(key: str, kind: str, words: str, ready: Mapping[str, Mapping[str, str]] | None = None) -> Page:
    """The form of a kind; ``ready``: by their names, ways in which it can be filled beforehand."""

    def page(session: Session, state: JobResults) -> str:
        forms = [(name, plan_form(session, state, kind, dict(texts))) for name, texts in (ready or {"": {}}).items()]
        return render_template("_road_form.html", road=ROADS_BY_KEY[key], words=words, forms=forms, job=state.job)

    return page


def _datums_page(session: Session, state: JobResults) -> str:
    lettered = systems.lettered(state)
    texts = {
        f"datums.{k}.features.{n}": str(row.id) for k, datum in enumerate(lettered[:3]) for n, row in enumerate(datum.rows)
    }
    form = plan_form(session, state, "datum_features", texts)
    words = (
        "Primary first. Each takes what those before it left free, as ISO 5459 says; two planes together are the plane midway."
    )
    if len(lettered) < 3:
        words += f" {len(lettered)} datum letter{'s are' if len(lettered) != 1 else ' is'} set; more can be set on the rows."
        words += " Places called A1, A2, … are targets of A."
    return render_template(
        "_road_form.html", road=ROADS_BY_KEY["datums"], words=words, forms=[("", form)], job=state.job, lettered=lettered[:3]
    )


_TURN, _ORIGIN = {"step": "turn"}, {"step": "origin"}


def _steps(*steps: Mapping[str, str]) -> dict[str, str]:
    return {f"steps.{k}.{name}": text for k, step in enumerate(steps) for name, text in step.items()}


STEPS = {
    "Plane, line, line": _steps({**_TURN, "axis": "+Z"}, {**_TURN, "axis": "+X"}, {**_ORIGIN, "coordinates": "Z"},
                                {**_ORIGIN, "coordinates": "Y"}, {**_ORIGIN, "coordinates": "X"}),
    "Plane, line, point": _steps({**_TURN, "axis": "+Z"}, {**_TURN, "axis": "+X"}, {**_ORIGIN, "coordinates": "Z"},
                                 {**_ORIGIN, "coordinates": "XY"}),
    "Plane, two centers": _steps({**_TURN, "axis": "+Z"}, {**_TURN, "axis": "+X", "features.1": ""},
                                 {**_ORIGIN, "coordinates": "Z"}, {**_ORIGIN, "coordinates": "XY"}),
    "Corner of three planes": _steps({**_TURN, "axis": "+Z"}, {**_TURN, "axis": "-Y"}, {**_ORIGIN, "coordinates": "Z"},
                                     {**_ORIGIN, "coordinates": "Y"}, {**_ORIGIN, "coordinates": "X"}),
}  # fmt: skip

ROADS = (
    Road("rough", "CAD, and nothing measured yet",
         "Click six places or more on the part, then touch them: a rough place in two minutes.", rough_page),
    Road("points", "Points with known places",
         "From a list, picked or typed. From the third on each shows how far off it is; those that fail are asked again.",
         points_page),
    Road("datums", "A drawing with datums A, B, C", "Primary, secondary, tertiary, each taking what is left.", _datums_page),
    Road("steps", "A plane to level, a direction, a zero", "Level, rotate and set the zero, in your own order.",
         _by_form("steps", "steps", "A step turns the part, or says where zero is. The first direction takes two turns, "
                  "the second the third.", STEPS)),
    Road("bolt_circle", "A bolt circle whose middle is zero", "A plane levels, and X runs through the hole that you name.",
         bolt_circle_page),
    Road("mounted", "It is held by some of its features", "Tick in which directions each holds the part.", mounted_page),
    Road("reference", "Reference points, scale and temperature", "All together, with the scale fixed, free or by material.",
         _by_form("reference", "reference_points", "Choose three or more that have nominals. Whoever disagrees is named.")),
    Road("surfaces", "Many touches, and a rough place", "All hits laid on the CAD's surfaces, by the nearest place.",
         _by_form("surfaces", "surfaces", "Start from one that is nearly right; left out, from the rows' own nominals.")),
    Road("laid", "A scan, and the CAD",
         "All of the scan laid on the CAD's surfaces: found from no start, from an alignment, or from three pairs of places.",
         laid_page),
    Road("without_cad", "No CAD", "Touch planes, and say at the device which axis each is.", without_cad_page),
    Road("level", "It has to be level", "By the instrument's own level, or by a measured plane.",
         _by_form("level", "level", "What says where up is: the instrument's level, or a measured plane? Choose one. "
                  "Zero may be at a feature.")),
)  # fmt: skip
ROADS_BY_KEY = {road.key: road for road in ROADS}


def road_page(key: str, session: Session, state: JobResults) -> str | None:
    """None where there is no such road."""
    road = ROADS_BY_KEY.get(key)
    return None if road is None else road.page(session, state)
