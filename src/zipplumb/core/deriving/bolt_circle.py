"""The circle through the holes of a pattern, and how far each hole is from its place on it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..errors import DeriveError
from ..fitting import FitResult, fit
from ..frames import Array


@dataclass(frozen=True)
class HoleError:
    """``radial_mm``: + farther out than the circle. ``angular_rad``: from the evenly spaced place."""

    radial_mm: float
    angular_rad: float
    along_mm: float


@dataclass(frozen=True, eq=False)
class BoltCircle:
    """``circle``: the fit through the centers; ``holes``: in the order given, first hole's place by best fit."""

    circle: FitResult
    holes: tuple[HoleError, ...]


def bolt_circle(centers: Sequence[Array], normal: Array | None = None) -> BoltCircle:
    """Fit a bolt circle through hole centers that go round it in order, evenly spaced.

    Raises DeriveError for fewer than three holes.
    """
    points = np.asarray(centers, float).reshape(-1, 3)
    if len(points) < 3:
        raise DeriveError("A bolt circle needs three holes.", "The holes are kept.", "Choose more holes.")
    result = fit("circle", points, fixed={} if normal is None else {"normal": normal})
    rel = result.local.inverse().points(points)
    angles = np.arctan2(rel[:, 1], rel[:, 0])
    steps = (np.diff(angles) + np.pi) % (2 * np.pi) - np.pi
    sense = 1.0 if steps.sum() >= 0 else -1.0
    even = sense * np.arange(len(points)) * 2 * np.pi / len(points)
    off = (angles - even - angles[0] + np.pi) % (2 * np.pi) - np.pi
    off -= off.mean()
    radius = result.shape.radius
    holes = tuple(
        HoleError(float(r), float(sense * a), float(sense * a * radius)) for r, a in zip(result.residuals, off, strict=True)
    )
    return BoltCircle(result, holes)
