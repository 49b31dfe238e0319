"""View model of a job's pages: everything is computed before it is rendered."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from operator import attrgetter
from typing import cast

from ..core.deriving import Drawing
from ..core.fingerprints import fingerprint
from ..core.sameness import Layered
from ..core.sheet import RowResult, SheetRow, Untied
from ..core.sheet.bases.systems import SystemRecipe
from ..core.sheet.maps.found import shown_of
from ..core.units import Units, length_text, quantity_text
from ..exchange.symbols import Symbol
from ..exchange.table import RowText
from ..jobs.align.alignment_text import worth
from ..jobs.kit import instruments
from ..jobs.measure.ahead import ahead_of
from ..jobs.measure.maps import scale_of, steps_of
from ..jobs.measure.prompts import Prompt, prompt, spoiling
from ..jobs.state.results import JobResults
from ..jobs.state.rows_text import row_texts
from ..store.models import Instrument, Job

DRAWN = 400  # hits of one row on the stage
BLOCK = 100  # rows that come to the page together


def _system_words(state: JobResults) -> str:
    """The active coordinate system, where it is solved."""
    active = state.job.alignment_row_id
    if state.alignment is None or active is None:
        return ""
    recipe = cast(SystemRecipe, state.row(active).recipe)
    return f"{recipe.name}, at 20 °C" if recipe.measured_warm else recipe.name


def _rests(state: JobResults) -> str:
    """The holds of the active coordinate system, in a few words."""
    active = state.job.alignment_row_id
    return worth(state, active) if active is not None and active in state.sheet.index else ""


@dataclass(frozen=True)
class Block:
    """Rows that follow one another. ``shown``: in the page from the start; the others come when they are scrolled to."""

    first: int
    rows: list[RowText]
    shown: bool


@dataclass(frozen=True)
class JobView:
    """A job for its pages: rows as words, the prompt, and what is active."""

    job: Job
    texts: Layered[int, RowText]
    prompt: Prompt
    instrument: Instrument | None
    station: str
    probe: str
    probe_short: str
    alignment: str
    rests: str
    due: str
    there: tuple[tuple[int, str], ...] = ()

    @classmethod
    def of(cls, state: JobResults, due: str = "") -> JobView:
        """``due``: why the instrument is to be checked."""
        job = state.job
        instrument = state.instrument
        cal = instrument.calibration if instrument else None
        return cls(
            job,
            row_texts(state),
            prompt(state, instrument),
            instrument,
            _station_words(state),
            cal.probe.name if cal else "none",
            f"Ø{length_text(cal.diameter_mm, job.units)}" if cal and cal.diameter_mm else cal.probe.name if cal else "none",
            _system_words(state),
            _rests(state),
            due,
            () if instrument is not None else _instruments_there(state),
        )

    @cached_property
    def rows(self) -> list[RowText]:
        """In order."""
        return list(self.texts.values())

    @property
    def blocks(self) -> list[Block]:
        """The sheet in blocks; a short one is one block."""
        rows = self.rows
        if len(rows) <= 2 * BLOCK:
            return [Block(0, rows, True)]
        here = next((place for place, row in enumerate(rows) if row.current), 0)
        return [self.block(first, first <= here < first + BLOCK) for first in range(0, len(rows), BLOCK)]

    def block(self, first: int, shown: bool = True) -> Block:
        return Block(first, self.rows[first : first + BLOCK], shown)

    @cached_property
    def counts(self) -> Counter[str]:
        """How many rows stand how, by their words."""
        return Counter(map(attrgetter("word"), self.rows))


def _instruments_there(state: JobResults) -> tuple[tuple[int, str], ...]:
    """Instruments that could be brought at once, by id and name; of those that stood here before Kit asks whether they were
    moved."""
    stood = {state.stood[station].id for station in state.read_from & state.stood.keys()}
    return tuple((i.id, i.name) for i in instruments.instruments() if i.connected and i.id not in stood)


def _station_words(state: JobResults) -> str:
    """Which station it stands at, where there are several, and that it is not tied."""
    if state.station is None or len(state.kit.stations) < 2:
        return ""
    tied = not isinstance(state.stations[state.station.id], Untied)
    number = state.station.name.removeprefix("Station ")
    return number if tied else f"{number} {Symbol.OPEN} not tied"


def choices_of(rows: Iterable[SheetRow]) -> list[tuple[int, str, bool]]:
    """Rows to choose from (see _chosen.html), with what is measured of them."""
    return [(row.id, row.recipe.name + (" (measured)" if row.finished else ""), True) for row in rows]


def scene_of(state: JobResults, only: Sequence[int] | None = None) -> dict:
    """The scene of the stage (docs/formats.md), in the part, mm. ``only``: of some rows."""
    chosen = state.rows if only is None else [state.row(i) for i in only]
    without_cad = state.job.kept_bodies == []
    units = state.job.units
    aligned = None if state.alignment is None else state.job.alignment_row_id  # while it waits a scan is drawn in the world
    rows = {
        str(row.id): _scene_row(row, state.results[row.id], without_cad, units, aligned) | _faces_under(state, row)
        for row in chosen
    }
    scene = {"current": state.job.current_row_id, "rows": rows, "ahead": _ahead(state)}
    return scene if only is not None else scene | {"order": [str(r.id) for r in state.rows]}


def _scene_row(row: SheetRow, found: RowResult, without_cad: bool, units: Units, alignment: int | None) -> dict:
    recipe = row.recipe
    raw: dict = {
        "face": recipe.cad_face,
        "state": found.state,
        "word": found.verdict.word if found.verdict else "",
        "datum": recipe.datum_letter or None,
        "name": recipe.name,
        "role": recipe.role,
    }
    if found.cloud is not None and found.state == "taking":
        raw["light"] = found.cloud.lines
    elif found.cloud is not None and found.cloud.key:
        raw["cloud"] = f"{found.cloud.key}-{found.cloud.state}-{alignment}"
    if (judged := shown_of(found)) is not None:
        key = judged.found.key + fingerprint(recipe)[:8] if not judged.limits.alike else judged.found.key
        raw["map"] = {"key": key, "steps": steps_of(judged), "words": scale_of(judged, units)}
    if recipe.on_map is not None:
        raw["pinned"] = str(recipe.on_map)
    contacts = found.contacts_part
    if contacts is None and without_cad and found.feature is not None:  # then the world is all that there is
        contacts = found.feature.contacts if found.feature.contacts is not None else found.feature.centers
    if contacts is not None:
        worst = spoiling(found)
        drawn = _thinned(len(contacts), worst.index if worst else None)
        raw["hits"] = contacts[drawn].round(3).tolist()
        raw["worst"] = drawn.index(worst.index) if worst else None
    if found.draw is not None and found.aligned_by is not None:
        raw["drawn"] = polylines(found.draw)
        if row.recipe.role == "dimension":  # it is drawn as a drawing has it, with its value
            raw["value"] = next((quantity_text(c.actual, c.unit, units) for c in found.characteristics), "")
    return raw


def _faces_under(state: JobResults, row: SheetRow) -> dict:
    """The faces of what a row is made of, or judges."""
    under = [state.row(n.id).recipe.cad_face for n in row.needs if n.what == "feature" and n.id in state.sheet.index]
    return {"faces": faces} if (faces := [face for face in under if face is not None]) else {}


def _ahead(state: JobResults) -> dict:
    """Outline of the current row, where it is no face, and its targets."""
    ahead = ahead_of(state)
    if ahead is None:
        return {}
    following = None if ahead.next is None else ahead.next.round(3).tolist()
    return {"lines": polylines(ahead.outline), "targets": ahead.targets[:DRAWN].round(3).tolist(), "next": following}


def _thinned(count: int, kept: int | None) -> list[int]:
    """Indices of the hits to draw: all, or an even selection that includes a given one."""
    some = set(range(0, count, max(1, -(-count // DRAWN))))
    return sorted(some | ({kept} if kept is not None else set()))


def polylines(drawing: Drawing) -> list[list[list[float]]]:
    """A drawing as lines of points."""
    lines = [*drawing.segments, *(arc.along() for arc in drawing.arcs)]
    return [line.round(3).tolist() for line in lines]
