"""A way that would settle a row that is not proven: what it would give, and the work that it takes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from ...frames import Array
from ...uncertainty import Source
from ..base import RowRecipe
from .chance import SURE, Outlook


@dataclass(frozen=True)
class Work:
    """What an act takes, in seconds: practice, where nothing is known of this shop."""

    hit_s: float = 4.0
    row_s: float = 20.0
    station_s: float = 900.0
    calibration_s: float = 600.0
    told_s: float = 60.0  # to look up, and type
    press_s: float = 5.0

    def of_source(self, source: Source) -> float:
        by_source = {"tip": self.calibration_s, "offset": self.calibration_s, "temperature": self.told_s}
        return by_source.get(source.what, self.station_s)


@dataclass(frozen=True, eq=False)
class Way:
    """A way to settle a row. ``U``: what is foretold; ``chance``: how likely it is settled then; ``work_s``: what it takes."""

    U: float
    chance: float
    work_s: float

    @property
    def enough(self) -> bool:
        return self.chance >= SURE

    @property
    def key(self) -> str:
        """What names it as long as nothing changes; "" where it cannot be planned by itself."""
        return ""


@dataclass(frozen=True, eq=False)
class MoreHits(Way):
    """So many more hits: their tip centers ``places`` (n, 3) in the world, by row, best first; ``aims``: the same on the
    surface. ``gone``: what then is gone of the covariance of what the rows' hits leave open; ``others``: rows that it likely
    settles besides."""

    places: Mapping[int, Array] = field(default_factory=dict)
    aims: Mapping[int, Array] = field(default_factory=dict)
    gone: Mapping[Source, Array] = field(default_factory=dict)
    others: tuple[int, ...] = ()

    @property
    def hits(self) -> int:
        return sum(len(places) for places in self.places.values())

    @property
    def key(self) -> str:
        return " ".join(f"{row}:{len(at)}" for row, at in sorted(self.places.items()))


@dataclass(frozen=True, eq=False)
class KnownBetter(Way):
    """Something that many results share, known anew: its share of U now and then."""

    source: Source = Source("")  # noqa: RUF009
    share: float = 0.0
    share_then: float = 0.0


@dataclass(frozen=True, eq=False)
class FromNearer(Way):
    """All hits of some rows taken anew from nearer: how far a polar instrument stands from them now and then, mm."""

    rows: tuple[int, ...] = ()
    far_mm: float = 0.0
    near_mm: float = 0.0


@dataclass(frozen=True, eq=False)
class AlsoHeld(Way):
    """A feature that is measured holds the part too: a spare hold of the alignment ``system``, which then is ``recipe``.

    What would be judged then is known already, but not looked at: who chooses an alignment by its verdicts proves nothing.
    """

    feature: int = 0
    system: int = 0
    recipe: RowRecipe | None = None

    @property
    def key(self) -> str:
        return f"held {self.feature} {self.system}"


@dataclass(frozen=True, eq=False)
class Settling:
    """What would settle a row.

    Attributes
    ----------
    outlook : of what of it is open, the first
    ways : the ways that are enough first, by their work; then the likeliest
    hit_mm : standard uncertainty that a hit would have to have so that as many were enough; None where no hit would
    own_form : its own form leaves open what its limit asks: more hits show more of it, not less
    """

    outlook: Outlook
    ways: tuple[Way, ...] = ()
    hit_mm: float | None = None
    own_form: bool = False

    @property
    def enough(self) -> bool:
        return any(way.enough for way in self.ways)
