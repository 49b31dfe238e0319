"""Features to be measured: what they should be, and how they are taken.

Lengths are mm. Sizes of round features are kept as diameters whatever the drawing says;
``terms`` only says how they are shown and typed, so that nominal and tolerance always turn
together.
"""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from ..shapes import Circle, Cylinder, Line, Plane, Point, Slot, Sphere
from .base import Direction, Length, Letter, Model, RowRecipe, Vector

Hits = Annotated[int, Field(ge=1, le=10_000)]
Terms = Literal["diameter", "radius"]


class NominalPoint(Model):
    shape: Literal["point"] = "point"
    position: Vector

    def as_shape(self) -> Point:
        return Point(np.array(self.position))


class NominalLine(Model):
    shape: Literal["line"] = "line"
    point: Vector
    direction: Direction

    def as_shape(self) -> Line:
        return Line(np.array(self.point), np.array(self.direction))


class NominalPlane(Model):
    shape: Literal["plane"] = "plane"
    point: Vector
    normal: Direction

    def as_shape(self) -> Plane:
        return Plane(np.array(self.point), np.array(self.normal))


class _Round(Model):
    diameter_mm: Length
    inside: bool = True  # a bore, not a boss


class NominalCircle(_Round):
    shape: Literal["circle"] = "circle"
    center: Vector
    normal: Direction

    def as_shape(self) -> Circle:
        return Circle(np.array(self.center), np.array(self.normal), self.diameter_mm / 2)


class NominalSphere(_Round):
    shape: Literal["sphere"] = "sphere"
    center: Vector

    def as_shape(self) -> Sphere:
        return Sphere(np.array(self.center), self.diameter_mm / 2)


class NominalCylinder(_Round):
    shape: Literal["cylinder"] = "cylinder"
    point: Vector
    direction: Direction

    def as_shape(self) -> Cylinder:
        return Cylinder(np.array(self.point), np.array(self.direction), self.diameter_mm / 2)


class NominalSlot(Model):
    shape: Literal["slot"] = "slot"
    center: Vector
    normal: Direction
    direction: Direction
    length_mm: Length
    width_mm: Length
    inside: bool = True

    def as_shape(self, ends: Literal["round", "square"] = "round") -> Slot:
        return Slot(np.array(self.center), np.array(self.normal), np.array(self.direction), self.length_mm, self.width_mm, ends)


class FeatureRecipe(RowRecipe):
    """``fits``: the kind of fit its hits are put to."""

    fits: ClassVar[str]
    face: int | None = None  # of the part's CAD, where the nominal was picked
    hits: Hits = 4
    spacing_mm: Annotated[float, Field(gt=0, le=500)] = 5.0  # between hits while the button is held
    settled_air: Literal[-1, 1] | None = None  # a person's answer about the side

    @property
    def fit_kind(self) -> str:
        return self.fits


class Flat(FeatureRecipe):
    """``plane``: the row of the plane that it lies in; none: the plane of its own hits."""

    plane: int | None = None


class PointRecipe(FeatureRecipe):
    """Where the center of the tip, or of the reflector in its nest, was: no side, no radius."""

    fits = "point"
    kind: Literal["point"] = "point"
    nominal: NominalPoint | None = None
    hits: Hits = 1


class SurfacePointRecipe(FeatureRecipe):
    """A place on a surface: one hit, or three in a small triangle that tell the lean."""

    fits = "point"
    kind: Literal["surface_point"] = "surface_point"
    nominal: NominalPlane
    hits: Literal[1, 3] = 1


class LineRecipe(Flat):
    fits = "line"
    kind: Literal["line"] = "line"
    plane: int
    nominal: NominalLine | None = None
    hits: Annotated[int, Field(ge=2, le=10_000)] = 5


class PlaneRecipe(FeatureRecipe):
    fits = "plane"
    kind: Literal["plane"] = "plane"
    nominal: NominalPlane | None = None
    datum: Letter | None = None
    hits: Annotated[int, Field(ge=3, le=10_000)] = 4


class CircleRecipe(Flat):
    fits = "circle"
    kind: Literal["circle"] = "circle"
    nominal: NominalCircle | None = None
    terms: Terms = "diameter"
    hits: Annotated[int, Field(ge=3, le=10_000)] = 7


class SlotRecipe(Flat):
    kind: Literal["slot"] = "slot"
    nominal: NominalSlot | None = None
    ends: Literal["round", "square"] = "round"
    hits: Annotated[int, Field(ge=5, le=10_000)] = 10

    @property
    def fit_kind(self) -> str:
        return f"{self.ends}_slot"


class SphereRecipe(FeatureRecipe):
    fits = "sphere"
    kind: Literal["sphere"] = "sphere"
    nominal: NominalSphere | None = None
    terms: Terms = "diameter"
    hits: Annotated[int, Field(ge=4, le=10_000)] = 9


class CylinderRecipe(FeatureRecipe):
    fits = "cylinder"
    kind: Literal["cylinder"] = "cylinder"
    nominal: NominalCylinder | None = None
    terms: Terms = "diameter"
    hits: Annotated[int, Field(ge=5, le=10_000)] = 12


FEATURE_KINDS = ("point", "surface_point", "line", "plane", "circle", "slot", "sphere", "cylinder")
FeatureRow = (
    PointRecipe | SurfacePointRecipe | LineRecipe | PlaneRecipe | CircleRecipe | SlotRecipe | SphereRecipe | CylinderRecipe
)
