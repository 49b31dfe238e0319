"""Which side of a touched shape is air: from how the tip came and went, and from the nominal."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..frames import Array

STEP_MM = 0.01
SLANT = 0.17  # sine of the least angle, 10°, between a way and the surface, for that it tells a side
NEAR_MM = 0.5  # a pull-off shorter than this says nothing about a side


@dataclass(frozen=True)
class Side:
    """Which side of the fitted shape is air.

    Attributes
    ----------
    air : int
        +1: air on the side of a plane's normal, or outside a round shape (a boss);
        -1: the other side (inside a bore); 0: nobody knows.
    witnesses : dict
        What "pull_off", "approach" and "nominal" each say, where they say anything.
    doubt : bool
        The witnesses disagree, and no person has settled it.
    """

    air: int
    witnesses: dict[str, int]
    doubt: bool

    @property
    def known(self) -> bool:
        return self.air != 0 and not self.doubt


def _ways(shape: Any, hits: Array, elsewhere: Array) -> Array:
    """(n,) +1 where the way from a hit to another place leads out of the shape, -1 into it; 0: along it, or no way."""
    moves = elsewhere - hits
    lengths = np.linalg.norm(moves, axis=1)
    share = STEP_MM / np.maximum(lengths, STEP_MM)
    beside, here = shape.distance(np.concatenate([hits + share[:, None] * moves, hits])).reshape(2, -1)
    out = (beside - here) / STEP_MM
    return np.where((lengths * np.abs(out) > NEAR_MM) & (np.abs(out) > SLANT), np.sign(out), 0.0)


def _left(shape: Any, hits: Array, pull_off: Array) -> int:
    """The side that the tip was pulled off to, from the hit that is nearest to there; 0 where that does not tell."""
    nearest = int(np.argmin(np.linalg.norm(hits - pull_off, axis=1)))
    way = int(_ways(shape, hits[nearest : nearest + 1], pull_off[None])[0])
    if way:
        return way
    distance = float(shape.distance(pull_off[None])[0])
    return -1 if distance < -NEAR_MM else 0


def side_of_air(
    shape: Any,
    hits: Array,
    approach: Array,
    pull_off: Array | None,
    nominal: int | None = None,
    settled: int | None = None,
) -> Side:
    """Which side the tip was on when it was off the material.

    Parameters
    ----------
    shape : fitted to the tip centers, with a signed ``distance``; for a line in its plane, the
        Plane through it that faces across
    hits : (n, 3) tip centers
    approach : (n, 3) where the tip was shortly before each hit; NaN where it is not known
    pull_off : (3,) where the tip was when the feature was finished, or None
    nominal : the side that the nominal asks for, oriented like ``shape``; None where unknown
    settled : a person's answer, which ends the question

    Notes
    -----
    What tells is the way of the tip at the surface, not where it was in the end: who leaves a round groove, or a ball's
    seat, is soon beyond its far side. A bore's pull-off may leave along its axis, and then tells no side by its way;
    there the distance from the axis does, since the tip stays nearer to it than the wall is.
    """
    witnesses: dict[str, int] = {}
    if pull_off is not None and (side := _left(shape, hits, np.asarray(pull_off, float))):
        witnesses["pull_off"] = side
    come = np.isfinite(approach).all(axis=1)
    if come.any():
        votes = _ways(shape, hits, approach) if come.all() else _ways(shape, hits[come], approach[come])
        votes = votes[votes != 0]
        if len(votes) and abs(votes.sum()) > len(votes) / 2:
            witnesses["approach"] = int(np.sign(votes.sum()))
    if nominal:
        witnesses["nominal"] = int(nominal)
    if settled:
        return Side(settled, witnesses, False)
    for name in ("pull_off", "approach", "nominal"):
        if name in witnesses:
            return Side(witnesses[name], witnesses, len(set(witnesses.values())) > 1)
    return Side(0, witnesses, False)
