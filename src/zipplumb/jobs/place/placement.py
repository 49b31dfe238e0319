"""Placing: how far what the tip or the reflector sits on is from where it should be, live, and which way to move it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...core.errors import InputError
from ...core.features import axis_of, center_point, point_of, radius_of
from ...core.frames import Array, cross
from ...core.sheet import SheetRow, StationPose
from ...core.tolerances.decision import GUARD, judge
from ...core.uncertainty import coverage_factor
from ...core.units import Units, length_from_text, length_text
from ...exchange.symbols import SYMBOL_OF
from ...store.database import stored, tell, transaction
from ...store.models import Job
from ..actor import Actor, record
from ..editions import edition_of, must_be_as_seen
from ..state.readings import stated_of
from ..state.results import JobResults

REACH_MM = 60.0  # a detail that is to be placed is not farther off than this
SMALL_SHARE = 0.15  # of the way: less than that is left out of the words
ZONE_MM = 0.05
STEP_MM = 1e-3  # of the central differences
AXES = ("+X", "-X", "+Y", "-Y", "+Z", "-Z")
LONGEST_WORDS = 24


@dataclass(frozen=True)
class Placing:
    """How a job places: within which zone (mm), and what its directions are called there."""

    zone_mm: float
    words: Mapping[str, str]

    @classmethod
    def of_job(cls, job: Job) -> Placing:
        kept = job.placing
        return cls(
            float(kept.get("zone_mm", ZONE_MM)),
            {a: kept.get("words", {}).get(a) or f"toward {a.replace('-', '−')}" for a in AXES},
        )


@dataclass(frozen=True, eq=False)
class Aims:
    """The rows whose nominals have a center, with the places (n, 3) in the part and the zones (n,) mm of these."""

    rows: tuple[SheetRow, ...]
    places: Array
    zones_mm: Array


@dataclass(frozen=True, eq=False)
class Missing:
    """What is missing at one row: the way (3,) in the part by which it is to be moved, mm.

    ``u_mm``: standard uncertainty of where what is watched lies in the part, 0 where it is decided by the value alone;
    ``axis``: it is to come onto the axis of what the row is of.
    """

    row: SheetRow
    way: Array
    zone_mm: float
    u_mm: float = 0.0
    axis: bool = False

    @property
    def far_mm(self) -> float:
        return float(np.linalg.norm(self.way))

    @property
    def U_mm(self) -> float:
        return coverage_factor() * self.u_mm

    @property
    def word(self) -> str:
        """In, out, or not proven."""
        found = judge(self.far_mm, -np.inf, self.zone_mm, self.U_mm).word
        return "in" if found == "close" else found

    @property
    def inside(self) -> bool:
        return self.word == "in"


def aims_of(state: JobResults) -> Aims:
    """Kept with the job while nobody edits its rows."""
    kept, placing = state.remembered.get("aims"), Placing.of_job(state.job)
    if kept is None or kept[0] is not state.sheet or kept[1] != placing:
        rows = tuple(row for row in state.measured if point_of(row.recipe.should_be) is not None)
        places = np.array([center_point(row.recipe.should_be) for row in rows]).reshape(-1, 3)
        zones = np.array([_zone(row, placing.zone_mm) for row in rows])
        kept = state.remembered["aims"] = state.sheet, placing, Aims(rows, places, zones)
    return kept[2]


def _zone(row: SheetRow, usual_mm: float) -> float:
    """How far its center may lie off: as asked of the row, else as the job's."""
    limits = [v for a in row.recipe.asked if a.key == "off" for v in (a.lower, a.upper) if v is not None]
    return max(map(abs, limits)) if limits else usual_mm


def u_of_watching(state: JobResults, station: StationPose, tip: Array, tip_part: Array) -> float:
    """Standard uncertainty (mm) of the position of a tip or reflector in the part, in its worst direction.

    ``tip`` (3,) in the instrument's axes. As its maker states for there, with what is uncertain of where it stands and of
    where the part lies; 0 where the job decides by the value alone.
    """
    instrument = state.stood.get(station.id)
    if instrument is None or state.alignment is None or not GUARD[state.sheet.rule]:
        return 0.0
    stated = stated_of(instrument.spec)
    hit = instrument.u_hit_mm if stated is None else stated.u_at(np.reshape(tip, (1, 3)))
    stands = 0.0
    if station.pose_terms is not None:
        moves = station.pose_terms[:3] + cross(station.pose_terms[3:].T, station.world_from_station.points(tip)).T
        stands = float(np.linalg.norm(moves, 2))
    return float(np.hypot(np.hypot(hit, stands), state.alignment.u_at(tip_part)[0]))


def missing(state: JobResults, tip_part: Array, radius_mm: float | None, u_mm: float = 0.0) -> Missing | None:
    """The deviation at the place that the tip or the reflector is nearest to; else at the current row's feature.

    That is its axis, for what is nearer to that than half way to the surface; else the surface, the tip taken off.
    """
    aims = aims_of(state)
    if len(aims.rows):
        ways = aims.places - tip_part
        nearest = int(np.argmin(np.einsum("ij,ij->i", ways, ways)))
        found = Missing(aims.rows[nearest], ways[nearest], float(aims.zones_mm[nearest]), u_mm)
        if found.far_mm <= REACH_MM:
            return found
    row = state.current
    if row is None or radius_mm is None:
        return None
    if (way := _to_the_axis(row.recipe.should_be, tip_part)) is not None:
        return Missing(row, way, Placing.of_job(state.job).zone_mm, u_mm, axis=True)
    spots = tip_part + STEP_MM * np.vstack([np.zeros(3), np.eye(3), -np.eye(3)])
    heights = row.recipe.height_over_nominal(spots, state.surfaces)
    if heights is None:
        return None
    outward = (heights[1:4] - heights[4:7]) / (2 * STEP_MM)
    way = -(float(heights[0]) - radius_mm) * outward
    return Missing(row, way, Placing.of_job(state.job).zone_mm, u_mm) if np.linalg.norm(way) <= REACH_MM else None


def _to_the_axis(nominal: Any, place: Array) -> Array | None:
    """From a place to the foot on a line, or on the axis of what has one radius; None where it is not that which is near."""
    axis = None if nominal is None else axis_of(nominal)
    if axis is None:
        return None
    off = place - axis.point
    way = (off @ axis.direction) * axis.direction - off
    within = REACH_MM if axis is nominal else min(REACH_MM, (radius_of(nominal) or 0.0) / 2)
    return way if np.linalg.norm(way) <= within else None


def told(state: JobResults, found: Missing) -> dict[str, Any]:
    """The deviation for the page: how far, whether that is in, and which way, the largest first; ``side``: the sign of that."""
    units, words = state.job.units, Placing.of_job(state.job).words
    steps = sorted(zip("XYZ", found.way.tolist(), strict=True), key=lambda step: -abs(step[1]))
    ways = [
        f"{length_text(abs(v), units)} {words[('+' if v > 0 else '-') + axis]}"
        for axis, v in steps
        if abs(v) > SMALL_SHARE * found.far_mm
    ]
    return {
        "row": found.row.id, "name": f"{found.row.recipe.name}{', its axis' if found.axis else ''}",
        "far": length_text(found.far_mm, units), "word": found.word, "symbol": SYMBOL_OF[found.word],
        "U": length_text(found.U_mm, units) if found.u_mm else "",
        "mm": round(found.far_mm, 3), "ways": ", ".join(ways), "zone": round(found.zone_mm, 6),
        "side": 1 if steps[0][1] > 0 else -1,
    }  # fmt: skip


def set_placing(actor: Actor, job_id: int, form: Mapping[str, str], seen: str | None = None) -> str:
    """The zone of what is placed, and what the directions are called. Returns what is seen of them now."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        must_be_as_seen(edition_of(job, "placing"), seen, "How it is placed")
        before, after = job.placing, {"zone_mm": _typed_zone(form.get("zone", ""), job.units), "words": _typed_words(form)}
        job.placing = after
        record(session, actor, job_id, "how it is placed", before=before, after=after)
        tell(session, job_id, "sheet")
        return edition_of(job, "placing")


def _typed_zone(text: str, units: Units) -> float:
    zone_mm = length_from_text(text, units, "the zone")
    if not 0 < zone_mm < 1e4:
        raise InputError("The zone is larger than nothing.", "Nothing was changed.", "Type how far a place may lie off.")
    return zone_mm


def _typed_words(form: Mapping[str, str]) -> dict[str, str]:
    found = {}
    for axis in AXES:
        words = form.get(axis, "").strip()
        if len(words) > LONGEST_WORDS or not words.isprintable():
            raise InputError(
                f"The words for {axis} have at most {LONGEST_WORDS} letters.", "Nothing was changed.", "Type shorter ones."
            )
        if words:
            found[axis] = words
    return found
