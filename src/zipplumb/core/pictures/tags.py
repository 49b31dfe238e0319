"""Where tags stand in a picture: in its margins, each tied to its place by a straight line, none across another.

Published: M. A. Bekos, M. Kaufmann, A. Symvonis, A. Wolff, "Boundary labeling: Models and efficient algorithms for rectangular
maps", Computational Geometry 36 (2007): with labels on the border of a rectangle, lines of the least total length do not cross
(two that crossed would be shorter the other way round). The least is found as an assignment of places to slots.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import linear_sum_assignment

from ..frames import Array, Indices

Arranged = Literal["around", "columns", "rows"]
ARRANGED: tuple[Arranged, ...] = get_args(Arranged)
GAP = 6.0  # between tags, and from them to the border
CLEAR = 5.0  # from a tag to any of the places


@dataclass(frozen=True, eq=False)
class Laid:
    """``boxes`` (m, 4): left, top, width, height of the tags that found room; ``ports`` (m, 2): where their lines begin;
    ``which`` (m,): of the places; ``left_out`` those of which there was no room."""

    boxes: Array
    ports: Array
    which: Indices
    left_out: Indices


@dataclass(frozen=True, eq=False)
class Slots:
    """``corners`` (s, 2) left and top of the largest tag in each; ``ports`` (s, 2); ``align`` (s, 2): how much of what a tag is
    smaller lies before it."""

    corners: Array
    ports: Array
    align: Array

    def of(self, some: NDArray[np.bool_]) -> Slots:
        return Slots(self.corners[some], self.ports[some], self.align[some])


def lay_out(
    places: Array, sizes: Array, frame: tuple[float, float], arranged: Arranged = "around",
    moved: Mapping[int, tuple[float, float]] | None = None,
) -> Laid:  # fmt: skip
    """Tags of some places in a picture.

    Parameters
    ----------
    places : (n, 2) pixels; those that come first are the last to be left out
    sizes : (n, 2) of the tags
    frame : width and height of the picture
    arranged : all round the picture, in columns at its sides, or in rows above and below
    moved : left and top of the tags that a person has put somewhere
    """
    moved = {i: at for i, at in (moved or {}).items() if i < len(places)}
    fixed = np.array(sorted(moved), int)
    free = np.setdiff1d(np.arange(len(places)), fixed)
    boxes_fixed = np.array([[*moved[i], *sizes[i]] for i in fixed.tolist()]).reshape(-1, 4)
    boxes_fixed[:, :2] = np.clip(boxes_fixed[:, :2], 0, np.maximum(np.array(frame) - boxes_fixed[:, 2:], 0))
    largest = sizes.max(axis=0) if len(sizes) else np.zeros(2)
    slots = _slots(largest, frame, arranged)
    slots = slots.of(_clear(slots.corners, largest, places, boxes_fixed))
    taken, left_out = free[: len(slots.corners)], free[len(slots.corners) :]
    far = np.linalg.norm(places[taken][:, None] - slots.ports[None], axis=2)
    rows, at = linear_sum_assignment(far)
    which = taken[rows]
    corners = slots.corners[at] + slots.align[at] * (largest - sizes[which])
    boxes = np.vstack([np.hstack([corners, sizes[which]]), boxes_fixed])
    ports = np.vstack([slots.ports[at], _nearest(boxes_fixed, places[fixed])])
    return Laid(boxes, ports, np.concatenate([which, fixed]), left_out)


def margins(sizes: Array, arranged: Arranged) -> tuple[float, float]:
    """How much room tags take at the sides, and above and below."""
    if not len(sizes):
        return 0.0, 0.0
    wide, high = sizes.max(axis=0) + 2 * GAP + CLEAR
    return (0.0 if arranged == "rows" else float(wide)), (0.0 if arranged == "columns" else float(high))


def _slots(largest: Array, frame: tuple[float, float], arranged: Arranged) -> Slots:
    """All the room there is at the border; none in its corners, from where a line could run under another tag."""
    (wide, high), (w, h) = frame, largest
    corners: list[tuple[float, float]] = []
    ports: list[tuple[float, float]] = []
    align: list[tuple[float, float]] = []
    if arranged != "rows":
        corner = GAP if arranged == "columns" else 2 * GAP + h
        for top in np.arange(corner, high - corner - h + 1e-9, h + GAP):
            corners += [(GAP, top), (wide - GAP - w, top)]
            ports += [(GAP + w, top + h / 2), (wide - GAP - w, top + h / 2)]
            align += [(1, 0.5), (0, 0.5)]
    if arranged != "columns":
        corner = GAP if arranged == "rows" else 2 * GAP + w
        for left in np.arange(corner, wide - corner - w + 1e-9, w + GAP):
            corners += [(left, GAP), (left, high - GAP - h)]
            ports += [(left + w / 2, GAP + h), (left + w / 2, high - GAP - h)]
            align += [(0.5, 0.5), (0.5, 0.5)]
    return Slots(*(np.array(each, float).reshape(-1, 2) for each in (corners, ports, align)))


def _clear(corners: Array, largest: Array, places: Array, boxes: Array) -> NDArray[np.bool_]:
    """(s,) which slots hold none of the places and touch none of the boxes."""
    low, high = corners[:, None], corners[:, None] + largest
    over = np.all((places > low - CLEAR) & (places < high + CLEAR), axis=2).any(axis=1)
    ends = boxes[:, :2] + boxes[:, 2:]
    meets = np.all((low < ends + GAP) & (high + GAP > boxes[:, :2]), axis=2).any(axis=1)
    return ~(over | meets)


def _nearest(boxes: Array, places: Array) -> Array:
    """(n, 2) where a line from each place meets its box first."""
    return np.clip(places, boxes[:, :2], boxes[:, :2] + boxes[:, 2:])
