"""Quantities of features judged in a coordinate system: values, uncertainty by source, verdicts.

Everything judged goes through the system, its scale too. What a feature and the system share (its own hits,
where it helped to make the system) is correlated as it is in life.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from ..alignment import Alignment
from ..features import Feature, carried_moves
from ..frames import Array, Motion
from ..tolerances import judge
from ..uncertainty import STEP, Source, Uncertainty, exact, slope
from .base import Asked, RowRecipe
from .quantities import Quantity
from .results import COVERAGE, UNKNOWN, Characteristic, FoundFeature, State

BY_CONSTRUCTION = 0.02  # of what its own sources do to it, left in a system that it made


def in_system(feature: Feature, system: Alignment | None) -> Feature:
    """A feature told in a system; None: as it is in the world."""
    if system is None:
        return feature
    motion = system.part_from_world
    scaled = Motion(feature.local.rotation, system.scale * feature.local.translation)
    extent = None if feature.extent is None else system.points(feature.extent)
    return replace(feature, shape=system.shape(feature.shape), local=motion @ scaled, extent=extent)


def propagate_in(
    function: Callable[..., Sequence[float]], features: Sequence[Feature], system: Alignment | None
) -> tuple[Array, Uncertainty]:
    """Values (k,) of ``function(*shapes)`` of features told in a system, and their uncertainty by source.

    Parameters
    ----------
    features : told in the system already, see ``in_system``

    Notes
    -----
    Linear (JCGM 100), by central differences over small moves of each shape in its own axes. A small motion
    of the part moves all shapes together, so the system's share follows from the same derivatives.
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
            up, down = at(feature.changed(k, STEP)), at(feature.changed(k, -STEP))
            jacobian[:, k] = slope(up - values, values - down) / STEP
        total = total + feature.uncertainty.through(jacobian)
        if system is not None:
            placed[:, :6] += jacobian[:, :6] @ carried_moves(Motion.identity(), feature.local)
            if system.uncertainty.size == 7:
                up, down = at(feature.shape.scaled(1 + 1e-7)), at(feature.shape.scaled(1 - 1e-7))
                placed[:, 6] += (up - down) / 2e-7
    if system is not None:
        total = total + system.uncertainty.through(placed[:, : system.uncertainty.size])
    return values, total


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
    return tuple(decided(quantity, limits, None, UNKNOWN, "todo") for limits, quantity in asked_of(recipe, quantities))


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
    told = [q for _, q in asked if q.of is not None and (system is not None or not q.in_part)]
    values, uncertainty, alone = _values(told, feature, system, helped)
    judged = []
    for limits, quantity in asked:
        if quantity.of is None:
            judged.append(decided(quantity, limits, *_form(row, found), found.state))
        elif quantity not in told:
            judged.append(decided(quantity, limits, None, UNKNOWN, found.state))
        else:
            k = told.index(quantity)
            actual, own = float(values[k]), uncertainty.at(k)
            if found.tip is not None and quantity.tip_share:
                actual -= quantity.tip_share * found.tip.radius_mm
                shift = np.array([[-quantity.tip_share * found.tip.u_mm]])
                own = own + Uncertainty(1, {found.tip.source: shift})
            left = np.sqrt(sum(own.share(source) ** 2 for source in alone.terms))
            held = helped and left < BY_CONSTRUCTION * alone.u(k)
            judged.append(decided(quantity, limits, actual, own, found.state, held))
    return tuple(judged)


def _form(row: int, found: FoundFeature) -> tuple[float | None, Uncertainty]:
    """The form, and its uncertainty: of its two extreme hits, as stated, since what is seen holds the form itself."""
    if found.fit is None or found.fit.spare < 1:
        return None, UNKNOWN
    return found.fit.form, Uncertainty(1, {Source("hits", row): np.array([[np.sqrt(2) * found.u_hit_mm]])})


def _values(
    told: Sequence[Quantity], feature: Feature, system: Alignment | None, helped: bool
) -> tuple[Array, Uncertainty, Uncertainty]:
    """Values, their uncertainty, and what of it would be the feature's alone."""
    if not told:
        return np.empty(0), UNKNOWN, UNKNOWN

    def numbers(shape: Any) -> list[float]:
        return [q.of(shape) for q in told]  # type: ignore[misc]

    values, uncertainty = propagate_in(numbers, [feature], system)
    return values, uncertainty, propagate_in(numbers, [feature], None)[1] if helped else uncertainty


def decided(
    quantity: Quantity, limits: Asked, actual: float | None, uncertainty: Uncertainty, state: State, held: bool = False
) -> Characteristic:
    """A characteristic with its deviation and, where limits were asked and the row is done, its verdict."""
    found = Characteristic(
        quantity.key, quantity.unit, quantity.nominal, actual, None, uncertainty, limits.lower, limits.upper, None, held
    )
    if actual is None or quantity.nominal is None or held:
        return found
    deviation = actual - quantity.nominal
    verdict = None
    if state == "done" and (limits.lower is not None or limits.upper is not None):
        lower = -np.inf if limits.lower is None else limits.lower
        upper = np.inf if limits.upper is None else limits.upper
        U = COVERAGE * uncertainty.u() if uncertainty.size else 0.0
        verdict = judge(deviation, lower, upper, U)
    return replace(found, deviation=deviation, verdict=verdict)
