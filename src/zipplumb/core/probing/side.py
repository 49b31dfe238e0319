"""Which side of a touched shape is air: from how the tip came and went, and from the nominal."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..frames import Array

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
    A bore's pull-off may leave along its axis; there the distance from the axis still tells,
    since the tip stays nearer to it than the wall is.
    """
    witnesses: dict[str, int] = {}
    if pull_off is not None:
        distance = float(shape.distance(np.asarray(pull_off, float)[None])[0])
        if abs(distance) > NEAR_MM:
            witnesses["pull_off"] = int(np.sign(distance))
    come = np.isfinite(approach).all(axis=1)
    if come.any():
        moved = shape.distance(approach[come]) - shape.distance(hits[come])
        votes = np.sign(moved[np.abs(moved) > NEAR_MM])
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
