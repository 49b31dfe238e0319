"""The base of the measured kinds: raw hits to a feature in the world, with the tip radius compensated on the right side."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache, partial
from typing import Annotated, Any, ClassVar, Literal, get_args

import numpy as np
from pydantic import Field, ValidationError

from ...cloud.giving import GivenPoints
from ...errors import FitError, PlumbError
from ...features import Feature, stands_somewhere
from ...fitting import FitResult, Placed, fit
from ...frames import Array, unit
from ...probing import Side, Way, contacts_from_centers, side_of_air, surface_from_centers
from ...records import changed
from ...units import Unit
from ..base import NOWHERE, CloudRef, Id, Internal, Letter, Needed, RowRecipe, Vector, hints
from ..clouds import FoundCloud
from ..given import PartSurfaces
from ..quantities import Quantity
from ..registry import KINDS, kind_of
from ..results import FoundFeature, Sense, State
from ..row_hits import SAME_RADIUS_MM, RowHits
from .from_hits import feature_of_hits
from .meant import meant

Fitted = Callable[..., FitResult]  # of (n, 3) centers
HitCount = Annotated[int, Field(ge=1, le=10_000)]
Air = Literal[-1, 1]
Plot = Literal["", "round", "map", "along"]
Criterion = Literal["gaussian", "chebyshev", "inscribed", "circumscribed", "tangent"]
RoundCriterion = Literal["gaussian", "chebyshev", "inscribed", "circumscribed"]
StraightCriterion = Literal["gaussian", "chebyshev", "tangent"]
Terms = Literal["diameter", "radius"]
# what a row keeps when it becomes one of another kind
CARRIED_OVER = ("name", "note", "datum", "taking", "spacing_mm", "every_s", "plane", "plane_hits", "hits_of", "scans")
QUANTITIES_KEPT = 1 << 14
IN_ORDER = 0.5  # how surely hits are taken one after the other, from which on their order tells a sense
ALONG = 0.5  # the cosine from which on the way out of a bore tells its sense
AS_ONE_TIP = 12  # rounds by which hits of several tips settle on one surface


def criteria_of(kind: type[RowRecipe]) -> tuple[str, ...]:
    """The criteria by which a kind may be fitted."""
    return get_args(hints(kind).get("criterion"))


@lru_cache(QUANTITIES_KEPT)
def _quantities_of(kind: type[MeasuredRecipe], nominal: Any) -> tuple[Quantity, ...]:
    """Quantities of a kind, cached by nominal: they are needed at every change of the system they are judged in."""
    return kind.quantities_of(nominal)


class FeatureRecipe(RowRecipe):
    """A row that gives a feature, measured or made."""

    role = "feature"
    datum: Letter | None = None

    @property
    def datum_letter(self) -> str:
        return self.datum or ""

    @property
    def letter(self) -> str:
        return self.datum or self.name

    def begun(self, hits: RowHits | None, state: State, message: str = "") -> FoundFeature:
        """The result before evaluation: name and number of hits."""
        found = FoundFeature(state, self.name, self.letter, message=message)
        if hits is None:
            return found
        return changed(
            found, counted=hits.keys, left_out=hits.left_out, scanned=hits.scanned, centers=hits.centers,
            u_hit_mm=hits.u_hit_mm, doubts=hits.doubts, tip_mm=float(hits.radii_mm.max(initial=0.0)),
        )  # fmt: skip

    def found(self, hits: RowHits | None, parents: Mapping[Needed, FoundFeature]) -> FoundFeature:
        """The feature evaluated from its hits or from its parents, which are done."""
        raise NotImplementedError

    def quantities(self, found: FoundFeature) -> tuple[Quantity, ...]:
        """The quantities by which it can be judged."""
        raise NotImplementedError

    def available(self, found: FoundFeature | None = None) -> tuple[tuple[str, Unit], ...]:
        blank = found if found is not None else FoundFeature("todo")
        return tuple((q.key, q.unit) for q in self.quantities(blank))

    def faces_away(self, shape_part: Any) -> bool:
        """In the part it faces against its nominal: the side that was touched is to be asked about."""
        return False

    def contacts_in_part(self, found: FoundFeature, contacts_part: Array) -> Array:
        """Where it was touched, (n, 3), once the part is aligned."""
        return contacts_part

    def off_nominal(self, found: FoundFeature, contacts_part: Array) -> Array | None:
        """(n,) how far the places touched are from the nominal, where no fit tells what each hit leaves."""
        return None


class MeasuredRecipe(FeatureRecipe):
    """A feature to be measured: what it should be, and how it is taken.

    ``fits``: the kind of fit that its hits are put to; ``shape_type``: what that gives; ``sided``: the tip's
    radius comes off on one of two sides.
    """

    takes_hits = True
    takes_more: ClassVar[bool] = True
    answered = {"settled_air": None, "as_touched": False}
    found_here: ClassVar[tuple[str, ...]] = ("settled_air", "as_touched", "hits_of", "scans")
    fits: ClassVar[str]
    shape_type: ClassVar[type]
    sided: ClassVar[bool] = True
    of_its_shape: ClassVar[bool] = True  # what should be is told by the same shape as what is
    of_free_faces: ClassVar[bool] = False  # it measures faces of the CAD that are of no shape that has a name
    face: Annotated[Annotated[int, Field(ge=0, lt=2**31)] | None, Internal()] = (
        None  # of the part's CAD, where the nominal was picked
    )
    belongs_at_nominal: ClassVar[bool] = True  # hits far off its nominal are not its own
    plot: ClassVar[Plot] = ""  # how its residuals are drawn
    criterion: Annotated[Criterion, Internal()] = "gaussian"
    hits: HitCount = 4
    taking: Way = "distance"  # while the button is held
    spacing_mm: Annotated[float, Field(gt=0, le=500)] = 5.0  # between hits, by distance or when still
    every_s: Annotated[float, Field(ge=0.02, le=60)] = 0.5  # between hits, by time
    settled_air: Annotated[Air | None, Internal()] = None  # a person's answer about the side
    as_touched: Annotated[bool, Internal()] = False  # a person has said that its hits lie where they belong
    hits_of: Annotated[tuple[Id, ...], Internal(), Field(max_length=200)] = ()  # rows whose hits are its own too
    scans: Annotated[tuple[CloudRef, ...], Internal(), Field(max_length=20)] = ()  # of which points are its own too
    aims: Annotated[tuple[Vector, ...], Internal(), Field(max_length=100)] = ()  # in the part, where its last hits are wanted
    nominal: Any = None

    @classmethod
    def of_face(cls, index: int, nominal: Any, inside: bool) -> dict[str, Any]:
        """A recipe's data, without a name, for a face of the part's CAD; ``nominal`` as stored."""
        return {"kind": cls.key(), "nominal": nominal, "face": index}

    @classmethod
    def of_edge(cls, nominal: Any, inside: bool | None, plane: int | None) -> dict[str, Any]:
        """Recipe data for an edge, or an outline, of a flat face; ``plane``: the row of that face. Raises InputError."""
        return {"kind": cls.key(), "nominal": nominal}

    @property
    def should_be(self) -> Any:
        return self.nominal

    @property
    def stands_somewhere(self) -> bool:
        return stands_somewhere(self.shape_type)

    @property
    def wanted_hits(self) -> int:
        return self.hits

    def asking(self, hits: int, aims: Sequence[Sequence[float]]) -> dict[str, Any]:
        """Fields by which it asks for so many hits in all, the last of them at certain places in the part."""
        return {"hits": hits - (self.wanted_hits - self.hits), "aims": aims}

    def aims_left(self, hits: int) -> Array:
        return NOWHERE if hits >= self.wanted_hits else np.array(self.aims, float).reshape(-1, 3)

    @property
    def way_held(self) -> str:
        return self.taking

    @property
    def cad_face(self) -> int | None:
        return self.face

    @property
    def takes_by_cad(self) -> bool:
        return True

    @property
    def may_be_scanned(self) -> bool:
        """A scan's points, or edges, can be told to be its own."""
        return self.cad_face is not None

    def of_scan(self, row: int, cloud: FoundCloud) -> GivenPoints | None:
        """The points of a scan that are its own; None where there are none."""
        return cloud.given.get(row)

    def height_over_nominal(self, points_part: Array, surfaces: PartSurfaces | None = None) -> Array | None:
        if self.nominal is None:
            return None
        return (self.nominal_air() or 1) * self.nominal.distance(points_part)

    @property
    def fit_kind(self) -> str:
        return self.fits

    def laid(self, hits: RowHits, parents: Mapping[Needed, Any]) -> tuple[Feature | None, RowHits]:
        """The plane that it lies in, none where that is of its own hits, and the hits that are its own. Raises PlumbError."""
        return None, hits

    def held_by(self, plane: Feature | None) -> dict[str, Any]:
        """Parameters fixed in the fit: the plane that it lies in."""
        return {} if plane is None else {"plane": plane.shape}

    @classmethod
    def for_fit(cls, fit_kind: str) -> dict[str, Any] | None:
        """A recipe's data, without a name, for what was recognised as such a shape; None where it is another kind's."""
        return {"kind": cls.key()} if fit_kind == cls.fits else None

    def become(self, raw: Mapping[str, Any], **more: Any) -> MeasuredRecipe | None:
        """The row that its hits make as another kind, or with another nominal; None where that takes more than it has.

        What the other kind has no field for is left out, its nominal too, and what was asked of it.
        """
        kind = kind_of(raw)
        told = {n: v for n, v in self.model_dump(mode="json").items() if n in CARRIED_OVER and n in kind.model_fields}
        try:
            return kind.model_validate({**told, **raw, **more})  # type: ignore[return-value]
        except ValidationError:
            return None

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        """The quantities by which such a shape can be judged."""
        raise NotImplementedError

    def quantities(self, found: FoundFeature) -> tuple[Quantity, ...]:
        return _quantities_of(type(self), self.nominal)

    def begun(self, hits: RowHits | None, state: State, message: str = "") -> FoundFeature:
        return changed(super().begun(hits, state, message), nominal=self.nominal, size_limits=self.limits_of("diameter"))

    def limits_of(self, key: str) -> tuple[float, float] | None:
        """The limits of a characteristic's deviation, where both are asked."""
        asked = next((a for a in self.asked if a.key == key), None)
        return None if asked is None or asked.lower is None or asked.upper is None else (asked.lower, asked.upper)

    def nominal_air(self) -> int | None:
        """The side that the nominal tells, +1 outside or -1 inside; a plane's says nothing before the part is aligned."""
        return None

    def toward(self, hits: RowHits) -> Array | None:
        """To which side a normal is turned, so that +1 always means "as pulled off"."""
        return None

    def pointing(self, shape: Any, hits: RowHits, parents: Mapping[Needed, Any]) -> tuple[Any, Sense]:
        """The shape with the sense that its nominal, or the way it was touched, gives it in the world; and what told it."""
        return shape, "touched"

    def faced(self, result: FitResult) -> Any:
        """The fitted shape that has an air side."""
        return result.shape

    def surface(self, result: FitResult, tip_radius_mm: float, air: int) -> Any:
        """The surface under the shape of tip centers. Raises ValueError where there is none."""
        return surface_from_centers(result.shape, tip_radius_mm, air)

    def compensated(self, fitted: Fitted, result: FitResult, tip_radius_mm: float, air: int) -> FitResult:
        """The fit once the side is known; where the offset of such a shape is one, that of the centers does."""
        return result

    def contacts(self, result: FitResult, surface: Any, tip_radius_mm: float, air: int) -> Array:
        """(n, 3) places touched."""
        return contacts_from_centers(surface, result.points)

    def pulled_side(self, pull_off: int) -> int:
        """The answer that a second pull-off with *finish* gives."""
        return pull_off

    def found(self, hits: RowHits | None, parents: Mapping[Needed, FoundFeature]) -> FoundFeature:
        assert hits is not None
        toward = self.toward(hits)
        begun = self.begun(hits, "taking")
        open_or_failed: State = "failed" if hits.finished else "taking"
        try:
            plane, laid = self.laid(hits, parents)
        except PlumbError as error:
            return changed(begun, state=open_or_failed, message=str(error))
        known: dict[str, Any] = {}
        if laid is not hits:
            known = {"laid": len(begun.counted) - len(laid.keys), "counted": laid.keys, "centers": laid.centers}
            hits = laid
        criterion = self.criterion if hits.finished else "gaussian"  # which is at hand at every hit
        known_of_it = meant(self.should_be, self.nominal_air(), hits)
        fitted = partial(fit, self.fit_kind, criterion=criterion, fixed=self.held_by(plane), toward=toward, meant=known_of_it)
        try:
            result = fitted(hits.centers)
        except PlumbError as error:
            return changed(begun, **known, state=open_or_failed, message=str(error))
        known |= {
            "fit": result, "residuals": result.residuals, "warnings": (*result.warnings, *hits.gap_words), "facing": toward,
        }  # fmt: skip
        if not self.sided:
            return self.unsided(changed(begun, **known), hits, result, plane)
        side = side_of_air(self.faced(result), hits.centers, hits.approach, hits.pull_off, self.nominal_air(), self.settled_air)
        known["side"] = side
        if not side.air:
            return changed(begun, **known, state="asks" if hits.finished else "taking")
        try:
            if not hits.one_radius:
                result = self._as_by_one_tip(fitted, hits, result, side.air)
            result = self.compensated(fitted, result, hits.calibration.radius_mm, side.air)
            known |= {"fit": result, "residuals": result.residuals}
            feature = feature_of_hits(self.name, hits, result, lambda r: self.surface(result, r, side.air), plane)
            contacts = self.contacts(result, feature.shape, hits.calibration.radius_mm, side.air)
            pointing, sense = self.pointing(feature.shape, hits, parents)
            feature = feature if pointing is feature.shape else changed(feature, shape=pointing)
        except ValueError as error:
            return changed(begun, **known, state="failed", message=f"The hits make no surface: {error}.")
        except PlumbError as error:
            return changed(begun, **known, state="failed", message=str(error))
        known["residuals"] = -result.residuals if side.air < 0 else result.residuals
        return changed(begun, **known, state=self._state(hits, side), feature=feature, contacts=contacts, sense=sense)

    def _as_by_one_tip(self, fitted: Fitted, hits: RowHits, result: FitResult, air: int) -> FitResult:
        """The hits as if all had been taken with the first tip: each center is carried along the normal by what its own tip
        differs."""
        by = air * (hits.radii_mm[0] - hits.radii_mm)[:, None]
        for _ in range(AS_ONE_TIP):
            before = result.points
            result = fitted(hits.centers + by * Placed.of(self.faced(result)).gradients(hits.centers))
            if np.abs(result.points - before).max() < SAME_RADIUS_MM:
                break
        return result

    def unsided(self, base: FoundFeature, hits: RowHits, result: FitResult, plane: Feature | None) -> FoundFeature:
        """The result for a kind whose tip radius is not compensated to one side."""
        raise FitError(f"A {self.fits} has a side.")

    def _state(self, hits: RowHits, side: Side) -> State:
        if not hits.finished:
            return "taking"
        return "asks" if side.doubt else "done"


def pointing_by_order(shape: Any, hits: RowHits) -> tuple[Any, Sense]:
    """A shape that points from the first hits to the last; not known where they were taken to and fro."""
    way = hits.order_along(shape.direction_of_it)
    return (shape.turned_like(way * shape.direction_of_it), "touched") if abs(way) >= IN_ORDER else (shape, "")


def pointing_out(shape: Any, hits: RowHits) -> tuple[Any, Sense]:
    """A shape that points to where the tip came from, or else from the first hits to the last."""
    out = hits.came_from
    if out is not None and out.any() and abs(unit(out) @ shape.direction_of_it) >= ALONG:
        return shape.turned_like(out), "touched"
    return pointing_by_order(shape, hits)


class EnclosedRecipe(MeasuredRecipe):
    """Something that closes round: ``inside``: a bore or a cut-out, not a boss."""

    inside: bool = True

    @classmethod
    def of_face(cls, index: int, nominal: Any, inside: bool) -> dict[str, Any]:
        return super().of_face(index, nominal, inside) | {"inside": inside}

    @classmethod
    def of_edge(cls, nominal: Any, inside: bool | None, plane: int | None) -> dict[str, Any]:
        return super().of_edge(nominal, inside, plane) | {"inside": inside is not False}

    def nominal_air(self) -> int | None:
        return None if self.nominal is None else -1 if self.inside else 1


class RoundRecipe(EnclosedRecipe):
    """Something with a diameter; ``terms``: how that is shown and typed."""

    terms: Terms = "diameter"

    def in_terms(self, terms: str) -> RoundRecipe:
        return self if terms == self.terms else self.in_other_terms()

    def in_other_terms(self) -> RoundRecipe:
        return self.model_copy(update={"terms": "radius" if self.terms == "diameter" else "diameter"})

    @classmethod
    def drawn(cls, path: str, texts: Mapping[str, str]) -> tuple[str, float]:
        if path == "nominal.radius" and (texts.get("terms") or cls.usual_terms()) == "diameter":
            return "diameter", 2.0
        return "", 1.0

    @classmethod
    def share_in(cls, key: str, terms: str) -> float:
        return 0.5 if key == "diameter" and terms == "radius" else 1.0

    def share_of(self, key: str) -> float:
        return self.share_in(key, self.terms)


def data_for_fit(fit_kind: str) -> dict[str, Any] | None:
    """A recipe's data, without a name, for what was recognised as such a shape, or None."""
    kinds = (kind for kind in KINDS.values() if issubclass(kind, MeasuredRecipe))
    return next((raw for kind in kinds if (raw := kind.for_fit(fit_kind)) is not None), None)


def of_free_faces() -> type[MeasuredRecipe]:
    """The kind that measures a face of no shape that has a name."""
    return next(kind for kind in KINDS.values() if issubclass(kind, MeasuredRecipe) and kind.of_free_faces)


def measured_as(shape: Any) -> type[MeasuredRecipe] | None:
    """The kind that measures such a shape, or None."""
    for kind in KINDS.values():
        if issubclass(kind, MeasuredRecipe) and kind.of_its_shape and kind.shape_type is type(shape):
            return kind
    return None
