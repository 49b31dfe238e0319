"""The path of a tip (its centers) as a feature; it is judged against the CAD surface once the part is aligned."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache

import numpy as np

from ...features import Feature
from ...frames import Array, Motion
from ...sections import TipPath
from ...uncertainty import Source, Uncertainty
from ..quantities import Quantity
from ..results import FoundFeature
from ..row_hits import RowHits
from .measured import MeasuredRecipe

Touched = Callable[[Array, float], tuple[Array, Array]]  # a tip's centers and radius -> where it touches, how far off that is


def found_path(recipe: MeasuredRecipe, hits: RowHits) -> FoundFeature:
    """Each hit is as uncertain as one hit is: what is judged is the one that lies off the most."""
    base = replace(recipe.begun(hits, "taking"), warnings=hits.gap_words)
    if not hits.one_radius:
        words = "It was touched with tips of different sizes. The hits are kept. Touch it with one tip."
        return replace(base, state="failed" if hits.finished else "taking", message=words)
    cal, path = hits.calibration, TipPath(hits.centers, hits.calibration.radius_mm)
    terms: dict[Source, Array] = {hits.source: np.vstack([hits.u_hit_mm * np.eye(3), np.zeros((4, 3))])}
    for source, shifts in hits.shifts().items():
        terms[source] = np.vstack([shifts[len(shifts) // 2], np.zeros((4, shifts.shape[2]))])
    terms[Source("tip", cal.id)] = cal.u_radius_mm * np.eye(7)[:, 6:]
    local = Motion(np.eye(3), path.spot)
    feature = Feature(recipe.name, path, local, Uncertainty(7, terms), hits.centers)
    return replace(base, state="done" if hits.finished else "taking", feature=feature, contacts=hits.centers)


def off_a_surface(touched: Touched | None, profile: bool = True) -> tuple[Quantity, ...]:
    """How far the hits lie off a nominal surface: the zone about it that holds all, the most outside, the most inside.

    ``touched``: None before the surface is known; ``profile``: the zone is asked for too (ISO 1101, profile).
    """

    @lru_cache(maxsize=1)  # they are asked of one path after another
    def off(path: TipPath) -> Array:
        assert touched is not None
        return touched(path.centers, path.radius)[1]

    def of(key: str, by: Callable[[Array], float], each: Callable[[Array], Array], about: bool = False) -> Quantity:
        if touched is None:
            return Quantity(key, of=None, nominal=0.0, in_part=True)
        number, many = (lambda path: float(by(off(path)))), (lambda path: each(off(path)))
        return Quantity(key, of=number, nominal=0.0, in_part=True, each=many, about=about)

    zone = of("profile", lambda off: 2 * np.abs(off).max(), lambda off: off, about=True)
    sides = (of("highest", np.max, lambda off: off), of("lowest", np.min, lambda off: -off))
    return (zone, *sides) if profile else sides
