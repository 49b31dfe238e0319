"""A table of holes: where each is, from the system's zero or from one of them, and how wide, with nominals and deviations."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field

from ...alignment import Alignment
from ...deriving import Drawing
from ...errors import DeriveError
from ...features import Feature, axis_of, point_of, radius_of
from ...frames import Array
from ...units import Unit
from ..base import Asked, FeatureRef, Internal, Length
from ..judged import JudgedRecipe, Judgement, NeedsSystem
from ..judging import Number, decided, in_system, told_in
from ..quantities import Quantity
from ..results import Characteristic, FoundFeature
from ..toleranced.place import place_of

KEPT = "What was measured is kept."
AT_ORIGIN_MM = 1e-3  # so near to it a hole has no angle


@dataclass(frozen=True)
class Column:
    """``of``: (3,) from zero to the hole -> number."""

    key: str
    head: str
    unit: Unit
    of: Callable[[Array], float]
    polar: bool = False


COLUMNS = (
    Column("x", "X", "mm", lambda at: float(at[0])),
    Column("y", "Y", "mm", lambda at: float(at[1])),
    Column("radius", "from zero", "mm", lambda at: float(np.hypot(at[0], at[1])), polar=True),
    Column("angle", "angle", "rad", lambda at: float(np.arctan2(at[1], at[0])), polar=True),
)


class HoleTableRecipe(JudgedRecipe):
    """``origin``: the hole at whose center the table's zero is; left out, from the system's zero. ``polar``: the distance from
    zero and the angle from X too. ``within_mm``: by how much X and Y may be off."""

    role = "tolerance"
    is_table = True
    kind: Literal["hole_table"] = "hole_table"
    of: Annotated[tuple[FeatureRef, ...], Field(min_length=1, max_length=60)]
    origin: FeatureRef | None = None
    polar: bool = False
    within_mm: Length | None = None
    asked: Annotated[tuple[Asked, ...], Internal(), Field(max_length=0)] = ()

    @classmethod
    def of_chosen(cls, of: Sequence[int]) -> dict[str, Any] | None:
        return {"kind": cls.key(), "of": list(of), "polar": True} if len(of) > 1 else None

    def judged(self, row: int, found: Mapping[int, FoundFeature], system: Alignment | None) -> Judgement:
        if system is None:
            raise NeedsSystem("X and Y of holes need the part aligned.")
        if len(set(self.of)) < len(self.of):
            raise DeriveError("A hole is named twice.", KEPT, "Name each once.")
        zero = None if self.origin is None else found[self.origin]
        each = [c for i in self.of for c in self._of(found[i], zero, system)]
        places = tuple(place_of(found[i])(system.shape(found[i].shape)) for i in self.of)
        return Judgement(tuple(each), Drawing(points=places))

    def _of(self, hole: FoundFeature, zero: FoundFeature | None, system: Alignment) -> list[Characteristic]:
        both = [f for f in (hole, zero) if f is not None]
        places = [place_of(f) for f in both]
        features = [in_system(f.feature, system) for f in both if f.feature is not None]

        def at(*shapes: Any) -> Array:
            first, *rest = (place(shape) for place, shape in zip(places, shapes, strict=True))
            return np.asarray(first - rest[0] if rest else first)

        far = float(np.hypot(*at(*(f.shape for f in features))[:2])) > AT_ORIGIN_MM
        known = all(f.nominal is not None and (point_of(f.nominal) is not None or axis_of(f.nominal)) for f in both)
        found = []
        for column in COLUMNS:
            if column.polar and not (self.polar and far):
                continue
            (told,) = told_in([Number(lambda *s, c=column: c.of(at(*s)))], features, system, wraps=column.unit == "rad")
            nominal = column.of(at(*(f.nominal for f in both))) if known else None
            found.append(
                self._told(
                    hole, Quantity(column.key, column.unit, nominal=nominal, wraps=column.unit == "rad"), column.head, told
                )
            )
        return found + self._width(hole, features[0], system)

    def _width(self, hole: FoundFeature, feature: Feature, system: Alignment) -> list[Characteristic]:
        """Its diameter, where it has one, judged by the limits that its own row has."""
        if not radius_of(feature.shape):
            return []
        (told,) = told_in([Number(lambda s: 2 * s.radius)], [feature], system)
        wide = radius_of(hole.nominal) if hole.nominal is not None else None
        return [self._told(hole, Quantity("diameter", "mm", nominal=2 * wide if wide else None), "diameter", told)]

    def _told(self, hole: FoundFeature, quantity: Quantity, head: str, told: Any) -> Characteristic:
        limits = Asked(key="value")
        if quantity.key in ("x", "y") and self.within_mm is not None:
            limits = Asked(key="value", lower=-self.within_mm, upper=self.within_mm)
        if quantity.key == "diameter" and hole.size_limits is not None:
            limits = Asked(key="value", lower=hole.size_limits[0], upper=hole.size_limits[1])
        judged = decided(quantity, limits, told, "done")
        return replace(judged, key=f"{hole.name} {quantity.key}", of=f"{hole.name} {head}")


KIND = HoleTableRecipe
