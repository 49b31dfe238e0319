"""Known points measured: the part's place, with scale free, fixed, or from material and temperature."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields

import numpy as np
from numpy.typing import ArrayLike
from scipy import special

from ..errors import AlignmentError
from ..features import Feature
from ..shapes import Point
from .hold import Hold
from .holds import HoldsAlignment, align_holds
from .similarity import similarity

# per kelvin, 10^-6 (from memory: handbook values at room temperature)
EXPANSION = {
    "carbon steel": 11.7, "stainless steel 304": 17.3, "aluminium 6061": 23.6, "cast iron": 10.8, "titanium Ti-6Al-4V": 8.6,
    "Invar 36": 1.3, "brass 70/30": 19.9,
}  # fmt: skip
REFERENCE_C = 20.0  # ISO 1: the temperature at which a drawing's lengths hold


def expansion_scale(material: str, temperature_c: float) -> float:
    """How much longer the part is at a temperature than at 20 °C: 1 + α ΔT (ISO 1)."""
    if material not in EXPANSION:
        known = ", ".join(EXPANSION)
        raise AlignmentError(f"The expansion of “{material}” is not known.", "Nothing was changed.", f"Choose one of {known}.")
    if not np.isfinite(temperature_c) or not -50 <= temperature_c <= 100:
        raise AlignmentError(
            f"{temperature_c:g} °C is no shop's temperature.", "Nothing was changed.", "Give the part's in °C."
        )
    return 1 + EXPANSION[material] * 1e-6 * (temperature_c - REFERENCE_C)


def u_expansion_scale(material: str, temperature_c: float, u_temperature_c: float, u_share: float) -> float:
    """Standard uncertainty of ``expansion_scale``: (α u(T))² + (u(α) ΔT)² (JCGM 100); ``u_share``: u(α) by α."""
    alpha = EXPANSION[material] * 1e-6
    return float(alpha * np.hypot(u_temperature_c, u_share * (temperature_c - REFERENCE_C)))


@dataclass(frozen=True)
class PointOff:
    """One reference point: its deviation (mm) in X, Y, Z, its length, and how sure it is that it disagrees (0 to 1)."""

    name: str
    x_mm: float
    y_mm: float
    z_mm: float
    off_mm: float
    sure: float


@dataclass(frozen=True, eq=False, kw_only=True)
class ReferenceAlignment(HoldsAlignment):
    """``offs``: of the points, in their order; ``worst``: who disagrees most, if anyone can be judged."""

    offs: tuple[PointOff, ...]

    @property
    def worst(self) -> PointOff | None:
        if self.ledger.spare < 3:
            return None
        return max(self.offs, key=lambda p: (p.sure, p.off_mm))


def align_reference_points(
    names: Sequence[str],
    nominal: ArrayLike,
    actual_world: ArrayLike,
    scale: float | None = 1.0,
    u_mm: ArrayLike = 0.02,
    features: Sequence[Feature] | None = None,
    u_scale: float = 0.0,
) -> ReferenceAlignment:
    """From points with known coordinates.

    Parameters
    ----------
    names, nominal, actual_world : n points; (n, 3) arrays in the part and in the world, mm
    scale : by which world lengths are taken to be the part's at 20 °C: 1, one over
        ``expansion_scale``, or None where it is free
    u_mm : standard uncertainty of each, its weight
    features : the same points with what is known of them, by source; left out, ``u_mm`` is that
    u_scale : standard uncertainty of a scale that is held

    Raises
    ------
    AlignmentError
        Fewer than three points, or all on one line.

    Examples
    --------
    Four nests of known coordinates, on a part that stands 1 m off and was turned by 90°:

    >>> nests = np.array([[0, 0, 0], [800, 0, 0], [800, 500, 0], [0, 500, 120]], float)
    >>> there = nests @ np.array([[0, 1, 0], [-1, 0, 0], [0, 0, 1]]) + [1000.0, 0, 0]
    >>> found = align_reference_points(["N1", "N2", "N3", "N4"], nests, there)
    >>> bool(np.allclose(found.part_from_world.points(there), nests))
    True
    >>> found.ledger.rank, found.ledger.spare
    (6, 6)
    """
    nominal, actual = np.asarray(nominal, float), np.asarray(actual_world, float)
    if len(nominal) < 3 or nominal.shape != actual.shape:
        raise AlignmentError(
            f"Reference points need three at least; there are {len(nominal)}.", "The points are kept.", "Measure another."
        )
    u = np.broadcast_to(np.asarray(u_mm, float), (len(nominal),))
    rough = similarity(actual, nominal).motion
    known: Sequence[Feature | None] = features if features is not None else [None] * len(u)
    holds = [
        Hold(name, Point(n), Point(a), ("X", "Y", "Z"), float(s), feature=f)
        for name, n, a, s, f in zip(names, nominal, actual, u, known, strict=True)
    ]
    found = align_holds(holds, rough, scale, u_scale=u_scale)
    told = {f.name: getattr(found, f.name) for f in fields(found)}
    return ReferenceAlignment(**told, offs=_judged(names, found))


def _judged(names: Sequence[str], found: HoldsAlignment) -> tuple[PointOff, ...]:
    """The outlier statistic of a point's three residuals against the others (Cook and Weisberg 1982, appendix A.2)."""
    solved = found.solved
    scaled = solved.linear.residuals / solved.touches.u_mm
    hat = (solved.linear.jacobian @ solved.gain) / solved.touches.u_mm[:, None] * solved.touches.u_mm
    total, left = float(scaled @ scaled), solved.spare - 3
    points = []
    for k, name in enumerate(names):
        mine = slice(3 * k, 3 * k + 3)
        x, y, z = solved.linear.residuals[mine]
        sure = 0.0
        room = np.eye(3) - hat[mine, mine]
        if left >= 1 and np.linalg.eigvalsh((room + room.T) / 2)[0] > 1e-9:
            explained = float(scaled[mine] @ np.linalg.solve(room, scaled[mine]))
            value = explained / 3 / max((total - explained) / left, 1e-300)
            sure = float(1 - min(1.0, len(names) * special.fdtrc(3, left, value)))
        points.append(PointOff(name, float(x), float(y), float(z), float(np.linalg.norm([x, y, z])), sure))
    return tuple(points)
