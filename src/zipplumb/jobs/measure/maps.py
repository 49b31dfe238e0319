"""Maps of how far a scan lies off the CAD: planned, drawn, asked at a place, and pinned."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree
from sqlalchemy.orm import Session

from ...cad import CadModel
from ...cad.scratch import scratch
from ...core.cloud.deviating import Places
from ...core.cloud.points import drawn
from ...core.errors import InputError
from ...core.frames import Array
from ...core.sheet import SheetRow
from ...core.sheet.maps.found import Figures, FoundMap, JudgedMap, shown_of
from ...core.sheet.maps.limits import WHOLE
from ...core.units import Units, in_units, length_text
from ...exchange.clouds.e57 import write_e57
from ...exchange.map_table import MapLine, MapTable, csv_of_faces
from ...exchange.ply_file import write_ply
from ...store.database import stored, tell, transaction
from ...store.models import Job
from ..actor import Actor
from ..plan.adding import add_rows, named
from ..state.part_model import model_of
from ..state.results import JobResults, load
from .clouds import scan_row

EDGES = 8  # of the steps of its colours: seven between the limits, and one beyond each
SPANNED = 1.2  # without limits, of the deviations of most places
FLAT_MM = 0.01  # what all is less off than that has no finer steps
FINER = 6  # bars of a step, in the bars of how many lie where
ALL, UNASKED = 1e6, 2e9  # no place is painted as more, but for those of which nothing is asked
MOST_PINS = 60
FINE, THICK = 8, 3  # places drawn over how far hits are apart, and so many in each square of that
FEWEST_DRAWN, MOST_DRAWN = 200, 60_000  # of a face


@dataclass(frozen=True)
class TypedLimits:
    """Limits of a map as a person typed them: mm; those that are left out are None."""

    lower_mm: float | None = None
    upper_mm: float | None = None

    def asked(self) -> list[dict[str, Any]]:
        """As a recipe has them, with all else that a map tells.

        Raises
        ------
        InputError
            They are the wrong way round.
        """
        if self.lower_mm is not None and self.upper_mm is not None and self.upper_mm <= self.lower_mm:
            raise InputError(
                "The upper limit lies under the lower one.", "Nothing was planned.", "Type the larger one as the upper."
            )
        limits = [{"key": "largest", "upper": self.upper_mm}, {"key": "smallest", "lower": self.lower_mm}]
        return [*limits, *({"key": key} for key in ("mean", "spread", "low", "high"))]


def plan(actor: Actor, job_id: int, scan_id: int, reach_mm: float, limits: TypedLimits) -> int:
    """A map of a scan; what lies farther off than a reach is not of the part. Returns its row."""
    actor.must_change()
    raw = {"kind": "deviations", "scan": scan_id, "reach_mm": reach_mm, "asked": limits.asked()}
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        scan_row(session, job_id, scan_id)
        return _planned(session, actor, job_id, raw)


def plan_touched(actor: Actor, job_id: int, row_ids: Sequence[int], limits: TypedLimits) -> int:
    """A map of what some rows were touched with. Returns its row."""
    actor.must_change()
    raw = {"kind": "touched_map", "of": list(row_ids), "asked": limits.asked()}
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        on_cad = {row.id for row in may_be_mapped(load(session, job_id))}
        if not row_ids or not on_cad.issuperset(row_ids):
            raise InputError(
                "Only rows that are planned on faces of the CAD can be compared with it.", "Nothing was planned.",
                "Choose such rows.",
            )  # fmt: skip
        return _planned(session, actor, job_id, raw)


def compare(actor: Actor, job_id: int, second: int, first: int, limits: TypedLimits) -> int:
    """How far a map differs from one that was made first. Returns its row."""
    actor.must_change()
    raw = {"kind": "comparison", "first": first, "second": second, "asked": limits.asked()}
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        if first == second or not {first, second} <= {row.id for row in maps_of(state)}:
            raise InputError("Two maps of this job are compared.", "Nothing was planned.", "Choose another map.")
        return _planned(session, actor, job_id, raw)


def maps_of(state: JobResults) -> list[SheetRow]:
    """The rows that are maps."""
    return [row for row in state.rows if row.recipe.role == "map"]


def _planned(session: Session, actor: Actor, job_id: int, raw: dict[str, Any]) -> int:
    (row,) = add_rows(session, actor, job_id, named(session, job_id, [raw]))
    tell(session, job_id, "sheet")
    return row


def may_be_mapped(state: JobResults) -> list[SheetRow]:
    """The rows whose hits lie on faces of the CAD."""
    return [row for row in state.measured if row.recipe.cad_face is not None]


def map_of(state: JobResults, row_id: int) -> JudgedMap:
    """Raises InputError where the row is no map, or not worked out."""
    found = shown_of(state.results[state.row(row_id).id])
    if found is None:
        raise InputError("There is no map to be seen there.", "Nothing was changed.", "Wait until it is worked out.")
    return found


def steps_of(judged: JudgedMap) -> list[float]:
    """Where one colour ends and the next begins, rising: mm; where faces have limits of their own, per cent of these."""
    if not judged.limits.alike:
        return np.linspace(-WHOLE, WHOLE, EDGES).tolist()
    whole, (lower, upper) = judged.whole, judged.limits.of_all()
    usual = max(SPANNED * max(abs(whole.low), abs(whole.high)), FLAT_MM)
    high = upper if upper is not None else -lower if lower is not None else usual
    low = lower if lower is not None else -high
    if high <= low:
        low, high = low - usual, low + usual
    return np.linspace(low, high, EDGES).tolist()


def scale_of(judged: JudgedMap, units: Units) -> list[str]:
    """The same in words."""
    if not judged.limits.alike:
        return [f"{step:+.0f} %" for step in steps_of(judged)]
    return [length_text(step, units, sign=True) for step in steps_of(judged)]


def painted(judged: JudgedMap) -> Array:
    """(k,) what the colour of each place tells, on the scale of the steps; over ``ALL`` where nothing is asked of it."""
    off = judged.found.places.means
    return off if judged.limits.alike else np.nan_to_num(judged.limits.used(off), nan=UNASKED)


@dataclass(frozen=True)
class Bar:
    """Of the bars of how many places lie where: from, to, on the scale of the steps; the share of the highest; the step of
    colours (0 to 8)."""

    low: float
    high: float
    count: int
    share: float
    step: int


def bars_of(judged: JudgedMap) -> list[Bar]:
    """How many places lie where; the outermost hold all that lie beyond."""
    steps = np.array(steps_of(judged))
    wide = (steps[1] - steps[0]) / FINER
    ends = np.linspace(steps[0] - FINER * wide, steps[-1] + FINER * wide, (EDGES + 1) * FINER + 1)
    off = painted(judged)
    off = off[off < ALL]
    counts = np.histogram(np.clip(off, ends[0], ends[-1]), ends)[0]
    most = max(int(counts.max()), 1)
    ends[0], ends[-1] = -ALL, ALL
    return [
        Bar(float(ends[k]), float(ends[k + 1]), int(count), int(count) / most, k // FINER) for k, count in enumerate(counts)
    ]


def drawn_of(state: JobResults, row_id: int) -> tuple[NDArray[np.float32], float]:
    """(d, 5): places on the part's surface, what its colour tells there, see ``painted``, and which way it faces; and how
    large each is to be drawn, mm.

    Between hits that are apart the surface is drawn as the nearest of them found it.
    """
    judged = map_of(state, row_id)
    found = judged.found
    shown = replace(found.places, means=painted(judged))
    if not found.apart:
        return drawn(shown.points, shown.means, shown.normals), found.result.step_mm
    model = model_of(state.job.part)
    if model is None:
        raise InputError("The part has no CAD to be drawn on.", "Nothing was changed.", "Bring in its CAD.")
    size = found.result.step_mm / FINE
    on_part = _filled(model, replace(found, result=replace(found.result, places=shown)), size)
    return drawn(on_part.points, on_part.means, on_part.normals), 2 * size


def _filled(model: CadModel, found: FoundMap, size: float) -> Places:
    """Places all over the faces, each as the nearest hit on its face says, so far as one speaks for its surroundings."""
    from ...cad.surfaces import Surfaces  # heavy

    parts = []
    for face in np.unique(found.places.faces).tolist():
        hits = found.places.of(found.places.faces == face)
        surface = Surfaces(model, (face,))
        points, normals = surface.spread(int(np.clip(THICK * surface.area / size**2, FEWEST_DRAWN, MOST_DRAWN)))
        away, nearest = cKDTree(hits.points).query(points, distance_upper_bound=found.reach_mm)
        some = np.flatnonzero(np.isfinite(away))
        parts.append(replace(hits.of(nearest[some]), points=points[some], normals=normals[some]))
    return Places.joined(parts)


def file_of(state: JobResults, row_id: int, suffix: str) -> bytes:
    """The places as they were seen, in the part, mm: with the surface's normals, deviation, U, count of points, and face.

    Raises InputError for a kind of file that is not written.
    """
    judged, name = map_of(state, row_id), state.row(row_id).recipe.name
    if suffix not in FILES:
        raise InputError("A map is written as PLY, E57 or CSV.", "Nothing was written.", "Choose one of them.")
    return FILES[suffix](state, judged, name)


def _as_ply(state: JobResults, judged: JudgedMap, name: str) -> bytes:
    columns = dict(zip("xyz", judged.found.seen.T, strict=True))
    columns |= dict(zip(("nx", "ny", "nz"), judged.found.places.normals.T.astype("f4"), strict=True))
    comments = [f"{state.job.name}: {name}", "mm, in the part; deviation + outside the material; uncertainty: U (95 %)"]
    return write_ply(columns | _beside(judged), comments)


def _as_e57(state: JobResults, judged: JudgedMap, name: str) -> bytes:
    with scratch() as folder:
        path = folder / "map.e57"
        write_e57(path, judged.found.seen, _beside(judged), judged.found.places.normals, f"{state.job.name}: {name}")
        return path.read_bytes()


def _as_csv(state: JobResults, judged: JudgedMap, name: str) -> bytes:
    return csv_of_faces(table_of(state, name, judged), state.job.units)


def _beside(judged: JudgedMap) -> dict[str, NDArray[Any]]:
    """What is told of each place."""
    places = judged.found.places
    return {"deviation": places.means, "uncertainty": judged.U, "points": places.counts, "face": places.faces + 1}


FILES = {"ply": _as_ply, "e57": _as_e57, "csv": _as_csv}


@dataclass(frozen=True, eq=False)
class PlaceTold:
    """What a map says at a place ``at`` (3,) of the part, on its ``face``."""

    at: Array
    words: str
    face: int


def told_at(state: JobResults, row_id: int, place: Array) -> PlaceTold:
    """Raises InputError where nothing was seen."""
    told = told_near(state, row_id, place)
    if told is None:
        raise InputError("Nothing was seen there.", "Nothing was changed.", "Click on what is painted.")
    return told


def told_near(state: JobResults, row_id: int, place: Array) -> PlaceTold | None:
    """None where nothing was seen."""
    judged, units = map_of(state, row_id), state.job.units
    number = judged.nearest(place)
    if number is None:
        return None
    places, U = judged.found.places, float(judged.U[number])
    sure = f"U {length_text(U, units)}" if np.isfinite(U) else "not proven"
    word, limits = judged.word_at(number), ""
    if word is not None and not judged.limits.alike:
        limits = f", limits {limits_text(*judged.limits.at(number), units)}"
    said = "" if word is None else f": {word}"
    off = length_text(float(places.means[number]), units, sign=True)
    face = int(places.faces[number])
    return PlaceTold(places.points[number], f"{off} {units} ({sure}), {face_name(state, face)}{said}{limits}", face)


def face_name(state: JobResults, face: int) -> str:
    """By the row that is planned on it, or by what it is."""
    named_by = next((row.recipe.name for row in state.rows if row.recipe.cad_face == face), None)
    faces = state.job.part.faces
    surface = faces[face]["surface"] if face < len(faces) else "face"
    return named_by or f"{surface} (face {face + 1})"


def pin(actor: Actor, job_id: int, row_id: int, place: Array) -> int:
    """A pin at a place. Returns its row."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        told = told_at(load(session, job_id), row_id, place)
        raw = {"kind": "pin", "map": row_id, "at": np.round(told.at, 4).tolist()}
        return _planned(session, actor, job_id, raw)


def pin_worst(actor: Actor, job_id: int, row_id: int) -> list[int]:
    """A pin where each face is farthest off, the worst first. Returns their rows."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        judged = map_of(load(session, job_id), row_id)
        places = judged.found.places
        worst = sorted(judged.worst_of_faces().values(), key=lambda k: -abs(places.means[k]))[:MOST_PINS]
        raws = [{"kind": "pin", "map": row_id, "at": np.round(places.points[k], 4).tolist()} for k in worst]
        rows = add_rows(session, actor, job_id, named(session, job_id, raws))
        tell(session, job_id, "sheet")
    return rows


def map_tables(state: JobResults, rows: Collection[int] | None = None) -> list[MapTable]:
    """The maps of a job, or of some of its rows, as reports tell them."""
    found = [(row, shown_of(state.results[row.id])) for row in state.rows if not rows or row.id in rows]
    return [table_of(state, row.recipe.name, judged) for row, judged in found if judged is not None]


def table_of(state: JobResults, name: str, judged: JudgedMap) -> MapTable:
    """Of one map."""
    units = state.job.units
    bars = tuple((bar.share, bar.step) for bar in bars_of(judged))
    scale = tuple(scale_of(judged, units))
    limits = judged.limits_of_faces()
    faces = tuple(_line(face_name(state, face), found, units, limits[face]) for face, found in farthest_off(judged))
    whole = _line("all that was seen", judged.whole, units, judged.limits.of_all())
    return MapTable(name, judged.told, whole, faces, bars, scale, not judged.limits.alike)


def farthest_off(judged: JudgedMap) -> list[tuple[int, Figures]]:
    """Faces by their number, those that are farthest off first."""
    return sorted(judged.of_faces.items(), key=lambda item: -max(abs(item[1].smallest), abs(item[1].largest)))


def limits_text(lower: float | None, upper: float | None, units: Units) -> str:
    """Both, or one; "" for none."""
    told = [length_text(limit, units, sign=True) for limit in (lower, upper) if limit is not None]
    if len(told) == 2:
        return " to ".join(told)
    return "" if not told else f"{'at least' if lower is not None else 'at most'} {told[0]}"


def _line(name: str, found: Figures, units: Units, limits: tuple[float | None, float | None]) -> MapLine:
    lengths = (found.mean, found.spread, found.low, found.high, found.smallest, found.largest)
    numbers = tuple(in_units(mm, units) for mm in lengths)
    texts = tuple(length_text(mm, units, sign=mm is not found.spread) for mm in lengths)
    lower, upper = (None if mm is None else in_units(mm, units) for mm in limits)
    return MapLine(name, found.places, numbers, texts, found.shares, (lower, upper), limits_text(*limits, units))
