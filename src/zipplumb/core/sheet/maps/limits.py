"""Within which limits the places of a map are to lie: those of the whole, or of their own face."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ...frames import Array, Indices
from ..bases.mapped import MapRecipe

WHOLE = 100.0  # per cent
NOT_ASKED = 3  # the word of a place without limits


@dataclass(frozen=True, eq=False)
class PlaceLimits:
    """``lower``, ``upper``: (k,) mm, infinite where none is asked; ``alike``: the same at all places."""

    lower: Array
    upper: Array
    alike: bool = True

    @cached_property
    def asked(self) -> NDArray[np.bool_]:
        """(k,) where there is one."""
        return np.isfinite(self.lower) | np.isfinite(self.upper)

    def at(self, place: int) -> tuple[float | None, float | None]:
        """Of one place; None where none is asked."""
        lower, upper = float(self.lower[place]), float(self.upper[place])
        return (lower if np.isfinite(lower) else None), (upper if np.isfinite(upper) else None)

    def of_all(self) -> tuple[float | None, float | None]:
        """Of every place, where they are alike and there is a place."""
        return self.at(0) if self.alike and len(self.lower) else (None, None)

    def words(self, off: Array, U: Array) -> Indices:
        """(k,) 0 in, 1 not proven, 2 out, 3 not asked."""
        out = (off - U > self.upper) | (off + U < self.lower)
        sure = (off + U <= self.upper) & (off - U >= self.lower)
        return np.where(~self.asked, NOT_ASKED, np.where(out, 2, np.where(sure, 0, 1)))

    def beyond(self, off: Array) -> Array:
        """(k,) how far each lies beyond its limit, mm, less than nothing within; where nothing is asked at all, how far off."""
        return np.maximum(off - self.upper, self.lower - off) if self.asked.any() else np.abs(off)

    def used(self, off: Array) -> Array:
        """(k,) share of its tolerance that each uses, per cent, with the sign of the limit that it is nearer to; of one limit
        alone, as if the other lay as far to the other side. NaN where nothing is asked."""
        upper = np.where(np.isfinite(self.upper), self.upper, np.abs(self.lower))
        lower = np.where(np.isfinite(self.lower), self.lower, -np.abs(upper))
        half = (upper - lower) / 2
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(self.asked & (half > 0), WHOLE * (off - (lower + upper) / 2) / half, np.nan)


def limits_of(recipe: MapRecipe, faces: Indices) -> PlaceLimits:
    """Of places on ``faces`` (k,): of the whole the lower one of the smallest deviation, the upper one of the largest, and half
    the zone of a profile to either side, whichever is narrower; on a face that has limits of its own, those."""
    asked = {each.key: each for each in recipe.asked}
    zone = asked["profile"].upper if "profile" in asked else None
    low = [asked["smallest"].lower if "smallest" in asked else None, None if zone is None else -zone / 2]
    high = [asked["largest"].upper if "largest" in asked else None, None if zone is None else zone / 2]
    lower = np.full(len(faces), max((v for v in low if v is not None), default=-np.inf))
    upper = np.full(len(faces), min((v for v in high if v is not None), default=np.inf))
    if recipe.by_face:
        own = sorted(recipe.by_face, key=lambda each: each.face)
        known = np.array([each.face for each in own])
        at = np.minimum(np.searchsorted(known, faces), len(own) - 1)
        has = known[at] == faces
        lower = np.where(has, np.array([-np.inf if each.lower is None else each.lower for each in own])[at], lower)
        upper = np.where(has, np.array([np.inf if each.upper is None else each.upper for each in own])[at], upper)
    return PlaceLimits(lower, upper, not recipe.by_face)
