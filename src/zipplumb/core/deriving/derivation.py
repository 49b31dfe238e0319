"""One construction or dimension, and the numbers that a person has to supply for it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from ..errors import DeriveError
from . import constructions as make
from .drawing import Drawing

Unit = Literal["mm", "rad", ""]


@dataclass(frozen=True)
class Derivation:
    """One thing that can be made, by its key: stable, as the sheet stores it.

    ``make(*shapes)`` gives a shape (unit "") or a number; ``draw(*shapes)`` shows a number.
    ``away(*shapes)``: how far away it is (mm) where it is refused for being too far.
    ``offset(*shapes)``: (3,) of which the number is the length, or by which an angle is off a fold, where there is such.
    ``at``: where its centers are taken, in words, where they might be elsewhere.
    ``in_axes``: it is expressed along the axes of a coordinate system, so it means nothing without one.
    """

    key: str
    unit: Unit
    make: Callable[..., Any]
    draw: Callable[..., Drawing] | None = None
    away: Callable[..., float] | None = None
    in_axes: bool = False
    offset: Callable[..., Any] | None = None
    at: str = ""


@dataclass(frozen=True)
class Given:
    """Numbers that some constructions need from the person."""

    offset_mm: float | None = None
    height_mm: float | None = None
    diameter_mm: float | None = None


def wanted(value: float | None, what: str) -> float:
    """A number that must be there. Raises DeriveError with what is to be typed."""
    if value is None:
        raise DeriveError(f"It needs {what}.", make.KEPT, f"Type {what}.")
    return value
