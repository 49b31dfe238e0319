"""Quantities of features judged in a coordinate system: values, uncertainty by source, verdicts.

Everything judged goes through the system, its scale too. What a feature and the system share (its own hits,
where it helped to make the system) is correlated as it is in life.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache, cached_property, partial
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from ..alignment import Alignment
from ..features import Feature, carried_moves
from ..frames import Array, Motion
from ..records import changed
from ..tolerances import Verdict, judge
from ..tolerances.drawn import drawn_length
from ..tolerances.extremes import excess, within
from ..uncertainty import Source, Uncertainty, exact, jacobians_of, turned
from .base import Asked, RowRecipe
from .quantities import Quantity
from .results import Characteristic, FoundFeature, State
from .row_hits import STATION
from .told import Sure, Told

ROUNDING = 4 * np.finfo(float).eps
FOLLOWS, FOLLOWS_MM = 1e-6, 1e-3  # mm by mm, and mm by rad, that are more than rounding
BY_CONSTRUCTION = 0.02  # of what its own sources do to it, left in a system that it made
SURELY_LONG = 6.0  # in standard uncertainties of all directions together, beyond which a length errs as its slopes say
RESTS_MM = 1e-7  # of a number, by which it rests on where stations stand
VYING = 3.5  # in standard uncertainties of a hit, by which it may be the farthest although another seems to be
FOLDED = float(np.sqrt(2 / np.pi))  # mean of what is as likely to either side, without its sign


def in_system(feature: Feature, system: Alignment | None) -> Feature:
    """A feature transformed into a coordinate system; None: as it is in the world."""
    if system is None:
        return feature
    return feature.in_system(system.part_from_world, system.scale)


class Number(NamedTuple):
    """A number of the shapes that features have.

    ``offset``: where it is the length of an offset (3,), or how far that is from a right or a straight angle, the offset
    too. ``slopes``: how both answer to a small motion of the one shape that it is of, and to its sizes, see ``Quantity``.
    """

    of: Callable[..., float]
    offset: Callable[..., Array] | None = None
    slopes: Callable[[Any], Array] | None = None


def told_in(
    numbers: Sequence[Number], features: Sequence[Feature], system: Alignment | None, wraps: bool = False
) -> list[Told]:
    """Quantities of features in a coordinate system, with their uncertainty by source.

    Parameters
    ----------
    features : in the system already, see ``in_system``
    wraps : they are angles, the same after a whole turn

    Notes
    -----
    Linear (JCGM 100): by the numbers' own slopes where all have them, else by central differences over small moves of
    each shape in its own axes. A small motion of the part moves all shapes together, so the system's share follows from
    the same derivatives. What follows a motion that nothing holds is not known at all.
    """
    shapes = [f.shape for f in features]
    together = _Together(numbers, features, system, wraps)
    return [Told(float(number.of(*shapes)), partial(together.sure, k)) for k, number in enumerate(numbers)]


@dataclass(frozen=True, eq=False)
class _Together:
    """Numbers whose uncertainty is worked out together, once that of one is asked for."""

    numbers: Sequence[Number]
    features: Sequence[Feature]
    system: Alignment | None
    wraps: bool

    def sure(self, k: int) -> Sure:
        return self._all[k]

    @cached_property
    def _all(self) -> list[Sure]:
        numbers, features, system = self.numbers, self.features, self.system
        propagated = _by_slopes(numbers, features, system) or _by_differences(numbers, features, system, self.wraps)
        values, moves, total = propagated
        found, at = [], 0
        for number in numbers:
            near = None
            if number.offset is not None:
                near = near_nothing(values[at + 1 : at + 4], total.part(slice(at + 1, at + 4)), total.u(at))
            found.append(Sure(total.at(at), why_unproven(moves[at, :6], total.at(at), system), near))
            at += 1 if number.offset is None else 4
        return found


def near_nothing(offset: Array, uncertainty: Uncertainty, u: float) -> float | None:
    """U of the length of an offset (3,) which may be nothing, or is not much more than is uncertain; None where it surely is.

    ``u``: the standard uncertainty of the length, as the slopes tell it.
    """
    moves = together(uncertainty)
    if float(offset @ offset) > (SURELY_LONG**2) * float((moves**2).sum()):
        return None
    U = drawn_length(offset, moves, _freedom(uncertainty))
    return U if uncertainty.size and 2 * u < U else None


def together(uncertainty: Uncertainty) -> Array:
    """(size, q): how numbers go with one standard deviation of each component of every source."""
    return np.hstack(list(uncertainty.by_source.values())) if uncertainty.by_source else np.zeros((uncertainty.size, 0))


def _freedom(uncertainty: Uncertainty) -> float:
    """Effective degrees of freedom of several numbers taken together (Welch and Satterthwaite)."""
    squares = {source: float(np.sum(term**2)) for source, term in uncertainty.by_source.items()}
    known = sum(squares.get(source, 0.0) ** 2 / spare for source, spare in uncertainty.spare.items())
    return sum(squares.values()) ** 2 / known if known > 0 else np.inf


SCALED = 1e-7  # by which lengths are scaled for the derivative by a scale
Propagated: TypeAlias = tuple[Array, Array, Uncertainty]  # values (k,), answers to motion and scale, by source


def _by_slopes(numbers: Sequence[Number], features: Sequence[Feature], system: Alignment | None) -> Propagated | None:
    """Propagation by slopes, for one feature; None where a number has no slopes, or the system has a scale."""
    if len(features) > 1 or (system is not None and system.uncertainty.size == 7):
        return None
    (feature,) = features
    values: list[float] = []
    rows = []
    for of, offset, slopes in numbers:
        if slopes is None:
            return None
        rows.append(slopes(feature.shape))
        values.append(of(feature.shape))
        if offset is not None:
            values += offset(feature.shape).tolist()
    moves = np.concatenate(rows) if len(rows) > 1 else rows[0]
    jacobian = moves.copy()
    jacobian[:, :6] = moves[:, :6] @ feature.from_origin
    at = 0
    for number in numbers:
        if number.offset is not None and not moves[at].any():  # at a fold it grows with any step, by as much as the offset
            jacobian[at] = np.sqrt((jacobian[at + 1 : at + 4] ** 2).sum(axis=0))
            moves[at, :6] = jacobian[at, :6] @ carried_moves(Motion.identity(), feature.local)
        at += 1 if number.offset is None else 4
    total = feature.uncertainty.through(jacobian)
    return np.array(values), moves, total if system is None else total + system.uncertainty.through(moves[:, :6])


class Numbers(NamedTuple):
    """Numbers (n,) of features in a system: their derivatives by the parameters of each feature, how they answer (n, 7) to a
    small motion of the part in the system and to its scale, and their uncertainty by source, the system's share in it."""

    values: Array
    jacobians: list[Array]
    moves: Array
    uncertainty: Uncertainty


def numbers_in(
    function: Callable[..., Array], features: Sequence[Feature], system: Alignment | None, wraps: bool = False
) -> Numbers:
    """Numbers ``function(*shapes)`` (n,) of features that are in the system already, by central differences."""
    values, jacobians = jacobians_of(function, features, wraps, every=True)
    total, moves = exact(len(values)), np.zeros((len(values), 7))
    for feature, jacobian in zip(features, jacobians, strict=True):
        total = total + feature.uncertainty.through(jacobian)
        moves[:, :6] += jacobian[:, :6] @ carried_moves(Motion.identity(), feature.local)
    if system is not None and system.uncertainty.size == 7:
        larger, smaller = (function(*(f.shape.scaled(1 + by) for f in features)) for by in (SCALED, -SCALED))
        moves[:, 6] = (larger - smaller) / (2 * SCALED)
    if system is not None:
        total = total + system.uncertainty.through(moves[:, : system.uncertainty.size])
    return Numbers(values, jacobians, moves, total)


def why_unproven(moves: Array, uncertainty: Uncertainty, system: Alignment | None) -> str:
    """Why a number that answers so (6,) to small slides and turns of the part in the system is not proven, or ""."""
    return ("" if system is None else _unproven(moves, system)) or doubted_stations(uncertainty)


def _by_differences(
    numbers: Sequence[Number], features: Sequence[Feature], system: Alignment | None, wraps: bool
) -> Propagated:
    def function(*shapes: Any) -> Array:
        found: list[float] = []
        for of, offset, _ in numbers:
            found.append(of(*shapes))
            if offset is not None:
                found += [float(v) for v in offset(*shapes)]
        return np.array(found, float)

    found = numbers_in(function, features, system, wraps)
    return found.values, found.moves, found.uncertainty


def _unproven(moves: Array, system: Alignment) -> str:
    """Why a number that answers so to small slides and turns of the part is not proven in the system."""
    loose = [each.words for each in system.ledger.loose if follows(moves, each.motion)]
    if loose:
        return f"It is not known, since nothing holds how the part {' and '.join(loose)}."
    return system.doubt if np.abs(moves[:3]).max() > FOLLOWS or np.abs(moves[3:]).max() > FOLLOWS_MM else ""


def doubted_stations(found: Uncertainty) -> str:
    """Why stations are in doubt on whose place a number rests; what they share cancels, and is not doubted."""
    doubted = [s for s in found.by_source if s.what == STATION and isinstance(s.whose, str)]
    rests = (s for s in doubted if any(found.share(s, k) > RESTS_MM for k in range(found.size)))
    return next((str(s.whose) for s in rests), "")


def follows(moves: Array, motion: Array) -> Any:
    """Whether numbers that answer so (..., 6) change with a motion (6,) of the part, more than by rounding: (...)."""
    slide, turn = (float(np.linalg.norm(motion[part])) for part in (slice(3), slice(3, 6)))
    far, round_ = np.linalg.norm(moves[..., :3], axis=-1), np.linalg.norm(moves[..., 3:], axis=-1)
    return np.abs(moves @ motion) > FOLLOWS * (far * slide + round_ * turn + slide) + FOLLOWS_MM * turn


@cache
def _without_limits(key: str) -> Asked:
    return Asked(key=key)


def asked_of(recipe: RowRecipe, quantities: Sequence[Quantity]) -> list[tuple[Asked, Quantity]]:
    """The characteristics asked for, or all, each with its quantity; unknown ones are left out."""
    by_key = {q.key: q for q in quantities}
    wanted = recipe.asked or [_without_limits(q.key) for q in quantities]
    return [(a, by_key[a.key]) for a in wanted if a.key in by_key]


def planned(recipe: RowRecipe, quantities: Sequence[Quantity]) -> tuple[Characteristic, ...]:
    """Every characteristic asked, with nothing found yet."""
    return tuple(none_yet(quantity, limits) for limits, quantity in asked_of(recipe, quantities))


def characteristics_of(
    recipe: RowRecipe,
    row: int,
    found: FoundFeature,
    quantities: Sequence[Quantity],
    feature: Feature,
    system: Alignment | None,
    helped: bool,
) -> tuple[Characteristic, ...]:
    """Every characteristic asked of a feature, judged in a system.

    Parameters
    ----------
    feature : in the system; ``helped``: the row is one of the system's own features
    """
    asked = asked_of(recipe, quantities)
    there = [q for _, q in asked if q.of is not None and (system is not None or not q.in_part)]
    in_it = _told_of(there, feature, system)
    alone = _told_of(there, feature, None) if helped else in_it
    judged = []
    for limits, quantity in asked:
        if quantity.of is None:
            form = _form(row, found)
            judged.append(decided(quantity, limits, form, found.state) if form else none_yet(quantity, limits))
        elif quantity not in there:
            judged.append(none_yet(quantity, limits))
        else:
            told, own = in_it[there.index(quantity)], alone[there.index(quantity)]
            if found.tip is not None and quantity.tip_share:
                shift = np.array([[-quantity.tip_share * found.tip.u_mm]])
                off = Uncertainty(1, {found.tip.source: shift})
                less = told.value - quantity.tip_share * found.tip.radius_mm
                told = told.but(lambda sure, off=off: {"uncertainty": sure.uncertainty + off}, less)
            if quantity.each is not None and found.state == "done":
                told = _extreme(told, quantity, quantity.each(feature.shape), Source("hits", row), found.u_hit_mm)
            judged.append(decided(quantity, limits, told, found.state, helped and _by_construction(told, own.uncertainty)))
    return tuple(judged)


def _by_construction(told: Told, own: Uncertainty) -> bool:
    """Zero uncertainty from its own sources in a system that the feature helped to define."""
    left = np.sqrt(sum(told.uncertainty.share(source) ** 2 for source in own.by_source))
    return bool(left < BY_CONSTRUCTION * own.u())


def _extreme(told: Told, quantity: Quantity, each: Array, hits: Source, u_hit_mm: float) -> Told:
    """The uncertainty of an extreme of many places: what their own errors do to it, and what moves them all.

    Which of them truly is the farthest is not known, since no fit tells their errors from their form: those that lie near
    enough to it to be so are taken as if all of them were, and what moves or turns them together as if it always brought
    one of them farther out. That says too much rather than too little.
    """
    outward, times = (np.concatenate([each, -each]), 2.0) if quantity.about else (each, 1.0)

    def extreme(sure: Sure) -> dict[str, Any]:
        vying = np.count_nonzero(outward > outward.max() - VYING * u_hit_mm)
        bias, own = (times * value for value in excess(np.zeros(vying), u_hit_mm))
        beside = sure.uncertainty.without(hits)
        near = within(bias + FOLDED * beside.u(), float(np.hypot(own, beside.u()))) if vying > 1 else None
        return {"uncertainty": beside + Uncertainty(1, {hits: np.array([[own]])}), "near": near}

    return told.but(extreme)


def _told_of(quantities: Sequence[Quantity], feature: Feature, system: Alignment | None) -> list[Told]:
    numbers = [Number(q.of, q.offset, q.slopes) for q in quantities if q.of is not None]
    return told_in(numbers, [feature], system) if numbers else []


def _form(row: int, found: FoundFeature) -> Told | None:
    """The form, and its uncertainty: of its two extreme hits, as stated, since what is seen holds the form itself.

    Of many hits these are drawn outward, which U says once all are there.
    """
    if found.fit is None or found.fit.spare < 1:
        return None
    source, u_hit = Source("hits", row), found.u_hit_mm
    if found.state != "done" or found.residuals is None or found.fit.per_point > 1:
        return Told.known(found.fit.form, Uncertainty(1, {source: np.array([[np.sqrt(2) * u_hit]])}))

    def drawn_outward() -> Sure:
        drawn = found.form_drawn
        return Sure(Uncertainty(1, {source: np.array([[drawn.own_mm]])}), near=drawn.U_mm)

    return Told(found.fit.form, drawn_outward)


def none_yet(quantity: Quantity, limits: Asked) -> Characteristic:
    """A characteristic of which nothing is known yet."""
    return Characteristic(quantity.key, quantity.unit, quantity.nominal, lower=limits.lower, upper=limits.upper)


def decided(quantity: Quantity, limits: Asked, told: Told, state: State, held: bool = False) -> Characteristic:
    """A characteristic with its deviation and, where limits were asked and the row is done, its verdict."""
    key, unit, nominal, value = quantity.key, quantity.unit, quantity.nominal, told.value
    within = limits.lower, limits.upper
    if nominal is None or held:
        return Characteristic(key, unit, nominal, value, None, told.but(_plainly), *within, held=held)
    deviation = value - nominal
    if quantity.wraps:
        deviation = float(turned(deviation))
        value = nominal + deviation
    found = Characteristic(key, unit, nominal, value, deviation, told, *within)
    if state != "done" or within == (None, None):
        return found
    return changed(found, verdict=verdict_of(found, found.U or 0.0))


def judged_anew(found: Characteristic, told: Told) -> Characteristic:
    """A characteristic with another uncertainty, and the verdict that goes with it."""
    anew = changed(found, told=told)
    return anew if found.verdict is None else changed(anew, verdict=verdict_of(anew, anew.U or 0.0))


def _plainly(_: Sure) -> dict[str, Any]:
    """Without the remarks that concern a deviation."""
    return {"unproven": "", "near": None}


def verdict_of(found: Characteristic, U: float) -> Verdict:
    """Decided by its limits, as if its deviation were known to U."""
    assert found.deviation is not None and found.actual is not None and found.nominal is not None
    lower = -np.inf if found.lower is None else found.lower
    upper = np.inf if found.upper is None else found.upper
    return judge(found.deviation, lower, upper, U, ROUNDING * max(abs(found.actual), abs(found.nominal)))
