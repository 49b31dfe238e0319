"""What is worked out of a scan, by whoever has the time: its edges and a thinned copy; and the points of each row."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field

import numpy as np

from ..errors import InputError
from ..frames import Motion
from .cells import Cells, cells_of, together
from .cutting import Cutting, Off, left_by
from .edges import Edges, edges_of
from .giving import OF_A_ROW, GivenPoints, evenly
from .light import Chunk, Seen, seen
from .points import CloudPoints
from .sorting import Faces, Rule, sorted_out

THINNED, MOST_EDGES = 200_000, 100_000  # points at most
Progress = Callable[[float], None]


def silent(share: float) -> None:
    """Nobody looks."""


@dataclass(frozen=True, eq=False)
class CloudResult:
    """``read``: points in all, ``kept``: those that nothing cuts away; ``cells`` of them. ``edges``: where its light ends.
    ``points``: thinned."""

    read: int
    kept: int
    cells: int
    edges: Edges = field(default_factory=Edges.none)
    points: CloudPoints = field(default_factory=CloudPoints.none)


@dataclass(frozen=True, eq=False)
class CloudWork:
    """All that a scan's points rest on, but for its light.

    Attributes
    ----------
    axes : axis_from_scanner, by calibration
    stations : world_from_station, by station
    cuts : what is cut away
    spacing_mm : length of the cells
    edges_only : what is flat is left out
    """

    axes: Mapping[int, Motion]
    stations: Mapping[int, Motion]
    cuts: tuple[Cutting, ...] = ()
    spacing_mm: float = 1.0
    edges_only: bool = False

    @property
    def on_cad(self) -> bool:
        return any(cut.on_cad for cut in self.cuts)

    def _place(self, chunk: Chunk) -> tuple[Motion, Motion]:
        return self.axes[chunk.calibration], self.stations[chunk.station]

    def seen(self, chunk: Chunk) -> Seen:
        """Its points in the world, before anything is cut away."""
        return seen(chunk, *self._place(chunk))

    def run(self, chunks: Iterable[Chunk], total: int, progress: Progress = silent, off: Off | None = None) -> CloudResult:
        """Work it out. ``total``: how many chunks there are; ``off``: from the CAD, where a cut asks for it.

        Raises
        ------
        InputError
            Nothing is left of it.
        """
        read = kept = 0
        edges: list[Edges] = []

        def parts() -> Iterable[Cells]:
            nonlocal read, kept
            for done, chunk in enumerate(chunks, start=1):
                found = self.seen(chunk)
                read += len(found)
                if chunk.flat:
                    ends = edges_of(chunk, *self._place(chunk))
                    edges.append(ends.of(left_by(ends.points, self.cuts, off)))
                found = found.of(left_by(found.points, self.cuts, off))
                kept += len(found)
                progress(done / max(total, 1))
                if len(found) and not self.edges_only:
                    yield cells_of(found, self.spacing_mm)

        whole, ends = together(parts()), Edges.together(edges)
        ends = ends.of(evenly(np.arange(len(ends)), MOST_EDGES))
        if whole is None and not len(ends):
            raise InputError(
                "Nothing is left of this scan." if read else "No light came back in this scan.",
                "All that was read is kept.",
                "Take a cut away, or scan on.",
            )
        if whole is None:
            return CloudResult(read, kept, len(ends), ends)
        points = CloudPoints.of_cells(whole.of(evenly(np.arange(len(whole)), THINNED)), self.spacing_mm)
        return CloudResult(read, kept, len(whole), ends, points)


@dataclass(frozen=True, eq=False)
class SortingWork:
    """How points are given to rows: ``part_from_world``, after the ``scale``: where the part is; ``wanted``: face by row;
    ``rule``: which are whose."""

    part_from_world: Motion
    wanted: Mapping[int, int]
    rule: Rule = field(default_factory=Rule)
    scale: float = 1.0

    def run(self, points: CloudPoints, faces: Faces) -> dict[int, GivenPoints]:
        """The points of each row, evenly spread, so many at most. ``faces``: of the part's CAD."""
        places = self.part_from_world.points(self.scale * points.points)
        normals = self.part_from_world.vectors(points.normals)
        found = sorted_out(places, normals, faces, self.wanted, self.rule)
        each = {row: evenly(mine, OF_A_ROW) for row, mine in found.items()}
        return {row: GivenPoints(points.points[mine], points.lines[mine]) for row, mine in each.items()}
