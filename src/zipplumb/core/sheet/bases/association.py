"""How a datum is laid on the real feature from outside its material, as near to it as can be.

A plane touches from outside, and its greatest distance from what was touched is the least; the axis of a bore is that of the
largest cylinder that goes in, of a boss that of the smallest that goes over. Each keeps the direction that the datums before
it have left it. Source: ISO 5459:2011, annex A (association, from memory; the edition of 2024 lets the drawing say another).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ...errors import AlignmentError, PlumbError
from ...features import Feature, carried_moves, frame_of, sizes_of, widened
from ...fitting import FitResult, Meant, fit
from ...frames import Array, Motion, cross, unit
from ...shapes import Circle, Cylinder, Plane, Sphere
from ...uncertainty import Source, Uncertainty
from ..results import FoundFeature
from .systems import KEPT, ActualFeature

SAME_WAY = 1e-6  # of two directions
OTHERWISE = "Lay it by least squares."


@dataclass(frozen=True, eq=False)
class Turned:
    """Directions fixed by the preceding datums, each as nominal and as actual in the part, (3,) and (3,)."""

    ways: tuple[tuple[Array, Array], ...] = ()

    def then(self, nominal: Array, actual: Array) -> Turned:
        return Turned((*self.ways, (nominal, actual)))

    def settled(self, nominal: Array) -> Array | None:
        """The actual direction (3,) of a nominal one where it is settled."""
        for way, actual in self.ways:
            if np.linalg.norm(cross(way, nominal)) < SAME_WAY:
                return np.asarray(actual * np.sign(way @ nominal))
        frames = [_triad(*pair) for pair in zip(*self.ways, strict=True)] if self.ways else []
        if len(frames) < 2 or frames[0] is None or frames[1] is None:
            return None
        return np.asarray(frames[1] @ frames[0].T @ nominal)


def _triad(*ways: Array) -> Array | None:
    """Axes as columns: the first direction, what the first that is across it leaves, and across; None where all are one."""
    across = next((w for w in ways[1:] if np.linalg.norm(cross(ways[0], w)) > SAME_WAY), None)
    if across is None:
        return None
    second = unit(across - (across @ ways[0]) * ways[0])
    return np.column_stack([ways[0], second, cross(ways[0], second)])


def outside(actual: ActualFeature, row: int, before: Turned) -> ActualFeature:
    """A feature laid from outside the material. Raises AlignmentError where that cannot be."""
    laid, found = next((how for shape, how in LAID if isinstance(actual.feature.shape, shape)), None), actual.found
    if laid is None or found is None or found.fit is None or found.side is None:
        raise AlignmentError(f"{actual.name} has no surface to be laid on from outside.", KEPT, OTHERWISE)
    try:
        shape, local, own = laid(actual, before, Source("hits", row))
    except PlumbError as error:
        raise AlignmentError(f"{actual.name} is not laid from outside: {error.happened}", KEPT, OTHERWISE) from error
    feature = actual.feature
    moves = np.zeros((own.size, feature.uncertainty.size))
    moves[:6, :6] = carried_moves(feature.local, local)
    moves[6:, 6:] = np.eye(own.size - 6)
    spread = feature.uncertainty.without(Source("hits", row)).through(moves) + own
    return replace(actual, feature=Feature(feature.name, shape, local, spread, feature.extent))


Laid = tuple[Any, Motion, Uncertainty]


def _of_fit(result: FitResult, shape: Any, u_mm: float, source: Source) -> Laid:
    spread = widened(result, Uncertainty.of_covariance(source, result.unit_covariance * u_mm**2))
    size = 6 + len(sizes_of(shape))
    return shape, result.local, spread.through(np.eye(size, spread.size))


def _plane(actual: ActualFeature, before: Turned, source: Source) -> Laid:
    points, faces, nominal = _points(actual), actual.feature.shape.normal, actual.nominal.normal
    way, middle = before.settled(nominal), points.mean(axis=0)
    if way is None and not before.ways:
        result = fit("plane", points, criterion="chebyshev", toward=faces)
        normal = result.shape.normal
        return _of_fit(result, Plane(_touched(points, middle, normal), normal), _found(actual).u_hit_mm, source)
    if way is None:
        along_nominal, along = before.ways[0]
        if abs(along_nominal @ nominal) > SAME_WAY:
            raise AlignmentError("it does not stand at right angles to the datum before it.", KEPT, OTHERWISE)
        result = fit("line", points, criterion="chebyshev", fixed={"plane": Plane(middle, along)})
        normal = cross(result.shape.direction, along)
        normal = normal * np.sign(normal @ faces)
        return _of_fit(result, Plane(_touched(points, middle, normal), normal), _found(actual).u_hit_mm, source)
    shape = Plane(_touched(points, middle, way), way)
    slide = np.zeros((6, 1))
    slide[2] = _found(actual).u_hit_mm
    return shape, frame_of(shape), Uncertainty(6, {source: slide})


def _touched(points: Array, middle: Array, normal: Array) -> Array:
    """Under the middle of some points, the place of the plane that touches them from outside."""
    return np.asarray(middle + ((points - middle) @ normal).max() * normal)


def _cylinder(actual: ActualFeature, before: Turned, source: Source) -> Laid:
    way = before.settled(actual.nominal.direction)
    if way is None and before.ways:
        raise AlignmentError("it lies across the datum before it.", KEPT, OTHERWISE)
    fixed, meant = {} if way is None else {"direction": way}, Meant.near(actual.feature.shape)
    result = fit("cylinder", _points(actual), criterion=_goes(actual), fixed=fixed, meant=meant)
    return _of_fit(result, result.shape, _found(actual).u_hit_mm, source)


def _round(kind: str, fixed: Callable[[Any], dict[str, Any]]) -> Callable[[ActualFeature, Turned, Source], Laid]:
    def laid(actual: ActualFeature, before: Turned, source: Source) -> Laid:
        result = fit(kind, _points(actual), criterion=_goes(actual), fixed=fixed(actual.feature.shape))
        return _of_fit(result, result.shape, _found(actual).u_hit_mm, source)

    return laid


def _found(actual: ActualFeature) -> FoundFeature:
    assert actual.found is not None
    return actual.found


def _points(actual: ActualFeature) -> Array:
    return np.asarray(actual.scale * _found(actual).touched)


def _goes(actual: ActualFeature) -> str:
    """In a bore, or over a boss."""
    return "inscribed" if _found(actual).air < 0 else "circumscribed"


LAID: Sequence[tuple[type, Callable[[ActualFeature, Turned, Source], Laid]]] = (
    (Plane, _plane),
    (Cylinder, _cylinder),
    (Circle, _round("circle", lambda shape: {"normal": shape.normal})),
    (Sphere, _round("sphere", lambda shape: {})),
)
