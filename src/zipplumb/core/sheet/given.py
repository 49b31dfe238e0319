"""The inputs of evaluate() besides the readings: the sheet (recipes) and the kit (stations, calibrations)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from ..calibration import ProbeCalibration
from ..fingerprints import fingerprint
from ..frames import Array, Indices, Motion
from ..tolerances.decision import Rule
from .base import Needed, RowRecipe, needs_of

Nearest = Callable[[Array], tuple[Array, Array]]
NearestFaces = Callable[[Array], tuple[Array, Array, Indices]]


@dataclass(frozen=True, eq=False)
class SheetRow:
    """One row as asked. ``finished``: a person has said that its hits are complete."""

    id: int
    recipe: RowRecipe
    finished: bool = False

    @cached_property
    def digest(self) -> str:
        """Fingerprint of the recipe."""
        return fingerprint(self.id, self.recipe.model_dump_json(), self.finished)

    @cached_property
    def needs(self) -> tuple[Needed, ...]:
        """The dependencies in its recipe."""
        return needs_of(self.recipe)


@dataclass(frozen=True)
class Sheet:
    """Rows in order, the row of the alignment that is active (None: not aligned), and the rule by which is decided."""

    rows: tuple[SheetRow, ...]
    alignment: int | None = None
    rule: Rule = "proven"

    @cached_property
    def index(self) -> dict[int, int]:
        """Index of each row by its id."""
        return {row.id: place for place, row in enumerate(self.rows)}

    @cached_property
    def measured(self) -> list[SheetRow]:
        """The rows that take hits, in order."""
        return [row for row in self.rows if row.recipe.takes_hits]

    @cached_property
    def joins(self) -> dict[int, tuple[int, ...]]:
        """By row, the rows whose hits it has taken over."""
        return {row.id: row.recipe.hits_of for row in self.measured if row.recipe.hits_of}  # type: ignore[attr-defined]

    @cached_property
    def finished(self) -> bool:
        """Every row that takes hits is finished."""
        return all(row.finished for row in self.measured)

    @cached_property
    def rests_on_surfaces(self) -> bool:
        return any(row.recipe.rests_on_surfaces for row in self.rows)

    def asked_as(self, recipes: Mapping[int, RowRecipe]) -> Sheet:
        """With other recipes of some rows."""
        rows = tuple(replace(row, recipe=recipes[row.id]) if row.id in recipes else row for row in self.rows)
        return replace(self, rows=rows) if recipes else self

    def of(self, ids: Iterable[int]) -> list[SheetRow]:
        """Some rows, in order."""
        return [self.rows[place] for place in sorted(self.index[i] for i in ids)]

    def places_of(self, ids: Iterable[int]) -> list[int]:
        """Where those of some rows that are in the sheet stand."""
        return [self.index[i] for i in ids if i in self.index]

    def places_that_differ(self, before: Sheet) -> list[int]:
        """Where this sheet has not the very same row as one of equal places."""
        if self is before:
            return []
        return [place for place, (now, was) in enumerate(zip(self.rows, before.rows, strict=True)) if now is not was]

    def stands_as(self, before: Sheet) -> bool:
        """Whether another sheet has the same rows in the same order."""
        return self is before or self.index == before.index

    def changed(self, rows: Iterable[SheetRow]) -> Sheet:
        """With these in the place of those of the same ids; itself where they are the very same."""
        new = {self.index[row.id]: row for row in rows}
        if all(self.rows[place] is row for place, row in new.items()):
            return self
        found = list(self.rows)
        for place, row in new.items():
            found[place] = row
        return replace(self, rows=tuple(found))


@dataclass(frozen=True, eq=False)
class StationPose:
    """Where an instrument stands; ``up`` (3,): its level's way up, in its own frame, if it has one.

    ``pose_terms``: (6, m) a small slide (mm) and turn (rad) of the station in the world, about the world's origin, with one
    standard uncertainty of each of m numbers that all stations of a network share; None for the one that is the world.
    ``doubt``: why what is read from it is not proven.
    """

    id: int
    world_from_station: Motion
    up: Array | None = None
    u_level_rad: float = 0.0
    pose_terms: Array | None = None
    name: str = "Station"
    doubt: str = ""

    @cached_property
    def digest(self) -> str:
        spread = None if self.pose_terms is None else self.pose_terms.tolist()
        up = None if self.up is None else self.up.tolist()
        return fingerprint(self.world_from_station.as_list(), up, self.u_level_rad, spread, self.doubt)


@dataclass(frozen=True, eq=False)
class PartSurfaces:
    """The nominal surfaces: ``nearest`` gives feet and outward normals; ``digest`` names the CAD they are of.

    ``by_face``: the same of one face, by its number; ``with_faces``: the same, and the number of the face of each foot.
    """

    digest: str
    nearest: Nearest
    by_face: Callable[[int], Nearest] | None = None
    with_faces: NearestFaces | None = None

    def nearest_faces(self, points: Array) -> tuple[Array, Array, Indices]:
        """Feet, outward normals, and numbers of the faces; 0 where these are not told apart."""
        if self.with_faces is not None:
            return self.with_faces(points)
        return *self.nearest(points), np.zeros(len(points), np.int64)

    def of_face(self, face: int) -> PartSurfaces:
        """That face alone."""
        return self if self.by_face is None else PartSurfaces(self.digest, self.by_face(face))

    def touched(self, centers_part: Array, tip_mm: float) -> tuple[Array, Array]:
        """Where a tip's centers (n, 3) touch, the tip off along the surface's normal, and how far (n,) that is off it."""
        feet, normals = self.nearest(centers_part)
        off = np.einsum("ij,ij->i", centers_part - feet, normals) - tip_mm
        return feet + off[:, None] * normals, off


@dataclass(frozen=True, eq=False)
class Kit:
    """``surfaces``: the part's, where a row rests on them."""

    stations: dict[int, StationPose]
    calibrations: dict[int, ProbeCalibration]
    surfaces: PartSurfaces | None = None
