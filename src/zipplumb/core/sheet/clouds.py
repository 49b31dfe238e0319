"""What a scan's row has, and the points of it that are another row's."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from ..cloud.edges import Edges
from ..cloud.giving import GivenPoints
from ..cloud.points import CloudPoints
from ..cloud.working import CloudResult, CloudWork
from ..frames import Motion
from .results import State

UNDER_WAY = "It is being worked out."


def key_prefix(scan: int) -> str:
    """How the keys of a scan's points begin, among a row's hits."""
    return f"s{scan}."


@dataclass(frozen=True, eq=False)
class FoundCloud:
    """The value of a scan's node. ``lines`` of light; ``key`` names what was worked out; ``read``, ``kept``, ``cells``: see
    ``CloudResult``; ``given``: points by row; ``edges``; ``points``: thinned; ``part_from_world``: where the part was, if
    rows take points."""

    state: State
    message: str = ""
    lines: int = 0
    key: str = ""
    read: int = 0
    kept: int = 0
    cells: int = 0
    given: Mapping[int, GivenPoints] = field(default_factory=dict)
    edges: Edges = field(default_factory=Edges.none)
    points: CloudPoints = field(default_factory=CloudPoints.none)
    part_from_world: Motion | None = None

    @classmethod
    def of(cls, key: str, lines: int, result: CloudResult) -> FoundCloud:
        return cls("done", "", lines, key, result.read, result.kept, result.cells, result.given, result.edges, result.points)

    @property
    def shown(self) -> CloudPoints:
        """What is drawn of it: where only edges count, these."""
        return self.points if len(self.points) else CloudPoints.bare(self.edges.points, self.edges.lines)


@dataclass(frozen=True, eq=False)
class Asked:
    """What a node wants worked out: ``lines`` of light of a scan, in a way."""

    row: int
    lines: int
    work: CloudWork


@dataclass(frozen=True, eq=False)
class UnderWay(FoundCloud):
    """Not worked out yet: ``asked`` says what is to be."""

    asked: Asked | None = None


Kept = Callable[[str], FoundCloud | None]  # what was worked out under a key; None where nothing was yet


def on_shelf(kept: Kept, key: str, asked: Any) -> tuple[str, Any]:
    """What a heavy node is worth: as it was worked out, or under way, which is named by another key. What asks for nothing is
    what it is."""
    if not isinstance(asked, Asked):
        return key, asked
    found = kept(key)
    if found is not None:
        return key, replace(found, lines=asked.lines, part_from_world=asked.work.part_from_world)
    return f"{key}…", UnderWay("waits", UNDER_WAY, asked.lines, key, asked=asked)
