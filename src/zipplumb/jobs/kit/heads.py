"""What its maker states of a scanner, as it is typed and shown."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

from pydantic import ValidationError

from ...core.cloud.head import ScannerHead
from ...core.errors import InputError
from ...core.units import length_from_text, number_from_text


@dataclass(frozen=True)
class HeadField:
    """A field of ``ScannerHead`` in a form."""

    key: str
    words: str
    unit: Literal["mm", ""]

    @property
    def field(self) -> str:
        return f"head_{self.key}"


HEAD_FIELDS = (
    HeadField("nearest_mm", "Clear from", "mm"), HeadField("farthest_mm", "to", "mm"),
    HeadField("width_mm", "Width of the line", "mm"), HeadField("points", "Points a line", ""),
    HeadField("lines_s", "Lines a second", ""),
)  # fmt: skip
WORDS = {"nearest_mm": "where it begins to be clear", "farthest_mm": "to where it is clear"} | {
    each.key: each.words.lower() for each in HEAD_FIELDS[2:]
}


def head_from_form(form: Mapping[str, str]) -> ScannerHead | None:
    """None where nothing is stated. Raises InputError naming the field."""
    read: dict[str, Any] = {}
    for each in HEAD_FIELDS:
        if text := form.get(each.field, "").strip():
            words = WORDS[each.key]
            read[each.key] = length_from_text(text, "mm", words) if each.unit == "mm" else number_from_text(text, words)
    if not read:
        return None
    try:
        return ScannerHead.model_validate(read)
    except ValidationError as error:
        first = error.errors()[0]
        words = WORDS[str(first["loc"][0])] if first["loc"] else "the clear range"
        raise InputError(
            f"What its maker states is not a scanner's: {words}.", "Nothing was kept.",
            "Type from where to where its light is clear, the nearer first, and whole points a line; or leave all of it empty.",
        ) from error  # fmt: skip


def head_words(maker_states: dict[str, Any] | None) -> str:
    """All that is stated, in a line; nothing where nothing is."""
    if maker_states is None:
        return ""
    head = ScannerHead.model_validate(maker_states)
    said = [f"clear from {head.nearest_mm:g} to {head.farthest_mm:g} mm"]
    if head.width_mm is not None:
        said.append(f"a line of {head.width_mm:g} mm")
    if head.points is not None:
        said.append(f"{head.points} points a line" + (f", one per {head.apart_mm:.2f} mm" if head.apart_mm else ""))
    if head.lines_s is not None:
        said.append(f"{head.lines_s:g} lines a second")
    return ", ".join(said)
