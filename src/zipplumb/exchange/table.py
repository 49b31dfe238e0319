"""The run sheet as finished words and numbers: what pages show and files hold."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields
from functools import cached_property


@dataclass(frozen=True)
class CharacteristicText:
    """One characteristic in the job's units and in the drawing's terms.

    ``*_value`` are plain numbers in ``unit`` (None where there is none), for files; the others are as
    shown. ``share`` is where the deviation lies between the limits: -1 at the lower, +1 at the upper; ``None``
    without limits.
    """

    key: str
    label: str
    unit: str
    word: str
    shape: str
    nominal: str
    actual: str
    deviation: str
    tolerance: str
    uncertainty: str
    out_by: str
    share: float | None
    nominal_value: float | None
    actual_value: float | None
    deviation_value: float | None
    lower_value: float | None
    upper_value: float | None
    uncertainty_value: float | None


@dataclass(frozen=True, eq=False)
class RowText:
    """One row.

    ``line``: what stands on its line where it has no characteristic; ``takes_hits``: it is measured; ``taken``: how many
    hits, points of a scan or lines of light, in words; ``told``: the sentence that says where a tolerance is worst;
    ``tell``: how its characteristics are told; ``asks``: what is asked of it.
    """

    id: int
    number: int
    name: str
    kind: str
    datum: str
    state: str
    word: str
    shape: str
    line: str
    form: str
    hits: int
    wanted: int
    message: str
    note: str
    doubted: bool
    current: bool
    takes_hits: bool
    is_system: bool
    told: str
    tell: Callable[[], tuple[CharacteristicText, ...]] = field(repr=False)
    asks: str = ""
    taken: str = ""

    @cached_property
    def characteristics(self) -> tuple[CharacteristicText, ...]:
        """Told when somebody looks: of thousands of rows a page shows a hundred."""
        return self.tell()

    def says_as(self, other: RowText) -> bool:
        """Whether both have the same content. Equality is identity, so that rendered HTML can be cached by the object."""
        alike = all(getattr(self, f.name) == getattr(other, f.name) for f in fields(self) if f.name != "tell")
        return alike and self.characteristics == other.characteristics

    @property
    def first(self) -> CharacteristicText | None:
        """The characteristic on its line."""
        return self.characteristics[0] if self.characteristics else None

    @property
    def others(self) -> tuple[CharacteristicText, ...]:
        """The characteristics that unfold."""
        return self.characteristics[1:]

    @property
    def out_by(self) -> str:
        """The excess of the worst characteristic over its limit."""
        return next((c.out_by for c in self.characteristics if c.word == self.word and c.out_by), "")

    @property
    def worst(self) -> CharacteristicText | None:
        """The characteristic that the row's word is of."""
        return next((c for c in self.characteristics if c.word == self.word), self.first)
