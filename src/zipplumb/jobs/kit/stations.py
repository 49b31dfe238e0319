"""Where instruments stand at a job: bringing them, moving them, and how their stand-points are tied to one another."""

from __future__ import annotations

from datetime import UTC, datetime

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.frames import small_motion
from ...core.probing.balls import another_size, usual_ball
from ...core.sheet import FoundNetwork, SheetRow
from ...core.sheet import StationPose as Stood
from ...core.sheet.stations import ties
from ...core.units import degrees_text, length_text, mm
from ...store.database import stored, tell, transaction
from ...store.models import Change, Job, Reading, Station
from ..actor import Actor, record
from ..state.readings import lift_aside, set_all_aside
from ..state.results import JobResults, load
from .instruments import there

LEAST = 3  # common points that tie a station
ASIDE, AGAIN = "set a sighting aside", "count a sighting again"  # acts, as they are recorded
STIRRED_MM, STIRRED_RAD = 1e-6, 1e-9  # less is nothing


# ---- acts --------------------------------------------------------------------------------------


def bring(actor: Actor, job_id: int, instrument_id: int, unmoved: bool = False) -> None:
    """The instrument stands at this job from now on: at a new station, since it was carried.

    ``unmoved``: a person says that it stands where it stood when it was at this job last. A station from which nothing was
    read is taken again.
    """
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        instrument = there(session, instrument_id)
        mine = select(Station).where(Station.job_id == job_id, Station.instrument_id == instrument_id)
        station = session.scalars(mine.order_by(Station.id.desc())).first()
        if station is None or (not unmoved and _read_from(session, station)):
            count = session.scalar(select(func.count()).where(Station.job_id == job_id)) or 0
            station = Station(job_id=job_id, instrument_id=instrument_id, name=f"Station {count + 1}")
            session.add(station)
            session.flush()
        instrument.station_id, station.brought_at = station.id, datetime.now(UTC)
        session.flush()
        begins = next_tie(load(session, job_id), station.id)
        if begins is not None:
            job.current_row_id, job.touching = begins, ""
        record(session, actor, job_id, "bring instrument", instrument=instrument_id, station=station.id, unmoved=unmoved)
        tell(session, job_id, "kit")


def _read_from(session: Session, station: Station) -> bool:
    return session.scalar(select(Reading.id).where(Reading.station_id == station.id).limit(1)) is not None


def set_sighting_aside(actor: Actor, job_id: int, row_id: int, station_id: int, aside: bool) -> None:
    """Set the sightings of a point from one station aside, or restore them."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        row, station = state.row(row_id), stored(session, Station, station_id)
        if station.job_id != job_id or not row.recipe.ties_stations:
            raise InputError(
                "That is no point seen from a station of this job.", "Nothing was changed.", "Choose one of the list."
            )
        seen = (Reading.row_id == row_id) & (Reading.station_id == station_id)
        (set_all_aside if aside else lift_aside)(session, seen, actor.id)
        session.flush()
        moved = _moved(state, load(session, job_id))
        record(session, actor, job_id, ASIDE if aside else AGAIN, row=row_id, station=station_id, moved=moved)
        tell(session, job_id, "sheet", row=row_id)


def _moved(before: JobResults, after: JobResults) -> dict[str, list[float] | None]:
    """For each station that stands elsewhere now, by name: how far it went, mm, and turned, rad; None: it is tied no more."""
    found: dict[str, list[float] | None] = {}
    for number, was in before.stations.items():
        now = after.stations.get(number)
        if not isinstance(was, Stood):
            continue
        if not isinstance(now, Stood):
            found[was.name] = None
            continue
        between = small_motion(was.world_from_station.inverse() @ now.world_from_station)
        went, turned = float(np.linalg.norm(between[:3])), float(np.linalg.norm(between[3:]))
        if went > STIRRED_MM or turned > STIRRED_RAD:
            found[was.name] = [went, turned]
    return found


def last_effect(session: Session, state: JobResults) -> str:
    """Effect on the stations of the last observation that was set aside or counted again, in words; "" where there is none."""
    acts = select(Change).where(Change.job_id == state.job.id, Change.act.in_((ASIDE, AGAIN)), Change.detail.has_key("moved"))
    last = session.scalars(acts.order_by(Change.id.desc()).limit(1)).first()
    if last is None or last.detail["row"] not in state.sheet.index or last.detail["station"] not in state.kit.stations:
        return ""
    point, station = state.row(last.detail["row"]).recipe.name, state.kit.stations[last.detail["station"]].name
    done = f"{point} from {station} was {'set aside' if last.act == ASIDE else 'counted again'}"
    told = [
        f"{name} is tied no more" if by is None else
        f"{name} went {length_text(by[0], state.job.units)} {state.job.units} and turned {degrees_text(by[1])}"
        for name, by in last.detail["moved"].items()
    ]  # fmt: skip
    return f"{done}: {'; '.join(told) or 'no station moved'}."


# ---- what there is to do -----------------------------------------------------------------------


def next_tie(state: JobResults, station_id: int | None) -> int | None:
    """The next point that other stations have seen, and this one not yet; None where there is none."""
    if station_id is None or station_id not in state.kit.stations or station_id == state.world:
        return None
    return next((row.id for row in state.measured if _is_to_be_tied(state, row, station_id)), None)


def _is_to_be_tied(state: JobResults, row: SheetRow, station_id: int) -> bool:
    reading = state.readings.get(row.id)
    seen = frozenset() if reading is None or not row.recipe.ties_stations else reading.stations_counted
    return bool(seen or row.recipe.known_place) and station_id not in seen


def hits_from(state: JobResults, row: SheetRow, station_id: int) -> int:
    """How many hits of a row count that were read from one station."""
    reading = state.readings.get(row.id)
    return 0 if reading is None else int(np.count_nonzero((reading.stations == station_id) & ~reading.aside))


def tie_words(state: JobResults, row: SheetRow) -> str:
    """How far the present station is from being tied, where a row is read for that; else ""."""
    here = state.station
    if here is None or here.id == state.world or not row.recipe.ties_stations or state.network is None:
        return ""
    others = (frozenset() if (reading := state.readings.get(row.id)) is None else reading.stations_counted) - {here.id}
    if not others and row.recipe.known_place is None:
        return ""
    untied = state.network.untied.get(here.id)
    if untied is None:
        return f"{here.name} is tied by {common_points(state.network, here.name)} common points; more make it surer."
    tied_by = sum(1 for r in state.measured if _seen_here_too(state, r, here.id))
    return f"{here.name} is not tied yet: {tied_by} of {LEAST} common points."


def ball_words(state: JobResults, row: SheetRow) -> str:
    """That what is on now is a ball of another size than the row was read with, in whose nest it rests elsewhere; else ""."""
    reading, here = state.readings.get(row.id), state.instrument
    now = None if here is None or here.calibration_id is None else state.kit.calibrations.get(here.calibration_id)
    if now is None or reading is None or not row.recipe.ties_stations or not len(counted := reading.counted):
        return ""
    before = np.array([state.kit.calibrations[c].diameter_mm for c in counted.calibrations.tolist()])
    usual = usual_ball(before)
    if not another_size(now.diameter_mm, usual):
        return ""
    is_on, wanted = mm(now.diameter_mm, ".1f"), mm(usual, ".1f")
    return f"A ball of {is_on} is on, and {row.recipe.name} was read with one of {wanted}: put that on, or nothing is tied."


def _seen_here_too(state: JobResults, row: SheetRow, station_id: int) -> bool:
    reading = state.readings.get(row.id)
    return reading is not None and station_id in reading.stations_counted and ties(row, reading)


def common_points(network: FoundNetwork, station: str) -> int:
    """How many points a station has in common with others."""
    assert network.network is not None
    k = network.network.stations.index(station)
    others = np.delete(network.network.sees, k, axis=0).any(axis=0)
    return int(np.count_nonzero(network.network.sees[k] & others))
