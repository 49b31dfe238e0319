"""The results of evaluate(), per row."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Literal

import numpy as np

from ..alignment import Alignment
from ..deriving import Drawing
from ..features import Feature
from ..fitting import FitResult
from ..frames import Array, unit
from ..probing import Side
from ..tolerances import Verdict
from ..tolerances.drawn import FEW, Drawn, drawn_extreme
from ..uncertainty import Source, Uncertainty
from .scatter import most_alone
from .told import NOTHING_TOLD, Told

State = Literal["todo", "taking", "asks", "done", "waits", "failed"]
Sense = Literal["nominal", "touched", ""]
STEP_MM = 1e-3  # beside a place, to see which way is out
COVERAGE = 2.0  # k of the expanded uncertainty
MUCH = 0.3  # of the variance
WORST = ("out", "not proven", "close", "in")


@dataclass(frozen=True, eq=False)
class FoundFeature:
    """The value of a feature's node: what its readings, or its parents, make of it. World, mm.

    Attributes
    ----------
    state, message : todo, taking, asks, done, waits, failed, and why
    name, letter : of its row; ``letter`` is its datum letter, or its name
    nominal : its shape in the part, or None
    feature : with its uncertainty by source; None where there is none yet
    fit, side, residuals : of what was measured
    laid : how many hits went to the plane that it lies in
    counted : keys of the hits that were looked at and are its own; ``centers``, ``contacts`` (n, 3)
    left_out : how many more count, once it is finished
    scanned : how many of the counted ones, the last, are points of scans
    tip_mm : radius of the largest tip
    facing : (3,) where the tip went, of planes and surface points
    u_hit_mm : standard uncertainty of one hit, as stated
    size_limits : of the deviation of its diameter, mm, where both are asked
    proposals : what it may be, the likeliest first, of something that was just touched
    tip : of a tip that could not be taken off, its radius and the source and size of its uncertainty
    made : of a made feature, what it is made of, and how
    sense : what told which way its axis, or its plane, points: its "nominal", the way in which it was "touched", or nothing ""
    """

    state: State
    name: str = ""
    letter: str = ""
    nominal: Any = None
    message: str = ""
    feature: Feature | None = None
    fit: FitResult | None = None
    side: Side | None = None
    laid: int = 0
    counted: tuple[str, ...] = ()
    left_out: int = 0
    scanned: int = 0
    tip_mm: float = 0.0
    centers: Array | None = None
    contacts: Array | None = None
    residuals: Array | None = None
    facing: Array | None = None
    u_hit_mm: float = 0.0
    size_limits: tuple[float, float] | None = None
    tip: TipLeft | None = None
    warnings: tuple[str, ...] = ()
    doubts: tuple[str, ...] = ()
    draw: Drawing | None = None
    proposals: tuple[Proposal, ...] = ()
    made: Made | None = None
    sense: Sense = "touched"

    @property
    def shape(self) -> Any:
        """Its shape in the world, or None."""
        return None if self.feature is None else self.feature.shape

    @cached_property
    def touched(self) -> Array:
        """(n, 3) where it was touched, each as far off the fitted shape as it was read; of what has a fit."""
        return self._off_the_shape(1.0)

    @cached_property
    def calm(self) -> Array:
        """The hits as they likely lie without their own errors."""
        return self._off_the_shape(self.calm_share)

    @property
    def calm_share(self) -> float:
        """The share of the residuals that is surely form and not the hits' own error: its best linear
        prediction, with the most that they scatter alone."""
        assert self.fit is not None
        scatter, alone = self.fit.sigma, most_alone(self.u_hit_mm, self.fit.spare)
        return 1 - (alone / scatter) ** 2 if scatter > alone else 0.0

    @cached_property
    def form_drawn(self) -> Drawn:
        """How far its form may be off: the fit takes up a part of its hits' errors."""
        assert self.residuals is not None and self.fit is not None
        fitted = (self.fit.gaussian or self.fit).jacobian if len(self.residuals) <= FEW else None
        return drawn_extreme(
            self.calm_share * self.residuals, self.u_hit_mm, np.empty((len(self.residuals), 0)), "range", self.residuals, fitted
        )  # fmt: skip

    def _off_the_shape(self, share: float) -> Array:
        assert self.contacts is not None and self.residuals is not None
        distance = self.shape.distance
        ahead, behind = (np.stack([distance(self.contacts + s * e) for e in np.eye(3)], axis=1) for s in (STEP_MM, -STEP_MM))
        return np.asarray(self.contacts + share * self.air * self.residuals[:, None] * unit(ahead - behind))

    @property
    def made_of_senseless(self) -> bool:
        """It is made of something whose directions have no sense of their own."""
        if self.made is None:
            return False
        return any(f.made_of_senseless if f.made is not None else bool(f.shape.senseless_) for f in self.made.of)

    @property
    def air(self) -> int:
        """The side that was touched, +1 outside or -1 inside; of a plane where its normal is."""
        return self.side.air if self.side is not None and self.side.air else 1


@dataclass(frozen=True, eq=False)
class Made:
    """``of``: the features that it is made of; ``again``: makes it of other features of the same kinds. Raises DeriveError."""

    of: tuple[FoundFeature, ...]
    again: Callable[[Sequence[Feature]], Feature]


@dataclass(frozen=True)
class Proposal:
    """A proposal for some hits: a kind of fit, its probability, and the rms (mm) of its residuals."""

    fit_kind: str
    sure: float
    rms_mm: float


@dataclass(frozen=True)
class TipLeft:
    """A tip that is not off yet: its radius (mm), and the source and standard uncertainty of it."""

    radius_mm: float
    source: Source
    u_mm: float


@dataclass(frozen=True, eq=False)
class FoundSystem:
    """The value of a system's node. ``difference`` (6,): how it stands in the one that it is ``against``."""

    state: State
    message: str = ""
    alignment: Alignment | None = None
    difference: Array | None = None
    uses: tuple[int, ...] = ()


@dataclass(frozen=True, eq=False)
class Characteristic:
    """One number of a row, judged. Lengths mm, angles rad, as ``unit`` says.

    ``held``: it is so by construction, since the active system rests on this row; then there is no
    deviation. ``lower``, ``upper``: limits of the deviation. ``told``: how sure it is, worked out once that is asked
    for: its ``uncertainty`` by source; ``unproven``: why nothing is proven of it, though it has a value; ``near``: U where
    the true value may be one that it cannot fall below, as the distance of two places that may be one. ``of``: the name of
    one of several features that the row judges.
    """

    key: str
    unit: Literal["mm", "rad"]
    nominal: float | None = None
    actual: float | None = None
    deviation: float | None = None
    told: Told = NOTHING_TOLD
    lower: float | None = None
    upper: float | None = None
    verdict: Verdict | None = None
    held: bool = False
    of: str = ""

    @property
    def uncertainty(self) -> Uncertainty:
        return self.told.uncertainty

    @property
    def unproven(self) -> str:
        return self.told.unproven

    @property
    def near(self) -> float | None:
        return self.told.near

    @property
    def U(self) -> float | None:
        """Expanded uncertainty (95.45 %); None where there is none, infinite where nothing is proven."""
        if self.unproven:
            return float("inf")
        if self.near is not None:
            return self.near
        return self.uncertainty.U() if self.uncertainty.size else None

    @property
    def lowered(self) -> tuple[Source, float] | None:
        """The largest source where it is much of U, and what U would be were its share halved; else None."""
        if not self.budget or not self.U:
            return None
        source, share = self.budget[0]
        if share**2 < MUCH * self.U**2:
            return None
        return source, math.sqrt(max(self.U**2 - 0.75 * share**2, 0.0))

    @property
    def budget(self) -> tuple[tuple[Source, float], ...]:
        """Every source with its own share of U, largest first."""
        u = self.uncertainty.u() if self.uncertainty.size else 0.0
        k = (self.U or 0.0) / u if u > 0 and not self.unproven else COVERAGE
        return tuple((s, k * share) for s, share in self.uncertainty.budget()) if u > 0 else ()


@dataclass(frozen=True, eq=False)
class RowResult:
    """The result of one row.

    Attributes
    ----------
    state : todo (nothing yet), taking (hits but not finished), asks (a question must be answered), done,
        waits (for another row), failed (``message`` says why)
    feature : of a row that gives one; ``feature_part``, ``contacts_part`` in the active system
    off_part : (n,) how far each hit is from a nominal that is known only in the part, + outside the material
    system : of an alignment
    characteristics : those asked for, in order
    held : the active system rests on this row
    aligned_by : row of the active system, where there is one
    uses : rows that it is made of
    draw : what shows a dimension, or a made feature, in the active system or else the world
    told : of a tolerance, where it is worst, in a sentence
    cloud : of a scan
    map : of a map of deviations
    elsewhere : why its hits do not seem to belong to it, in a sentence; once it is finished, that is what it asks
    """

    row: int
    state: State = "todo"
    message: str = ""
    feature: FoundFeature | None = None
    system: FoundSystem | None = None
    cloud: Any = None
    map: Any = None
    characteristics: tuple[Characteristic, ...] = ()
    feature_part: Feature | None = None
    contacts_part: Array | None = None
    off_part: Array | None = None
    aligned_by: int | None = None
    held: bool = False
    uses: tuple[int, ...] = ()
    draw: Drawing | None = None
    told: str = ""
    elsewhere: str = ""
    warnings: tuple[str, ...] = ()
    doubts: tuple[str, ...] = ()

    @property
    def hits(self) -> int:
        return self.feature.laid + len(self.feature.counted) + self.feature.left_out if self.feature else 0

    @property
    def residuals(self) -> Array | None:
        """(n,) of the hits that count, + outside the material: what the fit leaves, or how far off the nominal they are."""
        if self.off_part is not None:
            return self.off_part
        return self.feature.residuals if self.feature else None

    @property
    def fit(self) -> FitResult | None:
        return self.feature.fit if self.feature else None

    @property
    def side(self) -> Side | None:
        return self.feature.side if self.feature else None

    @property
    def alignment(self) -> Alignment | None:
        return self.system.alignment if self.system else None

    @property
    def first(self) -> Characteristic | None:
        """The characteristic on its line."""
        return self.characteristics[0] if self.characteristics else None

    @property
    def verdict(self) -> Verdict | None:
        """The worst of its characteristics'."""
        found = [c.verdict for c in self.characteristics if c.verdict]
        return min(found, key=lambda v: (WORST.index(v.word), -v.used), default=None)

    def characteristic(self, key: str) -> Characteristic:
        """One of them by its key. Raises KeyError."""
        return {c.key: c for c in self.characteristics}[key]
