"""A feature of hits: where it is, and how uncertain by source."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from ...features import Feature, carried_moves, differences, extent_of, frame_of, sizes_of, widening
from ...fitting import FitResult
from ...frames import Array, Motion
from ...probing import contacts_from_centers
from ...uncertainty import Later, Source, Uncertainty
from ..row_hits import RowHits
from ..scatter import surely_worse

TIP_STEP = 1e-3  # mm, of a radius


def worse(stated_mm: float, seen_mm: float, spare: int) -> tuple[float, float]:
    """Standard uncertainty of a hit (mm) and its degrees of freedom: as its maker states, unless its own scatter says worse.

    What is stated is known well; what is seen surely worse than that is known from as many hits as are spare.
    """
    if not np.isfinite(seen_mm):
        return stated_mm, np.inf
    return max(stated_mm, seen_mm), float(spare) if surely_worse(stated_mm, seen_mm, spare) else np.inf


def feature_of_hits(
    name: str,
    hits: RowHits,
    result: FitResult,
    surface: Callable[[float], Any],
    plane: Feature | None,
    seen_mm: float | None = None,
) -> Feature:
    """A measured feature with its uncertainty by source: its hits, offsets, stations, tips, the plane that it lies in.

    Parameters
    ----------
    surface : tip radius -> the surface under the fitted shape of tip centers
    plane : another row's, in which a 2D shape was fitted
    seen_mm : how much the hits scatter, NaN where they do not tell; by default what the fit leaves
    """
    shape = surface(hits.calibration.radius_mm)
    local, seen = frame_of(shape), (result.gaussian or result).sigma if seen_mm is None else seen_mm

    def worked_out() -> Uncertainty:
        into = np.eye(6 + len(sizes_of(shape)))
        into[:6, :6] = carried_moves(result.local, local)
        return _of_hits(hits, result, plane, seen, into) + _tips(hits, surface, local, len(into))

    return Feature(name, shape, local, Later(6 + len(sizes_of(shape)), worked_out), extent_of(result, shape, contacts_from))


def _of_hits(hits: RowHits, result: FitResult, plane: Feature | None, seen_mm: float, into: Array) -> Uncertainty:
    """Uncertainty from the hits, from effects common to them, and from the projection plane; ``into``: transforms from the
    fit's axes."""
    size, own = len(into), hits.source
    u_hit, freedom = worse(hits.u_hit_mm, seen_mm, result.spare)
    wide = into @ widening(result, size)
    found = Uncertainty.of_covariance(own, result.unit_covariance * u_hit**2, freedom).through(wide)
    shifts = hits.shifts()
    found = found + Uncertainty(size, {s: wide @ result.response(each) for s, each in shifts.items()})
    if result.lies_in is not None:
        leaning = result.lies_in
        carried = into[:, :6] @ carried_moves(leaning.local, result.local) @ widening(leaning)
        u_hit, freedom = worse(hits.u_hit_mm, leaning.sigma, leaning.spare)
        found = found.beside(Uncertainty.of_covariance(own, leaning.unit_covariance * u_hit**2, freedom).through(carried))
        found = found + Uncertainty(size, {s: carried @ leaning.response(each) for s, each in shifts.items()})
    if plane is not None:
        carried = np.zeros((size, plane.uncertainty.size))
        carried[:, :6] = into[:, :6] @ carried_moves(plane.local, result.local)
        found = found + plane.uncertainty.through(carried)
    return found


def contacts_from(result: FitResult, surface: Any) -> Array:
    """Hits carried onto the surface where that is one; else as they are."""
    return contacts_from_centers(surface, result.points) if sizes_of(surface) or hasattr(surface, "normal") else result.points


def _tips(hits: RowHits, surface: Callable[[float], Any], local: Motion, size: int) -> Uncertainty:
    """Derivatives by the radius of each tip used, in the feature's own axes."""
    radius = hits.calibration.radius_mm
    here, there = (differences(surface(r), local) for r in (radius, radius + TIP_STEP))
    answer = ((there - here) / TIP_STEP)[:, None]
    terms = {}
    for number in dict.fromkeys(hits.calibrations.tolist()):
        share = float(np.mean(hits.calibrations == number))
        terms[Source("tip", number)] = share * hits.kit.calibrations[number].u_radius_mm * answer
    return Uncertainty(size, terms)
