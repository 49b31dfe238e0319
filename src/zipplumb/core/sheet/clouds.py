"""What a scan's nodes give: its points and edges, and those of them that are other rows'; both are worked out elsewhere."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar

from ..cloud.edges import Edges
from ..cloud.giving import GivenPoints
from ..cloud.light import Chunk
from ..cloud.points import CloudPoints
from ..cloud.sorting import Faces
from ..cloud.working import CloudResult, CloudWork, Progress, SortingWork
from ..frames import Motion
from .results import State

UNDER_WAY = "It is being worked out."


def key_prefix(scan: int) -> str:
    """How the keys of a scan's points begin, among a row's hits."""
    return f"s{scan}."


@dataclass(frozen=True, eq=False)
class FoundCloud:
    """The value of a scan's nodes. ``lines`` of light; ``key`` names what was worked out; ``read``, ``kept``, ``cells``,
    ``edges``, ``points``: see ``CloudResult``; ``given``: points by row, and ``part_from_world``: where the part was, if rows
    take points by the CAD."""

    state: State
    message: str = ""
    lines: int = 0
    key: str = ""
    read: int = 0
    kept: int = 0
    cells: int = 0
    edges: Edges = field(default_factory=Edges.none)
    points: CloudPoints = field(default_factory=CloudPoints.none)
    given: Mapping[int, GivenPoints] = field(default_factory=dict)
    part_from_world: Motion | None = None

    @classmethod
    def of(cls, result: CloudResult) -> FoundCloud:
        return cls("done", "", 0, "", result.read, result.kept, result.cells, result.edges, result.points)

    @property
    def shown(self) -> CloudPoints:
        """What is drawn of it: where only edges count, these."""
        return self.points if len(self.points) else CloudPoints.bare(self.edges.points, self.edges.lines)


class Asked:
    """What a node of a ``row`` wants worked out of a scan: its "points", those of its "rows", or a "map" of it; ``lines`` of
    light that it has; ``on_cad``: it needs the part's CAD, and ``faces`` of it exactly, or all (None)."""

    what: ClassVar[str]
    row: int
    lines: int
    faces: frozenset[int] | None

    @property
    def on_cad(self) -> bool:
        return bool(self.faces)

    @property
    def of_scan(self) -> int:
        """The row of the scan."""
        return self.row

    def run(self, chunks: Iterable[Chunk], total: int, faces: Faces | None, progress: Progress) -> Any:
        """Work it out from so many chunks of light. Raises PlumbError."""
        raise NotImplementedError

    def with_what_is_known(self, found: Any) -> Any:
        """What was kept of it, and what is known beside."""
        raise NotImplementedError


@dataclass(frozen=True, eq=False)
class AskedCloud(Asked):
    """The points and edges of a scan."""

    what = "points"
    row: int
    lines: int
    work: CloudWork
    faces: frozenset[int] = frozenset()

    @property
    def on_cad(self) -> bool:
        return self.work.on_cad

    def run(self, chunks: Iterable[Chunk], total: int, faces: Faces | None, progress: Progress) -> FoundCloud:
        off = faces.off if self.on_cad and faces is not None else None
        return FoundCloud.of(self.work.run(chunks, total, progress, off))

    def with_what_is_known(self, found: FoundCloud) -> FoundCloud:
        return replace(found, lines=self.lines)


@dataclass(frozen=True, eq=False)
class AskedGiven(Asked):
    """Which of a scan's points are whose."""

    what = "rows"
    row: int
    lines: int
    cloud: FoundCloud
    work: SortingWork
    faces: frozenset[int]

    def run(self, chunks: Iterable[Chunk], total: int, faces: Faces | None, progress: Progress) -> FoundCloud:
        return FoundCloud("done", given=self.work.run(self.cloud.points, faces) if faces is not None else {})

    def with_what_is_known(self, found: FoundCloud) -> FoundCloud:
        if found.state != "done":
            return found
        return replace(self.cloud, key=found.key, given=found.given, part_from_world=self.work.part_from_world)


@dataclass(frozen=True, eq=False)
class UnderWay(FoundCloud):
    """Not worked out yet: ``asked`` says what is to be."""

    asked: Asked | None = None


Kept = Callable[[str], Any]  # what was worked out under a key; None where nothing was yet


def on_shelf(kept: Kept, key: str, asked: Any) -> tuple[str, Any]:
    """What a heavy node is worth: as it was worked out, or under way, which is named by another key. What asks for nothing is
    what it is."""
    if not isinstance(asked, Asked):
        return key, asked
    found = kept(key)
    if found is not None:
        return key, asked.with_what_is_known(found)
    return f"{key}…", UnderWay("waits", UNDER_WAY, asked.lines, key, asked=asked)
