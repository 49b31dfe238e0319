"""What is said of a characteristic over pieces: sentences, numbers as they are shown, and its run chart."""

from __future__ import annotations

from dataclasses import dataclass

from ...core.pieces.capability import ENOUGH, FEWEST, Capability, Index
from ...core.units import Units, marked, quantity_text, quantity_value
from ...exchange.document import Cell, DataSheet
from ...exchange.run_chart import RunLine, RunPoint, run_chart
from ...exchange.symbols import SYMBOL_OF
from .over import Characteristic, Together

WHY_NOT = {
    "few": f"Too few pieces for an index of capability: at least {FEWEST}",
    "no spread": "All pieces are the same, so there is no spread to compare with the limits",
    "not normal": "The pieces are not spread as a normal distribution, so an index would mislead",
    "at zero": "A piece lies at zero, so the spread cannot be told by logarithms",
}
NOT_STABLE = "No Cp and Cpk: the process is not stable from piece to piece"
DIGITS = 2  # of an index
INDICES = (("Pp", "p"), ("Ppk", "pk"), ("Cp", "c"), ("Cpk", "ck"))


@dataclass(frozen=True)
class RunTold:
    """One characteristic, in the job's units."""

    of: Characteristic
    pieces: tuple[str, ...]
    units: Units

    def _text(self, value: float | None, sign: bool = True) -> str:
        return "–" if value is None or value != value else quantity_text(value, self.of.unit, self.units, sign)

    def value(self, value: float | None) -> float | None:
        """As a number in the job's units."""
        return None if value is None or value != value else round(quantity_value(value, self.of.unit, self.units), 9)

    @property
    def unit(self) -> str:
        return "°" if self.of.unit == "rad" else self.units

    @property
    def title(self) -> str:
        return f"{self.of.name}, {self.of.label}"

    @property
    def signed(self) -> bool:
        """Deviations are told with their sign."""
        return self.of.nominal is not None and not self.of.is_zone

    @property
    def mean(self) -> str:
        return self._text(self.of.run.mean, self.signed)

    @property
    def spread(self) -> str:
        return self._text(self.of.run.s, sign=False)

    @property
    def word(self) -> str:
        """The worst of all pieces."""
        words = {each.word for each in self.of.found}
        return next((word for word in ("out", "not proven", "close", "in") if word in words), "")

    @property
    def shape(self) -> str:
        return SYMBOL_OF.get(self.word, "")

    @property
    def limits(self) -> str:
        lower, upper = (self._text(each, self.signed) for each in (self.of.lower, self.of.upper))
        return "" if not self.of.judged else f"{lower} … {upper}" if self.of.lower is not None else f"≤ {upper}"

    @property
    def remarks(self) -> tuple[str, ...]:
        """All that is said of it, beside the indices."""
        return self._said("")

    @property
    def sentences(self) -> tuple[str, ...]:
        return self._said(", ".join(f"{name} {index}" for name, index in self.indices))

    def _said(self, indices: str) -> tuple[str, ...]:
        told = (self._spread(), self._trend(), self._beyond(), indices, *_remarks(self.of.capability), self._differ())
        return tuple(f"{each}." for each in told if each)

    def _spread(self) -> str:
        n = self.of.run.n
        of_all = "" if n == len(self.pieces) else f" of {len(self.pieces)}"
        told = f"{n}{of_all} pieces: mean {self.mean}, spread (s) {self.spread} {self.unit}" if n > 1 else "One piece"
        return f"{told}, {self.of.out or 'none'} out" if self.of.judged else told

    def _trend(self) -> str:
        trend = self.of.run.trend
        if trend is None:
            return ""
        if not trend.proven:
            return "No trend is proven"
        by = self._text(abs(trend.per_piece), sign=False)
        return f"It {'grows' if trend.per_piece > 0 else 'falls'} by about {by} {self.unit} a piece"

    def _beyond(self) -> str:
        control = self.of.run.control
        if control is None or control.stable:
            return ""
        names = [self.pieces[self.of.found[k].at] for k in control.beyond[:4]]
        if names:
            more = f" and {len(control.beyond) - 4} more" if len(control.beyond) > 4 else ""
            stands = "stands" if len(control.beyond) == 1 else "stand"
            return f"{', '.join(names)}{more} {stands} out of what varies from piece to piece"
        return "Many pieces on end lie on one side of the mean: it has shifted"

    def _differ(self) -> str:
        return "Not all pieces were measured against the same limits" if self.of.limits_differ else ""

    @property
    def chart(self) -> str:
        """Its run chart, as SVG."""
        found = self.of
        points = [(each.at, self._point(each.at, each.value, each.U, each.word)) for each in found.found]
        limits = [
            RunLine(self.value(at) or 0.0, self._text(at, self.signed)) for at in (found.lower, found.upper) if at is not None
        ]
        mean = RunLine(self.value(found.run.mean) or 0.0, self.mean)
        return run_chart(
            points, self.pieces, limits, mean, f"{self.title} over {len(self.pieces)} pieces. {' '.join(self.sentences)}"
        )

    def _point(self, at: int, value: float, U: float | None, word: str) -> RunPoint:
        named = f"{self.pieces[at]}: {self._text(value, self.signed)} {self.unit}{f', {word}' if word else ''}"
        return RunPoint(named, self.value(value) or 0.0, self.value(U), word)

    @property
    def indices(self) -> list[tuple[str, str]]:
        """Name and value, with bounds, of each that may be said."""
        found = ((name, getattr(self.of.capability, field)) for name, field in INDICES)
        return [(name, index_text(each)) for name, each in found if each is not None]


def index_text(index: Index) -> str:
    value, low, high = (marked(f"{each:.{DIGITS}f}".replace("-", "−")) for each in (index.value, index.low, index.high))
    return f"{value} ({low} to {high})"


def _remarks(found: Capability) -> list[str]:
    """What is to be known of the indices, or why there are none."""
    if found.pk is None:
        return [WHY_NOT.get(found.why_not, "")]
    share = marked(f"{100 * (found.share_out or 0.0):.2g}")
    return [
        f"Of a process that stays so, {share} % would be out",
        f"From {found.n} pieces that says little: {ENOUGH} say something" if found.says_little else "",
        NOT_STABLE if found.why_no_c else "",
        "By logarithms, since it cannot lie below zero" if found.by_logarithms else "",
    ]


def runs_told(found: Together, units: Units) -> list[RunTold]:
    pieces = tuple(piece.called for piece in found.pieces)
    return [RunTold(each, pieces, units) for each in found.characteristics]


SUMMARY = (
    "Name", "Quantity", "Unit", "Lower limit", "Upper limit", "Pieces", "Out", "Mean", "s", "Least", "Most", "Trend a piece",
    "Pp", "Pp from", "Pp to", "Ppk", "Ppk from", "Ppk to", "Cp", "Cp from", "Cp to", "Cpk", "Cpk from", "Cpk to", "In words",
)  # fmt: skip


def summary_sheet(runs: list[RunTold]) -> DataSheet:
    """A line a characteristic."""
    return DataSheet("Over pieces", SUMMARY, (28, 16, 6, *[12] * 9, *[8] * 12, 60), [_summed(each) for each in runs])


def _summed(told: RunTold) -> list[Cell]:
    found, run = told.of, told.of.run
    trend = run.trend.per_piece if run.trend is not None and run.trend.proven else None
    numbers = [told.value(each) for each in (run.mean, run.s, run.least, run.most, trend)]
    indices: list[Cell] = []
    for _, field in INDICES:
        index = getattr(found.capability, field)
        indices += [None] * 3 if index is None else [index.value, index.low, index.high]
    limits = told.value(found.lower), told.value(found.upper)
    return [
        found.name, found.label, told.unit, *limits, run.n, found.out, *numbers, *indices,
        " ".join(told.sentences),
    ]  # fmt: skip


def piece_columns(runs: list[RunTold]) -> DataSheet:
    """A line a characteristic, a column a piece."""
    pieces = runs[0].pieces if runs else ()
    lines = [_by_piece(each) for each in runs]
    return DataSheet(
        "Pieces",
        ("Name", "Quantity", "Unit", "Lower limit", "Upper limit", *pieces),
        (28, 16, 6, 12, 12, *[12] * len(pieces)),
        lines,
    )


def _by_piece(told: RunTold) -> list[Cell]:
    at = {each.at: told.value(each.value) for each in told.of.found}
    values = [at.get(k) for k in range(len(told.pieces))]
    return [told.of.name, told.of.label, told.unit, told.value(told.of.lower), told.value(told.of.upper), *values]
