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

from ..alignment import Alignment
from ..alignment.steps import difference
from ..deriving import plane_distance
from ..errors import PlumbError
from ..frames import Array
from ..shapes import Plane
from ..tolerances import judge
from .aligning import Named, Surroundings, solved
from .alignments import AlignmentRecipe, LevelRecipe, SurfacesRecipe, alignments_of, features_of
from .features import FeatureRecipe, Flat, NominalPlane, PointRecipe, SlotRecipe, SurfacePointRecipe
from .measuring import COVERAGE, feature_of, measured, worse
from .recipes import DistanceRecipe, depends_on
from .results import Kit, PartSurfaces, Reading, RowResult, Sheet, SheetRow, fingerprint


def evaluate(
    sheet: Sheet,
    readings: Mapping[int, Reading],
    kit: Kit,
    previous: Mapping[tuple[str, int], RowResult] | None = None,
    surfaces: PartSurfaces | None = None,
) -> tuple[dict[int, RowResult], dict[tuple[str, int], RowResult]]:
    """Work the whole sheet out.

    Parameters
    ----------
    sheet : the rows as asked
    readings : raw readings by row id; rows without readings may be left out
    kit : stations and probe calibrations
    previous : the second value of an earlier call, so that only what changed is worked out
    surfaces : the part's, for alignments that lay hits on them

    Returns
    -------
    results : RowResult by row id
    memory : to be given back as ``previous`` next time
    """
    work = _Work(sheet, readings, kit, previous or {}, surfaces)
    features = [row for row in sheet.rows if isinstance(row.recipe, FeatureRecipe)]
    for row in sorted(features, key=lambda r: isinstance(r.recipe, Flat)):  # planes before what lies in them
        work.remember("measured", row, work.measure_key(row), work.measure)
    for row in sheet.rows:
        if isinstance(row.recipe, AlignmentRecipe):
            work.align_in_turn(row, ())
    for row in sheet.rows:
        if isinstance(row.recipe, FeatureRecipe):
            work.remember("judged", row, work.inputs_key(row), work.judge_feature)
        elif isinstance(row.recipe, DistanceRecipe):
            work.remember("judged", row, work.inputs_key(row), work.judge_distance)
    results = {}
    for row in sheet.rows:
        storey = "aligned" if isinstance(row.recipe, AlignmentRecipe) else "judged"
        results[row.id] = work.memory[storey, row.id]
    return results, work.memory


def _measure_key(row: SheetRow, reading: Reading | None, kit: Kit) -> str:
    if reading is None:
        return row.digest
    parts: list[object] = [row.digest, reading.digest]
    for number in sorted(set(reading.calibrations.tolist()) | {reading.pull_off_calibration or 0}):
        if cal := kit.calibrations.get(number):
            parts.append((cal.id, cal.offset_mm.tobytes(), cal.diameter_mm, cal.u_radius_mm, cal.u_hit_mm, cal.doubt))
    for number in sorted(set(reading.stations.tolist())):
        parts.append(kit.stations[number].world_from_station.as_list())
    return fingerprint(*parts)


class _Work:
    """One evaluation: what has been found so far, by storey and row."""

    def __init__(self, sheet: Sheet, readings, kit: Kit, previous, surfaces: PartSurfaces | None):
        self.sheet, self.readings, self.kit, self.previous = sheet, readings, kit, previous
        self.surfaces = surfaces
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

    def measure_key(self, row: SheetRow) -> str:
        key = _measure_key(row, self.readings.get(row.id), self.kit)
        plane = row.recipe.plane if isinstance(row.recipe, Flat) else None
        return key if plane is None else fingerprint(key, self._key("measured", plane))

    def inputs_key(self, row: SheetRow) -> str:
        """Of everything that a row's second storey rests on."""
        parts = [row.digest]
        parts += [self._key("measured", other) for other in (row.id, *depends_on(row.recipe))]
        if not isinstance(row.recipe, AlignmentRecipe):
            parts.append(self._key("aligned", self.sheet.alignment))
        return "|".join(parts) if len(parts) < 4 else fingerprint(*parts)

    def alignment_key(self, row: SheetRow) -> str:
        parts: list[object] = [self.inputs_key(row), *(self._key("aligned", i) for i in alignments_of(row.recipe))]
        if isinstance(row.recipe, LevelRecipe) and row.recipe.station in self.kit.stations:
            station = self.kit.stations[row.recipe.station]
            parts.append((station.world_from_station.as_list(), station.up, station.u_level_rad))
        if isinstance(row.recipe, SurfacesRecipe) and self.surfaces is not None:
            parts.append(self.surfaces.digest)
        return fingerprint(*parts) if len(parts) > 1 else str(parts[0])

    def _key(self, storey: str, row_id: int | None) -> str:
        found = self.memory.get((storey, row_id)) if row_id is not None else None
        return found.key if found else "-"

    # ---- first storey: features in the world ---------------------------------------

    def measure(self, row: SheetRow, key: str) -> RowResult:
        others = {i: found for (storey, i), found in self.memory.items() if storey == "measured"}
        return measured(row, self.readings.get(row.id), self.kit, key, others)

    # ---- alignments -----------------------------------------------------------------

    def align_in_turn(self, row: SheetRow, asked_by: tuple[int, ...]) -> None:
        """After the alignments that it needs; one that needs itself is refused."""
        if ("aligned", row.id) in self.memory:
            return
        for other in alignments_of(row.recipe):
            if other in (*asked_by, row.id):
                words = "An alignment cannot start from itself, nor be compared with itself. Choose another."
                self.memory["aligned", row.id] = RowResult(row.id, row.digest, "failed", words)
                return
            found = self.rows.get(other)
            if found is not None and isinstance(found.recipe, AlignmentRecipe):
                self.align_in_turn(found, (*asked_by, row.id))
        self.remember("aligned", row, self.alignment_key(row), self.align)

    def align(self, row: SheetRow, key: str) -> RowResult:
        recipe, ids = row.recipe, features_of(row.recipe)
        for i in ids:
            if i not in self.rows or not isinstance(self.rows[i].recipe, FeatureRecipe):
                return RowResult(row.id, key, "failed", "A row it rests on is gone, or is no feature. Choose another.")
        missing = [self.rows[i].recipe.name for i in ids if self.memory["measured", i].state != "done"]
        if missing:
            return RowResult(row.id, key, "waits", f"Waits for {' and '.join(missing)}.", uses=ids)
        others: dict[int, Alignment] = {}
        for i in alignments_of(recipe):
            found = self.memory.get(("aligned", i))
            if found is None or found.alignment is None:
                return RowResult(row.id, key, "waits", "Waits for the alignment that it names.", uses=ids)
            others[i] = found.alignment
        ups = {
            s.id: (s.world_from_station.vectors(s.up), s.u_level_rad) for s in self.kit.stations.values() if s.up is not None
        }
        around = Surroundings(others, ups, self.surfaces.nearest if self.surfaces else None)
        alignment = solved(recipe, {i: self._named(i) for i in ids}, around)
        apart = None
        if recipe.against is not None:
            apart = difference(alignment.part_from_world, others[recipe.against].part_from_world)
        return RowResult(row.id, key, "done", alignment=alignment, difference=apart, uses=ids)

    def _named(self, row_id: int) -> Named:
        recipe, found = self.rows[row_id].recipe, self.memory["measured", row_id]
        cal = self._calibration(row_id)
        return Named(
            recipe.name,
            recipe.nominal.as_shape() if recipe.nominal else None,
            feature_of(found, recipe.name, cal.u_hit_mm),
            found.contacts_world,
            getattr(recipe, "datum", None) or recipe.name,
            found.facing if isinstance(recipe, SurfacePointRecipe) else None,
            cal.radius_mm if isinstance(recipe, SurfacePointRecipe) and not found.tip_off else 0.0,
        )

    def _active(self) -> RowResult | None:
        found = self.memory.get(("aligned", self.sheet.alignment)) if self.sheet.alignment else None
        return found if found and found.alignment else None

    # ---- second storey: judged in the part's coordinate system -----------------------

    def judge_feature(self, row: SheetRow, key: str) -> RowResult:
        found, recipe = replace(self.memory["measured", row.id], key=key), row.recipe
        found = replace(found, quantity=_quantity(recipe), nominal_mm=_nominal_size(recipe))
        if found.surface_world is None:
            return found
        active = self._active()
        if active:
            alignment = active.alignment
            found = replace(
                found,
                aligned_by=active.row,
                surface_part=alignment.shape(found.surface_world),
                contacts_part=alignment.points(found.contacts_world),
            )
        if found.state == "asks":
            return found
        if found.quantity in ("diameter", "width"):
            size = found.surface_part if active else found.surface_world
            return _judged(found, recipe, size.width if isinstance(recipe, SlotRecipe) else 2 * size.radius)
        if recipe.nominal is None or found.quantity == "form":
            return replace(found, actual_mm=found.fit.form)
        if active is None:
            return replace(found, warnings=(*found.warnings, "Its place is known once the part is aligned."))
        held = row.id in active.uses
        if isinstance(recipe, PointRecipe):
            return self._judge_point(found, recipe, active.alignment, held)
        nominal = recipe.nominal.as_shape()
        if isinstance(recipe, SurfacePointRecipe):
            off = 0.0 if found.tip_off else self._calibration(row.id).radius_mm
            found = replace(found, contacts_part=found.contacts_part - off * nominal.normal)
            height = float(nominal.distance(found.surface_part.position)) - off
            u_own = self._u_hit(found) if found.U_mm is None else found.U_mm / COVERAGE
            place = found.surface_part.position
        else:
            height = float(found.surface_part.point @ nominal.normal)
            u_own, place = found.U_mm / COVERAGE, found.surface_part.point
            if held:
                return replace(found, held=True, actual_mm=height)
            opposite = found.surface_part.normal @ nominal.normal < 0
            if opposite and found.state == "done" and recipe.settled_air is None:
                return replace(found, state="asks", side=replace(found.side, doubt=True))
        u_place = 0.0 if held else active.alignment.u_along(place, nominal.normal)
        found = replace(found, U_mm=float(COVERAGE * np.hypot(u_own, u_place)), held=held)
        return _judged(found, recipe, height)

    def _judge_point(self, found: RowResult, recipe: PointRecipe, alignment: Alignment, held: bool) -> RowResult:
        """How far off it is; the deviation of a point that holds the part is what its holds left over."""
        off = found.surface_part.position - np.array(recipe.nominal.position)
        along = off / max(float(np.linalg.norm(off)), 1e-12)
        u = np.hypot(
            self._u_hit(found), 0.0 if held or not off.any() else alignment.u_along(found.surface_part.position, along)
        )
        components = (float(off[0]), float(off[1]), float(off[2]))
        return _judged(
            replace(found, U_mm=float(COVERAGE * u), components=components, held=held), recipe, float(np.linalg.norm(off))
        )

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
            parts = active.alignment.scale * active.alignment.part_from_world.vectors(distance.vector)
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
        return worse(self._calibration(found.row).u_hit_mm, found.fit.sigma)

    def _calibration(self, row_id: int):
        reading = self.readings[row_id]
        return self.kit.calibrations[int(reading.calibrations[~reading.aside][0])]


def _quantity(recipe) -> str:
    """What nominal, actual and deviation are of."""
    if hasattr(recipe, "terms"):
        return "diameter"
    if isinstance(recipe, SlotRecipe):
        return "width"
    if isinstance(recipe, PointRecipe | SurfacePointRecipe):
        return "off"
    return "height" if isinstance(recipe.nominal, NominalPlane) else "form"


def _nominal_size(recipe) -> float | None:
    if recipe.nominal is None:
        return None
    if hasattr(recipe, "terms"):
        return float(recipe.nominal.diameter_mm)
    if isinstance(recipe, SlotRecipe):
        return float(recipe.nominal.width_mm)
    if isinstance(recipe, PointRecipe | SurfacePointRecipe):
        return 0.0
    if isinstance(recipe.nominal, NominalPlane):
        plane = recipe.nominal.as_shape()
        return float(plane.point @ plane.normal)
    return None


def _judged(found: RowResult, recipe, actual_mm: float) -> RowResult:
    """Actual, deviation and, where a tolerance was asked and the row is done, the verdict."""
    if found.nominal_mm is None:
        return replace(found, actual_mm=actual_mm)
    deviation = actual_mm - found.nominal_mm
    verdict = None
    if recipe.tolerance and found.state == "done":
        verdict = judge(deviation, recipe.tolerance.lower_mm, recipe.tolerance.upper_mm, found.U_mm or 0.0)
    return replace(found, actual_mm=actual_mm, deviation_mm=deviation, verdict=verdict)
