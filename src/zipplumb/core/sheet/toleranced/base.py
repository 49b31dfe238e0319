"""The base of the tolerances: the points of a feature that must lie in the zone, and the size of the zone they need.

What is judged is a set of points that moves with its feature: the places touched on a surface, the two ends of an axis as
far as it was touched, a center. A zone is a function of these points and of the datums' shapes, so its uncertainty follows
from their sources as that of every other number does.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Annotated, Any, ClassVar

import numpy as np
from pydantic import Field

from ...alignment import Alignment
from ...deriving import Drawing
from ...deriving.drawing import segment
from ...errors import DeriveError, InputError
from ...features import Feature, axis_of, plane_of, point_of
from ...frames import Array
from ...shapes import BaseShape
from ...tolerances.drawn import drawn_extreme, quieted
from ...uncertainty import Source, Uncertainty
from ...units import Unit, mm
from ..base import Asked, FeatureRef, Internal, Length
from ..judged import JudgedRecipe, Judgement
from ..judging import Number, decided, in_system, numbers_in, together, told_in, why_unproven
from ..quantities import Quantity
from ..results import WORST, Characteristic, FoundFeature
from ..told import Sure, Told

VALUE = "value"
KEPT = "What was measured is kept."
SHOWN_MM, STEP_MM = 5e-5, 1e-3
OUTSIDE = "constrained minimax, from outside the material (ISO 5459)"
CRITERIA = {
    "gaussian": "least squares", "chebyshev": "minimum zone", "inscribed": "the largest inscribed",
    "circumscribed": "the smallest circumscribed", "tangent": "tangent, outside the material",
}  # fmt: skip


@dataclass(frozen=True, eq=False)
class Touched(BaseShape):
    """Points (n, 3) that move as one."""

    points: Array
    rows_ = ("points",)


@dataclass(frozen=True, eq=False)
class Member:
    """The points of one row that have to lie in the zone. ``noise``: (row, u_hit) where each point is a hit; else None.
    ``calm``: (n, 3) where the points likely are without their errors."""

    name: str
    found: FoundFeature
    feature: Feature
    noise: tuple[int, float] | None = None
    calm: Array | None = None


@dataclass(frozen=True, eq=False)
class Zone:
    """The zone of a tolerance: its size as a function of the points and of the datums' shapes.

    Attributes
    ----------
    size : (points, shapes of ``others``) -> mm
    others : the features whose shapes it takes: datums, and what has a size
    system : in which it is evaluated; None: in any
    offset : the same -> (3,) of which the size is the length, where it is one
    slopes : how both answer to a small motion of the points, see ``quantities.Quantity``; None: by differences
    off : points (n, 3) -> (n, 3) how each lies off the middle of the zone, to show where it is worst
    share : by how much the size answers to the error of one hit
    signed : the same -> (n,) how far each lies to the one side; the size is their range, or with ``about`` twice the farthest
        from zero
    still : it is the same wherever the points lie, as a form is
    bonus : shapes of ``others`` -> mm by which the zone may be larger than was asked; ``bonus_noise``: (row, mm) of the hits
        that the mating size rests on
    rework : points as they lie, mm over the zone -> what would bring it in, in a sentence
    """

    size: Callable[..., float]
    others: tuple[Feature, ...] = ()
    system: Alignment | None = None
    offset: Callable[..., Array] | None = None
    off: Callable[..., Array] | None = None
    share: float = float(np.sqrt(2))
    signed: Callable[..., Array] | None = None
    about: bool = False
    still: bool = False
    slopes: Callable[[Any], Array] | None = None
    bonus: Callable[..., float] | None = None
    bonus_noise: tuple[int, float] | None = None
    rework: Callable[[Array, float], str] | None = None


class ToleranceRecipe(JudgedRecipe):
    """``of``: the features, each judged, of which the worst tells; ``zone_mm``: what the drawing allows."""

    role = "tolerance"
    takes_zone = True
    round_zone: ClassVar[bool] = False  # of an axis or a center it is a cylinder or a sphere, as these are judged
    of: Annotated[tuple[FeatureRef, ...], Field(min_length=1, max_length=60)]
    zone_mm: Length
    asked: Annotated[tuple[Asked, ...], Internal(), Field(max_length=0)] = ()

    @classmethod
    def of_chosen(cls, of: Sequence[int]) -> dict[str, Any] | None:
        return {"kind": cls.key(), "of": list(of)}

    @classmethod
    def with_material(cls, raw: dict[str, Any], condition: str, boundaries: Sequence[str]) -> dict[str, Any]:
        """Recipe data with material conditions added. Raises InputError if the tolerance does not support them."""
        if condition != "none" or any(each != "none" for each in boundaries):
            raise InputError("Its material condition is not known here.", "It was not planned.", "Judge it without.")
        return raw

    @property
    def from_outside(self) -> tuple[bool, ...]:
        """For each datum, whether it is laid from outside the material, and not as its own row fits it."""
        return (False,) * len(self.in_order)

    @property
    def material(self) -> tuple[str, tuple[str, ...]]:
        """Its own material condition, and the boundary of each of its datums."""
        return "none", ("none",) * len(self.in_order)

    def available(self, found: Any = None) -> tuple[tuple[str, Unit], ...]:
        return ((VALUE, "mm"),)

    def planned(self) -> tuple[Characteristic, ...]:
        return (Characteristic(VALUE, "mm", 0.0, upper=self.zone_mm),)

    def member(self, row: int, found: FoundFeature) -> Member:
        """The points of a feature that must lie in the zone. Raises DeriveError if the tolerance does not apply to it."""
        raise NotImplementedError

    def zone_for(self, member: Member, found: Mapping[int, FoundFeature], system: Alignment | None) -> Zone:
        """Raises PlumbError where there is none; ``system``: the active one."""
        raise NotImplementedError

    def judged(self, row: int, found: Mapping[int, FoundFeature], system: Alignment | None) -> Judgement:
        if len(set(self.of)) < len(self.of):
            raise DeriveError("A feature is named twice.", KEPT, "Name each once.")
        each = [self._one(i, found, system) for i in self.of]
        worst = min(each, key=lambda one: rank(one.characteristics[0]))
        firsts = zip(self.of, (one.characteristics[0] for one in each), strict=True)
        named = [replace(first, key=f"of_{k}", of=found[i].name) for k, (i, first) in enumerate(firsts, 1)]
        members = named if len(each) > 1 else []
        told = f"{worst.told} {self._datums_by(found)}".strip()
        return replace(worst, characteristics=(*worst.characteristics, *members), told=told)

    def _datums_by(self, found: Mapping[int, FoundFeature]) -> str:
        """How the datums were laid on what was touched: ISO 5459 wants it named where it is not its own way."""
        ways = {
            i: OUTSIDE if outside else CRITERIA[fit.criterion]
            for group, outside in zip(self.in_order, self.from_outside, strict=True)
            for i in group if (fit := found[i].fit) is not None
        }  # fmt: skip
        if len(set(ways.values())) == 1:
            return f"{'Datums' if len(ways) > 1 else 'Datum'} by {next(iter(ways.values()))}."
        each = ", ".join(f"{found[i].letter} by {way}" for i, way in ways.items())
        return f"Datums: {each}." if each else ""

    def _one(self, row: int, found: Mapping[int, FoundFeature], active: Alignment | None) -> Judgement:
        member = self.member(row, found[row])
        zone = self.zone_for(member, found, active)
        features = [in_system(f, zone.system) for f in (member.feature, *zone.others)]
        told = _told(zone, features) if member.noise is None else _of_hits(member, zone, features)
        bonus = 0.0
        if zone.bonus is not None:
            grown = _bonus(zone, features)
            bonus = max(grown.value, 0.0)
            told = told.but(partial(_less_bonus, grown))
        limits = Asked(key=VALUE, upper=self.zone_mm + bonus)
        judged = decided(Quantity(VALUE, "mm", nominal=0.0), limits, told, "done")
        draw, where = _where(member, zone, features)
        more = f"The zone is larger by {mm(bonus, '.4f')}, a bonus of its size. " if bonus > 0 else ""
        over = told.value - self.zone_mm - bonus
        mend = zone.rework(features[0].shape.points, over) if zone.rework is not None and over > 0 else ""
        return Judgement((judged,), draw, f"{more}{where} {mend}".strip())


class ToDatumRecipe(ToleranceRecipe):
    """``to_datum``: the one datum feature."""

    to_datum: FeatureRef

    @classmethod
    def of_chosen(cls, of: Sequence[int]) -> dict[str, Any] | None:
        """The last chosen is the datum."""
        return {"kind": cls.key(), "of": list(of[:-1]), "to_datum": of[-1]} if len(of) > 1 else None

    @classmethod
    def on(cls, of: Sequence[int], datums: Sequence[Sequence[int]]) -> dict[str, Any]:
        if len(datums) != 1 or len(datums[0]) != 1:
            raise InputError("It is told from one datum, of one feature.", "Nothing was planned.", "Type its letter.")
        return {"kind": cls.key(), "of": list(of), "to_datum": datums[0][0]}

    @property
    def in_order(self) -> tuple[tuple[int, ...], ...]:
        return ((self.to_datum,),)

    def against(self, member: Member, found: Mapping[int, FoundFeature]) -> FoundFeature:
        """The datum. Raises DeriveError where it is the member itself."""
        datum = found[self.to_datum]
        if datum is member.found:
            raise DeriveError(f"{datum.name} is its own datum.", KEPT, "Choose another datum.")
        return datum


def _told(zone: Zone, features: list[Feature]) -> Told:
    """The size of the zone."""
    size, offset = zone.size, zone.offset
    over = None if offset is None else lambda touched, *shapes: offset(touched.points, *shapes)
    (told,) = told_in(
        [Number(lambda touched, *shapes: size(touched.points, *shapes), over, zone.slopes)], features, zone.system
    )
    return told


def _bonus(zone: Zone, features: list[Feature]) -> Told:
    """The bonus, below zero where the size is beyond its limit of material; its uncertainty with that of the mating size."""
    bonus = zone.bonus
    assert bonus is not None
    (told,) = told_in([Number(lambda touched, *shapes: bonus(*shapes))], features, zone.system)
    if zone.bonus_noise is None:
        return told
    row, u_mm = zone.bonus_noise
    mating = Uncertainty(1, {Source("hits", row): np.array([[u_mm]])})
    return told.but(lambda sure: {"uncertainty": sure.uncertainty.beside(mating)})


def _less_bonus(grown: Told, sure: Sure) -> dict[str, Any]:
    """How sure the zone is that the bonus leaves; what surely has no bonus is as sure as its place."""
    if grown.value <= -grown.uncertainty.U():
        return {}
    left = sure.uncertainty + grown.uncertainty.through(np.array([[-1.0]]))
    return {"uncertainty": left, "near": None if sure.near is None else float(np.hypot(sure.near, grown.uncertainty.U()))}


def _of_hits(member: Member, zone: Zone, features: list[Feature]) -> Told:
    """The size of a zone of places that were touched, with the errors of those at its extremes, which are drawn outward."""
    assert member.noise is not None
    (row, u_hit), signed, calm = member.noise, zone.signed, member.calm
    source = Source("hits", row)
    if signed is None or calm is None:
        own = Uncertainty(1, {source: np.array([[zone.share * u_hit]])})
        return _told(zone, features).but(lambda sure: {"uncertainty": sure.uncertainty + own})
    touched, *others = features
    shapes = [f.shape for f in others]
    value = zone.size(touched.shape.points, *shapes)

    def sure() -> Sure:
        where = numbers_in(lambda points, *shapes: signed(points.points, *shapes), features, zone.system)
        likely = signed(calm if zone.system is None else zone.system.points(calm), *shapes)
        ways = where.jacobians[0][:, :6]
        moves = np.zeros((len(likely), 0)) if zone.still else together(where.uncertainty)
        read = where.values
        if not zone.about:  # of a range, what they have in common is nothing
            likely, read, ways, moves = (each - each.mean(axis=0) for each in (likely, read, ways, moves))
        still, seen = (quieted(each, u_hit, moves, ways) for each in (likely, read))
        fitted = np.column_stack([ways, np.ones(len(read))]) if zone.still else None
        drawn = drawn_extreme(still, u_hit, moves, "farthest" if zone.about else "range", seen, fitted)
        by_hits = Uncertainty(1, {source: np.array([[drawn.own_mm]])})
        if zone.still:
            return Sure(by_hits, near=drawn.U_mm)
        slope = _slope_of_extremes(read, zone.about)
        shared = where.uncertainty.through(slope)
        return Sure(shared.beside(by_hits), why_unproven((slope @ where.moves)[0, :6], shared, zone.system), drawn.U_mm)

    return Told(value, sure)


def _slope_of_extremes(places: Array, about: bool) -> Array:
    """(1, n): how a range, or twice the farthest, goes with its places."""
    slope = np.zeros((1, len(places)))
    if about:
        k = int(np.abs(places).argmax())
        slope[0, k] = 2 * np.sign(places[k])
    else:
        slope[0, int(places.argmax())] += 1
        slope[0, int(places.argmin())] -= 1
    return slope


def rank(judged: Characteristic) -> tuple[int, float]:
    """The worse comes first."""
    return (WORST.index(judged.verdict.word), -judged.verdict.used) if judged.verdict else (len(WORST), 0.0)


def _where(member: Member, zone: Zone, features: list[Feature]) -> tuple[Drawing, str]:
    """Where it is worst, and which way it lies off there."""
    if zone.off is None:
        return Drawing(), ""
    points = features[0].shape.points
    off = zone.off(points, *(f.shape for f in features[1:]))
    worst = int(np.argmax(np.linalg.norm(off, axis=1)))
    place, by = points[worst], off[worst]
    draw = segment(place - by, place)
    if zone.system is None:
        return draw, f"{member.name} is worst where it lies {mm(float(np.linalg.norm(by)), '.4f')} off the middle of the zone."
    at = ", ".join(f"{axis} {mm(float(v), '.1f')}" for axis, v in zip("XYZ", place, strict=True))
    way = ", ".join(f"{axis} {mm(float(v), '+.4f')}" for axis, v in zip("XYZ", by, strict=True) if abs(v) >= SHOWN_MM)
    return draw, f"{member.name} is worst at {at}, off the middle of the zone by {way or 'nothing'}."


# ---- what of a feature is toleranced ----------------------------------------------------------


def _moving(found: FoundFeature, feature: Feature, points: Array) -> Member:
    """Points that move with a feature."""
    return Member(found.name, found, Feature(found.name, Touched(points), feature.local, feature.uncertainty.part(slice(6))))


def surface_of(row: int, found: FoundFeature) -> Member:
    """The places touched on it, each with its own error. Raises DeriveError where it was not touched."""
    feature = found.feature
    if feature is None or found.contacts is None or found.fit is None:
        raise DeriveError(f"{found.name} is not touched itself.", KEPT, "Choose a feature that is measured.")
    member = _moving(found, feature, found.touched)
    unshared = replace(member.feature, uncertainty=member.feature.uncertainty.without(Source("hits", row)))
    return replace(member, feature=unshared, noise=(row, found.u_hit_mm), calm=found.calm)


def whole_of(row: int, found: FoundFeature) -> Member:
    """The ends of its axis, as far as it was touched; its center; a made plane as far as it reaches; or the surface touched.

    Raises DeriveError where there is nothing of these.
    """
    feature, shape = found.feature, found.shape
    if feature is None:
        return surface_of(row, found)  # which says so
    if axis_of(shape) is not None:
        ends = feature.extent
        if ends is None or len(ends) < 2 or float(np.linalg.norm(np.ptp(ends, axis=0))) < STEP_MM:
            raise DeriveError(f"{found.name} has no length of its own.", KEPT, "Measure it over its length.")
        return _moving(found, feature, ends[[0, -1]])
    place = point_of(shape)
    if place is not None:
        return _moving(found, feature, place[None])
    if found.contacts is None and plane_of(shape) is not None and feature.extent is not None:
        return _moving(found, feature, feature.extent)
    return surface_of(row, found)
