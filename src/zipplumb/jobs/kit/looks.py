"""Looks: an instrument that sees surfaces measures by itself where the part is pointed at, and how surely, said before."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

import numpy as np

from ...core.errors import InputError
from ...core.frames import Array, unit
from ...core.sheet import SheetRow, StationPose, Untied
from ...core.uncertainty import coverage_factor
from ...core.units import coarse_text, length_from_text, length_text, whole_number
from ...devices.agent import Agent
from ...devices.protocol import SEE_SURFACES, Look
from ...exchange.symbols import Symbol
from ...store.database import order, stored, tell, transaction
from ...store.models import Instrument, Job
from ..actor import Actor, record
from ..state.part_model import model_of
from ..state.readings import stated_of
from ..state.results import JobResults, load

NOTHING = "Nothing was read."
SIDE_MM, POINTS = 30.0, 49
MOST_MM, MOST_POINTS = 3000.0, 2500
SLANT_DEG = 60.0  # from which a surface is seen badly
LATE = timedelta(seconds=15)
TOO_LATE = "It was to look while it could not be reached: that was not done. Nothing was read. Ask it again."
OFF_MM = 0.5  # over the surface, so that this itself is not in the way


@dataclass(frozen=True, eq=False)
class Aimed:
    """Where the part was pointed at: ``at`` (3,) and, of a line, ``to`` (3,), mm in the part; ``outward`` (3,) of the surface
    there; of a patch its side."""

    face: int
    at: Array
    outward: Array
    to: Array | None
    side_mm: float
    points: int

    @classmethod
    def typed(cls, form: Mapping[str, str], face: int | None, at: Array, outward: Array, to: Array | None, job: Job) -> Aimed:
        """Raises InputError naming what does not fit."""
        if face is None or not 0.9 < float(np.linalg.norm(outward)) < 1.1:
            raise InputError("Nothing is aimed at.", NOTHING, "Click on the part where it is to look.")
        side = length_from_text(form.get("side", "")[:40], job.units, "the side of the patch")
        if to is None and not 0 < side <= MOST_MM:
            raise InputError("A patch has a side above zero, and of 3 m at the most.", NOTHING, "Type another.")
        typed = form.get("points", "").strip()
        count = whole_number(typed, MOST_POINTS)
        if count is None or count < 2:
            raise InputError(f"“{typed[:20]}” is not a number of points from 2 to {MOST_POINTS}.", NOTHING, "Type how many.")
        if to is not None and np.linalg.norm(to - at) > MOST_MM:
            raise InputError("That line is longer than 3 m.", NOTHING, "Divide it.")
        if to is not None and np.linalg.norm(to - at) < 1e-3:
            raise InputError("The line has no length.", NOTHING, "Click where it ends.")
        return cls(face, at, unit(outward), to, side, count)

    @property
    def ends(self) -> Array:
        return self.at[None] if self.to is None else np.array([self.at, self.to])

    @property
    def middle(self) -> Array:
        return np.asarray(self.ends.mean(axis=0))


@dataclass(frozen=True)
class Expected:
    """Before it looks: to which row its points go, at what range and angle, and U of one of them. ``warns``: what is wrong."""

    row: str
    range: str
    angle: str
    u: str
    warns: tuple[str, ...]
    lines: tuple[list[list[float]], ...]


def sees_surfaces(instrument: Instrument | None) -> bool:
    return instrument is not None and instrument.kind in SEE_SURFACES


def expected(state: JobResults, aimed: Aimed) -> Expected:
    """The uncertainty to expect of such a look. Raises InputError where it cannot be estimated or done."""
    instrument, station, row = _ready(state, aimed)
    stated = stated_of(instrument.spec)
    if stated is None:
        raise InputError("What its maker states is not known.", NOTHING, "Type it at the instrument, on Kit.")
    beam, outward = _in_the_station(state, station, aimed.middle), _turned(state, station, aimed.outward)
    far = float(np.linalg.norm(beam))
    facing = -float(beam @ outward) / max(far, 1e-9)
    angle = float(np.degrees(np.arccos(np.clip(facing, -1, 1))))
    units = state.job.units
    warns = []
    if row.finished:
        rests = state.results[row.id].held
        more = "; the alignment waits for it then" if rests else ""
        warns.append(f"{Symbol.OPEN} {row.recipe.name} is finished, and opens again{more}.")
    if facing <= 0:
        warns.append(f"{Symbol.BAD} That face looks away from the instrument: it is seen from another place only.")
    elif _hidden(state, station, aimed):
        warns.append(f"{Symbol.BAD} The part itself stands in the way of some of it.")
    elif angle > SLANT_DEG:
        warns.append(f"{Symbol.OPEN} Seen at a slant, its points scatter {1 / facing:.1f} times as much along the beam.")
    u = coverage_factor() * stated.u_across(beam, outward)
    return Expected(
        row.recipe.name, f"{coarse_text(far, units)} {units}", f"{angle:.0f}°", length_text(u, units), tuple(warns),
        _drawn(aimed),
    )  # fmt: skip


def look(actor: Actor, job_id: int, aimed: Aimed) -> str:
    """Ask the instrument to look; what it reads goes to the row given. Returns its name."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        instrument, station, row = _ready(state, aimed)
        at, *more = (tuple(_in_the_station(state, station, end).round(4).tolist()) for end in aimed.ends)
        asked = Look(at, more[0] if more else None, aimed.side_mm, aimed.points)
        job.touching, job.current_row_id = "", row.id
        session.flush()
        told = {"at": asked.at, "to": asked.to, "side_mm": asked.side_mm, "points": asked.points}
        record(session, actor, job_id, "look", row=row.id, instrument=instrument.id, **told)
        tell(session, job_id, "rows", tone="moved")
        instrument.asked, instrument.asked_at = told, datetime.now(UTC)
        order(session, instrument.id)
        return row.recipe.name


def pass_on(instrument_id: int, agent: Agent) -> None:
    """For the link: ask an instrument what it was to be asked, once. While it is away that waits, but not for long: the part
    may have been moved since, and who asked has turned to something else."""
    with transaction() as session:
        instrument = stored(session, Instrument, instrument_id, lock=True)
        told, at = instrument.asked, instrument.asked_at
        if told is None or at is None:
            return
        late = datetime.now(UTC) - at > LATE
        if not late and not agent.listens:
            return
        instrument.asked = None
    if late:
        agent.trouble(TOO_LATE)
    else:
        agent.ask(Look(**told))


def _ready(state: JobResults, aimed: Aimed) -> tuple[Instrument, StationPose, SheetRow]:
    """The instrument that looks, its station, and the row that gets the points."""
    instrument = state.instrument
    if instrument is None or not sees_surfaces(instrument):
        raise InputError("No instrument that looks by itself stands here.", NOTHING, "Bring a radar to this job, on Kit.")
    if not instrument.connected:
        raise InputError(f"{instrument.name} is lost: {instrument.trouble}", NOTHING, "Look at its cable.")
    if instrument.trial_id is not None:
        raise InputError("A check is under way with it.", NOTHING, "Finish that first, on Kit.")
    if state.alignment is None:
        raise InputError(
            "Where the part lies is not known yet.", NOTHING, "Aim by hand at the rows that the alignment rests on, first."
        )
    station = state.stations.get(instrument.station_id or 0)
    if station is None or isinstance(station, Untied):
        raise InputError(station.message if station else "It stands nowhere.", NOTHING, "Tie its station first.")
    on_face = [row for row in state.measured if row.recipe.cad_face == aimed.face]
    row = next((row for row in on_face if not row.finished), on_face[0] if on_face else state.current)
    if row is None or not row.recipe.takes_hits:
        raise InputError("No row is there for what it would read.", NOTHING, "Plan one from that face, on Part.")
    return instrument, station, row


def _in_the_station(state: JobResults, station: StationPose, place: Array) -> Array:
    assert state.alignment is not None
    world = state.alignment.part_from_world.inverse().points(place) / state.alignment.scale
    return station.world_from_station.inverse().points(world)


def _turned(state: JobResults, station: StationPose, direction: Array) -> Array:
    assert state.alignment is not None
    return station.world_from_station.inverse().vectors(state.alignment.part_from_world.inverse().vectors(direction))


def _hidden(state: JobResults, station: StationPose, aimed: Aimed) -> bool:
    from ...cad.sight import Sight  # heavy, and seldom asked for

    assert state.alignment is not None
    bodies, kept = state.job.kept_bodies, state.remembered.get("sight")
    if kept is None or kept[0] != bodies:
        model = model_of(state.job.part)
        kept = state.remembered["sight"] = bodies, Sight(np.empty((0, 3, 3)) if model is None else model.triangles_of(bodies))
    stand = state.alignment.points(station.world_from_station.translation)
    corners = np.vstack([aimed.ends, aimed.middle]) + OFF_MM * aimed.outward
    return bool(kept[1].cut(stand, corners).any())


def _drawn(aimed: Aimed) -> tuple[list[list[float]], ...]:
    """The line, or the patch as a square on the surface."""
    if aimed.to is not None:
        return ([aimed.at.tolist(), aimed.to.tolist()],)
    u = unit(np.cross(aimed.outward, np.eye(3)[int(np.argmin(np.abs(aimed.outward)))]))
    v = np.cross(aimed.outward, u)
    half = aimed.side_mm / 2
    corners = [aimed.at + half * (a * u + b * v) for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1), (-1, -1))]
    return ([corner.round(2).tolist() for corner in corners],)
