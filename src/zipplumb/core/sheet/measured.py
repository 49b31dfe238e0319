"""The base of the kinds that are measured: from raw hits to a feature in the world, the tip off on the right side."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property, partial
from itertools import compress
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import Field
from scipy import special

from ..calibration import ProbeCalibration
from ..errors import FitError, PlumbError
from ..features import Feature, carried_moves, differences, extent_of, frame_of, sizes_of, widening
from ..fitting import FitResult, Placed, fit
from ..frames import Array, points_of_poses, rotations_from_quaternions
from ..probing import Side, Way, contacts_from_centers, side_of_air, surface_from_centers
from ..readings import Reading
from ..uncertainty import Source, Uncertainty
from ..units import Unit
from .base import FeatureRef, Internal, Letter, Needed, RowRecipe
from .given import Kit
from .quantities import Quantity
from .results import FoundFeature, State

Fitted = Callable[..., FitResult]  # of (n, 3) centers
HitCount = Annotated[int, Field(ge=1, le=10_000)]
Air = Literal[-1, 1]
Terms = Literal["diameter", "radius"]
SURELY_WORSE = 0.01
TIP_STEP = 1e-3  # mm, of a radius
SAME_RADIUS_MM = 1e-9
AS_ONE_TIP = 12  # rounds by which hits of several tips settle on one surface


@dataclass(frozen=True, eq=False)
class RowHits:
    """The hits of one row that count, in the world.

    Attributes
    ----------
    row : its id; ``keys`` of the hits
    centers, approach : (n, 3) tip centers, and where the tip was shortly before; NaN where it is not known
    poses : (n, 7) the last axis at each hit, in the instrument's frame
    pull_off : (3,) where the tip was at the finish, or None
    calibrations, stations : (n,) ids
    finished : a person said so
    """

    row: int
    keys: tuple[str, ...]
    centers: Array
    approach: Array
    poses: Array
    pull_off: Array | None
    calibrations: Array
    stations: Array
    kit: Kit
    finished: bool
    u_hit_mm: float
    gaps: tuple[tuple[int, float], ...] = ()

    @classmethod
    def of(cls, row: int, reading: Reading, kit: Kit, finished: bool) -> RowHits:
        """Those of a reading that are not set aside."""
        keep = ~reading.aside
        poses, stations, calibrations = reading.poses[keep], reading.stations[keep], reading.calibrations[keep]
        return cls(
            row=row,
            keys=tuple(compress(reading.keys, keep.tolist())),
            centers=tip_centers(poses, stations, calibrations, kit),
            approach=tip_centers(reading.approach[keep], stations, calibrations, kit),
            poses=poses,
            pull_off=_pull_off(reading, kit),
            calibrations=calibrations,
            stations=stations,
            kit=kit,
            finished=finished,
            u_hit_mm=reading.u_hit_mm,
            gaps=reading.gaps,
        )

    @cached_property
    def axes(self) -> Array:
        """(n, 3, 3) the last axis at each hit, in the world."""
        turned = rotations_from_quaternions(self.poses[:, 3:])
        for number in set(self.stations.tolist()):
            mine = self.stations == number
            turned[mine] = self.kit.stations[number].world_from_station.rotation @ turned[mine]
        return turned

    @property
    def calibration(self) -> ProbeCalibration:
        """Of the first hit."""
        return self.kit.calibrations[int(self.calibrations[0])]

    @cached_property
    def radii_mm(self) -> Array:
        """(n,) of the tip at each hit."""
        return np.array([self.kit.calibrations[c].radius_mm for c in self.calibrations.tolist()])

    @property
    def one_radius(self) -> bool:
        return bool(np.ptp(self.radii_mm) < SAME_RADIUS_MM)

    @property
    def doubts(self) -> tuple[str, ...]:
        """Why the calibrations that it was read with are in doubt."""
        found = (self.kit.calibrations[c].doubt for c in dict.fromkeys(self.calibrations.tolist()))
        return tuple(d for d in dict.fromkeys(found) if d)

    @property
    def gap_words(self) -> tuple[str, ...]:
        """Where a sweep has a gap."""
        return tuple(
            f"The link was lost for {seconds:.1f} s before hit {at + 1}: there the surface was not read."
            for at, seconds in self.gaps
        )

    @property
    def came_from(self) -> Array | None:
        """(3,) which way the tip went: where it was pulled off to, or else where it came from."""
        if self.pull_off is not None:
            return self.pull_off - self.centers.mean(axis=0)
        come = np.isfinite(self.approach).all(axis=1)
        return (self.approach - self.centers)[come].mean(axis=0) if come.any() else None

    def shifts(self) -> dict[Source, Array]:
        """(n, 3, m) of the hits by each source that moves them together: offsets of probes, places of stations."""
        found: dict[Source, Array] = {}
        for number in dict.fromkeys(self.calibrations.tolist()):
            if u := self.kit.calibrations[number].u_offset_mm:
                mine = (self.calibrations == number)[:, None, None]
                found[Source("offset", number)] = np.where(mine, u * self.axes, 0.0)
        for number in dict.fromkeys(self.stations.tolist()):
            covariance = self.kit.stations[number].covariance
            if covariance is not None:
                source = Source("station", number)
                factor = Uncertainty.of_covariance(source, covariance).terms.get(source, np.zeros((6, 0)))
                turned = np.cross(factor[3:].T[None], self.centers[:, None]).transpose(0, 2, 1)
                found[source] = np.where((self.stations == number)[:, None, None], factor[:3] + turned, 0.0)
        return found


def tip_centers(poses: Array, stations: Array, calibrations: Array, kit: Kit) -> Array:
    """Tip centers (n, 3) in the world; each hit by its own station and calibration."""
    tips = np.full((len(poses), 3), np.nan)
    if len(poses) and (stations == stations[0]).all() and (calibrations == calibrations[0]).all():  # nearly always
        local = points_of_poses(poses, kit.calibrations[int(calibrations[0])].offset_mm)
        return kit.stations[int(stations[0])].world_from_station.points(local)
    for station, cal in set(zip(stations.tolist(), calibrations.tolist(), strict=True)):
        mine = (stations == station) & (calibrations == cal) & np.isfinite(poses).all(axis=1)
        if mine.any():
            local = points_of_poses(poses[mine], kit.calibrations[cal].offset_mm)
            tips[mine] = kit.stations[station].world_from_station.points(local)
    return tips


def _pull_off(reading: Reading, kit: Kit) -> Array | None:
    if reading.pull_off is None:
        return None
    station, cal = np.array([reading.pull_off_station]), np.array([reading.pull_off_calibration])
    return tip_centers(reading.pull_off[None], station, cal, kit)[0]


def worse(stated_mm: float, seen_mm: float, spare: int) -> tuple[float, float]:
    """Standard uncertainty of a hit (mm) and its degrees of freedom: as its maker states, unless its own scatter says worse.

    What is stated is known well; what is seen surely worse than that is known from as many hits as are spare.
    """
    if not np.isfinite(seen_mm):
        return stated_mm, np.inf
    surely = seen_mm**2 * spare > stated_mm**2 * special.chdtri(spare, SURELY_WORSE)
    return max(stated_mm, seen_mm), float(spare) if surely else np.inf


def feature_of_hits(
    name: str, hits: RowHits, result: FitResult, surface: Callable[[float], Any], plane: Feature | None
) -> Feature:
    """A measured feature with its uncertainty by source: its hits, offsets, stations, tips, the plane that it lies in.

    Parameters
    ----------
    surface : tip radius -> the surface under the fitted shape of tip centers
    plane : another row's, in which a 2D shape was fitted
    """
    cal = hits.calibration
    shape = surface(cal.radius_mm)
    size = 6 + len(sizes_of(shape))
    own = Source("hits", hits.row)
    u_hit, freedom = worse(hits.u_hit_mm, result.sigma, result.spare)
    into = widening(result)
    found = Uncertainty.of_covariance(own, result.unit_covariance * u_hit**2, freedom).through(into)
    shifts = hits.shifts()
    found = found + Uncertainty(size, {s: into @ result.response(each) for s, each in shifts.items()})
    if result.lies_in is not None:
        leaning = result.lies_in
        carried = np.zeros((size, len(leaning.parameters)))
        carried[:6] = carried_moves(leaning.local, result.local) @ widening(leaning)
        u_hit, freedom = worse(hits.u_hit_mm, leaning.sigma, leaning.spare)
        found = found.beside(Uncertainty.of_covariance(own, leaning.unit_covariance * u_hit**2, freedom).through(carried))
        found = found + Uncertainty(size, {s: carried @ leaning.response(each) for s, each in shifts.items()})
    if plane is not None:
        carried = np.zeros((size, plane.uncertainty.size))
        carried[:6, :6] = carried_moves(plane.local, result.local)
        found = found + plane.uncertainty.through(carried)
    on_surface = replace(result, shape=shape, points=contacts_from(result, shape))
    feature = Feature(name, shape, result.local, found, extent_of(on_surface)).told_in(frame_of(shape))
    return replace(feature, uncertainty=feature.uncertainty + _tips(hits, surface, feature))


def contacts_from(result: FitResult, surface: Any) -> Array:
    """Hits carried onto the surface where that is one; else as they are."""
    return contacts_from_centers(surface, result.points) if sizes_of(surface) or hasattr(surface, "normal") else result.points


def _tips(hits: RowHits, surface: Callable[[float], Any], feature: Feature) -> Uncertainty:
    """What the radius of each tip that touched it does, in the feature's own axes."""
    radius = hits.calibration.radius_mm
    here, there = (differences(surface(r), feature.local) for r in (radius, radius + TIP_STEP))
    answer = ((there - here) / TIP_STEP)[:, None]
    terms = {}
    for number in dict.fromkeys(hits.calibrations.tolist()):
        share = float(np.mean(hits.calibrations == number))
        terms[Source("tip", number)] = share * hits.kit.calibrations[number].u_radius_mm * answer
    return Uncertainty(feature.uncertainty.size, terms)


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
        """What is known of it before it is worked out: its name, and what was read."""
        found = FoundFeature(state, self.name, self.letter, message=message)
        if hits is None:
            return found
        return replace(found, counted=hits.keys, centers=hits.centers, u_hit_mm=hits.u_hit_mm, doubts=hits.doubts)

    def found(self, hits: RowHits | None, parents: Mapping[Needed, FoundFeature]) -> FoundFeature:
        """What the hits, or what it is made of, make of it; ``parents`` are done."""
        raise NotImplementedError

    def quantities(self, found: FoundFeature) -> tuple[Quantity, ...]:
        """What it has to be judged by."""
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


class MeasuredRecipe(FeatureRecipe):
    """A feature to be measured: what it should be, and how it is taken.

    ``fits``: the kind of fit that its hits are put to; ``shape_type``: what that gives; ``sided``: the tip's
    radius comes off on one of two sides.
    """

    takes_hits = True
    fits: ClassVar[str]
    shape_type: ClassVar[type]
    sided: ClassVar[bool] = True
    face: Annotated[Annotated[int, Field(ge=0, lt=2**31)] | None, Internal()] = (
        None  # of the part's CAD, where the nominal was picked
    )
    hits: HitCount = 4
    taking: Way = "distance"  # while the button is held
    spacing_mm: Annotated[float, Field(gt=0, le=500)] = 5.0  # between hits, by distance or when still
    every_s: Annotated[float, Field(ge=0.02, le=60)] = 0.5  # between hits, by time
    settled_air: Annotated[Air | None, Internal()] = None  # a person's answer about the side
    nominal: Any = None

    @classmethod
    def of_face(cls, index: int, nominal: Any, inside: bool) -> dict[str, Any]:
        """A recipe's data, without a name, for a face of the part's CAD; ``nominal`` as stored."""
        return {"kind": cls.key(), "nominal": nominal, "face": index}

    @classmethod
    def of_edge(cls, nominal: Any, inside: bool | None, plane: int | None) -> dict[str, Any]:
        """The same for an edge, or an outline, of a flat face; ``plane``: the row of that face. Raises InputError."""
        return {"kind": cls.key(), "nominal": nominal}

    @property
    def wanted_hits(self) -> int:
        return self.hits

    @property
    def cad_face(self) -> int | None:
        return self.face

    def height_over_nominal(self, points_part: Array) -> Array | None:
        if self.nominal is None:
            return None
        return (self.nominal_air() or 1) * self.nominal.distance(points_part)

    @property
    def fit_kind(self) -> str:
        return self.fits

    @property
    def lies_in(self) -> int | None:
        """The row of the plane that it lies in; none: the plane of its own hits."""
        return None

    @classmethod
    def quantities_of(cls, nominal: Any) -> tuple[Quantity, ...]:
        """What such a shape has to be judged by."""
        raise NotImplementedError

    def quantities(self, found: FoundFeature) -> tuple[Quantity, ...]:
        return self.quantities_of(self.nominal)

    def begun(self, hits: RowHits | None, state: State, message: str = "") -> FoundFeature:
        return replace(super().begun(hits, state, message), nominal=self.nominal)

    def nominal_air(self) -> int | None:
        """The side that the nominal tells, +1 outside or -1 inside; a plane's says nothing before the part is aligned."""
        return None

    def toward(self, hits: RowHits) -> Array | None:
        """To which side a normal is turned, so that +1 always means "as pulled off"."""
        return None

    def faced(self, result: FitResult) -> Any:
        """What has an air side."""
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
        plane = parents[Needed("feature", self.lies_in)].feature if self.lies_in is not None else None
        toward = self.toward(hits)
        base = self.begun(hits, "taking")
        fitted = partial(fit, self.fit_kind, fixed={} if plane is None else {"plane": plane.shape}, toward=toward)
        try:
            result = fitted(hits.centers)
        except PlumbError as error:
            return replace(base, state="failed" if hits.finished else "taking", message=str(error))
        base = replace(
            base, fit=result, residuals=result.residuals, warnings=(*result.warnings, *hits.gap_words), facing=toward
        )
        if not self.sided:
            return self.unsided(base, hits, result)
        side = side_of_air(self.faced(result), hits.centers, hits.approach, hits.pull_off, self.nominal_air(), self.settled_air)
        if not side.air:
            return replace(base, side=side, state="asks" if hits.finished else "taking")
        try:
            if not hits.one_radius:
                result = self._as_by_one_tip(fitted, hits, result, side.air)
            result = self.compensated(fitted, result, hits.calibration.radius_mm, side.air)
            base = replace(base, fit=result, residuals=result.residuals)
            feature = feature_of_hits(self.name, hits, result, lambda r: self.surface(result, r, side.air), plane)
            contacts = self.contacts(result, feature.shape, hits.calibration.radius_mm, side.air)
        except ValueError as error:
            return replace(base, side=side, state="failed", message=f"The hits make no surface: {error}.")
        except PlumbError as error:
            return replace(base, side=side, state="failed", message=str(error))
        return replace(
            base, state=self._state(hits, side), side=side, feature=feature, contacts=contacts,
            residuals=-result.residuals if side.air < 0 else result.residuals,
        )  # fmt: skip

    def _as_by_one_tip(self, fitted: Fitted, hits: RowHits, result: FitResult, air: int) -> FitResult:
        """As if all had been taken with the first tip: each center is carried along the normal by what its own tip differs."""
        by = air * (hits.radii_mm[0] - hits.radii_mm)[:, None]
        for _ in range(AS_ONE_TIP):
            before = result.points
            result = fitted(hits.centers + by * Placed.of(self.faced(result)).gradients(hits.centers))
            if np.abs(result.points - before).max() < SAME_RADIUS_MM:
                break
        return result

    def unsided(self, base: FoundFeature, hits: RowHits, result: FitResult) -> FoundFeature:
        """What is left to do for a kind whose tip does not come off to one side."""
        raise FitError(f"A {self.fits} has a side.")

    def _state(self, hits: RowHits, side: Side) -> State:
        if not hits.finished:
            return "taking"
        return "asks" if side.doubt else "done"


class FlatRecipe(MeasuredRecipe):
    """A 2D shape. ``plane``: the row of the plane that it lies in; none: the plane of its own hits."""

    plane: FeatureRef | None = None

    @classmethod
    def of_edge(cls, nominal: Any, inside: bool | None, plane: int | None) -> dict[str, Any]:
        return super().of_edge(nominal, inside, plane) | {"plane": plane}

    @property
    def lies_in(self) -> int | None:
        return self.plane


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

    def in_other_terms(self) -> RoundRecipe:
        return self.model_copy(update={"terms": "radius" if self.terms == "diameter" else "diameter"})

    @classmethod
    def drawn(cls, path: str, texts: Mapping[str, str]) -> tuple[str, float]:
        if path == "nominal.radius" and texts.get("terms", "diameter") == "diameter":
            return "diameter", 2.0
        return "", 1.0

    @classmethod
    def share_in(cls, key: str, terms: str) -> float:
        return 0.5 if key == "diameter" and terms == "radius" else 1.0

    def share_of(self, key: str) -> float:
        return self.share_in(key, self.terms)
