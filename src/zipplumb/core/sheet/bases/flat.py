"""The base of the 2D kinds: the projection plane and its uncertainty."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, ClassVar

import numpy as np
from pydantic import Field, model_validator

from ...alignment import Alignment
from ...cloud.giving import GivenPoints
from ...cloud.points import CloudPoints
from ...cloud.slicing import given_between
from ...errors import FitError
from ...features import Feature, carried_moves, direction_of, frame_of, plane_of
from ...fitting import fit
from ...frames import Motion, unit
from ...probing import side_of_air, surface_from_centers
from ...shapes import Plane
from ..base import Direction, FeatureRef, Internal, Model, Needed, SystemRef, Vector
from ..clouds import FoundCloud
from ..results import Sense
from ..row_hits import RowHits
from .from_hits import feature_of_hits
from .measured import MeasuredRecipe

PlaneHits = Annotated[int, Field(ge=0, le=1000)]


class Cut(Model):
    """Of a section through a scan the part from ``begin`` to ``end``, all in the world; ``thick_mm``: as near to the plane."""

    point: Vector
    across: Direction
    thick_mm: Annotated[float, Field(gt=0, le=100)]
    begin: Vector
    end: Vector

    @property
    def plane(self) -> Plane:
        return Plane(np.array(self.point), unit(np.array(self.across)))

    def given(self, cloud: CloudPoints) -> GivenPoints:
        """Its points."""
        plane = self.plane
        return given_between(cloud, plane.point, plane.normal, self.thick_mm, np.array(self.begin), np.array(self.end))


class FlatRecipe(MeasuredRecipe):
    """A 2D shape, and the plane that it lies in: of one of four, by default the plane of its own hits.

    ``plane``: another row's. ``plane_hits``: so many of its own, taken first. ``laid_by``: the plane of its nominal,
    as that coordinate system lays it. ``cut``: the plane of a section through a scan.
    """

    found_here = ("cut",)
    takes_own_plane: ClassVar[bool] = True
    plane: FeatureRef | None = None
    plane_hits: PlaneHits = 0
    laid_by: SystemRef | None = None
    cut: Annotated[Cut | None, Internal()] = None

    @model_validator(mode="after")
    def _one_plane(self):
        if sum((self.plane is not None, self.plane_hits > 0, self.laid_by is not None, self.cut is not None)) > 1:
            raise ValueError("it lies in one plane only: another row's, one taken first, or the nominal's")
        if 0 < self.plane_hits < 3:
            raise ValueError("a plane that is taken first needs 3 hits")
        if self.laid_by is not None and getattr(self.nominal, "normal", None) is None:
            raise ValueError("it has no nominal whose plane it could lie in")
        if not self.takes_own_plane and self.plane is None and not self.plane_hits and self.laid_by is None and not self.cut:
            raise ValueError("its own hits tell no plane: name a row, take the plane first, or use the nominal's")
        return self

    @classmethod
    def of_edge(cls, nominal: Any, inside: bool | None, plane: int | None) -> dict[str, Any]:
        return super().of_edge(nominal, inside, plane) | {"plane": plane}

    @property
    def hits_of_plane(self) -> int:
        return self.plane_hits

    @property
    def wanted_hits(self) -> int:
        return self.plane_hits + self.hits

    @property
    def takes_by_cad(self) -> bool:
        return self.cut is None and super().takes_by_cad

    @property
    def may_be_scanned(self) -> bool:
        return super().may_be_scanned or self.cut is not None

    def of_scan(self, row: int, cloud: FoundCloud) -> GivenPoints | None:
        return super().of_scan(row, cloud) if self.cut is None else self.cut.given(cloud.points)

    def laid(self, hits: RowHits, parents: Mapping[Needed, Any]) -> tuple[Feature | None, RowHits]:
        if self.plane is not None:
            return parents[Needed("feature", self.plane)].feature, hits
        if self.cut is not None:
            return Feature("the plane of the section", self.cut.plane), hits
        if self.laid_by is not None:
            return nominal_plane(self.nominal, parents[Needed("system", self.laid_by)].alignment), hits
        if not self.plane_hits:
            return None, hits
        first, own = hits.split(self.plane_hits)
        if not own.keys:
            raise FitError(
                f"Its plane is touched with {self.plane_hits} hits, of which {len(first.keys)} are there.",
                "The hits are kept.",
                "Then touch the feature itself.",
            )
        return plane_of_hits(f"the plane of {self.name}", first), own

    def pointing(self, shape: Any, hits: RowHits, parents: Mapping[Needed, Any]) -> tuple[Any, Sense]:
        """Its plane faces the air, and the nominal of that says which way its own nominal's normal is."""
        plane = parents.get(Needed("feature", self.plane)) if self.plane is not None else None
        wanted, mine = plane_of(getattr(plane, "nominal", None)), direction_of(self.nominal)
        if plane is None or wanted is None or mine is None or not shape.across_:
            return shape, "touched"
        return shape.turned_like(float(wanted.normal @ mine) * plane.shape.normal), "nominal"


def plane_of_hits(name: str, hits: RowHits) -> Feature:
    """The plane under some hits, its normal to where the tip came from. Raises FitError where nothing tells the side."""
    toward = hits.came_from
    result = fit("plane", hits.centers, toward=toward)
    side = side_of_air(result.shape, hits.centers, hits.approach, None, None, None)
    if not side.air:
        raise FitError("Nothing tells from which side its plane was touched.", "The hits are kept.", "Touch the plane again.")
    return feature_of_hits(name, hits, result, lambda radius: surface_from_centers(result.shape, radius, side.air), None)


def nominal_plane(nominal: Any, system: Alignment) -> Feature:
    """The plane of a nominal 2D shape in the world, as a coordinate system lays it, as uncertain as that is."""
    if system.ledger.loose:
        raise FitError(
            f"The alignment holds not all: the part {' and '.join(each.words for each in system.ledger.loose)}.",
            "The hits are kept.",
            "Let it lie in a plane that is measured.",
        )
    plane = plane_of(nominal) or Plane(nominal.center, nominal.normal)
    local, there = frame_of(plane), system.part_from_world.inverse()
    moves = carried_moves(Motion.identity(), local)
    if system.uncertainty.size == 7:
        scaled = np.concatenate([local.rotation.T @ local.translation, np.zeros(3)])
        moves = np.column_stack([moves, scaled])
    in_world = Motion(there.rotation @ local.rotation, there.points(local.translation) / system.scale)
    shape = Plane(in_world.translation, in_world.rotation[:, 2])
    return Feature("the nominal plane", shape, in_world, system.uncertainty.through(-moves))
