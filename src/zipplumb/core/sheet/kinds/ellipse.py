"""An ellipse, in a plane: an elliptical opening, or a round one that is seen or cut aslant."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from ...fitting import FitResult, fit
from ...frames import Array
from ...probing import contacts_from_centers
from ...shape_codec import StoredEllipse
from ...shapes import Ellipse, Plane
from ..base import Internal
from ..bases.measured import Fitted
from ..bases.rims import RimRecipe
from ..quantities import Quantity, coordinates, form, size


class EllipseRecipe(RimRecipe):
    """The offset of an ellipse is none: the centers are fitted as points that lie one radius off it."""

    kind: Literal["ellipse"] = "ellipse"
    fits = "ellipse"
    shape_type = Ellipse
    plot = "round"
    nominal: StoredEllipse | None = None
    seen_at: Annotated[StoredEllipse | None, Internal()] = None
    hits: Annotated[int, Field(ge=5, le=10_000)] = 9

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        major = size("major_diameter", "semi_major", nominal, 2)
        minor = size("minor_diameter", "semi_minor", nominal, 2)
        return (major, minor, *coordinates(nominal), form("form"))

    def compensated(self, fitted: Fitted, result: FitResult, tip_radius_mm: float, air: int) -> FitResult:
        return fitted(result.points, offset_mm=air * tip_radius_mm)

    def surface(self, result: FitResult, tip_radius_mm: float, air: int) -> Ellipse:
        plane = Plane(result.local.translation, result.local.rotation[:, 2])
        found = fit("ellipse", result.points, fixed={"plane": plane}, offset_mm=air * tip_radius_mm).shape
        turned = found.major_direction @ result.shape.major_direction
        return (
            found
            if turned >= 0
            else Ellipse(found.center, found.normal, -found.major_direction, found.semi_major, found.semi_minor)
        )

    def contacts(self, result: FitResult, surface: Any, tip_radius_mm: float, air: int) -> Array:
        return contacts_from_centers(surface, result.points)


KIND = EllipseRecipe
