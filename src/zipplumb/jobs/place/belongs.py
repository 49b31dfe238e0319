"""Where the targets of a detail belong: each at its nominal place, or all at one height."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from ...core.features import center_point, standing_place
from ...core.frames import Array, perpendicular_pair
from ...core.placing import Adjuster, Effect, Lies, TurnPlan, learned, learned_each, lies, plan_each, plan_turns, wanted_first
from ...core.sheet import SheetRow, StationPose
from ...core.sheet.base import Model
from ...core.units import length_text
from ..state.results import JobResults
from .adjuster_lines import AdjusterRecipe
from .placement import Placing, aims_of

LEAST_U_MM = 0.002
HEIGHTS: dict[str, Callable] = {"highest": np.max, "lowest": np.min, "middle": np.mean}


@dataclass(frozen=True, eq=False)
class TargetSight:
    """Where targets are (``seen``) and belong (``nominal``, ``zones_mm``), by row, in the axes of their nominals.

    ``rows``: those that are looked for; ``u_mm``: of where each is, at the least. ``u_lean_rad``: how uncertain the axes
    lean. ``said``: what is to be known beside. ``refused``: why there is no result.
    """

    nominal: Mapping[int, Array]
    seen: Mapping[int, Array]
    zones_mm: Mapping[int, float]
    rows: tuple[int, ...]
    u_mm: Mapping[int, float] = field(default_factory=dict)
    u_lean_rad: float = 0.0
    said: tuple[str, ...] = ()
    refused: str = ""

    def off_mm(self) -> Array:
        """(n, 3) of what is seen, actual less where it belongs."""
        return np.array([place - self.nominal[row] for row, place in self.seen.items()])

    def zones(self) -> Array:
        return np.array([self.zones_mm[row] for row in self.seen])

    def over(self, adjuster: AdjusterRecipe) -> Adjuster:
        return adjuster.adjuster({**self.nominal, **self.seen})


class AtNominal(Model):
    """Each target at its nominal place, in the active system; the detail moves as one."""

    where: Literal["nominal"] = "nominal"
    under_targets: ClassVar = False
    in_system: ClassVar = True  # it is told in the axes of the active system
    whose: ClassVar = "with a nominal"

    def may_be(self, state: JobResults) -> Iterable[SheetRow]:
        return aims_of(state).rows

    def sight(self, state: JobResults, targets: Iterable[int]) -> TargetSight:
        aims = aims_of(state)
        nominal = {row.id: place for row, place in zip(aims.rows, aims.places, strict=True)}
        rows = tuple(row for row in targets if row in nominal)
        zones = {row.id: float(zone) for row, zone in zip(aims.rows, aims.zones_mm, strict=True)}
        seen = {row: center_point(part.shape) for row in rows if (part := _measured(state, row, "feature_part")) is not None}
        refused = ""
        if state.alignment is None:
            refused = "No coordinate system is active: align first."
        elif held := [state.row(row).recipe.name for row in rows if state.results[row].held]:
            refused = f"The active system rests on {', '.join(held)}: what is moved cannot hold the system."
        elif not rows:
            refused = "None of its targets has a nominal place any more."
        return TargetSight(nominal, seen, zones, rows, _u_mm(state, seen), refused=refused)

    def sighted(self, state: JobResults) -> Callable[[Array], Array]:
        """Transform a point of the part (of the world, while nothing is aligned) to the axes of the targets."""
        return np.asarray

    def lies(self, sight: TargetSight) -> Lies | None:
        """How it lies as a whole."""
        return self._lies(sight, sight.seen, list(sight.seen))

    def plan(
        self, sight: TargetSight, recipes: Sequence[AdjusterRecipe], left: Sequence[Adjuster], effects: Sequence[Effect]
    ) -> TurnPlan:
        """The planned turns. ``left``: the adjusters with their remaining travel."""
        nominal = np.array([sight.nominal[row] for row in sight.seen])
        return plan_turns(self._lies(sight, sight.seen, list(sight.seen)), nominal, sight.zones(), left, effects)

    def wanted(self, sight: TargetSight, recipes: Sequence[AdjusterRecipe]) -> list[int]:
        """Rows of the targets that are to be seen before it is said what to turn."""
        left = [row for row in sight.rows if row not in sight.seen]
        seen, to_see = (np.reshape([sight.nominal[row] for row in rows], (-1, 3)) for rows in (sight.seen, left))
        return [left[k] for k in wanted_first(seen, to_see, [sight.over(a) for a in recipes])]

    def learned(
        self, sight: TargetSight, recipes: Sequence[AdjusterRecipe], effects: Sequence[Effect], turns: Array,
        before: Mapping[int, Array], after: Mapping[int, Array],
    ) -> Sequence[Effect]:  # fmt: skip
        """Effects of the adjusters, updated by one round of turns."""
        both = [row for row in before if row in after and row in sight.nominal]
        if not both:
            return effects
        adjusters = [sight.over(a) for a in recipes]
        return learned(effects, adjusters, turns, self._lies(sight, before, both), self._lies(sight, after, both))

    def _lies(self, sight: TargetSight, places: Mapping[int, Array], rows: Sequence[int]) -> Lies:
        return lies(
            np.array([sight.nominal[row] for row in rows]), np.array([places[row] for row in rows], float),
            np.array([sight.u_mm.get(row, LEAST_U_MM) for row in rows]),
        )  # fmt: skip

    def nominal_of(self, places: Mapping[int, Array], sight: TargetSight) -> Mapping[int, Array]:
        """Where targets belong that were at ``places`` once."""
        return {row: sight.nominal[row] for row in places if row in sight.nominal}


class AtOneHeight(Model):
    """All targets at the height of one of them, or at their mean, each moved by the adjuster under it; upright is what the
    instrument's level says, or Z."""

    where: Literal["height"] = "height"
    by: Literal["instrument", "system"] = "instrument"
    to: Literal["highest", "lowest", "middle"] = "highest"
    under_targets: ClassVar = True
    whose: ClassVar = "at a height"

    @property
    def in_system(self) -> bool:
        return self.by == "system"

    def may_be(self, state: JobResults) -> Iterable[SheetRow]:
        return [row for row in state.measured if row.recipe.stands_somewhere]

    def sight(self, state: JobResults, targets: Iterable[int]) -> TargetSight:
        rows = tuple(row for row in targets if row in state.sheet.index)
        turn, u_lean, refused = self._axes(state)
        if refused or turn is None:
            return TargetSight({}, {}, {}, rows, refused=refused)
        which = "feature_part" if self.by == "system" else "feature"
        seen = {row: turn @ standing_place(found.shape) for row in rows if (found := _measured(state, row, which)) is not None}
        zones = dict.fromkeys(rows, Placing.of_job(state.job).zone_mm)
        if not seen:
            return TargetSight({}, {}, zones, rows)
        base = TargetSight({}, seen, zones, rows, _u_mm(state, seen), u_lean, _highest_and_lowest(state, seen))
        return replace(base, nominal=self.nominal_of(seen, base))

    def nominal_of(self, places: Mapping[int, Array], sight: TargetSight) -> Mapping[int, Array]:
        to = HEIGHTS[self.to]([place[2] for place in places.values()])
        return {row: np.array([*place[:2], to]) for row, place in places.items()}

    def sighted(self, state: JobResults) -> Callable[[Array], Array]:
        turn, alignment = self._axes(state)[0], state.alignment
        if turn is None or self.by == "system":
            return np.asarray
        if alignment is None:
            return lambda place: turn @ place
        world_from_part, scale = alignment.part_from_world.inverse(), alignment.scale
        return lambda place: turn @ (world_from_part.points(place) / scale)

    def lies(self, sight: TargetSight) -> Lies | None:
        return None

    def plan(
        self, sight: TargetSight, recipes: Sequence[AdjusterRecipe], left: Sequence[Adjuster], effects: Sequence[Effect]
    ) -> TurnPlan:
        rows, places = list(sight.seen), np.array(list(sight.seen.values()))
        far = np.linalg.norm(places[:, :2] - places[:, :2].mean(axis=0), axis=1)
        u_mm = np.hypot([sight.u_mm[row] for row in rows], sight.u_lean_rad * far)
        under = [rows.index(a.target) for a in recipes]
        return plan_each(sight.off_mm(), u_mm, sight.zones(), under, left, effects)

    def wanted(self, sight: TargetSight, recipes: Sequence[AdjusterRecipe]) -> list[int]:
        """All of them: which is the highest is not known before."""
        return [row for row in sight.rows if row not in sight.seen]

    def learned(
        self, sight: TargetSight, recipes: Sequence[AdjusterRecipe], effects: Sequence[Effect], turns: Array,
        before: Mapping[int, Array], after: Mapping[int, Array],
    ) -> Sequence[Effect]:  # fmt: skip
        under = [a.target for a in recipes]
        if any(row not in before or row not in after for row in under):
            return effects
        moved = np.array([after[row] - before[row] for row in under])
        u_mm = np.sqrt(2) * np.array([sight.u_mm.get(row, LEAST_U_MM) for row in under])
        return learned_each(effects, [sight.over(a) for a in recipes], turns, moved, u_mm)

    def _axes(self, state: JobResults) -> tuple[Array | None, float, str]:
        """(3, 3) whose rows are the axes, Z upright; how uncertain that is; why there are none."""
        if self.by == "system":
            aligned = state.alignment is not None
            return (np.eye(3), 0.0, "") if aligned else (None, 0.0, "No coordinate system is active: align first.")
        for station in state.stations.values():
            if isinstance(station, StationPose) and station.up is not None:
                up = station.world_from_station.vectors(station.up)
                return np.array([*perpendicular_pair(up), up]), station.u_level_rad, ""
        return None, 0.0, "No instrument here tells what is level: level by the active system's Z."


Belongs = Annotated[AtNominal | AtOneHeight, Field(discriminator="where")]


def _u_mm(state: JobResults, rows: Iterable[int]) -> dict[int, float]:
    return {row: max(state.results[row].feature.u_hit_mm, LEAST_U_MM) for row in rows}  # type: ignore[union-attr]


def _measured(state: JobResults, row: int, which: str):
    found = state.results[row]
    return getattr(found, which) if found.state == "done" else None


def _highest_and_lowest(state: JobResults, seen: Mapping[int, Array]) -> tuple[str, ...]:
    heights = {row: float(place[2]) for row, place in seen.items()}
    if len(heights) < 2:
        return ()
    high, low = max(heights, key=heights.__getitem__), min(heights, key=heights.__getitem__)
    drop = length_text(heights[high] - heights[low], state.job.units)
    return (f"Highest: {state.row(high).recipe.name}. Lowest: {state.row(low).recipe.name}, {drop} below it.",)
