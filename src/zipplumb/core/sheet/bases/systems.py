"""The base of the kinds that give a coordinate system, and the inputs they receive."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator
from scipy.spatial.transform import Rotation

from ...alignment import Alignment, Hold, expansion_scale, u_expansion_scale
from ...alignment.hold import LETTERS, Letter
from ...alignment.steps import Axis
from ...errors import AlignmentError
from ...features import (
    Feature,
    axis_of,
    center_covariance,
    frame_of,
    plane_of,
    point_of,
    spot_of,
    ways_of,
)
from ...frames import Array, Motion
from ...uncertainty import Source
from ..base import FeatureRef, Internal, Model, RowRecipe, SystemRef, Vector
from ..given import PartSurfaces, StationPose
from ..results import FoundFeature
from ..row_hits import RowHits

KEPT = "The measured features are kept."
LEAST_U_MM = 1e-6  # an exact feature still has a weight
Coordinates = Annotated[str, Field(pattern=r"^X?Y?Z?$", min_length=1)]
TypedU = Annotated[float, Field(gt=0, le=10)]


@dataclass(frozen=True, eq=False)
class ActualFeature:
    """A measured feature as input of an alignment.

    Attributes
    ----------
    nominal : its shape in the part, or None
    feature : as found, in the world, with its uncertainty
    contacts : (n, 3) hits on it, world; of a bare surface point the tip's center
    letter : its datum letter, or its name
    facing : (3,) the way to the air, world, of a surface point where the tip's way tells it
    tip_mm : how far the tip's center of a bare surface point is off its surface; else 0
    tip_terms : how well that is known, by source
    found : what its hits make of it, of what was measured; ``scale``: by which its lengths were taken since
    """

    name: str
    nominal: Any
    feature: Feature
    contacts: Array
    letter: str
    facing: Array | None = None
    tip_mm: float = 0.0
    tip_terms: Mapping[Source, float] = field(default_factory=dict)
    found: FoundFeature | None = None
    scale: float = 1.0

    @classmethod
    def of(cls, found: FoundFeature) -> ActualFeature:
        feature = found.feature
        assert feature is not None
        contacts = found.contacts
        if contacts is None:
            contacts = np.empty((0, 3)) if feature.extent is None else feature.extent
        facing = found.facing if point_of(feature.shape) is not None and plane_of(found.nominal) is not None else None
        bare = {} if found.tip is None else {found.tip.source: found.tip.u_mm}
        tip_mm = 0.0 if found.tip is None else found.tip.radius_mm
        return cls(found.name, found.nominal, feature, contacts, found.letter, facing, tip_mm, bare, found)

    @property
    def whole(self) -> ActualFeature:
        """Itself. Raises AlignmentError where its tip could not be taken off."""
        if self.tip_mm:
            raise AlignmentError(
                f"{self.name} is one hit, so the tip's radius cannot come off before the part is aligned.",
                KEPT, "Take three hits in a small triangle there, or hold the part by it.",
            )  # fmt: skip
        return self

    def scaled(self, factor: float) -> ActualFeature:
        """With its lengths, and those from the world's origin, taken times a factor near 1."""
        feature = self.feature
        local = Motion(feature.local.rotation, factor * feature.local.translation)
        extent = None if feature.extent is None else factor * feature.extent
        told = Feature(feature.name, feature.shape.scaled(factor), local, feature.uncertainty, extent)
        return replace(self, feature=told, contacts=factor * self.contacts, scale=factor * self.scale)

    def pointing_as(self, part_from_world: Motion) -> ActualFeature:
        """With the sense of its nominal where the part lies so."""
        world_from_part = part_from_world.inverse()
        shape = self.feature.shape.turned_like(*(world_from_part.vectors(way) for way in ways_of(self.nominal)))
        return self if shape is self.feature.shape else replace(self, feature=replace(self.feature, shape=shape))

    @property
    def known_nominal(self) -> Any:
        """Its nominal. Raises AlignmentError where it has none."""
        if self.nominal is None:
            raise AlignmentError(f"{self.name} has no nominal.", KEPT, "Give it one, or choose another feature.")
        return self.nominal

    @property
    def u_mm(self) -> float:
        """With which each touch holds that this feature comes down to; of a center the mean of all directions."""
        spread = self.feature.covariance
        if plane_of(self.feature.shape) is not None:
            return float(np.sqrt(3 * spread[2, 2]))
        if axis_of(self.feature.shape) is not None:
            return float(np.sqrt(spread[0, 0] + spread[1, 1]))
        return float(np.sqrt(np.trace(center_covariance(self.feature)) / 3))

    def u_each(self, directions: Sequence[Letter]) -> float | tuple[float, ...]:
        """Standard uncertainties, mm, in the part's directions in which a center is held; one number if it has no center."""
        if point_of(self.feature.shape) is None or point_of(self.nominal) is None:
            return max(self.u_mm, LEAST_U_MM)
        axes, nominal = frame_of(self.feature.shape).rotation, frame_of(self.nominal).rotation
        own = np.diag(axes.T @ center_covariance(self.feature) @ axes)
        wanted = [nominal[:, 2] if d == "own" else LETTERS[d] for d in directions]
        return tuple(max(float(np.sqrt((d @ nominal) ** 2 @ own)), LEAST_U_MM) for d in wanted)

    def hold(self, directions: tuple[Letter, ...], u_mm: float | None, level: int = 1) -> Hold:
        """The feature as a hold of an alignment; ``u_mm``: a typed weight, by default its own uncertainty."""
        nominal = self.known_nominal
        reach = self.contacts if len(self.contacts) > 1 else None
        return Hold(
            self.letter, nominal.parallel(self.tip_mm) if self.tip_mm else nominal, self.feature.shape, directions,
            u_mm or self.u_each(directions), level, reach, self.facing, self.feature, self.tip_terms,
        )  # fmt: skip

    def offset_in(self, system: Alignment) -> Array:
        """(3,) mm how it lies off its nominal in a system: of a plane along its normal, of an axis across it.

        Taken where it was touched. Raises AlignmentError where the two have no place to compare.
        """
        return self.scaled(system.scale).offset_at(system.part_from_world)

    def offset_at(self, part_from_world: Motion) -> Array:
        """``offset`` for a given pose of the part."""
        nominal, shape = self.known_nominal, self.feature.shape.moved(part_from_world)
        place, plane, axis = point_of(shape), plane_of(shape), axis_of(shape)
        middle = part_from_world.points(self.contacts.mean(axis=0)) if len(self.contacts) else spot_of(shape)
        wanted, line, center = plane_of(nominal), axis_of(nominal), point_of(nominal)
        if wanted is not None and (place is not None or plane is not None):
            spot = place if place is not None else middle
            if plane is not None:
                spot = spot - ((spot - plane.point) @ plane.normal) * plane.normal
            return np.asarray(((spot - wanted.point) @ wanted.normal - self.tip_mm) * wanted.normal)
        if line is not None and axis is not None:
            off = axis.point + ((middle - axis.point) @ axis.direction) * axis.direction - line.point
            return np.asarray(off - (off @ line.direction) * line.direction)
        if place is None or center is None:
            raise AlignmentError(f"{self.name} has no place to compare.", KEPT, "Choose another feature.")
        return np.asarray(place - center)

    @property
    def own_directions(self) -> tuple[Letter, ...]:
        """In which it holds by itself: a center everywhere, anything else its own way."""
        return ("X", "Y", "Z") if point_of(self.known_nominal) is not None else ("own",)


@dataclass(frozen=True, eq=False)
class SystemInputs:
    """The inputs of a coordinate system.

    Attributes
    ----------
    features : by row; ``systems``: other alignments, by row; ``stations`` by id
    surfaces : the part's, or None
    clouds : points of scans, by row
    row : whose system it is
    """

    features: Mapping[int, ActualFeature]
    systems: Mapping[int, Alignment] = field(default_factory=dict)
    stations: Mapping[int, StationPose] = field(default_factory=dict)
    surfaces: PartSurfaces | None = None
    row: int = 0
    clouds: Mapping[int, RowHits] = field(default_factory=dict)

    def __getitem__(self, feature: int) -> ActualFeature:
        return self.features[feature]

    def scaled(self, factor: float) -> SystemInputs:
        clouds = {i: replace(hits, centers=factor * hits.centers) for i, hits in self.clouds.items()}
        return replace(self, features={i: feature.scaled(factor) for i, feature in self.features.items()}, clouds=clouds)


Share = Literal["X", "Y", "Z", "own"]


class Held(Model):
    """One row of a best fit. ``u_mm``: its weight; left out, what its own measuring tells."""

    feature: FeatureRef
    directions: Annotated[tuple[Share, ...], Field(min_length=1, max_length=3)]
    u_mm: TypedU | None = None
    level: Literal[1, 2, 3] = 1

    @model_validator(mode="after")
    def _once(self):
        if len(set(self.directions)) < len(self.directions):
            raise ValueError("a direction is given twice")
        return self


class ByMaterial(Model):
    """``u_temperature_c``: standard uncertainty of the temperature; ``u_expansion``: of the coefficient, as a share of it."""

    material: Annotated[str, Field(max_length=40)]
    temperature_c: float
    u_temperature_c: Annotated[float, Field(ge=0, le=20)] = 0.5
    u_expansion: Annotated[float, Field(ge=0, le=1)] = 0.05


class SystemRecipe(RowRecipe):
    """A coordinate system. ``against``: another one, from which the difference is given in six numbers. ``warm``: of what, and
    how warm, the part was, so that its lengths are stated at 20 °C; left out, as they were."""

    role = "system"
    so_far: ClassVar[bool] = False  # it rests on those features that are measured, and waits for no others
    fewest: ClassVar[int] = 0  # of which there must be so many
    against: SystemRef | None = None
    warm: ByMaterial | None = None

    @property
    def measured_warm(self) -> ByMaterial | None:
        """The part's material and temperature, where its lengths are stated at 20 °C; a scale of its own may say it."""
        told = (self.warm, getattr(self, "scale", None))
        return next((each for each in told if isinstance(each, ByMaterial)), None)

    @property
    def seen_from(self) -> int | None:
        return self.against

    @property
    def axes_left(self) -> str:
        """The axes for which a plane may still be added at the device."""
        return ""

    def grown(self, plane: int, axis: Axis) -> SystemRecipe:
        """The recipe with one more plane, which defines an axis."""
        raise NotImplementedError

    def solve(self, given: SystemInputs) -> Alignment:
        """The alignment. Raises AlignmentError with the reason."""
        raise NotImplementedError


class SettledRecipe(SystemRecipe):
    """Where several places fit equally well, a person says which. ``settled_turn``: its rotation vector, part from world."""

    found_here = ("settled_turn",)
    settled_turn: Annotated[Vector | None, Internal()] = None

    def settled(self, turn: Vector) -> SettledRecipe:
        return self.model_copy(update={"settled_turn": turn})

    @property
    def near(self) -> Motion | None:
        if self.settled_turn is None:
            return None
        return Motion(Rotation.from_rotvec(self.settled_turn).as_matrix(), np.zeros(3))


def scale_factor(scale: ByMaterial | str) -> float | None:
    """World lengths to lengths at 20 °C; None where it is free."""
    if isinstance(scale, ByMaterial):
        return 1 / expansion_scale(scale.material, scale.temperature_c)
    return 1.0 if scale == "fixed" else None


def u_scale_factor(scale: ByMaterial | str) -> float:
    """Standard uncertainty of the scale that is held: of the temperature, and of the coefficient of expansion."""
    if not isinstance(scale, ByMaterial):
        return 0.0
    return u_expansion_scale(scale.material, scale.temperature_c, scale.u_temperature_c, scale.u_expansion)
