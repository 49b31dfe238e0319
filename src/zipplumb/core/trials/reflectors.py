"""Identification of the reflector in use from its center in a nest that was measured before."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from ..readings import HitSet
from ..units import mm
from .checking import bars
from .outcome import Figure, Outcome

# of the difference of two radii, by how much the one center stands over the other: on a flat seat by it, in a cone of 60° by
# twice as much
SITS = (0.97, 2.1)
NEAR_MM = 60.0


class KnownNest(NamedTuple):
    """``place`` (3,) of a reflector's center in it, in the instrument's axes, and that reflector's diameter."""

    name: str
    place: tuple[float, float, float]
    diameter_mm: float


class Reflector(NamedTuple):
    name: str
    diameter_mm: float


def reflector_outcome(
    taken: HitSet, nests: Sequence[KnownNest], on: Reflector, library: Sequence[Reflector], limit_mm: float
) -> Outcome:
    """One press in any nest that was read from here: whether what is on explains it, and else what would.

    A center in the same nest stands where it did with the same reflector, within the limit; with another one higher or
    lower, along the nest, by the radii's difference or up to twice that, as the nest is shaped.
    """
    named = ", ".join(nest.name for nest in nests[:4])
    ask = f"Set the reflector into a nest that was read from here ({named}), and take one."
    if not len(taken):
        return Outcome("running", ask, taken=0, wanted=1, drawing=bars([], [], limit_mm))
    place = taken.poses[-1, :3]
    gaps = [float(np.linalg.norm(place - nest.place)) for nest in nests]
    nest, off = nests[int(np.argmin(gaps))], min(gaps)
    drawing = bars([nest.name], [off], limit_mm)
    if off > NEAR_MM:
        why = f"No nest read from here is within {mm(NEAR_MM, '.0f')} of that: {nest.name}, the nearest, is {mm(off)} off."
        return Outcome("not enough", ask, why, taken=0, wanted=1, drawing=drawing)
    stands = f"The center stands {mm(off)} from where {nest.name} was read with {mm(nest.diameter_mm, '.1f')}"
    figures = (Figure("Off", off), Figure("Limit", limit_mm))
    kept = {"name": "reflector", "result_mm": off, "limit_mm": limit_mm, "U_mm": 0.0}
    if _explains(off, on, nest, limit_mm):
        return Outcome("pass", "Press finish.", f"{stands}: as it should with {on.name}.", "", 1, 1, figures, drawing, kept)
    others = [each.name for each in library if each.name != on.name and _explains(off, each, nest, limit_mm)]
    if others:
        words = (
            f"{stands}. So would {' or '.join(others)}, and not {on.name}. Put on what it is, and read anew what came since."
        )
    else:
        words = f"{stands}. No reflector of the library explains that: look whether the nest moved."
    return Outcome("fail", "Press finish.", words, "", 1, 1, figures, drawing, kept)


def _explains(off_mm: float, reflector: Reflector, nest: KnownNest, limit_mm: float) -> bool:
    by = abs(reflector.diameter_mm - nest.diameter_mm) / 2
    low, high = (share * by for share in SITS) if by > limit_mm else (0.0, by)
    return low - limit_mm <= off_mm <= high + limit_mm
