"""What a person has to say."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field

from ....exchange.document import DataSheet, Section
from .base import Gathering, Part


class NotesPart(Part):
    kind: Literal["notes"] = "notes"
    noun = "Notes"
    usual = False
    text: Annotated[str, Field(max_length=20_000)] = ""

    def gather(self, of: Gathering) -> Section | None:
        paragraphs = [each.strip() for each in self.text.split("\n\n") if each.strip()]
        if not paragraphs:
            return None
        return Section(self.kind, self.title, paragraphs, (DataSheet("Notes", ("Note",), (100,), [[p] for p in paragraphs]),))

    @classmethod
    def typed(cls, texts: Mapping[str, str]) -> dict[str, Any]:
        return {"text": texts.get("text", "").replace("\r\n", "\n")}

    def shown(self) -> dict[str, str]:
        return {"text": self.text}

    @property
    def fields(self) -> tuple[tuple[str, str, int], ...]:
        return (("text", "What is to be said; a blank line begins a paragraph", 5),)


KIND = NotesPart
