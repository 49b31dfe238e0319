"""What evaluate() leaves behind for the next time, and which nodes are worked out anew when rows change."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from ..readings import HitSet
from ..sameness import Layered
from .clouds import Asked, UnderWay
from .given import Kit, PartSurfaces, Sheet, StationPose
from .graph import Name, Node, Worked
from .results import RowResult
from .stations import NETWORK, FoundNetwork, Untied

HEAVY = {"cloud": ("cloud", "given"), "map": ("map",)}  # nodes that are worked out elsewhere, by the role of their row
OF_ROWS = ("feature", "system", *HEAVY["cloud"], *HEAVY["map"], "verdict")  # what nodes are of, whose names have a row


@dataclass(frozen=True, eq=False)
class Memory:
    """The inputs and results of the last evaluate(), for the next. ``dependents``: by node, those that depend on it;
    ``clouds``: the nodes of scans."""

    sheet: Sheet
    readings: Layered[int, HitSet]
    kit: Kit
    surfaces: PartSurfaces | None
    worked: Layered[Name, Worked]
    results: Layered[int, RowResult]
    dependents: dict[Name, list[Name]]
    clouds: tuple[tuple[str, int], ...] = ()

    @property
    def network(self) -> FoundNetwork | None:
        """How the stations are tied; None where there is but one."""
        worked = self.worked.get(NETWORK)
        return worked.value if worked is not None and isinstance(worked.value, FoundNetwork) else None

    @cached_property
    def under_way(self) -> list[tuple[tuple[str, int], Worked]]:
        """The scans that are not worked out yet."""
        return [(n, self.worked[n]) for n in self.clouds if isinstance(self.worked[n].value, UnderWay)]

    @property
    def wanted(self) -> dict[str, Asked]:
        """What is to be worked out, by its key."""
        return {node.value.key: node.value.asked for _, node in self.under_way}

    @property
    def stations(self) -> dict[int, StationPose | Untied]:
        """Where each stands."""
        return {i: self.worked["station", i].value for i in self.kit.stations}

    def rows_changed(
        self, sheet: Sheet, readings: Layered[int, HitSet], kit: Kit, surfaces: PartSurfaces | None
    ) -> list[int] | None:
        """Rows that are other objects now, or whose readings are; None where more than that is different."""
        if kit is not self.kit or surfaces is not self.surfaces or sheet.alignment != self.sheet.alignment:
            return None
        if sheet.rule != self.sheet.rule:
            return None
        if not sheet.stands_as(self.sheet):
            return None
        changed = [of for (what, of), node in self.under_way]  # it may have been worked out meanwhile
        for place in sorted({*sheet.places_that_differ(self.sheet), *sheet.places_of(readings.differing(self.readings))}):
            row, was = sheet.rows[place], self.sheet.rows[place]
            if row.recipe.role != was.recipe.role or row.needs != was.needs or row.recipe.cad_face != was.recipe.cad_face:
                return None
            if row.recipe.takes_by_cad != was.recipe.takes_by_cad:
                return None
            read, had = readings.get(row.id), self.readings.get(row.id)
            if (read.station_names if read else ()) != (had.station_names if had else ()):
                return None
            changed.append(row.id)
        return changed

    def resting_on(self, rows: list[int]) -> set[Name]:
        """The nodes of some rows, and all that need them."""
        left: list[Name] = [n for row in rows for n in _nodes_of(row) if n in self.worked]
        if NETWORK in self.worked and any(self.sheet.rows[self.sheet.index[row]].recipe.in_network for row in rows):
            left.append(NETWORK)
        found = set(left)
        while left:
            for needs_it in self.dependents.get(left.pop(), ()):
                if needs_it not in found:
                    found.add(needs_it)
                    left.append(needs_it)
        return found


def _nodes_of(row: int) -> tuple[Name, ...]:
    return tuple((what, row) for what in OF_ROWS)


def dependents_of(nodes: Mapping[Name, Node]) -> dict[Name, list[Name]]:
    """By node, those that need it."""
    found: dict[Name, list[Name]] = {}
    for name, node in nodes.items():
        for needed in node.needs:
            found.setdefault(needed, []).append(name)
    return found
