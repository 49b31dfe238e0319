"""The first storey: a feature in the world from its raw readings."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from ..deriving import Feature
from ..errors import PlumbError
from ..fitting import FitResult, fit
from ..frames import Array, Motion, points_of_poses
from ..probing import contacts_from_centers, side_of_air, surface_from_centers, surface_point
from ..shapes import Line, Plane, Point
from .features import Flat, LineRecipe, PlaneRecipe, PointRecipe, SlotRecipe, SurfacePointRecipe
from .results import Kit, Reading, RowResult, SheetRow, State

COVERAGE = 2.0  # k of the expanded uncertainty


def tip_centers(poses: Array, stations: Array, calibrations: Array, kit: Kit) -> Array:
    """Tip centers (n, 3) in the world; each hit by its own station and calibration."""
    tips = np.full((len(poses), 3), np.nan)
    for station, cal in set(zip(stations.tolist(), calibrations.tolist(), strict=True)):
        mine = (stations == station) & (calibrations == cal) & np.isfinite(poses).all(axis=1)
        if mine.any():
            local = points_of_poses(poses[mine], kit.calibrations[cal].offset_mm)
            tips[mine] = kit.stations[station].world_from_station.points(local)
    return tips


def measured(row: SheetRow, reading: Reading | None, kit: Kit, key: str, others: Mapping[int, RowResult]) -> RowResult:
    """What the readings of one row make of it; ``others``: measured rows that it may lie in."""
    recipe = row.recipe
    if reading is None or not np.any(~reading.aside):
        return RowResult(row.id, key, "todo")
    keep = ~reading.aside
    centers = tip_centers(reading.poses, reading.stations, reading.calibrations, kit)[keep]
    approach = tip_centers(reading.approach, reading.stations, reading.calibrations, kit)[keep]
    counted = tuple(k for k, good in zip(reading.keys, keep, strict=True) if good)
    doubts = tuple(dict.fromkeys(kit.calibrations[c].doubt for c in reading.calibrations[keep].tolist()))
    base = RowResult(row.id, key, "taking", hits=len(centers), centers_world=centers, counted=counted)
    base = replace(base, doubts=tuple(d for d in doubts if d))
    pull_off = _pull_off(reading, kit)
    toward = _toward(recipe, centers, approach, pull_off)
    cal = kit.calibrations[int(reading.calibrations[keep][0])]
    fixed: dict[str, Any] = {}
    if isinstance(recipe, Flat) and recipe.plane is not None:
        plane = others.get(recipe.plane)
        if plane is None or not isinstance(plane.surface_world, Plane):
            return replace(base, state="waits", message="Waits for the plane that it lies in.")
        fixed = {"plane": _lying(plane, cal)}
    try:
        result = fit(recipe.fit_kind, centers, fixed=fixed, toward=toward)
    except PlumbError as error:
        return replace(base, state="failed" if row.finished else "taking", message=str(error))
    done: State = "done" if row.finished else "taking"
    base = replace(base, fit=result, residuals=result.residuals, warnings=result.warnings, facing=toward)
    if isinstance(recipe, PointRecipe):
        return replace(base, state=done, surface_world=result.shape, contacts_world=centers)
    if isinstance(recipe, SurfacePointRecipe):
        return _surface_point(base, recipe, done, cal)
    faced = _faced(result, recipe)
    side = side_of_air(faced, centers, approach, pull_off, _nominal_air(recipe), recipe.settled_air)
    if not side.air:
        return replace(base, side=side, state="asks" if row.finished else "taking")
    try:
        if isinstance(recipe, LineRecipe):
            across = -side.air * cal.radius_mm * faced.normal
            surface: Any = Line(result.shape.point + across, result.shape.direction)
            contacts = centers + across
        else:
            surface = surface_from_centers(result.shape, cal.radius_mm, side.air)
            contacts = contacts_from_centers(surface, centers)
    except ValueError as error:
        return replace(base, side=side, state="failed", message=f"The hits make no surface: {error}.")
    return replace(
        base,
        state="asks" if side.doubt and row.finished else done,
        side=side,
        surface_world=surface,
        contacts_world=contacts,
        residuals=-result.residuals if side.air < 0 else result.residuals,
        U_mm=_expanded(recipe, result, cal),
    )


def _lying(plane: RowResult, cal) -> FitResult:
    """A measured plane where its surface is, not the tip's centers, with what is known of it."""
    shape = plane.surface_world
    moved = Motion(plane.fit.local.rotation, shape.point)
    return replace(plane.fit, shape=shape, local=moved, u_hits_mm=worse(cal.u_hit_mm, plane.fit.sigma))


def _pull_off(reading: Reading, kit: Kit) -> Array | None:
    if reading.pull_off is None:
        return None
    station, cal = np.array([reading.pull_off_station]), np.array([reading.pull_off_calibration])
    return tip_centers(reading.pull_off[None], station, cal, kit)[0]


def _surface_point(base: RowResult, recipe: SurfacePointRecipe, done: State, cal) -> RowResult:
    """Three hits tell the lean, and the tip comes off; of one the tip's center is kept until the part is aligned."""
    centers = base.centers_world
    if recipe.hits == 1 or len(centers) < 3 or base.facing is None:
        return replace(base, state=done, surface_world=base.fit.shape, contacts_world=centers)
    try:
        found = surface_point(centers[:3], cal.radius_mm, base.facing, cal.u_hit_mm)
    except PlumbError as error:
        return replace(base, state="failed" if done == "done" else "taking", message=str(error))
    return replace(
        base,
        state=done,
        surface_world=Point(found.position),
        contacts_world=centers - cal.radius_mm * found.normal,
        facing=found.normal,
        tip_off=True,
        U_mm=COVERAGE * float(np.hypot(found.u_mm, cal.u_radius_mm)),
        warnings=(*base.warnings, *found.warnings),
    )


def _faced(result: FitResult, recipe) -> Any:
    """What has an air side: the shape, or for a line in its plane the plane through it that faces across."""
    if isinstance(recipe, LineRecipe):
        return Plane(result.shape.point, result.local.rotation[:, 2])
    return result.shape


def _toward(recipe, centers: Array, approach: Array, pull_off: Array | None) -> Array | None:
    """Where the tip went: a plane's normal is turned there, so that +1 always means "as pulled off"."""
    if not isinstance(recipe, PlaneRecipe | SurfacePointRecipe):
        return None
    if pull_off is not None:
        return pull_off - centers.mean(axis=0)
    come = np.isfinite(approach).all(axis=1)
    return (approach - centers)[come].mean(axis=0) if come.any() else None


def _nominal_air(recipe) -> int | None:
    """A round nominal says bore or boss; a plane's says nothing before the part is aligned."""
    inside = getattr(recipe.nominal, "inside", None)
    return None if inside is None else -1 if inside else 1


def _expanded(recipe, result: FitResult, cal) -> float | None:
    """U of the row's own quantity: hits (the worse of stated and seen) and the tip."""
    u_hit = worse(cal.u_hit_mm, result.sigma)
    if hasattr(recipe, "terms"):
        return float(COVERAGE * np.hypot(2 * result.u("radius", u_hit), 2 * cal.u_radius_mm))
    if isinstance(recipe, SlotRecipe):
        return float(COVERAGE * np.hypot(result.u("width", u_hit), 2 * cal.u_radius_mm))
    return float(COVERAGE * np.hypot(result.u("z", u_hit), cal.u_radius_mm))


def feature_of(found: RowResult, name: str, u_hit_mm: float) -> Feature:
    """A measured row as a feature in the world, with its uncertainty."""
    feature = Feature.of_fit(name, found.fit, worse(u_hit_mm, found.fit.sigma))
    return replace(feature, shape=found.surface_world)


def worse(stated_mm: float, seen_mm: float) -> float:
    """A hit is as good as its maker states, unless its own scatter says worse."""
    return max(stated_mm, seen_mm) if np.isfinite(seen_mm) else stated_mm
