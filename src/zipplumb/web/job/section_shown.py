"""A section through a scan as it is drawn in the slip: flat, with whiskers, and places that can be picked."""

from __future__ import annotations

import json
from dataclasses import dataclass

import numpy as np

from ...core.frames import Array
from ...jobs.measure import scan_sections
from ...jobs.state.results import JobResults

WIDE, HIGH, MARGIN = 620.0, 300.0, 14.0  # of the drawing, in its own units


@dataclass(frozen=True)
class SectionShown:
    """Lines as SVG draws them; ``picks``: x, y on the drawing and the place on the stage of each point, as JSON."""

    wide: float
    high: float
    points: str
    nominals: list[str]
    zone: list[str]
    whiskers: str
    picks: str
    times: float
    axes: tuple[str, str]
    kinds: list[tuple[str, str]]


def section_of(state: JobResults, row_id: int) -> SectionShown | None:
    """None of a row that is no section, or not there yet."""
    flat = scan_sections.flat_of(state, row_id)
    if flat is None:
        return None
    every = np.vstack([flat.points, flat.whiskers.reshape(-1, 2), *flat.zone])
    low, size = every.min(axis=0), np.maximum(np.ptp(every, axis=0), 1e-6)
    scale = float(min((WIDE - 2 * MARGIN) / size[0], (HIGH - 2 * MARGIN) / size[1]))
    high = size[1] * scale + 2 * MARGIN

    def drawn(places: Array) -> Array:
        on = (places - low) * scale + MARGIN
        return np.round(np.column_stack([on[:, 0], high - on[:, 1]]), 1)

    def line(places: Array) -> str:
        return " ".join(f"{x:g},{y:g}" for x, y in drawn(places))

    at = drawn(flat.points)
    whiskers = drawn(flat.whiskers.reshape(-1, 2)).reshape(-1, 2, 2)
    return SectionShown(
        size[0] * scale + 2 * MARGIN, high, "".join(f"M{x:g} {y:g}h0" for x, y in at), [line(each) for each in flat.nominals],
        [line(each) for each in flat.zone], "".join(f"M{a[0]:g} {a[1]:g}L{b[0]:g} {b[1]:g}" for a, b in whiskers),
        json.dumps([[*xy, *place] for xy, place in zip(at.tolist(), flat.places.round(4).tolist(), strict=True)]),
        flat.times, flat.axes, list(scan_sections.MADE.items()),
    )  # fmt: skip
