"""A bolt circle: how large it is, and how far each hole is off its place, outward and along it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import lru_cache
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ...alignment import Alignment
from ...deriving import BoltCircle, Drawing, bolt_circle, division_of
from ...deriving.drawing import whole_circle
from ...errors import DeriveError, PlumbError
from ...frames import Array
from ..base import Asked, FeatureRef, Internal, Length
from ..judged import JudgedRecipe, Judgement
from ..judging import Number, decided, in_system, told_in
from ..quantities import Quantity
from ..results import Characteristic, FoundFeature
from ..toleranced.place import place_of

KEPT = "What was measured is kept."


class BoltCircleRecipe(JudgedRecipe):
    """``places``: of the full pattern, where some holes were not measured; ``within_mm``: by how much each may be off, outward
    and along the circle."""

    role = "tolerance"
    is_table = True
    kind: Literal["bolt_circle"] = "bolt_circle"
    of: Annotated[tuple[FeatureRef, ...], Field(min_length=3, max_length=60)]
    places: Annotated[int, Field(ge=3, le=10_000)] | None = None
    within_mm: Length | None = None
    asked: Annotated[tuple[Asked, ...], Internal(), Field(max_length=0)] = ()

    @classmethod
    def of_chosen(cls, of: Sequence[int]) -> dict[str, Any] | None:
        return {"kind": cls.key(), "of": list(of)} if len(of) > 2 else None

    def judged(self, row: int, found: Mapping[int, FoundFeature], system: Alignment | None) -> Judgement:
        if len(set(self.of)) < len(self.of):
            raise DeriveError("A hole is named twice.", KEPT, "Name each once.")
        holes = [found[i] for i in self.of]
        places = [place_of(h) for h in holes]
        features = [in_system(h.feature, system) for h in holes if h.feature is not None]

        nominals = self._nominal_centers(holes)
        touched = np.array([place(f.shape) for place, f in zip(places, features, strict=True)])
        count = self.places or division_of(touched if nominals is None else nominals)

        @lru_cache(maxsize=2)  # every number is asked of the same shapes, one after another
        def divided(*shapes: Any) -> BoltCircle:
            return bolt_circle(np.array([place(s) for place, s in zip(places, shapes, strict=True)]), count)

        shown = divided(*(f.shape for f in features))
        numbers: list[Callable[..., float]] = [lambda *s: 2 * divided(*s).circle.radius]
        for k in range(len(holes)):
            numbers += [
                lambda *s, k=k: float(divided(*s).radial_mm[k]), lambda *s, k=k: float(divided(*s).along_mm[k])
            ]  # fmt: skip
        first, *each = told_in([Number(number) for number in numbers], features, system)
        size = decided(Quantity("diameter", "mm", nominal=_diameter(nominals, count)), Asked(key="value"), first, "done")
        within = self.within_mm
        limits = Asked(key="value", lower=None if within is None else -within, upper=within)
        told: list[Characteristic] = []
        for k, hole in enumerate(holes):
            for key, head, number in (("out", "outward", each[2 * k]), ("along", "along the circle", each[2 * k + 1])):
                judged = decided(Quantity(key, "mm", nominal=0.0), limits, number, "done")
                told.append(replace(judged, key=f"of_{k + 1}_{key}", of=f"{hole.name} {head}"))
        some = "" if count == len(holes) else f"{len(holes)} of {count} places."
        return Judgement((replace(size, of="diameter of the circle"), *told), Drawing(arcs=(whole_circle(shown.circle),)), some)

    def _nominal_centers(self, holes: Sequence[FoundFeature]) -> Array | None:
        """Where the holes should be, where all have a nominal."""
        if any(h.nominal is None for h in holes):
            return None
        try:
            return np.array([place_of(h)(h.nominal) for h in holes])
        except PlumbError:
            return None


def _diameter(centers: Array | None, count: int) -> float | None:
    """The diameter that the nominals make."""
    try:
        return None if centers is None else 2 * bolt_circle(centers, count).circle.radius
    except PlumbError:
        return None


KIND = BoltCircleRecipe
