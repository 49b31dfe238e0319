"""Sections through a scan: planned one or several in a row, drawn flat, and what is measured in them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, cast

import numpy as np

from ...core.cloud.slicing import between
from ...core.errors import InputError
from ...core.features import direction_of, spot_of
from ...core.fitting import fit
from ...core.frames import Array, Indices, perpendicular_pair
from ...core.sections import Section
from ...core.shapes import Plane
from ...core.sheet import KINDS
from ...core.sheet.kinds.scan_section import ScanSectionRecipe
from ...core.sheet.maps.found import JudgedMap, shown_of
from ...core.sheet.maps.sections import Curve, whiskers
from ...exchange.section_drawing import SectionDrawn, drawn_flat
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ..actor import Actor
from ..plan.adding import add_rows, named
from ..state.part_model import model_of
from ..state.results import JobResults, load
from .clouds import cloud_of, scan_row
from .maps import TypedLimits

AXIS = {"X": 0, "Y": 1, "Z": 2}
MOST_SECTIONS, FARTHEST_MM = 50, 1e5
MADE = {"arc": "radius", "line": "straight line", "circle": "whole circle"}  # in a section, by the kind of row
FEWEST = 6  # points of what is measured in a section
MOST_DRAWN = 1_500
# axes along the paper and up it, by the axis that a plane stands across
ON_PAPER = {0: (1, 2), 1: (0, 2), 2: (0, 1)}
SQUARE = 1 - 1e-6  # the cosine from which on a plane stands across an axis


@dataclass(frozen=True, eq=False)
class Way:
    """What a plane may stand across: a direction from a place (3,), as things are drawn."""

    name: str
    place: Array
    direction: Array


def ways_across(state: JobResults) -> dict[str, Way]:
    """By their keys: the axes, and rows that have an axis or a normal."""
    found = {name: Way(name, np.zeros(3), np.eye(3)[k]) for name, k in AXIS.items()}
    here = state.drawn_from_world
    for row in state.rows:
        feature = state.results[row.id].feature
        direction = None if feature is None else direction_of(feature.shape)
        if feature is not None and direction is not None:
            place = here.points(spot_of(feature.shape)[None])[0]
            found[str(row.id)] = Way(row.recipe.name, place, here.vectors(direction[None])[0])
    return found


def names_across(state: JobResults) -> list[tuple[str, str]]:
    """The keys of the ways across, and their words."""
    return [(key, way.name if key in AXIS else f"as {way.name} points") for key, way in ways_across(state).items()]


@dataclass(frozen=True, eq=False)
class SectionsAsked:
    """Planes across one of the ``ways_across``, the first ``at_mm`` along it, or ``through`` a place (3,), ``count`` of them
    ``apart_mm``; points within ``thick_mm`` tell."""

    axis: str
    at_mm: float = 0.0
    through: Array | None = None
    count: int = 1
    apart_mm: float = 0.0
    thick_mm: float = 1.0

    def planes(self, ways: Mapping[str, Way]) -> tuple[list[Array], Array]:
        """A point (3,) of each, and what they stand across (3,). Raises InputError."""
        if self.axis not in ways:
            raise InputError(
                "A plane stands across X, Y, Z, or what a row has as its axis or normal.", "Nothing was planned.",
                "Choose one of them.",
            )  # fmt: skip
        if not 1 <= self.count <= MOST_SECTIONS:
            raise InputError(
                f"1 to {MOST_SECTIONS} sections are planned at once.", "Nothing was planned.", "Type such a number."
            )
        if self.count > 1 and not 0 < abs(self.apart_mm) <= FARTHEST_MM:
            raise InputError(
                "Several sections stand apart.", "Nothing was planned.", "Type how far it is from one to the next."
            )
        if not 0 < self.thick_mm <= 100:
            raise InputError(
                "Points within 0 to 100 mm of a plane tell of it.", "Nothing was planned.", "Type how near, such as 1 mm."
            )
        way = ways[self.axis]
        first = way.place + self.at_mm * way.direction if self.through is None else self.through
        return [first + k * self.apart_mm * way.direction for k in range(self.count)], way.direction


def plan(actor: Actor, job_id: int, scan_id: int, asked: SectionsAsked, zone_mm: float | None) -> list[int]:
    """Sections of a scan, in the part where it is aligned, else in the world. ``zone_mm``: of the profile. Returns the rows."""
    actor.must_change()
    limits = [{"key": "profile", "upper": zone_mm}, *(each for each in TypedLimits().asked() if each["key"] != "profile")]
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        scan_row(session, job_id, scan_id)
        state = load(session, job_id)
        planes, across = asked.planes(ways_across(state))
        in_world = state.alignment is None
        raws: list[dict[str, Any]] = [
            {"kind": ScanSectionRecipe.key(), "scan": scan_id, "point": point.tolist(), "across": across.tolist(),
             "in_world": in_world, "thick_mm": asked.thick_mm, "asked": limits}
            for point in planes
        ]  # fmt: skip
        rows = add_rows(session, actor, job_id, named(session, job_id, raws))
        tell(session, job_id, "sheet")
    return rows


def recipe_of(state: JobResults, row_id: int) -> ScanSectionRecipe | None:
    """None of another row."""
    recipe = state.row(row_id).recipe
    return cast(ScanSectionRecipe, recipe) if recipe.nodes == ScanSectionRecipe.nodes else None


def curve_of(state: JobResults, row_id: int) -> Curve | None:
    """None where there is nothing to be seen yet."""
    recipe = recipe_of(state, row_id)
    if recipe is None or state.results[row_id].state != "done":
        return None
    return Curve.of(recipe, cloud_of(state, recipe.scan).points, state.alignment)


def measure(actor: Actor, job_id: int, row_id: int, kind: str, begin: Array, end: Array) -> int:
    """A row for what a section is from one place to another, as they are drawn. Returns its id."""
    actor.must_change()
    if kind not in MADE:
        raise InputError(
            "In a section a radius, a straight line or a whole circle is measured.", "Nothing was planned.", "Choose."
        )
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        recipe, curve = recipe_of(state, row_id), curve_of(state, row_id)
        if recipe is None or curve is None:
            raise InputError("There is no section to be seen there.", "Nothing was planned.", "Wait until it is worked out.")
        begin, end = state.drawn_from_world.inverse().points(np.array([begin, end if kind != "circle" else begin]))
        step = cloud_of(state, recipe.scan).points.spacing_mm
        near = kind != "circle" and np.linalg.norm(end - begin) <= step
        mine = between(curve.points, begin, end, step)
        if near or len(mine) < FEWEST:
            raise InputError(
                "Between these two places the light is interrupted, or there is too little of it.", "Nothing was planned.",
                "Choose two places of one stretch, farther apart.",
            )  # fmt: skip
        cut = {"point": curve.point.tolist(), "across": curve.across.tolist(), "thick_mm": recipe.thick_mm,
               "begin": begin.tolist(), "end": end.tolist()}  # fmt: skip
        raw: dict[str, Any] = {"kind": kind, "scans": [recipe.scan], "cut": cut, "note": f"In {recipe.name}"}
        raw |= _hollow(kind, curve, mine)
        (row,) = add_rows(session, actor, job_id, named(session, job_id, [raw]))
        stored(session, Row, row).finished_at = stored(session, Row, recipe.scan).finished_at
        tell(session, job_id, "sheet")
    return row


def _hollow(kind: str, curve: Curve, mine: Indices) -> dict[str, bool]:
    """Whether air is inside of what is round, as its surface faces. Raises FitError."""
    if "inside" not in KINDS[kind].model_fields:
        return {}
    points = curve.points[mine]
    middle = fit(kind, points, fixed={"plane": Plane(curve.point, curve.across)}).shape.center
    return {"inside": bool(np.einsum("ij,ij->", middle - points, curve.normals[mine]) > 0)}


@dataclass(frozen=True, eq=False)
class FlatSection:
    """A section on paper, mm: ``points`` (n, 2) of the scan and the ``places`` (n, 3) at which they are drawn on the stage;
    ``nominals``: the CAD's curves, and the same moved by each limit, as many times as whiskers are longer; ``whiskers``
    (k, 2, 2), so many ``times`` as long; ``axes``: what is to the right and up."""

    points: Array
    places: Array
    nominals: list[Array]
    zone: list[Array]
    whiskers: Array
    axes: tuple[str, str]
    times: float

    def drawn(self) -> SectionDrawn:
        return drawn_flat(self.points, self.nominals, self.zone, self.whiskers, self.times, self.axes)


def flat_of(state: JobResults, row_id: int) -> FlatSection | None:
    """None of what is no section, or not there yet."""
    recipe, curve = recipe_of(state, row_id), curve_of(state, row_id)
    if recipe is None or curve is None:
        return None
    here = state.drawn_from_world
    some = np.unique(np.linspace(0, len(curve) - 1, min(MOST_DRAWN, len(curve))).astype(int))
    places, across = here.points(curve.points[some]), here.vectors(curve.across[None])[0]
    paper, axes = _paper(across)
    judged = shown_of(state.results[row_id])
    nominals, zone, off = _compared(state, recipe, judged) if judged is not None else ([], [], np.empty((0, 2, 3)))
    return FlatSection(
        places @ paper.T,
        places,
        [line @ paper.T for line in nominals],
        [line @ paper.T for line in zone],
        off @ paper.T,
        axes,
        recipe.times,
    )


def _paper(across: Array) -> tuple[Array, tuple[str, str]]:
    """(2, 3) what is to the right and up on paper, and their names."""
    axis = int(np.argmax(np.abs(across)))
    if abs(across[axis]) >= SQUARE:
        right, up = ON_PAPER[axis]
        names = tuple(AXIS)
        return np.eye(3)[[right, up]], (names[right], names[up])
    return np.array(perpendicular_pair(across)), ("", "")


def _compared(state: JobResults, recipe: ScanSectionRecipe, judged: JudgedMap) -> tuple[list[Array], list[Array], Array]:
    """In the part: the CAD's curves, these moved by the limits, and whiskers."""
    from ...cad.section import cut  # heavy, and seldom asked for

    model, places = model_of(state.job.part), judged.found.places
    sections: list[tuple[int, Section]] = []
    if model is not None and state.alignment is not None:
        for face in np.unique(places.faces).tolist():
            try:
                found = cut(model, [face], np.array(recipe.point), np.array(recipe.across))
            except InputError:  # it lies along the plane: there is no one curve
                continue
            sections += [(face, each) for each in found]
    limits = judged.limits_of_faces()
    zone = [
        each.points + recipe.times * limit * each.normals
        for face, each in sections for limit in limits[face] if limit is not None
    ]  # fmt: skip
    return [each.points for _, each in sections], zone, whiskers(places, recipe.times, MOST_DRAWN)
