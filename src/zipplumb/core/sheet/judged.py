"""The base of rows that judge features and give none themselves: dimensions and tolerances."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from ..alignment import Alignment
from ..deriving import Drawing
from ..errors import DeriveError, InputError
from .base import RowRecipe
from .datums import Datum
from .results import Characteristic, FoundFeature


class NeedsSystem(DeriveError):
    """It means something in an aligned part only."""


@dataclass(frozen=True, eq=False)
class Judgement:
    """The result of a judging row: characteristics, drawing, and a sentence on where the feature is worst."""

    characteristics: tuple[Characteristic, ...]
    draw: Drawing
    told: str = ""


class JudgedRecipe(RowRecipe):
    """A row that judges the features of others. ``takes_zone``: by how large a zone is said on the row."""

    takes_zone: ClassVar[bool] = False

    @classmethod
    def of_chosen(cls, of: Sequence[int]) -> dict[str, Any] | None:
        """A recipe's data, without name and zone, of features as they were chosen; None where these do not tell it."""
        return None

    @classmethod
    def on(cls, of: Sequence[int], datums: Sequence[Sequence[int]]) -> dict[str, Any]:
        """A recipe's data, without name and zone, on features with datums, the primary first, each of one row or of several
        together. Raises InputError where it does not take such datums, or these features do not tell it."""
        if datums:
            raise InputError("Such a tolerance has no datum.", "Nothing was planned.", "Leave the datums out.")
        told = cls.of_chosen(of)
        if told is None:
            raise InputError("These features do not tell it.", "Nothing was planned.", "Choose others.")
        return told

    @classmethod
    def with_nominals(cls, raw: dict[str, Any], nominals: Mapping[int, Any]) -> dict[str, Any] | None:
        """Recipe data completed from the nominals of the chosen features (by row); None if these do not determine it."""
        return raw

    @property
    def in_order(self) -> tuple[tuple[int, ...], ...]:
        """The rows of its datums, the primary first, each of one or of several together."""
        return ()

    @property
    def rests_on(self) -> tuple[Datum, ...]:
        """The datums in whose system it judges, the primary first; none: the active one. Rows of the same share it."""
        return ()

    def planned(self) -> tuple[Characteristic, ...]:
        """Its characteristics before anything is measured: nominals and limits only."""
        return ()

    def judged(self, row: int, found: Mapping[int, FoundFeature], system: Alignment | None) -> Judgement:
        """In a system, or without one. ``found``: by row, all done. Raises PlumbError where it cannot be.

        Raises NeedsSystem where only an aligned part tells it.
        """
        raise NotImplementedError
