"""Units at the edges of the program: parsing and formatting of lengths and angles.

Inside, everything is mm and radians; nothing but this module converts.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Literal

from .errors import InputError

Units = Literal["mm", "in"]
Unit = Literal["mm", "rad"]
MM_PER_INCH = 25.4  # exact: international yard and pound agreement, 1959


@dataclass(frozen=True)
class LengthUnit:
    """``decimals``: of what is measured; ``coarse``: of lengths in the room; ``name``, ``plural`` and
    ``spelled`` as a person says and spells them."""

    mm: float
    decimals: int
    coarse: int
    name: str
    plural: str
    spelled: str


UNITS: dict[Units, LengthUnit] = {
    "mm": LengthUnit(1.0, 3, 0, "mm", "mm", "millimetres"),
    "in": LengthUnit(MM_PER_INCH, 4, 1, "inch", "inches", "inches"),
}
_TYPED = re.compile(
    r"^\s*([+-]?(?:\d+[.,]?\d*|[.,]\d+)(?:[eE][+-]?\d+)?)\s*(mm|µm|in|in\.|inch|inches|\"|thou)?\s*$", re.ASCII | re.IGNORECASE
)
_PLAIN = re.compile(r"^\s*[+-]?(?:\d+[.,]?\d*|[.,]\d+)(?:[eE][+-]?\d{1,3})?\s*$", re.ASCII)
_WHOLE = re.compile(r"^\s*\+?(\d{1,10})\s*$", re.ASCII)
NO_BREAK = "\u00a0"
MOST_TYPED = 4  # decimals that a person types
_SAID = re.compile(rf"([+-]?\d+(?:\.\d+)?(?:e[+-]?\d+)?){NO_BREAK}mm")
_FACTORS = {
    "mm": 1.0, "µm": 1e-3, "in": MM_PER_INCH, "in.": MM_PER_INCH, "inch": MM_PER_INCH, "inches": MM_PER_INCH,
    '"': MM_PER_INCH, "thou": MM_PER_INCH / 1000,
}  # fmt: skip
# what pages show, drawings print and other keyboards give for what this reads: minus and inch signs, blanks, both letters mu
_AS_TYPED = str.maketrans(
    {"\u2212": "-", "\u2033": '"', "\u201d": '"', "\u03bc": "µ", "\u00a0": " ", "\u202f": " ", "\u2009": " "}
)


@dataclass(frozen=True)
class NumberStyle:
    """How numbers are written. ``decimals``: of a length in mm, one more in inches; None for the usual; ``mark``: before
    decimals (ISO 80000-1 allows either)."""

    decimals: int | None = None
    mark: Literal[".", ","] = "."

    def of(self, units: Units) -> int:
        """Decimals of a length."""
        usual = UNITS[units].decimals
        return usual if self.decimals is None else self.decimals + usual - UNITS["mm"].decimals


USUAL_NUMBERS = NumberStyle()
_STYLE: ContextVar[NumberStyle] = ContextVar("how numbers are written", default=USUAL_NUMBERS)


@contextmanager
def written(style: NumberStyle) -> Iterator[None]:
    """What is told within, is told so: a report has a way of its own."""
    before = _STYLE.set(style)
    try:
        yield
    finally:
        _STYLE.reset(before)


def number_style() -> NumberStyle:
    """The one that holds here."""
    return _STYLE.get()


def marked(text: str) -> str:
    """A number with the decimal mark that holds here."""
    return text.replace(".", _STYLE.get().mark)


def _must_say(text: str, field: str, what_to_do: str) -> None:
    if not (text or "").strip():
        raise InputError(f"{field[:1].upper()}{field[1:]} is empty.", "Nothing was changed.", what_to_do)


def count_text(count: int) -> str:
    """A whole number as pages show it, its thousands set apart by a narrow space (ISO 80000-1)."""
    return f"{count:,}".replace(",", "\u202f")


def length_from_text(text: str, units: Units, field: str = "the length") -> float:
    """Millimetres of a typed length; a unit typed behind the number goes before ``units``.

    Raises InputError, with the field's name, for anything that is not one number.
    """
    _must_say(text, field, f"Type a number in {units}.")
    match = _TYPED.match((text or "").translate(_AS_TYPED))
    if not match:
        raise InputError(
            f"“{(text or '').strip()[:40]}” in {field} is not a number.",
            "Nothing was changed.",
            f"Type a number in {units}, or with its unit, such as 25.4 mm or 1 in.",
        )
    value = float(match[1].replace(",", ".")) * _FACTORS[(match[2] or units).lower()]
    if not math.isfinite(value) or abs(value) > 1e6:
        raise InputError(f"{field.capitalize()} is beyond a kilometre.", "Nothing was changed.", "Check the number.")
    return value


def in_units(mm: float, units: Units) -> float:
    return mm / UNITS[units].mm


def length_text(mm: float | None, units: Units, sign: bool = False, extra: int = 0) -> str:
    """A length as shown: 3 decimals of mm or 4 of an inch; an en dash for none."""
    if mm is None or not math.isfinite(mm):
        return "–"
    digits = _STYLE.get().of(units) + extra
    text = f"{in_units(mm, units):{'+' if sign else ''}.{digits}f}"
    if float(text) == 0:  # no "-0.000"
        text = f"{0:{'+' if sign else ''}.{digits}f}"
    return marked(text.replace("-", "−"))


def typed_text(mm: float, units: Units) -> str:
    """A length as one would type it, to eight digits: in ``units``, or in mm with its unit where it is a round number of these
    alone.

    Examples
    --------
    >>> typed_text(25.4, "in"), typed_text(-0.2, "in"), typed_text(-0.2, "mm")
    ('1', '-0.2 mm', '-0.2')
    """
    own, metric = f"{in_units(mm, units):.8g}", f"{mm:.8g}"
    if units != "mm" and _decimals(own) > MOST_TYPED + 1 and _decimals(metric) <= MOST_TYPED:
        return f"{metric} mm"
    return own


def _decimals(text: str) -> int:
    return len(text.partition(".")[2])


def coarse_text(mm: float, units: Units) -> str:
    """A length in the room: whole millimetres, or tenths of an inch."""
    digits = UNITS[units].coarse
    return f"{round(in_units(float(mm), units), digits) + 0.0:.{digits}f}".replace("-", "−")


def degrees_text(rad: float | None, digits: int = 3, sign: bool = False) -> str:
    """An angle as shown, in degrees; an en dash for none."""
    if rad is None or not math.isfinite(rad):
        return "–"
    text = f"{math.degrees(rad):{'+' if sign else ''}.{digits}f}"
    if float(text) == 0:
        text = f"{0:{'+' if sign else ''}.{digits}f}"
    return marked(f"{text}°".replace("-", "−"))


def mm(value: float, spec: str = ".3f") -> str:
    """A length within a sentence of the core: always mm, a no-break space between number and unit (ISO 80000-1).

    ``sentence_in`` tells it in the person's units; nobody types that space, so names stay as they are.
    """
    return f"{value:{spec}}{NO_BREAK}mm"


def sentence_in(text: str, units: Units) -> str:
    """A sentence of the core with its lengths in the person's units."""
    if NO_BREAK not in text or (units == "mm" and _STYLE.get() == USUAL_NUMBERS):
        return text
    return _SAID.sub(lambda found: f"{_said(float(found[1]), units)}{NO_BREAK}{units}", text)


def _said(mm: float, units: Units) -> str:
    value, decimals = in_units(mm, units), _STYLE.get().of(units)
    return marked(f"{value:.{decimals}f}" if abs(value) >= 0.5 * 10**-decimals else f"{value:.1g}")


def quantity_text(value: float | None, unit: Unit, units: Units, sign: bool = False) -> str:
    """A length in the person's units, or an angle in degrees, as shown."""
    return degrees_text(value, 4, sign) if unit == "rad" else length_text(value, units, sign)


def quantity_value(value: float, unit: Unit, units: Units) -> float:
    """A quantity in a person's units as a plain number, for files and form fields."""
    return math.degrees(value) if unit == "rad" else in_units(value, units)


def quantity_from_text(text: str, unit: Unit, units: Units, field: str) -> float:
    """mm or rad of what was typed. Raises InputError with the field's name."""
    if unit == "mm":
        return length_from_text(text, units, field)
    return math.radians(number_with_unit(text, "°", field))


def number_from_text(text: str, field: str) -> float:
    """A plain number, with a decimal point or comma. Raises InputError with the field's name."""
    _must_say(text, field, "Type a number.")
    match = _PLAIN.match((text or "").translate(_AS_TYPED))
    value = float(match[0].replace(",", ".")) if match else math.nan
    if not math.isfinite(value) or abs(value) > 1e9:
        raise InputError(f"“{(text or '').strip()[:40]}” in {field} is not a number.", "Nothing was changed.", "Type a number.")
    return value


def number_with_unit(text: str, unit: str, field: str) -> float:
    """A plain number of a field whose unit is fixed; it may stand behind the number. Raises InputError."""
    return number_from_text((text or "").translate(_AS_TYPED).strip().removesuffix(unit), field)


def whole_number(text: str, most: int = 2**31 - 1) -> int | None:
    """A whole number from 0 to ``most`` as typed or sent; None for anything else."""
    match = _WHOLE.match((text or "").translate(_AS_TYPED))
    return int(match[1]) if match and int(match[1]) <= most else None


def units_named(text: str) -> Units | None:
    """The units of that name; None where there are none such."""
    return next((units for units in UNITS if units == text), None)


def unit_of(form: Mapping[str, str], name: str) -> Units:
    """The unit chosen beside a number: it must be chosen, there is no silent one."""
    unit = units_named(form.get(f"{name}_unit", ""))
    if unit is None:
        raise InputError(
            "The unit of the diameter was not chosen.", "Nothing was kept.", "Choose mm or inch beside the number."
        )
    return unit
