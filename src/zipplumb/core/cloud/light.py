"""Lines of light in the world: where their points are, and from where they were seen."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..frames import Array, Indices, Motion, points_of_poses, rotations_from_quaternions, unit
from ..stripes import FIELDS, KIND, is_light


@dataclass(frozen=True, eq=False)
class Chunk:
    """Some lines of light as they are kept.

    Attributes
    ----------
    poses : (m, 7) of the last axis at each line, in the instrument's frame
    points : packed, see ``core.stripes``; ``counts`` (m,) of them to each line, gaps among them
    aside : (m,) bool, lines that do not count
    station, calibration : ids of where it was read from, and with what
    first : the number of its first line in the scan
    fields : numbers of a point: of a line in the scanner's plane, or in space
    """

    poses: Array
    points: bytes
    counts: tuple[int, ...]
    aside: NDArray[np.bool_]
    station: int
    calibration: int
    first: int = 0
    fields: int = FIELDS

    @property
    def flat(self) -> bool:
        """Its lines lie in planes, and their points stand in order."""
        return self.fields == FIELDS

    def light(self) -> tuple[Array, Indices]:
        """Numbers (n, fields) of its points that count, and the line (n,) of each."""
        packed = np.frombuffer(self.points, KIND).reshape(-1, self.fields)
        line = np.repeat(np.arange(len(self.counts)), self.counts)
        counts = is_light(packed) & ~self.aside[line]
        return packed[counts].astype(float), line[counts]


@dataclass(frozen=True, eq=False)
class Seen:
    """Points of light in the world.

    Attributes
    ----------
    points : (n, 3), mm
    ways : (n, 3) of length 1, from the scanner to each
    brightness : (n,) 0 to 1, NaN where it is not told
    lines : (n,) number of the line of each in the scan
    """

    points: Array
    ways: Array
    brightness: Array
    lines: Indices

    def __len__(self) -> int:
        return len(self.points)

    def of(self, some: NDArray[Any]) -> Seen:
        return Seen(self.points[some], self.ways[some], self.brightness[some], self.lines[some])


def seen(chunk: Chunk, axis_from_scanner: Motion, world_from_station: Motion) -> Seen:
    """The points of a chunk that count, in the world."""
    local, line = chunk.light()
    if chunk.flat:
        points, _ = placed(chunk, local[:, :2], line, axis_from_scanner, world_from_station)
    else:
        points = world_from_station.points(chunk.poses[line, :3] + local[:, :3])
    origins = world_from_station.points(points_of_poses(chunk.poses, axis_from_scanner.translation))
    return Seen(points, unit(points - origins[line]), local[:, -1], line + chunk.first)


def placed(
    chunk: Chunk, local: Array, line: Indices, axis_from_scanner: Motion, world_from_station: Motion
) -> tuple[Array, Callable[[Array], Array]]:
    """Places (n, 2) in the plane of light of some lines of a chunk, as points (n, 3) in the world; and what turns ways so."""
    turned = rotations_from_quaternions(chunk.poses[:, 3:])[line]

    def of_way(way: Array) -> Array:
        in_axis = axis_from_scanner.vectors(np.column_stack([way[:, 0], np.zeros(len(way)), way[:, 1]]))
        return np.einsum("nij,nj->ni", turned, in_axis)

    in_station = of_way(local) + (turned @ axis_from_scanner.translation) + chunk.poses[line, :3]
    return world_from_station.points(in_station), lambda way: world_from_station.vectors(of_way(way))
