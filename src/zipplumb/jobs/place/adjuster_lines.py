"""Adjusters of a detail, as a person types them: a line each."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, ValidationError, model_validator

from ...core.errors import InputError
from ...core.frames import Array, unit
from ...core.placing import Adjuster
from ...core.sheet.base import Direction, Length, Model, RowRef, Vector
from ...core.units import Units, length_from_text
from .placement import AXES

COLUMNS = (
    "name; X; Y; Z, or the target over it; direction; length a turn; turns left down; turns left up; smallest part; "
    "thread, right or left"
)
OTHER = {"clockwise": "counter-clockwise", "counter-clockwise": "clockwise"}
Turns = Annotated[float, Field(ge=0, le=1e4)]


class AdjusterRecipe(Model):
    """``place`` in the part, or the row of the target that it is ``under``; ``direction`` in which the detail goes when it
    is turned up; ``down``, ``up``: turns left. ``thread``: a right-hand screw that pushes turns up clockwise, seen from its
    head; of what is no screw, none."""

    name: Annotated[str, Field(min_length=1, max_length=40)]
    place: Vector | None = None
    under: RowRef | None = None
    direction: Direction
    mm_per_turn: Length
    down: Turns | None = None
    up: Turns | None = None
    step: Annotated[float, Field(ge=0, le=100)] = 0.0
    thread: Literal["", "right", "left"] = ""

    @model_validator(mode="after")
    def _somewhere(self):
        if (self.place is None) == (self.under is None):
            raise ValueError("give its place, or the target over it")
        return self

    @property
    def target(self) -> int:
        """The row of the target over it, where it stands under one."""
        assert self.under is not None
        return self.under

    def hand(self, turns: float) -> str:
        """Which way it is turned, seen from its head; "" where its thread is not known, or for no turn."""
        if not self.thread or turns == 0.0:
            return ""
        up = "clockwise" if self.thread == "right" else "counter-clockwise"
        return up if turns > 0 else OTHER[up]

    def adjuster(self, places: Mapping[int, Array]) -> Adjuster:
        """``places``: of the targets."""
        least = -np.inf if self.down is None else -self.down
        most = np.inf if self.up is None else self.up
        place = places[self.under] if self.under is not None else np.array(self.place)
        return Adjuster(self.name, place, unit(self.direction), self.mm_per_turn, least, most, self.step)


def adjusters_from(text: str, words: Mapping[str, str], targets: Mapping[str, int], units: Units) -> list[dict[str, Any]]:
    """Recipes' data from lines of text. ``words``: what the axes are called; ``targets``: rows by name. Raises InputError
    that names the line."""
    axes = {w.lower().replace("−", "-"): a for a, w in words.items()} | {a.lower(): a for a in AXES}
    rows = {name.lower(): row for name, row in targets.items()}
    found = []
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        try:
            found.append(_adjuster([cell.strip() for cell in line.split(";")], axes, rows, units))
        except InputError as error:
            raise InputError(f"Line {number}: {error.happened}", "Nothing was kept.", f"Write {COLUMNS}.") from None
    return found


def _adjuster(cells: list[str], axes: Mapping[str, str], rows: Mapping[str, int], units: Units) -> dict[str, Any]:
    under = rows.get(cells[1].lower()) if len(cells) > 1 else None
    first = 2 if under is not None else 4
    if not first + 2 <= len(cells) <= first + 6:
        raise InputError(f"It has {len(cells)} entries, not {first + 2} to {first + 6}.")
    axis = axes.get(cells[first].lower().replace("−", "-"))
    if axis is None:
        raise InputError(f"“{cells[first][:24]}” is no direction.")
    direction = [0.0, 0.0, 0.0]
    direction["XYZ".index(axis[1])] = 1.0 if axis[0] == "+" else -1.0
    raw: dict[str, Any] = {"name": cells[0], "direction": tuple(direction)}
    raw["mm_per_turn"] = length_from_text(cells[first + 1], units, "a number")
    raw["under"] = under
    if under is None:
        raw["place"] = tuple(length_from_text(cell, units, "a number") for cell in cells[1:4])
    for field, cell in zip(("down", "up", "step"), cells[first + 2 :], strict=False):
        if cell:
            raw[field] = abs(length_from_text(cell, "mm", "the number of turns"))
    thread = "".join(cells[first + 5 :]).lower()
    if thread not in ("", "right", "left"):
        raise InputError(f"“{thread[:24]}” is no thread: right or left.")
    raw["thread"] = thread
    try:
        return AdjusterRecipe.model_validate(raw).model_dump(mode="json")
    except ValidationError as error:
        what = error.errors()[0]
        raise InputError(f"{str(what['loc'][0]).replace('_', ' ')}: {what['msg'][0].lower()}{what['msg'][1:]}.") from None
