"""Quantities of features judged in a coordinate system: values, uncertainty by source, verdicts.

Everything judged goes through the system, its scale too. What a feature and the system share (its own hits,
where it helped to make the system) is correlated as it is in life.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any, TypeAlias

import numpy as np

from ..alignment import Alignment
from ..features import Feature, carried_moves
from ..frames import Array, Motion
from ..tolerances import Verdict, judge
from ..tolerances.extremes import drawn_outward, excess, within
from ..uncertainty import STEP, Source, Uncertainty, exact, longest, slope, turned
from .base import Asked, RowRecipe
from .quantities import Quantity
from .results import Characteristic, FoundFeature, State

ROUNDING = 4 * np.finfo(float).eps
FOLLOWS, FOLLOWS_MM = 1e-6, 1e-3  # mm by mm, and mm by rad, that are more than rounding
BY_CONSTRUCTION = 0.02  # of what its own sources do to it, left in a system that it made
VYING = 3.5  # in standard uncertainties of a hit, by which it may be the farthest although another seems to be
FOLDED = float(np.sqrt(2 / np.pi))  # mean of what is as likely to either side, without its sign


def in_system(feature: Feature, system: Alignment | None) -> Feature:
    """A feature told in a system; None: as it is in the world."""
    if system is None:
        return feature
    return feature.in_system(system.part_from_world, system.scale)


@dataclass(frozen=True, eq=False)
class Told:
    """A number in a system: its value, its uncertainty by source, why it is not proven whatever U is, or "".

    ``near``: U where the number is the length of something that may as well be nothing; else None.
    """

    value: float
    uncertainty: Uncertainty
    unproven: str = ""
    near: float | None = None


Value: TypeAlias = Callable[..., float]
Offset: TypeAlias = Callable[..., Array]


def told_in(
    numbers: Sequence[tuple[Value, Offset | None]], features: Sequence[Feature], system: Alignment | None, wraps: bool = False
) -> list[Told]:
    """Numbers of features told in a system.

    Parameters
    ----------
    numbers : functions of the shapes; where one is the length of an offset (3,), or how far that is from a right or
        a straight angle, the offset too
    wraps : they are angles, the same after a whole turn
    """
    lengths = [offset for _, offset in numbers if offset is not None]

    def all_of(*shapes: Any) -> list[float]:
        return [of(*shapes) for of, _ in numbers] + [float(v) for offset in lengths for v in offset(*shapes)]

    values, uncertainty, unproven = _propagated(all_of, features, system, wraps)
    found, at = [], len(numbers)
    for k, (_, offset) in enumerate(numbers):
        near = None
        if offset is not None:
            below = longest(uncertainty.part(slice(at, at + 3)))
            near = below if float(np.linalg.norm(values[at : at + 3])) <= below else None
            at += 3
        found.append(Told(float(values[k]), uncertainty.at(k), unproven[k], near))
    return found


def _propagated(
    function: Callable[..., Sequence[float]], features: Sequence[Feature], system: Alignment | None, wraps: bool
) -> tuple[Array, Uncertainty, tuple[str, ...]]:
    """Values (k,), their uncertainty by source, and why each is not proven.

    Parameters
    ----------
    features : told in the system already, see ``in_system``

    Notes
    -----
    Linear (JCGM 100), by central differences over small moves of each shape in its own axes. A small motion
    of the part moves all shapes together, so the system's share follows from the same derivatives. What
    follows a motion that nothing holds is not known at all.
    """
    shapes = [f.shape for f in features]
    values = np.array(function(*shapes), float)
    total, placed = exact(len(values)), np.zeros((len(values), 7))
    for i, feature in enumerate(features):

        def at(shape: Any, i: int = i) -> Array:
            return np.array(function(*shapes[:i], shape, *shapes[i + 1 :]), float)

        jacobian = np.zeros((len(values), feature.uncertainty.size))
        parameters = range(feature.uncertainty.size) if system is not None else _used(feature)
        for k in parameters:
            forward, backward = feature.nudged[k]
            up, down = at(forward) - values, values - at(backward)
            jacobian[:, k] = (slope(turned(up), turned(down)) if wraps else slope(up, down)) / STEP
        total = total + feature.uncertainty.through(jacobian)
        if system is not None:
            placed[:, :6] += jacobian[:, :6] @ carried_moves(Motion.identity(), feature.local)
            if system.uncertainty.size == 7:
                up, down = at(feature.shape.scaled(1 + 1e-7)), at(feature.shape.scaled(1 - 1e-7))
                placed[:, 6] += (up - down) / 2e-7
    if system is None:
        return values, total, ("",) * len(values)
    total = total + system.uncertainty.through(placed[:, : system.uncertainty.size])
    return values, total, tuple(_unproven(each, system) for each in placed[:, :6])


def _unproven(moves: Array, system: Alignment) -> str:
    """Why a number that answers so to small slides and turns of the part is not proven in the system."""
    loose = [each.words for each in system.ledger.loose if _follows(moves, each.motion)]
    if loose:
        return f"It is not known, since nothing holds how the part {' and '.join(loose)}."
    return system.doubt if np.abs(moves[:3]).max() > FOLLOWS or np.abs(moves[3:]).max() > FOLLOWS_MM else ""


def _follows(moves: Array, motion: Array) -> bool:
    """A number changes with a motion of the part, more than by rounding."""
    slide, turn = (float(np.linalg.norm(motion[part])) for part in (slice(3), slice(3, 6)))
    answers = float(np.linalg.norm(moves[:3])) * slide + float(np.linalg.norm(moves[3:])) * turn
    return abs(float(moves @ motion)) > FOLLOWS * (answers + slide) + FOLLOWS_MM * turn


def _used(feature: Feature) -> list[int]:
    used = np.zeros(feature.uncertainty.size, bool)
    for term in feature.uncertainty.terms.values():
        used |= term.any(axis=1)
    return np.flatnonzero(used).tolist()


def asked_of(recipe: RowRecipe, quantities: Sequence[Quantity]) -> list[tuple[Asked, Quantity]]:
    """What was asked, or all that there is, each with its quantity; what a row has not is left out."""
    by_key = {q.key: q for q in quantities}
    wanted = recipe.asked or tuple(Asked(key=q.key) for q in quantities)
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
    feature : told in the system; ``helped``: the row helped to make the system
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
            told, own = in_it[there.index(quantity)], alone[there.index(quantity)].uncertainty
            if found.tip is not None and quantity.tip_share:
                shift = np.array([[-quantity.tip_share * found.tip.u_mm]])
                off = Uncertainty(1, {found.tip.source: shift})
                told = replace(
                    told, value=told.value - quantity.tip_share * found.tip.radius_mm, uncertainty=told.uncertainty + off
                )
            if quantity.each is not None and found.state == "done":
                told = _extreme(told, quantity, quantity.each(feature.shape), Source("hits", row), found.u_hit_mm)
            left = np.sqrt(sum(told.uncertainty.share(source) ** 2 for source in own.terms))
            judged.append(decided(quantity, limits, told, found.state, helped and left < BY_CONSTRUCTION * own.u()))
    return tuple(judged)


def _extreme(told: Told, quantity: Quantity, each: Array, hits: Source, u_hit_mm: float) -> Told:
    """Of the extreme of many: what their own errors do to it, and what moves them all.

    Which of them truly is the farthest is not known, since no fit tells their errors from their form: those that lie near
    enough to it to be so are taken as if all of them were, and what moves or turns them together as if it always brought
    one of them farther out. That says too much rather than too little.
    """
    outward, times = (np.concatenate([each, -each]), 2.0) if quantity.about else (each, 1.0)
    vying = np.count_nonzero(outward > outward.max() - VYING * u_hit_mm)
    bias, own = (times * value for value in excess(np.zeros(vying), u_hit_mm))
    beside = told.uncertainty.without(hits)
    near = within(bias + FOLDED * beside.u(), float(np.hypot(own, beside.u()))) if vying > 1 else None
    return replace(told, uncertainty=beside + Uncertainty(1, {hits: np.array([[own]])}), near=near)


def _told_of(quantities: Sequence[Quantity], feature: Feature, system: Alignment | None) -> list[Told]:
    numbers = [(q.of, q.offset) for q in quantities if q.of is not None]
    return told_in(numbers, [feature], system) if numbers else []


def _form(row: int, found: FoundFeature) -> Told | None:
    """The form, and its uncertainty: of its two extreme hits, as stated, since what is seen holds the form itself.

    Of many hits these are drawn outward, which U says once all are there.
    """
    if found.fit is None or found.fit.spare < 1:
        return None
    source, u_hit = Source("hits", row), found.u_hit_mm
    if found.state != "done" or found.residuals is None or found.fit.per_point > 1:
        return Told(found.fit.form, Uncertainty(1, {source: np.array([[np.sqrt(2) * u_hit]])}))
    u_mm, near = drawn_outward(found.calm_share * found.residuals, u_hit, about=False)
    return Told(found.fit.form, Uncertainty(1, {source: np.array([[u_mm]])}), near=near(0.0))


def none_yet(quantity: Quantity, limits: Asked) -> Characteristic:
    """A characteristic of which nothing is known yet."""
    return Characteristic(quantity.key, quantity.unit, quantity.nominal, lower=limits.lower, upper=limits.upper)


def decided(quantity: Quantity, limits: Asked, told: Told, state: State, held: bool = False) -> Characteristic:
    """A characteristic with its deviation and, where limits were asked and the row is done, its verdict."""
    found = replace(none_yet(quantity, limits), actual=told.value, uncertainty=told.uncertainty, held=held)
    if quantity.nominal is None or held:
        return found
    found = replace(found, deviation=told.value - quantity.nominal, unproven=told.unproven, near=told.near)
    if state != "done" or (limits.lower is None and limits.upper is None):
        return found
    return replace(found, verdict=verdict_of(found, found.U or 0.0))


def verdict_of(found: Characteristic, U: float) -> Verdict:
    """Decided by its limits, as if its deviation were known to U."""
    assert found.deviation is not None and found.actual is not None and found.nominal is not None
    lower = -np.inf if found.lower is None else found.lower
    upper = np.inf if found.upper is None else found.upper
    return judge(found.deviation, lower, upper, U, ROUNDING * max(abs(found.actual), abs(found.nominal)))
