"""Where to stand: what is in sight from a place, and how surely each planned row would be measured from there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from scipy.spatial import cKDTree
from sqlalchemy.orm import Session

from ..core.errors import InputError
from ..core.frames import Array
from ..core.placing import lies
from ..core.probing.next_place import places_in_order
from ..core.sheet import RowRecipe, SheetRow, needs_of
from ..core.sheet.proving.rehearsal import ExpectedTouches, RehearsedInstrument, outward_at, rehearse, touches_at
from ..core.uncertainty import coverage_factor
from ..core.units import coarse_text, length_from_text, length_text, quantity_text
from ..store import models
from ..store.database import stored
from ..store.models import Job
from .measure.spots import spots_of_row
from .place.details import DetailRecipe, kept_of
from .state.part_model import model_of
from .state.readings import stated_of
from .state.results import JobResults
from .words import words_for

MOST_ROWS, MOST_HITS = 100, 60
ROUGH_MM = 0.01  # by which places on triangles are off the face
NARROW = 0.05  # of its radius, by which a tip may be nearer to another wall
AROUND, WORKED_OUT = 12, 4  # places that are looked from when some are proposed, and of how many U is worked out
UP = np.array([0.0, 0, 1])
NOTHING_KEPT = "Nothing was kept of it."


@dataclass(frozen=True)
class RowFrom:
    """One row, as it would be from one place.

    ``u``: expanded, of its first characteristic (``of``); "" where it cannot be computed. ``lines``: of sight.
    """

    seen: str
    whole: bool
    range: str
    angle: str
    u: str
    of: str = ""
    u_mm: float | None = None
    lines: tuple[Any, ...] = ()


@dataclass(frozen=True)
class RehearsalPlan:
    """The evaluation of one instrument position. ``rows``, ``details``: by id; ``said``: why it is not enough by itself."""

    name: str
    place: Array
    rows: Mapping[int, RowFrom]
    details: Mapping[int, str]
    said: str = ""

    @property
    def whole(self) -> int:
        return sum(row.whole for row in self.rows.values())

    @property
    def mean_u_mm(self) -> float:
        """The mean u of the rows that are seen whole."""
        told = [row.u_mm for row in self.rows.values() if row.whole and row.u_mm is not None]
        return float(np.mean(told)) if told else np.inf


@dataclass(frozen=True, eq=False)
class Rehearsal:
    """``places``: by row, all where it may be touched, of which ``touched`` are some. ``left_out``: by why, rows that cannot be
    estimated beforehand; ``names``: of those that can. ``box`` (2, 3). ``asked_as``: rows that are asked otherwise."""

    state: JobResults
    instrument: RehearsedInstrument
    touched: Mapping[int, ExpectedTouches]
    places: Mapping[int, ExpectedTouches]
    left_out: Mapping[str, Sequence[str]]
    names: Mapping[int, str]
    details: Mapping[int, DetailRecipe]
    sight: Any
    box: Array
    asked_as: Mapping[int, RowRecipe] = field(default_factory=dict)

    def plan(self, name: str, stand: Array) -> RehearsalPlan:
        touched = {row: self.seen_of(touches, stand) for row, touches in self.touched.items()}
        found, active, said = self.found(touched, stand), self.state.sheet.alignment, ""
        if active is not None and found[active].alignment is None:
            needed = [row for row in self.rests_on(active) if row in touched]
            hidden = [row for row in needed if len(touched[row].centers) < len(self.touched[row].centers)]
            if hidden:
                names = ", ".join(self.names[row] for row in hidden)
                said = f"It cannot be aligned from there alone: it does not see all of {names}. U as if another place saw it."
                found = self.found(touched | {row: self.touched[row] for row in hidden}, stand)
        rows = {row: self._row(row, stand, touched[row], found[row]) for row in self.touched}
        return RehearsalPlan(name, stand, rows, {k: self._detail(recipe, stand) for k, recipe in self.details.items()}, said)

    def seen_of(self, touches: ExpectedTouches, stand: Array) -> ExpectedTouches:
        """Those that are in sight from a place."""
        return touches.some(~self.sight.cut(stand, touches.centers))

    def in_other_orders(self) -> list[Rehearsal]:
        """The same with the datums of the active alignment in every other order of precedence."""
        row = self.state.sheet.alignment
        return [] if row is None else [replace(self, asked_as={row: each}) for each in self.state.row(row).recipe.other_orders]

    @property
    def datums(self) -> list[int]:
        """The rows that the active alignment names, in its order."""
        row = self.state.sheet.alignment
        if row is None:
            return []
        recipe = self.asked_as.get(row, self.state.row(row).recipe)
        return [need.id for need in needs_of(recipe) if need.what == "feature"]

    def found(self, touched: Mapping[int, ExpectedTouches], stand: Array) -> Mapping[int, Any]:
        sheet = self.state.sheet.asked_as(self.asked_as)
        return rehearse(sheet, touched, stand, self.instrument, self.state.surfaces)

    def rests_on(self, row: int) -> dict[int, None]:
        """The rows that one rests on, and so on, each once."""
        found: dict[int, None] = {}
        for need in self.state.row(row).needs:
            if need.what != "station" and need.id in self.state.sheet.index and need.id not in found:
                found |= {need.id: None} | self.rests_on(need.id)
        return found

    def _row(self, row: int, stand: Array, seen: ExpectedTouches, result: Any) -> RowFrom:
        units, asked = self.state.job.units, self.touched[row]
        ways = asked.centers - stand
        far = np.linalg.norm(ways, axis=1)
        slant = np.einsum("ij,ij->i", -ways / np.maximum(far, 1e-9)[:, None], asked.outward)
        angle = np.degrees(np.arccos(np.clip(slant, -1, 1)))
        whole = len(seen.centers) == len(asked.centers)
        recipe = self.state.row(row).recipe
        first, u, u_mm, of = result.first if len(seen.centers) else None, "", None, ""
        if first is not None and first.held:
            u = "holds the part"
        elif first is not None and first.uncertainty is not None and first.actual is not None:
            u_mm, of = first.uncertainty.U(), words_for(recipe).label(recipe, first.key)
            u = quantity_text(u_mm, first.unit, units)
        sided = recipe.sided  # type: ignore[attr-defined]
        lines = tuple([stand.round(2).tolist(), place.round(2).tolist()] for place in seen.centers[:MOST_HITS])
        return RowFrom(
            f"{len(seen.centers)} of {len(asked.centers)}", whole,
            " to ".join(dict.fromkeys(coarse_text(v, units) for v in (far.min(), far.max()))),
            f"{angle.max():.0f}°" if sided else "", u, of, u_mm, lines,
        )  # fmt: skip

    def _detail(self, recipe: DetailRecipe, stand: Array) -> str:
        """The uncertainty to expect of its targets as a whole; "" where they are not all in sight."""
        places = [self.touched[row].centers[0] for row in recipe.targets if row in self.touched]
        if len(places) < len(recipe.targets) or self.sight.cut(stand, np.array(places)).any():
            return ""
        at = np.array(places)
        u_mm = np.array([self.instrument.u_at(place - stand) for place in at])
        return length_text(coverage_factor() * float(lies(at, at, u_mm).u_at(at).max()), self.state.job.units)

    def proposed(self, far_mm: float, high_mm: float, names: Sequence[str]) -> list[RehearsalPlan]:
        """The best of some places round the part: the most rows seen whole, then the smallest U."""
        plans = sorted(
            (self.plan("", stand) for stand in self.stands(far_mm, high_mm)), key=lambda plan: (-plan.whole, plan.mean_u_mm)
        )
        return [replace(plan, name=name) for plan, name in zip(plans, names, strict=False)]

    def stands(self, far_mm: float, high_mm: float) -> list[Array]:
        """Some places (3,) round the part from which the most rows are seen whole, the best first."""
        low, high = self.box
        middle, reach = (low + high) / 2, np.linalg.norm((high - low)[:2]) / 2 + far_mm
        turns = np.linspace(0, 2 * np.pi, AROUND, endpoint=False)
        stands = [np.array([middle[0] + reach * np.cos(t), middle[1] + reach * np.sin(t), high_mm]) for t in turns]
        return sorted(stands, key=lambda stand: -self._seen_whole(stand))[:WORKED_OUT]

    def _seen_whole(self, stand: Array) -> int:
        """How many rows are seen whole: known at once, while U takes longer."""
        return sum(not self.sight.cut(stand, touches.centers).any() for touches in self.touched.values())


def rehearsal_of(session: Session, state: JobResults, instrument_id: int, most: int = MOST_ROWS) -> Rehearsal:
    """The simulated measurement from possible positions. Raises InputError if nothing can be predicted."""
    from ..cad.sight import Sight  # heavy, and seldom asked for

    instrument = _instrument(stored(session, models.Instrument, instrument_id))
    rows = state.measured
    if len(rows) > most:
        raise InputError(f"More than {most} rows are not rehearsed.", NOTHING_KEPT, "Rehearse them in a smaller job.")
    model = model_of(state.job.part)
    touched: dict[int, ExpectedTouches] = {}
    places: dict[int, ExpectedTouches] = {}
    left_out: dict[str, list[str]] = {}
    for row in rows:
        found = places_of(state, row, instrument)
        if isinstance(found, str):
            left_out.setdefault(found, []).append(row.recipe.name)
        else:
            places[row.id] = found
            touched[row.id] = some_of(row, found, min(row.recipe.wanted_hits, MOST_HITS))
    if not touched:
        why = "; ".join(left_out) or "there is no row"
        raise InputError(
            f"No row can be looked at from anywhere: {why}.", NOTHING_KEPT, "Plan rows with nominals, or take another tip."
        )
    triangles = np.empty((0, 3, 3)) if model is None else model.triangles_of(state.job.kept_bodies)
    every = np.vstack([triangles.reshape(-1, 3), *(t.centers for t in touched.values())])
    details = {detail.id: DetailRecipe.model_validate(detail.recipe) for detail in kept_of(session, state.job.id)}
    names = {row.id: row.recipe.name for row in rows if row.id in touched}
    box = np.array([every.min(axis=0), every.max(axis=0)])
    return Rehearsal(state, instrument, touched, places, left_out, names, details, Sight(triangles), box)


def _instrument(kept: models.Instrument) -> RehearsedInstrument:
    calibration = kept.calibration
    if calibration is None:
        raise InputError(f"{kept.name} has no calibrated probe.", NOTHING_KEPT, "Put a probe on it whose calibration is known.")
    return RehearsedInstrument(kept.u_hit_mm, stated_of(kept.spec), calibration.diameter_mm / 2, calibration.u_radius_mm)


def places_of(state: JobResults, row: SheetRow, instrument: RehearsedInstrument) -> ExpectedTouches | str:
    """Where a row may be touched; else why that is not known."""
    recipe, nominal = row.recipe, row.recipe.should_be
    if nominal is None and recipe.cad_face is None:
        return "without a nominal"
    if recipe.hits_of_plane:
        return "its plane is touched first"
    spots = np.asarray(spots_of_row(state, row) if recipe.targets is None else recipe.targets, float)
    if not len(spots):
        return "its places are not known"
    if not recipe.sided and not recipe.rests_on_surfaces:  # type: ignore[attr-defined]
        return ExpectedTouches(spots, np.tile(UP, (len(spots), 1)))
    outward = outward_at(recipe, spots, state.surfaces)
    if outward is None:
        return "its surface is not known"
    over = recipe.height_over_nominal(spots, state.surfaces)  # triangles cut a bent face short
    touches = touches_at(spots if over is None else spots - over[:, None] * outward, outward, instrument)
    clear = recipe.height_over_nominal(touches.centers, state.surfaces)
    fits = clear is None or np.all(np.abs(clear - instrument.tip_radius_mm) <= NARROW * instrument.tip_radius_mm + ROUGH_MM)
    return touches if fits else f"too narrow for a tip of {length_text(2 * instrument.tip_radius_mm, state.job.units)}"


def some_of(row: SheetRow, places: ExpectedTouches, count: int) -> ExpectedTouches:
    """So many of a row's places, spread as is best; all of a row that has its own."""
    recipe = row.recipe
    if recipe.targets is not None:
        return places
    chosen = places_in_order(recipe.should_be, places.centers, count)
    return places.some(cKDTree(places.centers).query(chosen)[1])


def stand_from(texts: Sequence[str], job: Job, which: str) -> Array | None:
    """A place to stand as typed, X, Y, Z in the part; None where nothing was typed. Raises InputError."""
    if not any(text.strip() for text in texts):
        return None
    return np.array([length_from_text(t, job.units, f"{axis} of {which}") for axis, t in zip("XYZ", texts, strict=True)])
