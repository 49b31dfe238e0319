"""The run sheet as finished words and numbers: what pages show and files hold."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class RowText:
    """One row in the job's units and in the drawing's terms.

    ``*_value`` are plain numbers in those units (None where there is none), for files; the
    others are as shown. ``share`` is where the deviation lies between the limits: -1 at the
    lower, +1 at the upper; ``None`` without limits.
    """

    id: int
    number: int
    name: str
    kind: str
    datum: str
    quantity: str
    state: str
    word: str
    shape: str
    nominal: str
    actual: str
    deviation: str
    tolerance: str
    uncertainty: str
    out_by: str
    form: str
    share: float | None
    hits: int
    wanted: int
    message: str
    note: str
    doubted: bool
    current: bool
    measured: bool
    nominal_value: float | None
    actual_value: float | None
    deviation_value: float | None
    lower_value: float | None
    upper_value: float | None
    uncertainty_value: float | None


HEADINGS = (
    "No", "Name", "Datum", "Quantity", "Nominal", "Actual", "Deviation", "Lower limit", "Upper limit",
    "Result", "Out by", "U (k=2)", "Hits", "Remark",
)  # fmt: skip


def cells(row: RowText) -> list[str | float | int | None]:
    """A row's cells under HEADINGS, numbers as numbers."""
    return [
        row.number, row.name, row.datum, row.quantity, row.nominal_value, row.actual_value, row.deviation_value,
        row.lower_value, row.upper_value, row.word, row.out_by or None, row.uncertainty_value,
        row.hits or None, row.message or row.note,
    ]  # fmt: skip
