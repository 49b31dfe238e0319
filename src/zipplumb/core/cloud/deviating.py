"""How far a scan lies off the CAD everywhere: every point exactly, told by places of the part's surface."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import InputError
from ..frames import Array, Indices, Motion
from .cutting import left_by
from .light import Chunk
from .sorting import Faces
from .working import CloudWork, Progress, silent

MOST = 200_000  # places
TOGETHER = 1_000_000  # places of chunks that are put together at once
REACH = 1 << 20  # steps of a grid to either side that a key can name
FACING = 0.2  # least cosine between the way back to the scanner and the surface's normal: about 78°


@dataclass(frozen=True, eq=False)
class Places:
    """Places of the part's surface on which light fell; mm, in the part.

    Attributes
    ----------
    points, normals : (k, 3) on the surface, and out of the material
    faces : (k,) numbers of the CAD's faces
    lines : (k,) a line of light that was seen there
    counts : (k,) points
    means : (k,) their mean deviation, + outside the material
    """

    points: Array
    normals: Array
    faces: Indices
    lines: Indices
    counts: Indices
    means: Array

    def __len__(self) -> int:
        return len(self.faces)

    def of(self, some: NDArray[Any]) -> Places:
        return Places(*(getattr(self, each.name)[some] for each in fields(self)))

    @classmethod
    def none(cls) -> Places:
        nothing, none = np.empty((0, 3)), np.empty(0, np.int64)
        return cls(nothing, nothing, none, none, none, np.empty(0))

    @classmethod
    def joined(cls, parts: list[Places]) -> Places:
        """One after the other."""
        return cls(*(np.concatenate([getattr(part, each.name) for part in parts]) for each in fields(cls)))

    @classmethod
    def gathered(cls, parts: list[Places], step_mm: float) -> Places:
        """Those of one cube of a grid and one face as one: its points, normals and deviations are means over all points."""
        whole = cls.joined(parts)
        each = {one.name: getattr(whole, one.name) for one in fields(cls)}
        at = np.floor(each["points"] / step_mm).astype(np.int64) + REACH
        keys = (at[:, 0] * 2 * REACH + at[:, 1]) * 2 * REACH + at[:, 2]
        order = np.lexsort((keys, each["faces"]))
        new = np.diff(keys[order], prepend=-1) != 0
        new |= np.diff(each["faces"][order], prepend=-1) != 0
        first = np.flatnonzero(new)
        counts = np.add.reduceat(each["counts"][order], first) if len(first) else np.empty(0, np.int64)

        def mean(values: Array) -> Array:
            weighed = each["counts"][order].reshape(-1, *[1] * (values.ndim - 1)) * values[order]
            return np.add.reduceat(weighed, first) / counts.reshape(-1, *[1] * (values.ndim - 1))

        if not len(first):
            return cls.none()
        normals = mean(each["normals"])
        normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-300)
        faces, lines = each["faces"][order][first], each["lines"][order][first]
        return cls(mean(each["points"]), normals, faces, lines, counts, mean(each["means"]))


@dataclass(frozen=True, eq=False)
class DeviationResult:
    """``read``: points in all; ``off``: those that lie off the part, are nearest to an edge, or face another way; the others
    tell of ``places``, one of each cube of ``step_mm``."""

    read: int = 0
    off: int = 0
    step_mm: float = 1.0
    places: Places = field(default_factory=Places.none)


@dataclass(frozen=True, eq=False)
class DeviationWork:
    """``cloud``: how the light becomes points, and what is cut away; ``part_from_world``, after the ``scale``: where the part
    lies; points farther off than ``reach_mm``, or nearer than ``margin_mm`` to an edge, are not of the surface."""

    cloud: CloudWork
    part_from_world: Motion
    reach_mm: float
    margin_mm: float
    scale: float = 1.0

    def run(self, chunks: Iterable[Chunk], total: int, faces: Faces, progress: Progress = silent) -> DeviationResult:
        """Of all points. ``total``: how many chunks there are.

        Raises
        ------
        InputError
            None of them lies on the part.
        """
        read = used = 0
        step, off = self.cloud.spacing_mm, faces.off if self.cloud.on_cad else None
        waiting: list[Places] = []
        for done, chunk in enumerate(chunks, start=1):
            light = self.cloud.seen(chunk)
            light = light.of(left_by(light.points, self.cloud.cuts, off))
            read += len(light)
            found = self._on_part(light.points, light.ways, light.lines, faces)
            used += len(found)
            waiting.append(Places.gathered([found], step))
            if sum(map(len, waiting)) > TOGETHER:
                waiting, step = _thinned(waiting, step)
            progress(done / max(total, 1))
        waiting, step = _thinned(waiting or [Places.none()], step)
        if not len(waiting[0]):
            raise InputError(
                "Nothing of this scan lies on the part's surface.", "All that was read is kept.",
                "Align the part, or let what lies farther off count.",
            )  # fmt: skip
        return DeviationResult(read, read - used, step, waiting[0])

    def _on_part(self, points: Array, ways: Array, lines: Indices, faces: Faces) -> Places:
        places, ways = self.part_from_world.points(self.scale * points), self.part_from_world.vectors(ways)
        feet, normals, face, at_edge = faces(places, self.margin_mm)
        off = np.einsum("ij,ij->i", places - feet, normals)
        good = ~at_edge & (np.abs(off) <= self.reach_mm) & (np.einsum("ij,ij->i", ways, normals) < -FACING)
        some = np.flatnonzero(good)
        return Places(feet[some], normals[some], face[some], lines[some], np.ones(len(some), np.int64), off[some])


def _thinned(parts: list[Places], step: float) -> tuple[list[Places], float]:
    """As one, with a grid so wide that they are few enough."""
    whole = Places.gathered(parts, step)
    while len(whole) > MOST:
        step *= 1.5
        whole = Places.gathered([whole], step)
    return [whole], step
