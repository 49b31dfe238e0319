"""The title block: fields of a shop's own, and its logo."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field

from ....core.errors import InputError
from ....core.sheet.base import PictureRef
from ....exchange.document import DataSheet, Section
from ..pictures import logo_of
from .base import Gathering, Line, Part

MOST_FIELDS = 24


class HeadingPart(Part):
    """``lines``: name and value of each field; ``logo``: a picture of the job, by its number."""

    kind: Literal["heading"] = "heading"
    noun = "Title block"
    lines: Annotated[tuple[tuple[Line, Line], ...], Field(max_length=MOST_FIELDS)] = ()
    logo: PictureRef | None = None

    def gather(self, of: Gathering) -> Section | None:
        logo = None if self.logo is None else logo_of(of.session, of.state.job.id, self.logo)
        if not self.lines and logo is None:
            return None
        sheet = DataSheet("Title block", ("Field", "Value"), (24, 60), [list(line) for line in self.lines])
        return Section(self.kind, self.title, (self.lines, logo), (sheet,) if self.lines else ())

    @classmethod
    def typed(cls, texts: Mapping[str, str]) -> dict[str, Any]:
        """A field a line, as "Order: 4711". Raises InputError."""
        found = []
        for text in filter(None, map(str.strip, texts.get("lines", "").splitlines())):
            name, colon, value = text.partition(":")
            if not colon or not name.strip():
                raise InputError(
                    f"“{text[:40]}” is no field.", "The report was left as it was.", "Type a field a line, as “Order: 4711”."
                )
            found.append((name.strip(), value.strip()))
        return {"lines": found}

    def shown(self) -> dict[str, str]:
        return {"lines": "\n".join(f"{name}: {value}" for name, value in self.lines)}

    @property
    def fields(self) -> tuple[tuple[str, str, int], ...]:
        return (("lines", "Fields, one a line, as “Order: 4711”", 4),)


KIND = HeadingPart
