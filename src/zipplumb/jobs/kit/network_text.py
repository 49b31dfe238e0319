"""How the stations of a job are tied to one another, in words."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...core.frames import cross
from ...core.network import Network
from ...core.sheet import FoundNetwork, SheetRow, StationPose, Untied
from ...core.sheet.results import COVERAGE
from ...core.units import length_text
from ..state.results import JobResults
from .stations import LEAST, common_points

NAMED = LEAST + 1  # common points of which one that was knocked can be named
ONE_MORE = "With a fourth common point, one that was knocked can be named."
SEEN_MM = 150.0  # how long the largest of what is left is drawn
ON_A_LINE = 0.15  # spread across, by that along, below which the tie is weak about the line


@dataclass(frozen=True)
class StationText:
    """``word``: the world, tied, not tied, or new; ``line``: why, or how well."""

    id: int
    name: str
    instrument: str
    word: str
    line: str
    here: bool


@dataclass(frozen=True)
class Cell:
    """A point seen from a station: what is left of it, as text; ``state``: "", "worst", "aside" or "unlike"."""

    station: int
    name: str
    left: str
    sigmas: str
    state: str


@dataclass(frozen=True)
class PointText:
    row: int
    name: str
    cells: tuple[Cell | None, ...]


@dataclass(frozen=True)
class NetworkText:
    """``worth``: what the adjustment is worth, in a sentence; ``bars``: what is left of scale bars; ``doubt``: what
    contradicts; ``before``: advice before moving.

    ``lines``: what is left of every sighting, in the part, ``times`` as long; none where nothing is aligned.
    """

    stations: tuple[StationText, ...]
    points: tuple[PointText, ...]
    worth: str
    bars: str
    doubt: str
    before: str
    ready: bool
    lines: tuple[list[list[float]], ...] = ()
    times: int = 0


def network_text(state: JobResults) -> NetworkText:
    before, ready = _before_moving(state)
    network = state.network
    stations = tuple(_station_text(state, number) for number in state.kit.stations)
    tying = (
        [row for row in state.measured if row.recipe.ties_stations and row.id in state.readings] if len(stations) > 1 else []
    )
    points = tuple(_point_text(state, row) for row in tying)
    doubt = "" if network is None else network.doubt
    return NetworkText(stations, points, _worth(network), _bars(state), doubt, before, ready, *_drawn(state))


def _drawn(state: JobResults) -> tuple[tuple[list[list[float]], ...], int]:
    """From where each point lies to where a station saw it, so many times as long that the largest is seen; and how many."""
    network = None if state.network is None else state.network.network
    if network is None or state.alignment is None:
        return (), 0
    pose = dict(zip(network.stations, network.poses, strict=True))
    place = dict(zip(network.points, network.places, strict=True))
    left = np.array([pose[s].vectors(r) for (s, _), r in zip(network.sightings, network.residuals, strict=True)])
    largest = float(np.linalg.norm(left, axis=1).max())
    if largest <= 0:
        return (), 0
    times = max(1, round(SEEN_MM / largest, 1 - len(str(int(SEEN_MM / largest)))))
    begins = np.array([place[point] for _, point in network.sightings])
    ends = state.alignment.points(np.stack([begins, begins + times * left], axis=1).reshape(-1, 3)).reshape(-1, 2, 3)
    return tuple(ends.round(2).tolist()), int(times)


def _station_text(state: JobResults, number: int) -> StationText:
    station, stands = state.kit.stations[number], state.stations[number]
    name, here = state.stood[number].name, state.station is not None and state.station.id == number
    if number not in state.read_from:
        return StationText(number, station.name, name, "new", "nothing was read from it yet", here)
    if isinstance(stands, Untied):
        return StationText(number, station.name, name, "not tied", stands.message, here)
    if stands.pose_terms is None:
        return StationText(number, station.name, name, "the world", "all others are told in its axes", here)
    assert state.network is not None
    network, units = state.network.network, state.job.units
    assert network is not None
    known, left = (f"{length_text(mm, units)} {units}" for mm in (_place_known_to(stands), network.by_station[station.name]))
    count = common_points(state.network, station.name)
    line = f"by {count} common points; its place is known to {known}; the points lie {left} off, rms"
    if count <= LEAST:
        line += "; no more than three cannot show that one of them was knocked: read a fourth"
    return StationText(number, station.name, name, "tied", line, here)


def _place_known_to(station: StationPose) -> float:
    """Expanded uncertainty (mm) of where it stands, in the direction in which that is known worst."""
    assert station.pose_terms is not None
    moves = station.pose_terms[:3] + cross(station.pose_terms[3:].T, station.world_from_station.translation).T
    return COVERAGE * float(np.linalg.norm(moves, 2))


def _worth(found: FoundNetwork | None) -> str:
    if found is None or found.network is None:
        return ""
    network = found.network
    ratio = float(np.sqrt(network.variance_factor))
    told = f"What is seen from several stations scatters {ratio:.1f} times as much as the makers state"
    if found.doubt:
        return f"{told}. Look whether a nest was knocked; else an instrument is worse than it states."
    fewest = min(len(points) for points in network.shared.values())
    return f"{told}: it agrees. {'' if fewest >= NAMED else ONE_MORE}".rstrip()


def _bars(state: JobResults) -> str:
    """Residual of each scale bar that contributes to the network."""
    network, units = state.network, state.job.units
    if network is None or not network.bars:
        return ""
    each = (f"{state.row(row).recipe.name} {length_text(left, units, sign=True)}" for row, left in network.bars.items())
    return f"Scale bars, certified less found: {', '.join(each)}."


def _point_text(state: JobResults, row: SheetRow) -> PointText:
    reading, units = state.readings[row.id], state.job.units
    found = state.network
    network, worst = (None, None) if found is None else (found.network, found.worst)
    point = None if found is None else next((name for name, r in found.rows.items() if r == row.id), None)
    cells: list[Cell | None] = []
    for number, station in state.kit.stations.items():
        mine = reading.stations == number
        if not mine.any():
            cells.append(None)
        elif reading.aside[mine].all():
            cells.append(Cell(number, station.name, "aside", "", "aside"))
        elif found is not None and number in found.unlike.get(row.id, ()):
            cells.append(Cell(number, station.name, "another ball", "", "unlike"))
        elif network is None or point is None or (station.name, point) not in network.sightings:
            cells.append(Cell(number, station.name, "seen", "", ""))
        else:
            left, sigmas = _left_of(network, station.name, point)
            bad = worst is not None and (worst.station, worst.point) == (station.name, point)
            cells.append(Cell(number, station.name, length_text(left, units), f"{sigmas:.1f} σ", "worst" if bad else ""))
    return PointText(row.id, row.recipe.name, tuple(cells))


def _left_of(network: Network, station: str, point: str) -> tuple[float, float]:
    """The largest of what is left of a point's sightings from a station (mm), and by how many sigmas that disagrees."""
    found = [k for k, (s, p) in enumerate(network.sightings) if (s, p) == (station, point)]
    k = max(found, key=lambda k: network.sigmas[k])
    return float(np.linalg.norm(network.residuals[k])), float(network.sigmas[k])


def _before_moving(state: JobResults) -> tuple[str, bool]:
    """Whether enough points were read from here to find the station again from elsewhere; the advice."""
    here = state.station
    if here is None:
        return "", False
    places = []
    for row in state.measured:
        reading = state.readings.get(row.id)
        if row.recipe.ties_stations and reading is not None and here.id in reading.stations_counted:
            mine = (reading.stations == here.id) & ~reading.aside
            places.append(reading.poses[mine, :3].mean(axis=0))
    if len(places) < LEAST:
        told = f"{len(places)} seen from {here.name} so far" if places else f"none is seen from {here.name} yet"
        return f"Before it is moved, read {NAMED} points or more that stay where they are, well apart: {told}.", False
    spreads = np.linalg.svd(np.array(places) - np.mean(places, axis=0), compute_uv=False)
    if spreads[1] < ON_A_LINE * spreads[0]:
        return (
            f"The {len(places)} points seen from {here.name} lie nearly on one line: read one well off it before it is moved.",
            False,
        )
    if len(places) < NAMED:
        return f"{len(places)} points are seen from {here.name}: just enough to move it. {ONE_MORE}", True
    return f"{len(places)} points are seen from {here.name}: enough to move it.", True
