"""A face of the part in words: its name, its size, its direction."""

from __future__ import annotations

from ...core.features import axis_of, plane_of, radius_of
from ...core.units import length_text
from ...jobs.words import stem_of

AXES = "XYZ"


def axis_words(direction) -> str:
    """A direction, by its axis where it lies along one."""
    for k, name in enumerate(AXES):
        if abs(abs(direction[k]) - 1) < 1e-6:
            return ("" if direction[k] > 0 else "−") + name
    return "(" + ", ".join(f"{v:.4f}" for v in direction) + ")"


def face_words(shape, kind: str, inside: bool, units) -> str:
    """Its name, its size, and where it faces or runs."""
    words = stem_of(kind, inside)
    if radius_of(shape):
        words += f" Ø{length_text(2 * (radius_of(shape) or 0), units)}"
    if plane_of(shape) is not None:
        return f"{words}, facing {axis_words(shape.normal)}"
    axis = axis_of(shape)
    return words if axis is None else f"{words}, axis along {axis_words(axis.direction).lstrip('−')}"
