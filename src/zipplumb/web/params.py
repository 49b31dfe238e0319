"""Parameters of requests: every id, number and word of a request is converted here."""

from __future__ import annotations

from flask import Flask, request
from werkzeug.routing import IntegerConverter

from ..core.errors import InputError
from ..core.units import Units, length_from_text, number_from_text, whole_number

LARGEST = 2**31 - 1  # an id of the database
MOST_MM = 1e6


class _Id(IntegerConverter):
    """An id in an address; beyond what an id can be there is no such page."""

    def __init__(self, url_map, **more):
        super().__init__(url_map, **{"max": LARGEST, **more})


def guard(app: Flask) -> None:
    """Before the routes are registered."""
    app.url_map.converters["int"] = _Id
    app.before_request(_letters_only)


def _letters_only() -> None:
    """No field of any form holds what no database can keep and nobody can read."""
    files = [(name, file.filename or "") for name, file in request.files.items(multi=True)]
    for values in (request.args.items(multi=True), request.form.items(multi=True), files):
        for name, found in values:
            if "\x00" in name + found or any("\ud800" <= letter <= "\udfff" for letter in found):
                shown = "".join(letter for letter in name if letter.isprintable())[:30]
                raise InputError(f"“{shown}” holds signs that are no letters.", "Nothing was changed.", "Type it again.")


def ids(name: str) -> list[int]:
    """Every one of a field that may be there several times. Raises InputError."""
    return [_id(name, text) for text in request.values.getlist(name)]


def listed_ids(name: str) -> list[int]:
    """The ids in one field, separated by commas. Raises InputError."""
    return [_id(name, text.strip()) for text in request.values.get(name, "").split(",") if text.strip()]


def one_id(name: str) -> int | None:
    """The id in a field; None where it is empty or not there. Raises InputError."""
    text = request.values.get(name, "").strip()
    return _id(name, text) if text else None


def numbers(name: str, count: int) -> list[float]:
    """Plain numbers in one field, by commas. Raises InputError."""
    texts = request.values.get(name, "").split(",")
    if len(texts) != count:
        raise InputError(f"The {name} is {count} numbers.", "Nothing was changed.", "Choose it on the page.")
    return [number_from_text(text, f"the {name}") for text in texts]


def zone(units: Units) -> float | None:
    """The tolerance that was typed, mm. Raises InputError where it is no length above zero."""
    text = request.values.get("zone", "").strip()
    if not text:
        return None
    found = length_from_text(text, units, "the tolerance")
    if not 0 < found < MOST_MM:
        raise InputError("A tolerance is a length above zero.", "Nothing was planned.", "Type what the drawing says.")
    return found


def _id(name: str, text: str) -> int:
    number = whole_number(text)
    if number is None:
        raise InputError(f"“{text[:20]}” is no {name} of this list.", "Nothing was changed.", "Choose one from the page.")
    return number
