"""evaluate(): results from recipes and readings. Pure.

Everything worked out is a node of a graph (see ``graph``): stations, features in the world, coordinate
systems, and for every row its characteristics judged in the active system. What has the same key as before is
taken over as it is; a fault in one node is that node's alone.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import replace
from functools import cached_property, partial
from typing import Any, cast

import numpy as np

from ..alignment import Alignment
from ..alignment.steps import difference
from ..fingerprints import fingerprint
from ..readings import HitSet
from ..sameness import Layered
from ..tolerances.decision import Rule
from .base import Needed
from .bases.mapped import OnMapRecipe, ScanMapRecipe
from .bases.measured import FeatureRecipe, MeasuredRecipe
from .bases.systems import ActualFeature, SystemInputs, SystemRecipe
from .beside import beside
from .clouds import Kept, key_prefix, on_shelf
from .datums import Datum, system_of
from .elsewhere import words_elsewhere
from .given import Kit, PartSurfaces, Sheet, SheetRow, StationPose
from .graph import GONE, ROUND, Failed, Name, Node, Worked, fault_words, work_out
from .judged import JudgedRecipe, NeedsSystem
from .judging import characteristics_of, planned
from .maps.compared import ComparedNodes
from .maps.pins import pinned
from .maps.scanned import MapNodes
from .maps.sections import SectionNodes
from .maps.touched import TouchedMapNodes
from .memory import HEAVY, OF_ROWS, Memory, dependents_of
from .results import FoundFeature, FoundSystem, RowResult, State
from .row_hits import RowHits
from .ruling import ruled
from .scanning import ScanNodes, taken_from
from .stations import NETWORK, Untied, digest_of, tied, untied_words
from .warm import as_in, solved

LAID = 20_000  # points of a scan that an alignment rests on
UNPLACED = "Its place is known once the part is aligned."


def evaluate(
    sheet: Sheet,
    readings: Mapping[int, HitSet],
    kit: Kit,
    previous: Memory | None = None,
    surfaces: PartSurfaces | None = None,
    kept: Kept = lambda key: None,
) -> tuple[Layered[int, RowResult], Memory]:
    """Work the whole sheet out.

    Parameters
    ----------
    sheet : the rows as asked
    readings : raw readings by row id; rows without readings may be left out
    kit : stations and probe calibrations
    previous : the second value of an earlier call, so that only what changed is worked out
    surfaces : the part's, for alignments that lay hits on them
    kept : what was worked out of scans, by their keys; where it is not there yet, that is told

    Returns
    -------
    results : RowResult by row id
    memory : to be given back as ``previous`` next time
    """
    readings, shelf = Layered.of(readings), partial(on_shelf, kept)
    changed = previous.rows_changed(sheet, readings, kit, surfaces) if previous is not None else None
    if previous is None or changed is None:
        nodes = _Graph(sheet, readings, kit, surfaces, sheet.rows, True).nodes
        worked = Layered(work_out(nodes, previous.worked if previous else {}, shelf=shelf))
        results = Layered({row.id: _result(row, worked["verdict", row.id], sheet.rule) for row in sheet.rows})
        clouds = tuple((what, row.id) for row in sheet.rows for what in HEAVY.get(row.recipe.role, ()))
        return results, Memory(sheet, readings, kit, surfaces, worked, results, dependents_of(nodes), clouds)
    dirty = previous.resting_on(changed)
    ids = {of for what, of in cast(set[tuple[str, int]], dirty) if what in OF_ROWS}
    touched = sheet.of(ids)
    graph = _Graph(sheet, readings, kit, surfaces, touched, NETWORK in dirty)
    nodes = {n: node for n, node in graph.nodes.items() if n in dirty}
    done = work_out(nodes, previous.worked, previous.worked, shelf)
    worked = previous.worked.replaced(done)
    results = previous.results.replaced({row.id: _result(row, done["verdict", row.id], sheet.rule) for row in touched})
    return results, Memory(sheet, readings, kit, surfaces, worked, results, previous.dependents, previous.clouds)


def _result(row: SheetRow, worked: Worked, rule: Rule) -> RowResult:
    if isinstance(worked.value, Failed):
        return RowResult(row.id, "failed", worked.value.message)
    return ruled(worked.value, rule)


class _Graph:
    """The nodes of one sheet, by what they are of."""

    def __init__(
        self,
        sheet: Sheet,
        readings: Mapping[int, HitSet],
        kit: Kit,
        surfaces: PartSurfaces | None,
        rows: Iterable[SheetRow],
        ties: bool,
    ):
        self.sheet, self.readings, self.kit, self.surfaces = sheet, readings, kit, surfaces
        self.active: tuple[Name, ...] = () if sheet.alignment is None else (("system", sheet.alignment),)
        self.digests: dict[tuple[int, ...], str] = {}
        self.nodes: dict[Name, Node] = {}
        if len(kit.stations) > 1 and ties:
            own = digest_of(self._tying, readings, kit)
            self.nodes[NETWORK] = Node(own, (), lambda _, needed: tied(self._tying, readings, kit))
        for place, station in enumerate(kit.stations.values()):
            self.nodes["station", station.id] = Node(station.digest, (NETWORK,) if place else (), _standing, station)
        add: dict[str, Callable[[SheetRow], None]] = {
            "feature": self._add_feature, "system": self._add_system,
            "dimension": self._add_judged, "tolerance": self._add_judged, "cloud": self._add_cloud,
            "map": self._add_map, "touched map": self._add_touched_map, "section": self._add_section,
            "comparison": self._add_comparison, "pin": self._add_pin,
        }  # fmt: skip
        for row in rows:
            add[row.recipe.nodes or row.recipe.role](row)

    @cached_property
    def _tying(self) -> list[SheetRow]:
        return [row for row in self.sheet.rows if row.recipe.in_network]

    @cached_property
    def names(self) -> dict[int, str]:
        return {row.id: row.recipe.name for row in self.sheet.rows}

    # ---- features in the world --------------------------------------------------------------

    def _add_feature(self, row: SheetRow) -> None:
        own = self._own(row)
        needs: tuple[Name, ...] = tuple(taken_from(row, n) for n in row.needs)
        reading = self.readings.get(row.id)
        if reading is not None:
            own = f"{own}{reading.digest}{self._calibrations(reading.used[1])}"
            needs = (*needs, *reading.station_names)
        own, needs = self._with_scans(row, own, needs)
        name = ("feature", row.id)
        self.nodes[name] = Node(own, needs, self._found, row)
        self.nodes["verdict", row.id] = Node(row.digest, (name, *self.active), self._judge, row)

    def _found(self, row: SheetRow, needed: Mapping[Name, Any]) -> FoundFeature:
        recipe, parents = cast(FeatureRecipe, row.recipe), {n: needed[taken_from(row, n)] for n in row.needs}
        reading = self.readings.get(row.id) if recipe.takes_hits else None
        hits = None
        wait = ""
        placed = self._placed_kit(needed)
        if reading is not None and not reading.aside.all():
            wait = untied_words(reading, needed)
            pulled = reading.pull_off_station  # finish may be pressed at a new station before anything is read there
            whole = not wait and (pulled is None or pulled in placed.stations)
            there = reading if whole else reading.of_stations(placed.stations)
            if there is not reading and there.aside.all():
                return replace(recipe.begun(None, "waits", wait), left_out=int(np.count_nonzero(~reading.aside)))
            hits = RowHits.of(row.id, there, placed, row.finished, recipe.hits_of_plane)
        if waits := self._waits(parents):
            return recipe.begun(hits, *waits)
        for n, found in parents.items():
            given = cast(MeasuredRecipe, recipe).of_scan(row.id, found) if n.what == "cloud" else None
            if given is not None and len(given.lines):
                scanned = RowHits.of_light(row.id, given, self.readings[n.id], placed, key_prefix(n.id))
                hits = scanned if hits is None else hits.with_light(scanned)
        if recipe.takes_hits and hits is None:
            return recipe.begun(None, "todo", "Nothing of the scan lies on it yet." if self._scans_of(row) else "")
        try:
            found = recipe.found(hits, parents)
            return replace(found, warnings=(*found.warnings, wait)) if wait else found
        except Exception as error:  # what was read is told all the same
            return recipe.begun(hits, "failed" if row.finished or hits is None else "taking", fault_words(error))

    def _with_scans(self, row: SheetRow, own: str, needs: tuple[Name, ...]) -> tuple[str, tuple[Name, ...]]:
        """What names a node, and what it needs, with what the scans rest on from which it takes points."""
        for scan in self._scans_of(row):
            own, needs = f"{own}{self._calibrations(scan.used[1])}", (*needs, *scan.station_names)
        return own, needs

    def _scans_of(self, row: SheetRow) -> list[HitSet]:
        """The readings of the scans from which it takes points."""
        return [self.readings[n.id] for n in row.needs if n.what == "cloud" and n.id in self.readings]

    def _add_cloud(self, row: SheetRow) -> None:
        reading = self.readings.get(row.id)
        calibrated = "" if reading is None else self._calibrations(reading.used[1])
        self.nodes |= self._scan_nodes.of(row, reading, calibrated)

    def _add_map(self, row: SheetRow) -> None:
        recipe = cast(ScanMapRecipe, row.recipe)
        place, reading = self.sheet.index.get(recipe.scan), self.readings.get(recipe.scan)
        calibrated = "" if reading is None else self._calibrations(reading.used[1])
        maps = MapNodes(self.kit, "" if self.surfaces is None else self.surfaces.digest, self.active, self.sheet.alignment)
        scan = None if place is None else self.sheet.rows[place]
        self.nodes |= maps.of(row, scan, reading, calibrated, self._scan_nodes.work_of)

    def _add_touched_map(self, row: SheetRow) -> None:
        ids = [n.id for n in row.needs if n.id in self.sheet.index]
        rows = {i: self.sheet.rows[self.sheet.index[i]] for i in ids}
        nodes = TouchedMapNodes(self._placed_kit, self.surfaces, self.active, self.sheet.alignment)
        self.nodes |= nodes.of(row, rows, {i: self.readings[i] for i in ids if i in self.readings})

    def _add_section(self, row: SheetRow) -> None:
        recipe = cast(ScanMapRecipe, row.recipe)
        place, reading = self.sheet.index.get(recipe.scan), self.readings.get(recipe.scan)
        nodes = SectionNodes(self.kit, self.surfaces, self.active, self.sheet.alignment)
        self.nodes |= nodes.of(row, None if place is None else self.sheet.rows[place], reading)

    def _add_comparison(self, row: SheetRow) -> None:
        self.nodes |= ComparedNodes(self.active).of(row)

    def _add_pin(self, row: SheetRow) -> None:
        needs = (*row.needs, ("verdict", cast(OnMapRecipe, row.recipe).map))
        self.nodes["verdict", row.id] = Node(row.digest, needs, pinned, row)

    @cached_property
    def _scan_nodes(self) -> ScanNodes:
        return ScanNodes(self.sheet.rows, self.kit, "" if self.surfaces is None else self.surfaces.digest)

    def _own(self, row: SheetRow) -> str:
        """Fingerprint of the recipe, and of the part's surfaces where it rests on them."""
        if self.surfaces is not None and row.recipe.rests_on_surfaces:
            return f"{row.digest}{self.surfaces.digest}"
        return row.digest

    def _judge(self, row: SheetRow, needed: Mapping[Name, Any]) -> RowResult:
        return _judged_feature(row, cast(FeatureRecipe, row.recipe), needed, self.active)

    def _placed_kit(self, needed: Mapping[Name, Any]) -> Kit:
        stations = {n[1]: s for n, s in needed.items() if isinstance(s, StationPose)}  # type: ignore[index]
        return Kit(stations, self.kit.calibrations, self.surfaces)

    def _calibrations(self, ids: tuple[int, ...]) -> str:
        """Names what some calibrations say."""
        if ids not in self.digests:
            found = [self.kit.calibrations.get(i) for i in ids]
            self.digests[ids] = fingerprint(*(c.digest for c in found if c is not None))
        return self.digests[ids]

    # ---- coordinate systems ----------------------------------------------------------------

    def _add_system(self, row: SheetRow) -> None:
        name = ("system", row.id)
        own, needs = self._with_scans(row, self._own(row), row.needs)
        self.nodes[name] = Node(own, needs, self._solve, row)
        self.nodes["verdict", row.id] = Node(row.digest, (name,), _system_result, row)

    def _solve(self, row: SheetRow, needed: Mapping[Name, Any]) -> FoundSystem:
        recipe = cast(SystemRecipe, row.recipe)
        rests_on = [n for n in row.needs if not (recipe.so_far and n.what == "feature" and _unfinished(needed[n]))]
        if waits := self._waits({n: needed[n] for n in rests_on}):
            return FoundSystem(*waits, uses=_features_of(row))
        features = {n.id: ActualFeature.of(needed[n]) for n in rests_on if n.what == "feature"}
        if len(features) < recipe.fewest:
            words = f"It begins with {recipe.fewest} of its rows; {len(features)} are measured."
            return FoundSystem("waits", words, uses=tuple(features))
        inputs = SystemInputs(
            features,
            {n.id: needed[n].alignment for n in row.needs if n.what == "system"},
            {n.id: needed[n] for n in row.needs if n.what == "station" and isinstance(needed[n], StationPose)},
            self.surfaces,
            row.id,
            self._clouds_of(row, needed),
        )
        alignment = solved(recipe, inputs)
        apart = None
        if recipe.against is not None:
            apart = difference(alignment.part_from_world, inputs.systems[recipe.against].part_from_world)
        return FoundSystem("done", "", alignment, apart, tuple(features))

    def _clouds_of(self, row: SheetRow, needed: Mapping[Name, Any]) -> dict[int, RowHits]:
        """The points of each scan that it names; of one that has edges only there are none."""
        placed = self._placed_kit(needed)
        found = {}
        for scan in (n.id for n in row.needs if n.what == "cloud"):
            given = needed["cloud", scan].points.given(LAID)
            if len(given.lines):
                found[scan] = RowHits.of_light(row.id, given, self.readings[scan], placed, key_prefix(scan))
        return found

    # ---- dimensions and tolerances ---------------------------------------------------------

    def _add_judged(self, row: SheetRow) -> None:
        systems = self.active
        if datums := cast(JudgedRecipe, row.recipe).rests_on:
            systems = (("datums", datums),)
            features = tuple(dict.fromkeys(Needed("feature", i) for datum in datums for i in datum.features))
            needs = (*features, *self.active)
            self.nodes.setdefault(systems[0], Node(fingerprint(*datums), needs, self._of_datums, datums))
        self.nodes["verdict", row.id] = Node(row.digest, (*row.needs, *systems), self._measure, (row, systems))

    def _of_datums(self, datums: tuple[Datum, ...], needed: Mapping[Name, Any]) -> FoundSystem:
        parents = {n: found for n, found in needed.items() if isinstance(n, Needed)}
        if waits := self._waits(parents):
            return FoundSystem(*waits)
        given = SystemInputs({n.id: ActualFeature.of(found) for n, found in parents.items()})
        active, _ = _solved(needed, self.active)
        solve = partial(system_of, datums)
        alignment = solve(given) if active is None else as_in(active, solve, given)
        return FoundSystem("done", "", alignment, uses=tuple(given.features))

    def _measure(self, of: tuple[SheetRow, tuple[Name, ...]], needed: Mapping[Name, Any]) -> RowResult:
        row, systems = of
        recipe, uses = cast(JudgedRecipe, row.recipe), _features_of(row)
        parents = {n: needed[n] for n in row.needs}
        if waits := self._waits(parents):
            return RowResult(row.id, *waits, uses=uses, characteristics=recipe.planned())
        system, by = _solved(needed, systems)
        if recipe.rests_on and system is None:
            return RowResult(row.id, "failed", needed[systems[0]].message, uses=uses, characteristics=recipe.planned())
        try:
            found = recipe.judged(row.id, {n.id: f for n, f in parents.items() if n.what == "feature"}, system)
        except NeedsSystem as error:
            return RowResult(row.id, "waits", str(error), uses=uses, characteristics=recipe.planned())
        doubts = tuple(dict.fromkeys(d for p in parents.values() for d in p.doubts))
        return RowResult(
            row.id, "done", characteristics=found.characteristics, aligned_by=by, uses=uses, draw=found.draw, doubts=doubts,
            told=found.told,
        )  # fmt: skip

    # ---- what all share --------------------------------------------------------------------

    def _waits(self, parents: Mapping[Needed, Any]) -> tuple[State, str] | None:
        """Why a row is not evaluated: it waits for others, a dependency is missing, or the dependencies are circular."""
        waiting = []
        for needed, found in parents.items():
            if found is GONE or found is ROUND:
                if needed.what != "station":
                    return "failed", found.message
            elif isinstance(found, Failed) or (needed.what != "station" and found.state != "done"):
                waiting.append(self.names[needed.id])
        return ("waits", f"Waits for {' and '.join(waiting)}.") if waiting else None


def _standing(station: StationPose, needed: Mapping[Name, Any]) -> StationPose | Untied:
    """Pose of a station: the first is the world, the others follow from the network."""
    if not needed:
        return station
    network = needed[NETWORK]
    if isinstance(network, Failed):
        return Untied(station.id, f"{station.name} is not tied: {network.message}")
    return network.stations.get(station.id) or network.untied[station.id]


def _unfinished(found: Any) -> bool:
    """A feature that is there, and not measured yet."""
    failed = isinstance(found, Failed) and found is not GONE and found is not ROUND
    return failed or (isinstance(found, FoundFeature) and found.state != "done")


def _features_of(row: SheetRow) -> tuple[int, ...]:
    """The rows whose features it rests on."""
    return tuple(n.id for n in row.needs if n.what == "feature")


def _system_result(row: SheetRow, needed: Mapping[Name, Any]) -> RowResult:
    found = needed["system", row.id]
    if isinstance(found, Failed):
        found = FoundSystem("failed", found.message, uses=_features_of(row))
    return RowResult(row.id, found.state, found.message, system=found, uses=found.uses)


def _solved(needed: Mapping[Name, Any], system: tuple[Name, ...]) -> tuple[Alignment | None, int | None]:
    """The active alignment, where it is solved, and its row."""
    for name in system:
        found = needed[name]
        if isinstance(found, FoundSystem) and found.alignment is not None:
            return found.alignment, name[1] if name[0] == "system" else None  # type: ignore[index]
    return None, None


def _judged_feature(row: SheetRow, recipe: FeatureRecipe, needed: Mapping[Name, Any], system: tuple[Name, ...]) -> RowResult:
    found = needed["feature", row.id]
    if isinstance(found, Failed):
        return RowResult(row.id, "failed", found.message)
    base: dict[str, Any] = {
        "row": row.id, "state": found.state, "message": found.message, "feature": found, "doubts": found.doubts,
        "uses": _features_of(row), "warnings": found.warnings,
    }  # fmt: skip
    active, by = _solved(needed, system)
    used = needed[system[0]].uses if active is not None else ()
    held = row.id in used
    base["elsewhere"] = words_elsewhere(recipe, found, None if held else active)
    if found.feature is None:
        return RowResult(**base, characteristics=planned(recipe, recipe.quantities(found)))
    both = beside(found, active)
    feature = both.actual
    if found.made is not None and active is not None and both.nominal is not None:
        found = replace(found, nominal=both.nominal.shape)
    if active is not None:
        base |= {"aligned_by": by, "held": held, "feature_part": feature, "draw": found.draw}
        if found.contacts is not None:
            base["contacts_part"] = recipe.contacts_in_part(found, active.points(found.contacts))
            base["off_part"] = recipe.off_nominal(found, base["contacts_part"])
        turns = any(loose.motion[3:].any() for loose in active.ledger.loose)
        if found.state == "done" and not held and not turns and recipe.faces_away(feature.shape):
            base["state"] = "asks"
    if found.state == "done" and base["elsewhere"]:
        base["state"] = "asks"
    quantities = recipe.quantities(found)
    if base["state"] == "asks":
        return RowResult(**base, characteristics=planned(recipe, quantities))
    told = characteristics_of(recipe, row.id, found, quantities, feature, active, held)
    if active is None and any(c.actual is None and c.nominal is not None for c in told):
        base["warnings"] = (*found.warnings, UNPLACED)
    return RowResult(**base, characteristics=told)
