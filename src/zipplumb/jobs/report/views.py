"""What a kept picture is: from where it is seen, what is shown, and which rows have tags."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError

from ...core.errors import InputError
from ...core.pictures.camera import Camera
from ...core.pictures.tags import Arranged
from ...core.sheet.base import Model, RowRef

Share = Annotated[float, Field(ge=-5, le=5)]
Told = Literal["name", "limits", "result"]
MOST_ROWS, MOST_NUMBER = 5_000, 10**15


class Tags(Model):
    """Which rows have tags: those that all of this is true of.

    ``rows``: one of these, where any is named; ``first``, ``last``: named from this one to that; ``kind``, ``word``: of such a
    kind, with such a result ("" for any); ``seen``: nothing of the part hides them. ``shows``: what a tag says beside the
    deviation. ``moved``: tags that a person has put somewhere, as shares of the picture's width and height, by row.
    """

    rows: Annotated[tuple[RowRef, ...], Field(max_length=MOST_ROWS)] = ()
    first: Annotated[str, Field(max_length=80)] = ""
    last: Annotated[str, Field(max_length=80)] = ""
    kind: Annotated[str, Field(max_length=40)] = ""
    word: Annotated[str, Field(max_length=20)] = ""
    seen: bool = True
    shows: tuple[Told, ...] = ("name", "result")
    arranged: Arranged = "around"
    moved: Annotated[dict[RowRef, tuple[Share, Share]], Field(max_length=MOST_ROWS)] = {}


class PictureView(Model):
    """``camera``: see ``Camera.data``; ``shape``: width by height of what is seen; ``bodies``: those that are shown, None for
    all; ``map``: the row whose map is painted; ``tags``: None for none."""

    camera: dict[str, Any]
    shape: Annotated[float, Field(ge=0.2, le=5)] = 1.6
    bodies: Annotated[tuple[Annotated[int, Field(ge=0)], ...], Field(max_length=100_000)] | None = None
    map: RowRef | None = None
    tags: Tags | None = None

    @property
    def seen_from(self) -> Camera:
        return Camera.of(self.camera)


def view_of(raw: Any) -> PictureView:
    """Raises InputError where it is not so."""
    try:
        found = PictureView.model_validate(raw)
    except ValidationError as error:
        what = ".".join(str(part) for part in error.errors()[0]["loc"]) or "the picture"
        raise InputError(f"{what} cannot be so.", "Nothing was kept.", "Turn the part on the stage, and try again.") from None
    found.seen_from  # noqa: B018 raises where it sees nothing
    return found


def named_between(names: Iterable[str], first: str, last: str) -> set[str]:
    """Of some names, in the order of the sheet, those from one to another.

    "S12" to "S40" are all S with a number from 12 to 40, wherever they stand; other names are a stretch of the sheet. Where one
    is left out, it goes on to that end.
    """
    every = list(names)
    ends = [_parts(name) for name in (first, last) if name]
    if ends and len({stem for stem, _ in ends}) == 1 and all(number is not None for _, number in ends):
        least, most = (_parts(first)[1] or 0 if first else 0), (_parts(last)[1] or 0 if last else MOST_NUMBER)
        least, most = min(least, most), max(least, most)
        numbered = ((name, *_parts(name)) for name in every)
        return {
            name for name, stem, number in numbered if stem == ends[0][0] and number is not None and least <= number <= most
        }
    start = every.index(first) if first in every else None if first else 0
    end = every.index(last) if last in every else None if last else len(every) - 1
    return set() if start is None or end is None else set(every[min(start, end) : max(start, end) + 1])


def _parts(name: str) -> tuple[str, int | None]:
    """The stem of a name and the number at its end."""
    found = re.fullmatch(r"(.*?)(\d{1,15})", name.strip())
    return (found[1].strip().casefold(), int(found[2])) if found else (name.strip().casefold(), None)
