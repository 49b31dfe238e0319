"""Parameters that are fixed during a fit: sizes, positions and directions."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from ..errors import FitError
from ..frames import Array, unit
from ..shapes import Plane
from .placed import FREEDOM, columns_of
from .result import FitResult

OUTLINE = {"normal", "plane", "center"}
FIXED = {
    "point": set(),
    "line": {"direction", "point", "normal", "plane"},
    "plane": {"normal", "point"},
    "circle": {"radius", *OUTLINE},
    "arc": {"radius", *OUTLINE},
    "ellipse": {"semi_major", "semi_minor", "major_direction", *OUTLINE},
    "round_slot": {"length", "width", "direction", *OUTLINE},
    "square_slot": {"length", "width", "direction", *OUTLINE},
    "sphere": {"radius", "center"},
    "cylinder": {"radius", "direction", "point"},
    "cone": {"half_angle", "direction", "apex"},
    "torus": {"major_radius", "minor_radius", "normal", "center"},
}  # fmt: skip
SPOT = ("center", "point", "apex")
ALONG = {"ellipse": "major_direction", "round_slot": "direction", "square_slot": "direction", "line": "direction"}
NOTHING = np.full(3, np.nan)


@dataclass(frozen=True, eq=False)
class HeldParameters:
    """Parameters that a fit may not change.

    Attributes
    ----------
    sizes : by their names
    spot : (3,) the center, the apex, or a point that the shape goes through
    axis : (3,) the direction of the axis, or the normal
    along : (3,) the direction within its plane of a line, an ellipse or a slot
    plane : the plane to lie in
    lies_in : the fit that the plane was measured by, where it was measured
    """

    sizes: dict[str, float] = field(default_factory=dict)
    spot: Array | None = None
    axis: Array | None = None
    along: Array | None = None
    plane: Plane | None = None
    lies_in: FitResult | None = None

    @classmethod
    def of(cls, kind: str, fixed: Mapping[str, Any]) -> HeldParameters:
        """Read ``fixed``; FitError for what a kind cannot hold, or what is no number or direction."""
        if not fixed:
            return FREE
        unknown = set(fixed) - FIXED[kind]
        if unknown:
            known = ", ".join(sorted(FIXED[kind])) or "nothing"
            raise _refused(f"A {word(kind)} has no “{sorted(unknown)[0]}” to hold.", f"It can hold: {known}.")
        sizes: dict[str, float] = {}
        found: dict[str, Any] = {}
        for name, value in fixed.items():
            if name in SPOT:
                found["spot"] = _vector(name, value)
            elif name == "plane":
                found["lies_in"] = value if isinstance(value, FitResult) else None
                found["plane"] = value.shape if isinstance(value, FitResult) else value
                if not isinstance(found["plane"], Plane):
                    raise _refused("The plane to lie in is no plane.", "Give a plane.")
            elif name == ALONG.get(kind):
                found["along"] = _direction(name, value)
            elif name in ("direction", "normal"):
                found["axis"] = _direction(name, value)
            else:
                sizes[name] = _size(name, value)
        if found.get("plane") is not None:
            if "axis" in found:
                raise _refused("A plane and a normal were both given.", "Give one of them.")
            found["axis"] = found["plane"].normal
        if found.get("plane") is not None and found.get("spot") is not None:
            found["spot"] = found["spot"] - found["plane"].distance(found["spot"][None])[0] * found["axis"]
        return cls(sizes=sizes, **found)

    def names(self, kind: str) -> frozenset[str]:
        """The held parameters by the names that descents use."""
        held = set(self.sizes)
        if self.spot is not None:
            held |= {"x", "y", "z"}
        if kind == "cone" and self.spot is not None:
            held.add("radius")
        if self.axis is not None and not FREEDOM[kind].flat:
            held |= {"rx", "ry"}
        if self.along is not None:
            held.add("rz")
        return frozenset(held)

    def two_sizes(self, kind: str) -> Array:
        """Held sizes (2,) in their order; NaN where they are free."""
        sizes = [self.sizes.get(name, np.nan) for name in FREEDOM[kind].sizes] + [np.nan, np.nan]
        if kind == "cone" and self.spot is not None:
            sizes[0] = 0.0  # the radius at the apex
        return np.array(sizes[:2])

    def count(self, kind: str) -> int:
        """How many parameters are held, of those that hits would otherwise have to hold."""
        if kind in ("line", "plane", "point"):
            return 0
        return len(columns_of(kind)) - len(columns_of(kind, self.names(kind)))


FREE = HeldParameters()


def word(kind: str) -> str:
    """A kind as a person reads it."""
    return kind.replace("_", " ")


def _refused(what: str, todo: str) -> FitError:
    return FitError(what, "The hits are kept.", todo)


def _vector(name: str, value: ArrayLike) -> Array:
    try:
        vector = np.asarray(value, float)
    except (TypeError, ValueError):
        vector = np.empty(0)
    if vector.shape != (3,) or not math.isfinite(sum(vector.tolist())):
        raise _refused(f"“{name}” is not three numbers.", "Give x, y and z.")
    return vector


def _direction(name: str, value: ArrayLike) -> Array:
    vector = _vector(name, value)
    if not any(vector.tolist()):
        raise _refused(f"“{name}” has no length.", "Give a direction.")
    return unit(vector)


def _size(name: str, value: Any) -> float:
    try:
        size = float(value)
    except (TypeError, ValueError):
        size = np.nan
    if not math.isfinite(size) or size <= 0:
        raise _refused(f"“{name}” is no size above zero.", "Give a positive number.")
    return size
