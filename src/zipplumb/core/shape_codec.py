"""Shapes as plain data and back: the one form in which they are stored, sent and typed.

``{"shape": "circle", "center": [x, y, z], "normal": [i, j, k], "radius": r}``: the type's name in lower
case, then its own fields; lengths mm, angles rad.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Annotated, Any

import numpy as np
from pydantic import BeforeValidator, InstanceOf, PlainSerializer

from . import sections, shapes
from .records import field_names

MOST_ROWS = 5000
TYPES: dict[str, type] = {
    t.__name__.lower(): t
    for t in (
        shapes.Point, shapes.Line, shapes.Plane, shapes.Circle, shapes.Arc, shapes.Ellipse, shapes.Slot, shapes.Sphere,
        shapes.Cylinder, shapes.Cone, shapes.Torus, sections.Section,
    )
}  # fmt: skip


def shape_to_data(shape: Any) -> dict[str, Any]:
    """Plain data of a shape."""
    found: dict[str, Any] = {"shape": type(shape).__name__.lower()}
    for name in field_names(type(shape)):  # type: ignore[arg-type]
        value = getattr(shape, name)
        found[name] = value.tolist() if isinstance(value, np.ndarray) else value
    return found


def shape_from_data(data: Any) -> Any:
    """A shape from its data. Raises ValueError naming the field that does not hold."""
    if not isinstance(data, Mapping) or data.get("shape") not in TYPES:
        raise ValueError("it is no shape")
    kind = TYPES[data["shape"]]
    names = field_names(kind)
    for name in data:
        if name not in (*names, "shape"):
            raise ValueError(f"a {data['shape']} has no “{str(name)[:20]}”")
    values = {}
    for name in names:
        if name in data:
            values[name] = _checked(kind, name, data[name])
    try:
        return kind(**values)
    except TypeError:
        missing = next((n for n in names if n not in values), "field")
        raise ValueError(f"{words_of(missing)} is missing") from None
    except ValueError as error:
        raise ValueError(str(error)) from None


def _checked(kind: Any, name: str, value: Any) -> Any:
    if name in kind.rows_ or name in kind.direction_rows_:
        return _rows(name, value)
    if name in kind.points_ or name in kind.directions_:
        try:
            numbers = [float(v) for v in value]
        except (TypeError, ValueError, OverflowError):
            numbers = []
        if len(numbers) != 3 or not all(math.isfinite(v) and abs(v) < 1e9 for v in numbers):
            raise ValueError(f"{words_of(name)} is not three numbers")
        if name in kind.directions_ and not math.hypot(*numbers) > 0:
            raise ValueError(f"{words_of(name)} has no length")
        return numbers
    if name == "ends":
        if value not in ("round", "square"):
            raise ValueError("the ends are round or square")
        return value
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value) or not 0 < value < 1e9:
        raise ValueError(f"{words_of(name)} is not a number above zero")
    if name == "half_angle" and value >= math.pi / 2:
        raise ValueError("the half angle is not below 90°")
    return float(value)


def _rows(name: str, value: Any) -> np.ndarray:
    try:
        rows = np.array(value, float)
    except (TypeError, ValueError, OverflowError):
        rows = np.empty(0)
    if rows.ndim != 2 or rows.shape[1] != 3 or len(rows) > MOST_ROWS or not (np.abs(rows) < 1e9).all():
        raise ValueError(f"{words_of(name)} are not rows of three numbers")
    return rows


def words_of(name: str) -> str:
    """A field's name as said in a sentence."""
    return "the " + name.replace("_", " ")


def _of(*types: type) -> Callable[[Any], Any]:
    def check(value: Any) -> Any:
        found = value if isinstance(value, types) else shape_from_data(value)
        if not isinstance(found, types):
            raise ValueError(f"it is a {type(found).__name__.lower()}")
        return found

    return check


_DATA = PlainSerializer(shape_to_data)
StoredPoint = Annotated[InstanceOf[shapes.Point], BeforeValidator(_of(shapes.Point)), _DATA]
StoredLine = Annotated[InstanceOf[shapes.Line], BeforeValidator(_of(shapes.Line)), _DATA]
StoredPlane = Annotated[InstanceOf[shapes.Plane], BeforeValidator(_of(shapes.Plane)), _DATA]
StoredCircle = Annotated[InstanceOf[shapes.Circle], BeforeValidator(_of(shapes.Circle)), _DATA]
StoredArc = Annotated[InstanceOf[shapes.Arc], BeforeValidator(_of(shapes.Arc)), _DATA]
StoredEllipse = Annotated[InstanceOf[shapes.Ellipse], BeforeValidator(_of(shapes.Ellipse)), _DATA]
StoredSlot = Annotated[InstanceOf[shapes.Slot], BeforeValidator(_of(shapes.Slot)), _DATA]
StoredSphere = Annotated[InstanceOf[shapes.Sphere], BeforeValidator(_of(shapes.Sphere)), _DATA]
StoredCylinder = Annotated[InstanceOf[shapes.Cylinder], BeforeValidator(_of(shapes.Cylinder)), _DATA]
StoredCone = Annotated[InstanceOf[shapes.Cone], BeforeValidator(_of(shapes.Cone)), _DATA]
StoredSection = Annotated[InstanceOf[sections.Section], BeforeValidator(_of(sections.Section)), _DATA]
StoredTorus = Annotated[InstanceOf[shapes.Torus], BeforeValidator(_of(shapes.Torus)), _DATA]
