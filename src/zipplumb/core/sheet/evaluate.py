"""evaluate(): from what was asked and what was read to what was found. Pure.

Rows form a directed acyclic graph with two storeys: features are *measured* in the world,
alignments are solved from them, and then features and dimensions are *judged* in the part's
coordinate system. Every result is keyed by a hash of its recipe and of its inputs' keys;
what has the same key as before is taken over as it is.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from ..alignment import align_datum_planes
from ..deriving import plane_distance
from ..errors import PlumbError
from ..fitting import FitResult, fit
from ..frames import Array, points_of_poses
from ..probing import contacts_from_centers, side_of_air, surface_from_centers
from ..shapes import Cylinder, Plane
from ..tolerances import judge
from .recipes import CylinderRecipe, DatumPlanesRecipe, DistanceRecipe, PlaneRecipe, depends_on
from .results import Kit, Reading, RowResult, Sheet, SheetRow, State, fingerprint

COVERAGE = 2.0  # k of the expanded uncertainty


def evaluate(
    sheet: Sheet,
    readings: Mapping[int, Reading],
    kit: Kit,
    previous: Mapping[tuple[str, int], RowResult] | None = None,
) -> tuple[dict[int, RowResult], dict[tuple[str, int], RowResult]]:
    """Work the whole sheet out.

    Parameters
    ----------
    sheet : the rows as asked
    readings : raw readings by row id; rows without readings may be left out
    kit : stations and probe calibrations
    previous : the second value of an earlier call, so that only what changed is worked out

    Returns
    -------
    results : RowResult by row id
    memory : to be given back as ``previous`` next time
    """
    work = _Work(sheet, readings, kit, previous or {})
    for row in sheet.rows:
        if isinstance(row.recipe, PlaneRecipe | CylinderRecipe):
            work.remember("measured", row, _measure_key(row, readings.get(row.id), kit), work.measure)
    for row in sheet.rows:
        if isinstance(row.recipe, DatumPlanesRecipe):
            work.remember("aligned", row, work.inputs_key(row), work.align)
    for row in sheet.rows:
        if isinstance(row.recipe, PlaneRecipe | CylinderRecipe):
            work.remember("judged", row, work.inputs_key(row), work.judge_feature)
        elif isinstance(row.recipe, DistanceRecipe):
            work.remember("judged", row, work.inputs_key(row), work.judge_distance)
    results = {}
    for row in sheet.rows:
        storey = "aligned" if isinstance(row.recipe, DatumPlanesRecipe) else "judged"
        results[row.id] = work.memory[storey, row.id]
    return results, work.memory


def _measure_key(row: SheetRow, reading: Reading | None, kit: Kit) -> str:
    if reading is None:
        return row.digest
    parts: list[object] = [row.digest, reading.digest]
    for number in sorted(set(reading.calibrations.tolist()) | {reading.pull_off_calibration or 0}):
        if cal := kit.calibrations.get(number):
            parts.append((cal.id, cal.offset_mm.tobytes(), cal.diameter_mm, cal.u_radius_mm, cal.u_hit_mm))
    for number in sorted(set(reading.stations.tolist())):
        parts.append(kit.stations[number].world_from_station.as_list())
    return fingerprint(*parts)


class _Work:
    """One evaluation: what has been found so far, by storey and row."""

    def __init__(self, sheet: Sheet, readings, kit: Kit, previous):
        self.sheet, self.readings, self.kit, self.previous = sheet, readings, kit, previous
        self.memory: dict[tuple[str, int], RowResult] = {}
        self.rows = {row.id: row for row in sheet.rows}

    def remember(self, storey: str, row: SheetRow, key: str, calculate) -> None:
        before = self.previous.get((storey, row.id))
        if before is not None and before.key == key:
            self.memory[storey, row.id] = before
            return
        try:
            self.memory[storey, row.id] = calculate(row, key)
        except PlumbError as error:
            measured = self.memory.get(("measured", row.id)) if storey == "judged" else None
            base = measured or RowResult(row.id, key)
            self.memory[storey, row.id] = replace(base, key=key, state="failed", message=str(error))

    def inputs_key(self, row: SheetRow) -> str:
        """Of everything that a row's second storey rests on."""
        parts = [row.digest]
        parts += [self._key("measured", other) for other in (row.id, *depends_on(row.recipe))]
        if not isinstance(row.recipe, DatumPlanesRecipe):
            parts.append(self._key("aligned", self.sheet.alignment))
        return "|".join(parts) if len(parts) < 4 else fingerprint(*parts)

    def _key(self, storey: str, row_id: int | None) -> str:
        found = self.memory.get((storey, row_id)) if row_id is not None else None
        return found.key if found else "-"

    # ---- first storey: features in the world ---------------------------------------

    def measure(self, row: SheetRow, key: str) -> RowResult:
        reading = self.readings.get(row.id)
        if reading is None or not np.any(~reading.aside):
            return RowResult(row.id, key, "todo")
        keep = ~reading.aside
        centers = self._tips(reading.poses, reading.stations, reading.calibrations)[keep]
        approach = self._tips(reading.approach, reading.stations, reading.calibrations)[keep]
        counted = tuple(k for k, good in zip(reading.keys, keep, strict=True) if good)
        base = RowResult(row.id, key, "taking", hits=len(centers), centers_world=centers, counted=counted)
        pull_off = self._pull_off(reading)
        try:
            result = fit(row.recipe.kind, centers, toward=_toward(row, centers, approach, pull_off))
        except PlumbError as error:
            return replace(base, state="failed" if row.finished else "taking", message=str(error))
        side = side_of_air(result.shape, centers, approach, pull_off, _nominal_air(row.recipe), row.recipe.settled_air)
        cal = self.kit.calibrations[int(reading.calibrations[keep][0])]
        if not side.air:
            open_state: State = "asks" if row.finished else "taking"
            return replace(base, fit=result, side=side, state=open_state, residuals=result.residuals, warnings=result.warnings)
        try:
            surface = surface_from_centers(result.shape, cal.radius_mm, side.air)
        except ValueError as error:
            return replace(base, fit=result, state="failed", message=f"The hits make no surface: {error}.")
        state: State = ("asks" if side.doubt else "done") if row.finished else "taking"
        inward = (isinstance(surface, Cylinder) and side.air < 0) or (isinstance(surface, Plane) and side.air < 0)
        return replace(
            base,
            state=state,
            fit=result,
            side=side,
            surface_world=surface,
            contacts_world=contacts_from_centers(surface, centers),
            residuals=-result.residuals if inward else result.residuals,
            U_mm=self._expanded(row, result, cal),
            warnings=result.warnings,
        )

    def _tips(self, poses: Array, stations: Array, calibrations: Array) -> Array:
        """Tip centers in the world; each hit by its own station and calibration."""
        tips = np.full((len(poses), 3), np.nan)
        for station, cal in set(zip(stations.tolist(), calibrations.tolist(), strict=True)):
            mine = (stations == station) & (calibrations == cal) & np.isfinite(poses).all(axis=1)
            if mine.any():
                local = points_of_poses(poses[mine], self.kit.calibrations[cal].offset_mm)
                tips[mine] = self.kit.stations[station].world_from_station.points(local)
        return tips

    def _pull_off(self, reading: Reading) -> Array | None:
        if reading.pull_off is None:
            return None
        station, cal = np.array([reading.pull_off_station]), np.array([reading.pull_off_calibration])
        return self._tips(reading.pull_off[None], station, cal)[0]

    def _expanded(self, row: SheetRow, result: FitResult, cal) -> float | None:
        """U of the row's own quantity: hits (the worse of stated and seen) and the tip."""
        u_hit = _worse(cal.u_hit_mm, result.sigma)
        if isinstance(row.recipe, CylinderRecipe):
            return float(COVERAGE * np.hypot(2 * result.u("radius", u_hit), 2 * cal.u_radius_mm))
        return float(COVERAGE * np.hypot(result.u("z", u_hit), cal.u_radius_mm))

    # ---- alignments -----------------------------------------------------------------

    def align(self, row: SheetRow, key: str) -> RowResult:
        recipe: DatumPlanesRecipe = row.recipe
        ids = (recipe.primary, recipe.secondary, recipe.tertiary)
        planes = [self.memory.get(("measured", i)) for i in ids]
        names = [self.rows[i].recipe.name if i in self.rows else "a row that is gone" for i in ids]
        for i, name in zip(ids, names, strict=True):
            source = self.rows.get(i)
            if source is None or not isinstance(source.recipe, PlaneRecipe) or source.recipe.nominal is None:
                return RowResult(row.id, key, "failed", f"{name} is no plane with a nominal. Choose three such planes.")
        missing = [n for n, p in zip(names, planes, strict=True) if p.state != "done"]
        if missing:
            return RowResult(row.id, key, "waits", f"Waits for {' and '.join(missing)}.", uses=ids)
        nominal = [self.rows[i].recipe.nominal.as_shape() for i in ids]
        letters = [self.rows[i].recipe.datum or name for i, name in zip(ids, names, strict=True)]
        alignment = align_datum_planes(
            nominal,
            [p.surface_world for p in planes],
            [p.contacts_world for p in planes],
            letters,
            [p.fit.local for p in planes],
            [p.fit.unit_covariance * self._u_hit(p) ** 2 for p in planes],
        )
        return RowResult(row.id, key, "done", alignment=alignment, uses=ids)

    def _active(self) -> RowResult | None:
        found = self.memory.get(("aligned", self.sheet.alignment)) if self.sheet.alignment else None
        return found if found and found.alignment else None

    # ---- second storey: judged in the part's coordinate system -----------------------

    def judge_feature(self, row: SheetRow, key: str) -> RowResult:
        found = replace(self.memory["measured", row.id], key=key)
        recipe = row.recipe
        if isinstance(recipe, CylinderRecipe):
            found = replace(found, quantity="diameter", nominal_mm=recipe.nominal.diameter_mm if recipe.nominal else None)
        else:
            found = replace(found, quantity="height" if recipe.nominal else "form", nominal_mm=None)
        if found.surface_world is None:
            return found
        active = self._active()
        if active:
            motion = active.alignment.part_from_world
            found = replace(
                found,
                aligned_by=active.row,
                surface_part=found.surface_world.moved(motion),
                contacts_part=motion.points(found.contacts_world),
            )
        if found.state == "asks":
            return found
        if isinstance(recipe, CylinderRecipe):
            return _judged(found, recipe, 2 * found.surface_world.radius)
        if recipe.nominal is None:
            return replace(found, actual_mm=found.fit.form)
        nominal = recipe.nominal.as_shape()
        height = float(nominal.point @ nominal.normal)
        found = replace(found, nominal_mm=height)
        if found.surface_part is None:
            return replace(found, warnings=(*found.warnings, "Its place is known once the part is aligned."))
        if active is not None and row.id in active.uses:
            return replace(found, held=True, actual_mm=float(found.surface_part.point @ nominal.normal))
        opposite = found.surface_part.normal @ nominal.normal < 0
        if opposite and found.state == "done" and row.recipe.settled_air is None:
            return replace(found, state="asks", side=replace(found.side, doubt=True))
        u_place = active.alignment.u_along(found.surface_part.point, nominal.normal)
        found = replace(found, U_mm=float(np.hypot(found.U_mm, COVERAGE * u_place)))
        return _judged(found, recipe, float(found.surface_part.point @ nominal.normal))

    def judge_distance(self, row: SheetRow, key: str) -> RowResult:
        recipe: DistanceRecipe = row.recipe
        base = RowResult(row.id, key, quantity="distance", nominal_mm=recipe.nominal_mm)
        base = replace(base, uses=(recipe.first, recipe.second))
        ends = [self.memory.get(("measured", i)) for i in (recipe.first, recipe.second)]
        if any(end is None for end in ends):
            return replace(base, state="failed", message="A row it rests on is no plane, or is gone. Choose two planes.")
        missing = [self.rows[i].recipe.name for i, e in zip(base.uses, ends, strict=True) if e.state != "done"]
        if missing:
            return replace(base, state="waits", message=f"Waits for {' and '.join(missing)}.")
        first, second = (end.surface_world for end in ends)
        if not isinstance(first, Plane) or not isinstance(second, Plane):
            return replace(base, state="failed", message="This distance needs two planes. Choose two planes.")
        distance = plane_distance(first, second)
        U = self._distance_uncertainty(ends, distance.foot)
        active = self._active()
        found = replace(base, state="done", distance=distance, U_mm=U)
        if active:
            parts = active.alignment.part_from_world.vectors(distance.vector)
            found = replace(found, components=(float(parts[0]), float(parts[1]), float(parts[2])), aligned_by=active.row)
        if recipe.measure == "perpendicular":
            return _judged(found, recipe, distance.perpendicular_mm)
        if found.components is None:
            return replace(found, state="waits", message="A distance along an axis needs the part aligned.")
        return _judged(found, recipe, abs(found.components["xyz".index(recipe.measure[-1])]))

    def _distance_uncertainty(self, ends: list[RowResult], foot: Array) -> float:
        """Of the gap at ``foot``: the first plane's height there and the second's middle.

        The same tip touched both. Where the planes face away from each other or toward each
        other, its radius error counts twice; where they face alike, it cancels.
        """
        variance = 0.0
        for end, place in zip(ends, (foot, None), strict=True):
            lever = np.array([1.0, 0.0, 0.0])
            if place is not None:
                local = end.fit.local.inverse().points(place)
                lever = np.array([1.0, local[1], -local[0]])
            variance += float(lever @ end.fit.unit_covariance @ lever) * self._u_hit(end) ** 2
        facing = ends[0].surface_world.normal @ ends[1].surface_world.normal
        tip = 2 * self._calibration(ends[0].row).u_radius_mm if facing < 0 else 0.0
        return float(COVERAGE * np.sqrt(variance + tip**2))

    def _u_hit(self, found: RowResult) -> float:
        return _worse(self._calibration(found.row).u_hit_mm, found.fit.sigma)

    def _calibration(self, row_id: int):
        reading = self.readings[row_id]
        return self.kit.calibrations[int(reading.calibrations[~reading.aside][0])]


def _toward(row: SheetRow, centers: Array, approach: Array, pull_off: Array | None) -> Array | None:
    """A plane's normal is turned to the pull-off, or else to where the tip came from.

    So +1 always means "as pulled off", also for a person's answer.
    """
    if not isinstance(row.recipe, PlaneRecipe):
        return None
    if pull_off is not None:
        return pull_off - centers.mean(axis=0)
    come = np.isfinite(approach).all(axis=1)
    return (approach - centers)[come].mean(axis=0) if come.any() else None


def _nominal_air(recipe) -> int | None:
    """A cylinder's nominal says bore or boss; a plane's says nothing before the part is aligned."""
    if isinstance(recipe, CylinderRecipe) and recipe.nominal:
        return -1 if recipe.nominal.inside else 1
    return None


def _worse(stated_mm: float, seen_mm: float) -> float:
    """A hit is as good as its maker states, unless its own scatter says worse."""
    return max(stated_mm, seen_mm) if np.isfinite(seen_mm) else stated_mm


def _judged(found: RowResult, recipe, actual_mm: float) -> RowResult:
    """Actual, deviation and, where a tolerance was asked and the row is done, the verdict."""
    if found.nominal_mm is None:
        return replace(found, actual_mm=actual_mm)
    deviation = actual_mm - found.nominal_mm
    verdict = None
    if recipe.tolerance and found.state == "done":
        verdict = judge(deviation, recipe.tolerance.lower_mm, recipe.tolerance.upper_mm, found.U_mm or 0.0)
    return replace(found, actual_mm=actual_mm, deviation_mm=deviation, verdict=verdict)
