"""Several shapes of one kind that the same few hits lie on, and which of them is meant.

Five points lie on up to six real cylinders (Devillers, Mourrain, Preparata and Trebuchet, "Circular cylinders through four or
five points in space", Discrete and Computational Geometry 29, 2003; from memory), and with a hit or two more than the least
the true shape need not be the one that leaves the least. Where the hits themselves do not tell, what is known besides does: the
most probable of the valleys is taken, and what else is as probable is told.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from operator import itemgetter
from typing import Any

import numpy as np

from ..frames import Array
from .placed import Placed

AS_WELL = 9.0  # of chi square: three standard deviations
SAME, SAME_TURN = 1e-3, np.cos(np.radians(0.5))
CLOSE = 0.02  # by which two fits of one shape differ in direction (rad) and in sizes, as one standard deviation
LEAST_BY_REACH = 1e-7  # times the hits' reach: what descents leave where a shape goes through all of them


@dataclass(frozen=True, eq=False)
class Meant:
    """What is known of a shape besides its hits.

    Attributes
    ----------
    unlikely : of a shape, by how many standard deviations, squared, it is off what is known of it
    u_hit_mm : standard uncertainty of a hit
    """

    unlikely: Callable[[Any], float] = lambda shape: 0.0
    u_hit_mm: float = 0.0

    @classmethod
    def toward(cls, direction: Array) -> Meant:
        """Nothing but a direction (3,) that the axis is near."""
        return cls(lambda shape: float(1 - abs(shape.direction_of_it @ direction)))

    @classmethod
    def near(cls, known: Any) -> Meant:
        """The same shape of the kind as another fit of these hits found."""

        def off(shape: Any) -> float:
            sizes = sum((getattr(shape, name) / getattr(known, name) - 1) ** 2 for name in known.sizes_)
            turned = 0.0 if known.direction_of_it is None else 1 - (shape.direction_of_it @ known.direction_of_it) ** 2
            return float(sizes + turned) / CLOSE**2

        return cls(off)


@dataclass(frozen=True, eq=False)
class Valley:
    """Where a descent came to rest; ``cost``: its sum of squares, mm²."""

    placed: Placed
    cost: float

    def like(self, other: Valley, reach: float) -> bool:
        a, b = self.placed, other.placed
        apart = a.origin - b.origin
        apart = apart - (apart @ a.axes[:, 2]) * a.axes[:, 2]
        return bool(
            abs(a.axes[:, 2] @ b.axes[:, 2]) > SAME_TURN
            and np.allclose(a.sizes, b.sizes, rtol=SAME, atol=SAME)
            and np.linalg.norm(apart) < SAME * reach
        )


def likeliest(valleys: Sequence[Valley], meant: Meant, reach: float, center: Array) -> tuple[Valley, tuple[Placed, ...]]:
    """The most probable of some valleys (at least one), and the others that are as probable.

    Parameters
    ----------
    reach : of the hits, mm
    center : (3,) which the valleys' origins are seen from
    """
    least = min(valleys, key=lambda valley: valley.cost)
    unit = max(meant.u_hit_mm, LEAST_BY_REACH * reach) ** 2
    alike = [valley for valley in valleys if valley.cost <= least.cost + AS_WELL * unit]
    if len(alike) == 1:
        return least, ()
    told = sorted(
        ((valley.cost / unit + meant.unlikely(_shape(valley.placed, center)), valley) for valley in alike), key=itemgetter(0)
    )
    best, chosen = told[0]
    rivals = list[Valley]()
    for off, valley in told[1:]:
        if off <= best + AS_WELL and not any(valley.like(other, reach) for other in (chosen, *rivals)):
            rivals.append(valley)
    return chosen, tuple(valley.placed for valley in rivals)


def _shape(placed: Placed, center: Array) -> Any:
    return replace(placed, origin=center + placed.origin).shape()
