"""Lines of light in the world: where their points are, and from where they were seen."""

from __future__ import annotations

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
    """

    poses: Array
    points: bytes
    counts: tuple[int, ...]
    aside: NDArray[np.bool_]
    station: int
    calibration: int
    first: int = 0


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
    packed = np.frombuffer(chunk.points, KIND).reshape(-1, FIELDS)
    line = np.repeat(np.arange(len(chunk.counts)), chunk.counts)
    counts = is_light(packed) & ~chunk.aside[line]
    local, line = packed[counts].astype(float), line[counts]
    in_axis = axis_from_scanner.points(np.column_stack([local[:, 0], np.zeros(len(local)), local[:, 1]]))
    turned = rotations_from_quaternions(chunk.poses[:, 3:])[line]
    at = np.einsum("nij,nj->ni", turned, in_axis) + chunk.poses[line, :3]
    origins = points_of_poses(chunk.poses, axis_from_scanner.translation)
    points = world_from_station.points(at)
    ways = unit(points - world_from_station.points(origins)[line])
    return Seen(points, ways, local[:, 2], line + chunk.first)
