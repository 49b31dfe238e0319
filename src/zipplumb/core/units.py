"""Lengths and angles at the edges: how they are typed and how they are shown.

Inside, everything is mm and radians; nothing but this module converts.
"""

from __future__ import annotations

import math
import re
from typing import Literal

from .errors import InputError

Units = Literal["mm", "in"]
MM_PER_INCH = 25.4  # exact: international yard and pound agreement, 1959
DECIMALS = {"mm": 3, "in": 4}
_TYPED = re.compile(r"^\s*([+-]?(?:\d+[.,]?\d*|[.,]\d+)(?:[eE][+-]?\d+)?)\s*(mm|in|inch|\"|thou)?\s*$")
_FACTORS = {"mm": 1.0, "in": MM_PER_INCH, "inch": MM_PER_INCH, '"': MM_PER_INCH, "thou": MM_PER_INCH / 1000}


def length_from_text(text: str, units: Units, field: str = "the length") -> float:
    """Millimetres of a typed length; a unit typed behind the number goes before ``units``.

    Raises InputError, with the field's name, for anything that is not one number.
    """
    match = _TYPED.match(text or "")
    if not match:
        raise InputError(
            f"“{(text or '').strip()[:40]}” in {field} is not a number.",
            "Nothing was changed.",
            f"Type a number in {units}, or with its unit, such as 25.4 mm or 1 in.",
        )
    value = float(match[1].replace(",", ".")) * _FACTORS[match[2] or units]
    if not math.isfinite(value) or abs(value) > 1e6:
        raise InputError(f"{field.capitalize()} is beyond a kilometre.", "Nothing was changed.", "Check the number.")
    return value


def in_units(mm: float, units: Units) -> float:
    return mm if units == "mm" else mm / MM_PER_INCH


def length_text(mm: float | None, units: Units, sign: bool = False, extra: int = 0) -> str:
    """A length as shown: 3 decimals of mm or 4 of an inch; an en dash for none."""
    if mm is None or not math.isfinite(mm):
        return "–"
    digits = DECIMALS[units] + extra
    text = f"{in_units(mm, units):{'+' if sign else ''}.{digits}f}"
    if float(text) == 0:  # no "-0.000"
        text = f"{0:{'+' if sign else ''}.{digits}f}"
    return text.replace("-", "−")


def degrees_text(rad: float | None, digits: int = 3) -> str:
    return "–" if rad is None else f"{math.degrees(rad):.{digits}f}°".replace("-", "−")
