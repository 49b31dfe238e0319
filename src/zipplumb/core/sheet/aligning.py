"""Alignment recipes solved, each from named nominal and actual features. Pure."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import singledispatch
from typing import Any

import numpy as np

from ..alignment import Alignment, Hold, align_datum_planes, align_holds, align_reference_points, expansion_scale
from ..alignment.holds import LETTERS, Letter
from ..alignment.steps import Origin, Turn, align_steps, align_without_cad
from ..alignment.surfaces import Nearest, align_surfaces
from ..deriving import construct
from ..deriving.constructions import middle_plane
from ..deriving.features import Feature, axis_of, center_covariance, frame_of, plane_of, point_of
from ..errors import AlignmentError, PlumbError
from ..frames import Array
from ..shapes import Line
from .alignments import (
    ByMaterial,
    Datum,
    DatumFeaturesRecipe,
    DatumPlanesRecipe,
    FeatureOrPattern,
    HoldsRecipe,
    LevelRecipe,
    Pattern,
    PlanesAsAxesRecipe,
    ReferencePointsRecipe,
    Scale,
    StepsRecipe,
    SurfacesRecipe,
    TurnStep,
)

KEPT = "The measured features are kept."
LEAST_U_MM = 1e-6  # an exact feature still has a weight


@dataclass(frozen=True, eq=False)
class Named:
    """One measured row as an alignment sees it.

    Attributes
    ----------
    nominal : its shape in the part, or None
    feature : as measured, in the world, with its uncertainty
    contacts : (n, 3) hits on it, world; of a bare surface point the tip's center
    letter : its datum letter, or its name
    facing : (3,) the way to the air, world, of a surface point where the tip's way tells it
    tip_mm : how far the tip's center of a bare surface point is off its surface; else 0
    """

    name: str
    nominal: Any
    feature: Feature
    contacts: Array
    letter: str
    facing: Array | None = None
    tip_mm: float = 0.0

    @property
    def hold_nominal(self) -> Any:
        """Where the tip's center should be, if the tip could not be taken off."""
        return self.nominal.offset(self.tip_mm) if self.tip_mm else self.nominal

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
        """The same for every direction of the part in which a center holds, as its nominal stands there."""
        if point_of(self.feature.shape) is None or point_of(self.nominal) is None:
            return max(self.u_mm, LEAST_U_MM)
        axes, nominal = frame_of(self.feature.shape).rotation, frame_of(self.nominal).rotation
        own = np.diag(axes.T @ center_covariance(self.feature) @ axes)
        wanted = [nominal[:, 2] if d == "own" else LETTERS[d] for d in directions]
        return tuple(max(float(np.sqrt((d @ nominal) ** 2 @ own)), LEAST_U_MM) for d in wanted)


@dataclass(frozen=True, eq=False)
class Surroundings:
    """What an alignment may rest on beside features.

    Attributes
    ----------
    others : alignments solved before, by row
    ups : by station, the way up in the world and its standard uncertainty (rad)
    nearest : the part's surfaces, or None
    """

    others: Mapping[int, Alignment] = field(default_factory=dict)
    ups: Mapping[int, tuple[Array, float]] = field(default_factory=dict)
    nearest: Nearest | None = None


@singledispatch
def solved(recipe: Any, named: Mapping[int, Named], around: Surroundings) -> Alignment:
    """The alignment that a recipe asks for. Raises AlignmentError with the reason."""
    raise TypeError(f"{type(recipe).__name__} is no alignment")


def _tip_off(named: Named) -> Named:
    if named.tip_mm:
        raise AlignmentError(
            f"{named.name} is one hit, so the tip's radius cannot come off before the part is aligned.",
            KEPT, "Take three hits in a small triangle there, or hold the part by it.",
        )  # fmt: skip
    return named


def _nominal(named: Named) -> Any:
    if named.nominal is None:
        raise AlignmentError(f"{named.name} has no nominal.", KEPT, "Give it one, or choose another feature.")
    return named.nominal


# ---- step by step -----------------------------------------------------------------------------


@solved.register
def _(recipe: StepsRecipe, named: Mapping[int, Named], around: Surroundings) -> Alignment:
    def steps(feature_of: Callable[[Named], Feature]) -> list[Turn | Origin]:
        def feature(which: FeatureOrPattern) -> Feature:
            if isinstance(which, Pattern):
                return _circle_through([feature_of(_tip_off(named[i])) for i in which.through])
            return feature_of(_tip_off(named[which]))

        found: list[Turn | Origin] = []
        for step in recipe.steps:
            if isinstance(step, TurnStep):
                found.append(Turn(tuple(feature(f) for f in step.features), step.axis, step.degrees))
            else:
                found.append(Origin(feature(step.feature), step.coordinates, step.at_mm))
        return found

    if recipe.onto == "own":
        return align_steps(steps(lambda n: n.feature))
    nominal = align_steps(steps(lambda n: Feature(n.name, _nominal(n)))).part_from_world
    return align_steps(steps(lambda n: n.feature), nominal)


def _circle_through(features: list[Feature]) -> Feature:
    """A bolt circle; it faces to where its holes, in their order, go round counterclockwise."""
    made = construct("Circle through the centers", features)
    if made.feature is None:
        raise AlignmentError(made.why_not, KEPT, "Choose other holes.")
    circle = made.feature.shape
    rel = np.array([point_of(f.shape) for f in features]) - circle.center
    area = np.cross(rel, np.roll(rel, -1, axis=0)).sum(axis=0)
    facing = circle if area @ circle.normal > 0 else replace(circle, normal=-circle.normal)
    return replace(made.feature, name=f"the circle through {features[0].name} and others", shape=facing)


@solved.register
def _(recipe: PlanesAsAxesRecipe, named: Mapping[int, Named], around: Surroundings) -> Alignment:
    for plane in recipe.planes:
        if plane_of(named[plane.feature].feature.shape) is None:
            raise AlignmentError(f"{named[plane.feature].name} is no plane.", KEPT, "Choose planes.")
    return align_without_cad([(named[p.feature].feature, p.axis) for p in recipe.planes])


@solved.register
def _(recipe: LevelRecipe, named: Mapping[int, Named], around: Surroundings) -> Alignment:
    if recipe.plane is not None:
        upright = named[recipe.plane].feature
        if plane_of(upright.shape) is None:
            raise AlignmentError(f"{upright.name} is no plane.", KEPT, "Choose a plane, or the instrument's level.")
    else:
        if recipe.station not in around.ups:
            raise AlignmentError("That station has no level.", KEPT, "Level to a plane, or choose another station.")
        up, u_rad = around.ups[recipe.station]
        spread = np.diag([0.0, 0, 0, u_rad**2, u_rad**2, u_rad**2])
        upright = Feature("the instrument's level", Line(np.zeros(3), up), covariance=spread)
    steps: list[Turn | Origin] = [Turn((upright,), "+Z")]
    if recipe.origin is not None:
        origin = _tip_off(named[recipe.origin]).feature
        steps.append(Origin(origin, "Z" if plane_of(origin.shape) is not None else "XYZ"))
    return align_steps(steps)


# ---- datums -----------------------------------------------------------------------------------


@solved.register
def _(recipe: DatumPlanesRecipe, named: Mapping[int, Named], around: Surroundings) -> Alignment:
    planes = [named[i] for i in (recipe.primary, recipe.secondary, recipe.tertiary)]
    for plane in planes:
        if plane_of(_nominal(plane)) is None or plane_of(plane.feature.shape) is None:
            raise AlignmentError(f"{plane.name} is no plane with a nominal.", KEPT, "Choose three such planes.")
    return align_datum_planes(
        [p.nominal for p in planes],
        [p.feature.shape for p in planes],
        [p.contacts for p in planes],
        [p.letter for p in planes],
        [p.feature.local for p in planes],
        [p.feature.covariance[np.ix_((2, 3, 4), (2, 3, 4))] for p in planes],
    )


@solved.register
def _(recipe: DatumFeaturesRecipe, named: Mapping[int, Named], around: Surroundings) -> Alignment:
    return align_holds([_datum_hold(d, named, level) for level, d in enumerate(recipe.datums, start=1)])


def _datum_hold(datum: Datum, named: Mapping[int, Named], level: int) -> Hold:
    features = [named[i] for i in datum.features]
    if len(features) == 1:
        center = point_of(_nominal(features[0])) is not None
        return _hold(features[0], ("X", "Y", "Z") if center else ("own",), None, level)
    first, second = features
    if any(plane_of(s) is None for f in features for s in (_nominal(f), f.feature.shape)):
        raise AlignmentError(f"{first.name} and {second.name} have no plane midway.", KEPT, "Choose two planes.")
    try:
        nominal, actual = middle_plane(first.nominal, second.nominal), middle_plane(first.feature.shape, second.feature.shape)
    except PlumbError as error:
        raise AlignmentError(str(error), KEPT, "Choose two planes that face each other.") from None
    u = float(np.hypot(first.u_mm, second.u_mm) / 2)
    reach = np.vstack([first.contacts, second.contacts])
    return Hold(f"{first.letter}-{second.letter}", nominal, actual, ("own",), u, level, reach)


# ---- best fits --------------------------------------------------------------------------------


def _hold(named: Named, directions, u_mm: float | None, level: int = 1) -> Hold:
    _nominal(named)  # refused where there is none
    reach = named.contacts if len(named.contacts) > 1 else None
    shape = named.feature.shape
    u = u_mm or named.u_each(directions)
    return Hold(named.letter, named.hold_nominal, shape, directions, u, level, reach, named.facing)


def _factor(scale: Scale) -> float | None:
    """World lengths to lengths at 20 °C."""
    if isinstance(scale, ByMaterial):
        return 1 / expansion_scale(scale.material, scale.temperature_c)
    return 1.0 if scale == "fixed" else None


@solved.register
def _(recipe: HoldsRecipe, named: Mapping[int, Named], around: Surroundings) -> Alignment:
    holds = [_hold(named[h.feature], h.directions, h.u_mm, h.level) for h in recipe.holds]
    return align_holds(holds, scale=_factor(recipe.scale))


@solved.register
def _(recipe: ReferencePointsRecipe, named: Mapping[int, Named], around: Surroundings) -> Alignment:
    points = [_tip_off(named[i]) for i in recipe.points]
    nominal = [point_of(_nominal(p)) for p in points]
    actual = [point_of(p.feature.shape) for p in points]
    for point, a, n in zip(points, actual, nominal, strict=True):
        if a is None or n is None:
            raise AlignmentError(f"{point.name} has no center.", KEPT, "Choose points, or features with a center.")
    u: float | Array = recipe.u_mm or np.array([max(p.u_mm, LEAST_U_MM) for p in points])
    return align_reference_points([p.name for p in points], np.array(nominal), np.array(actual), _factor(recipe.scale), u)


@solved.register
def _(recipe: SurfacesRecipe, named: Mapping[int, Named], around: Surroundings) -> Alignment:
    if around.nearest is None:
        raise AlignmentError("The part has no CAD surfaces.", KEPT, "Bring in its CAD, or hold it by features.")
    touched = [named[i] for i in recipe.features]
    if recipe.start is None:
        start = align_holds([h for t in touched for h in _rough_holds(t)]).part_from_world
    elif recipe.start in around.others:
        start = around.others[recipe.start].part_from_world
    else:
        raise AlignmentError("The alignment to start from is not solved.", KEPT, "Solve that one first.")
    points = np.vstack([t.contacts for t in touched])
    off = np.repeat([t.tip_mm for t in touched], [len(t.contacts) for t in touched])
    return align_surfaces(points, around.nearest, start, recipe.u_mm, recipe.reject, len(points) > 6, off)


def _rough_holds(named: Named) -> list[Hold]:
    """A row as it holds the part roughly: whatever it is, by itself."""
    directions = ("X", "Y", "Z") if point_of(_nominal(named)) is not None else ("own",)
    return [_hold(named, directions, 1.0)]
