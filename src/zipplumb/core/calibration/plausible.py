"""Plausibility of typed diameters: detects a value in the wrong unit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from ..errors import InputError
from ..units import MM_PER_INCH, length_text

# from, to in mm: common practice
RANGES = {
    "ball": (0.3, 60.0),
    "reflector": (6.0, 80.0),
    "scanner": (0.0, 0.0),
    "sphere": (8.0, 110.0),
}
ROUND_MM = 0.005
Kind = Literal["ball", "reflector", "scanner", "sphere"]
WORD = {"ball": "ball", "reflector": "reflector", "scanner": "scanner", "sphere": "reference sphere"}


@dataclass(frozen=True)
class Question:
    """``words`` ask; ``likely_mm`` is what may have been meant, or None."""

    words: str
    likely_mm: float | None


def both_units(mm: float) -> str:
    """A diameter in both units."""
    return f"{length_text(mm, 'mm')} mm ({length_text(mm, 'in')} in)"


def question_about(kind: Kind, diameter_mm: float) -> Question | None:
    """What to ask before a diameter is kept; None where it is plausible. Raises InputError where it is none."""
    if not diameter_mm > 0:
        raise InputError("A diameter is above zero.", "Nothing was kept.", "Type it again, with its unit.")
    low, high = RANGES[kind]
    if low <= diameter_mm <= high:
        return None
    for other, meant in ((diameter_mm / MM_PER_INCH, "mm"), (diameter_mm * MM_PER_INCH, "inches")):
        if low <= other <= high:
            words = (
                f"A {WORD[kind]} of {both_units(diameter_mm)}? If the number was meant in {meant}, it is {both_units(other)}."
            )
            return Question(words, other)
    return Question(f"A {WORD[kind]} of {both_units(diameter_mm)}? That is unusual: look at the number again.", None)
