"""What every part of a report has."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Annotated, Any, ClassVar

from pydantic import Field
from sqlalchemy.orm import Session

from ....core.sheet.base import Model, PictureRef, RowRef
from ....exchange.document import Section
from ....exchange.table import RowText
from ....store.reports import Picture
from ...state.results import JobResults
from ...state.rows_text import row_texts
from ..views import named_between

Rows = Annotated[tuple[RowRef, ...], Field(max_length=20_000)]
Pictures = Annotated[tuple[PictureRef, ...], Field(max_length=20_000)]
Line = Annotated[str, Field(max_length=200)]


@dataclass(frozen=True, eq=False)
class Gathering:
    """What a part takes its content from. ``only``: the rows that the report is narrowed to, none for all; ``by``: the person
    who asked for it; ``pictures``: whether those are in it; ``address``: where a picture is to be had, of a report that is
    looked at and not kept."""

    session: Session
    state: JobResults
    by: int | None
    only: Collection[int] = ()
    pictures: bool = True
    address: Callable[[Picture], str] | None = None

    @cached_property
    def texts(self) -> list[RowText]:
        """The rows of the report, in order."""
        return [text for text in row_texts(self.state).values() if not self.only or text.id in self.only]

    @property
    def kept(self) -> bool:
        """A file is made of it; else it is only looked at."""
        return self.address is None

    @cached_property
    def names(self) -> dict[str, int]:
        """Rows by their names, in the order of the sheet."""
        return {row.recipe.name: row.id for row in self.state.rows}


class Part(Model):
    """``title``: over it, in place of the usual one. ``noun``: what it is called on the page; ``usual``: it stands in a report
    of which nobody said anything; ``over_pieces``: it rests on all pieces of the job."""

    kind: str
    title: Line = ""
    noun: ClassVar[str]
    usual: ClassVar[bool] = True
    over_pieces: ClassVar[bool] = False

    @classmethod
    def key(cls) -> str:
        return str(cls.model_fields["kind"].default)

    def gather(self, of: Gathering) -> Section | None:
        """None where there is nothing to be told."""
        raise NotImplementedError

    def unknown(self, names: Sequence[str]) -> list[str]:
        """What was typed in it, and names none of the job's rows."""
        return []

    @classmethod
    def typed(cls, texts: Mapping[str, str]) -> dict[str, Any]:
        """Its fields from those of a form, beside the title."""
        return {}

    def shown(self) -> dict[str, str]:
        """Its fields as a form shows them, beside the title: texts by their names."""
        return {}

    @property
    def fields(self) -> tuple[tuple[str, str, int], ...]:
        """Of its form: name, words, and how many lines high it is."""
        return ()

    @property
    def choices(self) -> Mapping[str, tuple[tuple[str, str], ...]]:
        """What a field may be, of those that are chosen and not typed: key and words."""
        return {}


class Named(Part):
    """A part of some of the things that it may be of. ``named``: those, with commas between, "" for all."""

    named_words: ClassVar[str]
    named: Line = ""

    @classmethod
    def typed(cls, texts: Mapping[str, str]) -> dict[str, Any]:
        return {"named": " ".join(texts.get("named", "").split())[:200]}

    def shown(self) -> dict[str, str]:
        return {"named": self.named}

    @property
    def fields(self) -> tuple[tuple[str, str, int], ...]:
        return (("named", self.named_words, 1),)


class RowsChosen(Named):
    """A part of some rows of the sheet. ``rows``: those, none for all; of these those that are named, or lie in a stretch of
    names ("S12 to S40, Bore 1")."""

    named_words = "Which rows, as “S12 to S40, Bore 1”; all where empty"
    rows: Rows = ()

    def chosen(self, of: Gathering) -> set[int]:
        """Of the report's rows."""
        found = set(of.names.values()) if not self.named else {of.names[name] for name in self._meant(of.names)[0]}
        return {i for i in found if (not self.rows or i in self.rows) and (not of.only or i in of.only)}

    def unknown(self, names: Sequence[str]) -> list[str]:
        return self._meant(names)[1]

    def _meant(self, names: Iterable[str]) -> tuple[set[str], list[str]]:
        every, found, unknown = list(names), set[str](), list[str]()
        for text in filter(None, map(str.strip, self.named.split(","))):
            first, to, last = (each.strip() for each in text.partition(" to "))
            meant = {text} & set(every) or (named_between(every, first, last) if to else set())
            found |= meant
            unknown += [] if meant else [text]
        return found, unknown
