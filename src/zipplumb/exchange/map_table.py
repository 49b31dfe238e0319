"""A map of a scan's deviations, for reports: figures of the whole and of each face, and how many places lie where."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from .csv_file import table_as_csv
from .document import Chart, DataSheet

HEADINGS = (
    "Map", "Face", "Places", "Mean", "Spread", "2.5 % lie under", "2.5 % lie over", "Farthest in", "Farthest out", "In, %",
    "Not proven, %", "Out, %", "Lower limit", "Upper limit",
)  # fmt: skip
STEPS = ("#0b4a52", "#1c7277", "#58a09b", "#a2ccc4", "#f4ecdb", "#f3cd9c", "#e09d56", "#c56a2b", "#8a3512")  # as on the stage
WIDE, HIGH, SCALE, INK = 540.0, 90.0, 8.0, "#1F2933"


EXTREMES = (7, 8)  # of the headings: farthest in and out
LENGTHS = (*range(3, 9), 12, 13)  # those of the headings that are told in the job's unit


def csv_of_faces(table: MapTable, units: str) -> bytes:
    """A line for all that was seen, and one for each face."""
    headings = (f"{name}, {units}" if k in LENGTHS else name for k, name in enumerate(HEADINGS))
    cells = ([*line[:2], int(line[2] or 0), *line[3:]] for line in table.cells())
    return table_as_csv(headings, cells)


def maps_sheet(tables: Sequence[MapTable]) -> DataSheet:
    """The figures of maps and of their faces as a table, with a chart of how far each face is off."""
    widths = (20, 20, *[13] * (len(HEADINGS) - 2))
    charts = (Chart("Farthest in and out of each face", EXTREMES, 1),)
    return DataSheet("Surface maps", HEADINGS, widths, [line for table in tables for line in table.cells()], charts)


@dataclass(frozen=True)
class MapLine:
    """``numbers``: mean, spread, between which 95 % lie, farthest in and out, in the job's unit, and as ``texts``; ``shares``
    in, not proven and out, of one, or None without ``bounds``, in the job's unit, which ``limits`` tell in words."""

    name: str
    places: int
    numbers: tuple[float, ...]
    texts: tuple[str, ...]
    shares: tuple[float, float, float] | None
    bounds: tuple[float | None, float | None] = (None, None)
    limits: str = ""

    @property
    def out(self) -> str:
        return "–" if self.shares is None else f"{100 * self.shares[2]:.1f} %"


@dataclass(frozen=True)
class MapTable:
    """``told``: what is to be said of it; ``whole``, and the faces, those farthest off first; ``bars``: share of the highest
    and step of colours of each; ``scale``: words at the steps' ends; ``by_face``: the scale is per cent of each
    face's own limits."""

    name: str
    told: str
    whole: MapLine
    faces: tuple[MapLine, ...]
    bars: tuple[tuple[float, int], ...]
    scale: tuple[str, ...]
    by_face: bool = False

    def cells(self) -> list[list[str | float | None]]:
        """A line each, under HEADINGS; numbers as numbers."""
        nothing: Sequence[float | None] = (None, None, None)
        return [
            [self.name, line.name, float(line.places), *line.numbers,
             *(nothing if line.shares is None else [100 * share for share in line.shares]), *line.bounds]
            for line in (self.whole, *self.faces)
        ]  # fmt: skip

    @property
    def spread(self) -> str:
        """How many places lie how far off, over the scale."""
        step = WIDE / len(self.bars)
        parts = [
            f'<rect x="{k * step:.1f}" y="{HIGH * (1 - share):.1f}" width="{step - 0.6:.1f}" height="{HIGH * share:.1f}" '
            f'fill="{STEPS[color]}" stroke="{INK}" stroke-width=".2"/>'
            for k, (share, color) in enumerate(self.bars)
        ]
        wide = WIDE / len(STEPS)
        parts += [
            f'<rect x="{k * wide:.1f}" y="{HIGH + 2:.0f}" width="{wide:.1f}" height="{SCALE:.0f}" fill="{color}"/>'
            for k, color in enumerate(STEPS)
        ]
        parts += [
            f'<text x="{(k + 1) * wide:.1f}" y="{HIGH + 22:.0f}" text-anchor="middle" font-size="11">{words}</text>'
            for k, words in enumerate(self.scale)
        ]
        return f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDE:.0f} {HIGH + 26:.0f}">{"".join(parts)}</svg>'
