"""Coordinate systems and alignments, as asked. Rows are named by their ids."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from ..alignment.steps import Axis
from .base import Length, Model, RowRecipe, Vector

Share = Literal["X", "Y", "Z", "own"]
Coordinates = Annotated[str, Field(pattern=r"^X?Y?Z?$", min_length=1)]
Uncertainty = Annotated[float, Field(gt=0, le=10)]


class AlignmentRecipe(RowRecipe):
    """``against``: another alignment, from which the difference is told in six numbers."""

    against: int | None = None


class Pattern(Model):
    """The circle through the centers of several rows, in their order: a bolt circle."""

    through: Annotated[tuple[int, ...], Field(min_length=3)]


FeatureOrPattern = int | Pattern


class TurnStep(Model):
    """A direction laid along an axis: of one feature, or from one center to another."""

    step: Literal["turn"] = "turn"
    features: Annotated[tuple[FeatureOrPattern, ...], Field(min_length=1, max_length=2)]
    axis: Axis
    degrees: float = 0.0


class OriginStep(Model):
    """Where some coordinates of a feature are."""

    step: Literal["origin"] = "origin"
    feature: FeatureOrPattern
    coordinates: Coordinates = "XYZ"
    at_mm: Vector = (0.0, 0.0, 0.0)


class StepsRecipe(AlignmentRecipe):
    """Level, rotate, origin. ``onto``: the system that the same steps make of the nominals, so that
    the part's coordinates are the CAD's; or the steps' own system."""

    kind: Literal["steps"] = "steps"
    steps: Annotated[tuple[Annotated[TurnStep | OriginStep, Field(discriminator="step")], ...], Field(min_length=1)]
    onto: Literal["nominal", "own"] = "nominal"


class DatumPlanesRecipe(AlignmentRecipe):
    kind: Literal["datum_planes"] = "datum_planes"
    primary: int
    secondary: int
    tertiary: int


class Datum(Model):
    """One feature, or two planes for the plane midway between them."""

    features: Annotated[tuple[int, ...], Field(min_length=1, max_length=2)]


class DatumFeaturesRecipe(AlignmentRecipe):
    """Planes, axes, points and middle planes, each taking what those before it left over."""

    kind: Literal["datum_features"] = "datum_features"
    datums: Annotated[tuple[Datum, ...], Field(min_length=1, max_length=3)]


class Held(Model):
    """One row of a best fit. ``u_mm``: its weight; left out, what its own measuring tells."""

    feature: int
    directions: Annotated[tuple[Share, ...], Field(min_length=1, max_length=3)]
    u_mm: Uncertainty | None = None
    level: Literal[1, 2, 3] = 1

    @model_validator(mode="after")
    def _once(self):
        if len(set(self.directions)) < len(self.directions):
            raise ValueError("a direction is given twice")
        return self


class ByMaterial(Model):
    material: str
    temperature_c: float


Scale = Literal["fixed", "free"] | ByMaterial


class HoldsRecipe(AlignmentRecipe):
    kind: Literal["holds"] = "holds"
    holds: Annotated[tuple[Held, ...], Field(min_length=1)]
    scale: Scale = "fixed"


class ReferencePointsRecipe(AlignmentRecipe):
    kind: Literal["reference_points"] = "reference_points"
    points: Annotated[tuple[int, ...], Field(min_length=3)]
    scale: Scale = "fixed"
    u_mm: Uncertainty | None = None


class SurfacesRecipe(AlignmentRecipe):
    """All hits of some rows laid on the part's surfaces by nearest point, from ``start`` (an alignment),
    or, left out, from the rows' own nominals."""

    kind: Literal["surfaces"] = "surfaces"
    features: Annotated[tuple[int, ...], Field(min_length=1)]
    start: int | None = None
    u_mm: Length = 0.05
    reject: bool = False


class PlaneAsAxis(Model):
    feature: int
    axis: Axis


class PlanesAsAxesRecipe(AlignmentRecipe):
    """Without CAD: which axis each measured plane stands for, chosen at the device."""

    kind: Literal["planes_as_axes"] = "planes_as_axes"
    planes: Annotated[tuple[PlaneAsAxis, ...], Field(min_length=1, max_length=3)]


class LevelRecipe(AlignmentRecipe):
    """Z upright: by a station's own level, or square to a measured plane; zero at ``origin``, if given."""

    kind: Literal["level"] = "level"
    station: int | None = None
    plane: int | None = None
    origin: int | None = None

    @model_validator(mode="after")
    def _one(self):
        if (self.station is None) == (self.plane is None):
            raise ValueError("give a station with a level, or a plane")
        return self


AlignmentRow = (
    StepsRecipe | DatumPlanesRecipe | DatumFeaturesRecipe | HoldsRecipe | ReferencePointsRecipe | SurfacesRecipe
    | PlanesAsAxesRecipe | LevelRecipe
)  # fmt: skip


def features_of(recipe: AlignmentRecipe) -> tuple[int, ...]:
    """The feature rows that an alignment rests on, each once, in the order of the recipe."""
    match recipe:
        case StepsRecipe():
            used = [f for s in recipe.steps for f in (s.features if isinstance(s, TurnStep) else (s.feature,))]
            found = [i for f in used for i in (f.through if isinstance(f, Pattern) else (f,))]
        case DatumPlanesRecipe():
            found = [recipe.primary, recipe.secondary, recipe.tertiary]
        case DatumFeaturesRecipe():
            found = [i for d in recipe.datums for i in d.features]
        case HoldsRecipe():
            found = [h.feature for h in recipe.holds]
        case ReferencePointsRecipe():
            found = list(recipe.points)
        case SurfacesRecipe():
            found = list(recipe.features)
        case PlanesAsAxesRecipe():
            found = [p.feature for p in recipe.planes]
        case LevelRecipe():
            found = [i for i in (recipe.plane, recipe.origin) if i is not None]
        case _:
            found = []
    return tuple(dict.fromkeys(found))


def alignments_of(recipe: AlignmentRecipe) -> tuple[int, ...]:
    """The other alignments that it needs."""
    start = recipe.start if isinstance(recipe, SurfacesRecipe) else None
    return tuple(i for i in (start, recipe.against) if i is not None)
