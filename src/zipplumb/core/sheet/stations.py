"""Poses of the stations: the first defines the world, the others are tied to it by common points."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import combinations
from typing import Any

import numpy as np
from scipy import special

from ..errors import AlignmentError
from ..fingerprints import fingerprint
from ..frames import Array, points_of_poses
from ..network import Disagreement, KnownLength, LevelSighting, Network, NotTied, Observation, adjust, covariance_of
from ..probing.balls import another_size, usual_ball
from ..readings import HitSet
from ..units import mm
from .given import Kit, SheetRow, StationPose

NETWORK = ("network", 0)
KNOWN = "the known places"  # as if they were seen from one more station, in the axes in which they are told
MOST_EXCHANGED = 8  # points of one station that are tried for each other
LARGE = 600  # sightings, beyond which that takes too long
LEAST_KNOWN = 3  # that tell how they lie
SURELY = 0.001  # chance by which sound readings disagree so much
NAMED_SIGMAS = 4.0
REST = "Its hits are kept, and wait."


@dataclass(frozen=True)
class Untied:
    """A station whose pose is unknown: why, and what to do."""

    id: int
    message: str


@dataclass(frozen=True, eq=False)
class FoundNetwork:
    """The value of the network's node.

    Attributes
    ----------
    stations : by id, those whose place in the world is known; untied : the others, with the reason
    network : the adjustment; None where nothing ties anything
    rows : by name of a point in the network, its row; ids : by name of a station, its id
    doubt : why nothing read from tied stations is proven; "" where the readings agree
    bars : by row of a scale bar that bears on it, its known length less what is worked out, mm
    unlike : by row, the stations from which it was read with a ball of another size than from most, which ties nothing
    """

    stations: dict[int, StationPose]
    untied: dict[int, Untied]
    network: Network | None
    rows: dict[str, int]
    ids: dict[str, int]
    doubt: str = ""
    bars: Mapping[int, float] = field(default_factory=dict)
    unlike: Mapping[int, tuple[int, ...]] = field(default_factory=dict)

    @property
    def worst(self) -> Disagreement | None:
        """The sighting that disagrees most with all others, where it does so surely."""
        if self.network is None or self.network.spare <= 0 or not self.network.worst:
            return None
        worst = self.network.worst[0]
        return worst if worst.sigmas > NAMED_SIGMAS else None


def ties(row: SheetRow, reading: HitSet | None) -> bool:
    """Whether a row's hits tie stations: it is a point, seen from two or more; from one, where its place is known."""
    if not row.recipe.ties_stations or reading is None:
        return False
    return len(reading.stations_counted) > (0 if row.recipe.known_place else 1)


def digest_of(rows: Sequence[SheetRow], readings: Mapping[int, HitSet], kit: Kit) -> str:
    """Names all that the network rests on."""
    stations = [f"{s.id}{s.name}{s.digest}" for s in kit.stations.values()]
    told = []
    for row in rows:
        reading = readings.get(row.id)
        if row.recipe.known_length is not None:
            told.append(row.digest)
        if reading is not None and ties(row, reading):
            used = [kit.calibrations[c].digest for c in reading.used[1] if c in kit.calibrations]
            told.append(f"{row.id}{row.recipe.name}{reading.digest}{used}{row.recipe.known_place}")
    return fingerprint(*stations, *told)


def tied(rows: Sequence[SheetRow], readings: Mapping[int, HitSet], kit: Kit) -> FoundNetwork:
    """All stations of a job in one adjustment, each sighting weighed by what its instrument's maker states.

    The first station is the world. Places that are known beforehand are as if seen from one more. A station that too few
    points tie to it is reported with the reason; the others are solved without it.
    """
    stations = list(kit.stations.values())
    ids = {s.name: s.id for s in stations}
    observations, point_rows, unlike = _sightings(rows, readings, kit)
    known = [o for o in observations if o.station == KNOWN]
    world, left = stations[0], [*ids, *([KNOWN] if len(known) >= LEAST_KNOWN else [])]
    untied: dict[int, Untied] = {}
    network = None
    while len(left) > 1:
        seen = _in_common([o for o in observations if o.station in left])
        missing = [name for name in left if name not in {o.station for o in seen}]
        if missing:
            out = missing if world.name not in missing else [n for n in left if n != world.name]
            reasons = dict.fromkeys(out, f"it shares no point with {world.name} yet, and three are needed")
        else:
            try:
                levels = _levels(s for s in stations if s.name in left)
                bars = _bars(rows, point_rows, seen)
                network = adjust(seen, known_lengths=list(bars.values()), levels=levels, world=world.name)
                break
            except NotTied as error:
                out = [n for n in error.stations if n != world.name]
                if world.name in error.stations:  # nothing ties the others to the world
                    out = [n for n in left if n != world.name]
                reasons = {n: error.stations.get(n, error.stations.get(world.name, "")) for n in out}
            except AlignmentError as error:
                reasons = {n: str(error).rstrip(".") for n in left if n != world.name}
                out = list(reasons)
        for name in set(out) & set(ids):
            why = f"{name} is not tied to {world.name}: {reasons[name]}. {_unlike_words(ids[name], unlike)}{REST}"
            untied[ids[name]] = Untied(ids[name], why)
        left = [name for name in left if name not in out]
    if network is None:
        return FoundNetwork({world.id: world}, untied, None, point_rows, ids, unlike=unlike)
    doubt = _doubt(network, seen, world.name)
    stands = {ids[n]: _standing(kit.stations[ids[n]], network, k, doubt) for k, n in enumerate(network.stations) if n in ids}
    left_of_bars = dict(zip(bars, network.length_residuals.tolist(), strict=True))
    return FoundNetwork(stands, untied, network, point_rows, ids, doubt, left_of_bars, unlike)


def _unlike_words(station: int, unlike: Mapping[int, tuple[int, ...]]) -> str:
    """How many points a station read with another ball than the other stations did."""
    count = sum(station in stations for stations in unlike.values())
    if not count:
        return ""
    points = "1 point was" if count == 1 else f"{count} points were"
    return f"{points} read from it with a ball of another size, whose center rests elsewhere in a nest. "


def _bars(rows: Sequence[SheetRow], point_rows: Mapping[str, int], seen: Sequence[Observation]) -> dict[int, KnownLength]:
    """By row, the known lengths between points that tie stations."""
    named = {row: name for name, row in point_rows.items() if name in {o.point for o in seen}}
    found = {}
    for row in rows:
        if (known := row.recipe.known_length) is not None and known[0] in named and known[1] in named:
            found[row.id] = KnownLength(named[known[0]], named[known[1]], *known[2:])
    return found


def _sightings(
    rows: Sequence[SheetRow], readings: Mapping[int, HitSet], kit: Kit
) -> tuple[list[Observation], dict[str, int], dict[int, tuple[int, ...]]]:
    """Every hit that counts of every point seen from several stations, in its station's own axes; the rows by their names.

    Of balls of several sizes in one nest those of one size count; last, by row, the stations of which none does.
    """
    found: list[Observation] = []
    names: dict[str, int] = {}
    unlike: dict[int, tuple[int, ...]] = {}
    for row in rows:
        reading = readings.get(row.id)
        if reading is None or not ties(row, reading):
            continue
        counted = reading.counted
        name = row.recipe.name if row.recipe.name not in names else f"{row.recipe.name} ({row.id})"
        names[name] = row.id
        balls_mm = np.array([kit.calibrations[cal].diameter_mm for cal in counted.calibrations.tolist()])
        other = another_size(balls_mm, usual_ball(balls_mm))
        if other.any():
            unlike[row.id] = tuple(sorted(set(counted.stations[other].tolist()) - set(counted.stations[~other].tolist())))
        each = zip(counted.poses, counted.stations.tolist(), counted.calibrations.tolist(), other.tolist(), strict=True)
        for pose, station, cal, unlike_others in each:
            if unlike_others:
                continue
            local = points_of_poses(pose[None], kit.calibrations[cal].offset_mm)[0]
            stated = reading.stated.get(station)
            spread = np.eye(3) * reading.u_hit_mm**2 if stated is None else covariance_of(local, stated)
            found.append(Observation(kit.stations[station].name, name, local, spread))
        if (known := row.recipe.known_place) is not None:
            found.append(Observation(KNOWN, name, known[0], np.eye(3) * known[1] ** 2))
    return found, names, unlike


def _levels(stations: Iterable[StationPose]) -> dict[str, LevelSighting]:
    return {s.name: LevelSighting(s.up, s.u_level_rad) for s in stations if s.up is not None and s.u_level_rad > 0}


def _in_common(observations: Sequence[Observation]) -> list[Observation]:
    """The sightings of points that two of the stations see."""
    by: dict[str, set[str]] = {}
    for o in observations:
        by.setdefault(o.point, set()).add(o.station)
    return [o for o in observations if len(by[o.point]) > 1]


def _doubt(network: Network, seen: Sequence[Observation], world: str) -> str:
    """Readings that contradict one another more than their uncertainties allow (chi-square above its 99.9 % point)."""
    if network.spare <= 0 or _agrees(network):
        return ""
    worst = network.worst[0]
    words = "The points that tie the stations contradict one another"
    if exchanged := _exchanged(network, seen, world):
        first, second = exchanged
        return (
            f"{words}: {first} and {second} seen from {worst.station} seem to be exchanged, which would explain all. Set both "
            "aside, and read each anew."
        )
    others = _in_common([o for o in seen if (o.station, o.point) != (worst.station, worst.point)])
    try:
        without = adjust(others, world=world)
        place = without.pose(worst.station).inverse().points(_place_of(worst.point, worst.station, seen, without))
    except (AlignmentError, ValueError):
        return f"{words}, most of all {worst.point} seen from {worst.station}; too few are left to say by how much."
    read = np.mean([o.local for o in seen if (o.station, o.point) == (worst.station, worst.point)], axis=0)
    off = float(np.linalg.norm(read - place))
    return f"{words}: {worst.point} seen from {worst.station} lies {mm(off)} from where the others see it."


def _agrees(network: Network) -> bool:
    return network.variance_factor * network.spare <= special.chdtri(network.spare, SURELY)


def _exchanged(network: Network, seen: Sequence[Observation], world: str) -> tuple[str, str] | None:
    """Two points that were taken for each other from the station that disagrees the most, where that explains all."""
    if len(seen) > LARGE:
        return None
    station = network.worst[0].station
    doubted = list(dict.fromkeys(each.point for each in network.worst if each.station == station))[:MOST_EXCHANGED]
    for first, second in combinations(doubted, 2):
        other = {first: second, second: first}
        told = [replace(o, point=other.get(o.point, o.point)) if o.station == station else o for o in seen]
        try:
            if _agrees(adjust(told, world=world)):
                return first, second
        except AlignmentError:
            continue
    return None


def _place_of(point: str, but: str, seen: Sequence[Observation], network: Network) -> Array:
    """Where the other stations see a point, in the world."""
    return np.mean([network.pose(o.station).points(o.local) for o in seen if o.point == point and o.station != but], axis=0)


def _standing(station: StationPose, network: Network, k: int, doubt: str) -> StationPose:
    """Where it stands, with its share in what is uncertain of all stations together; wider where the readings scatter more."""
    pose = network.poses[k]
    moves = network.pose_terms[k] * np.sqrt(max(network.variance_factor, 1.0) if doubt else 1.0)
    x, y, z = pose.translation
    about_origin = np.array([[0.0, -z, y], [z, 0.0, -x], [-y, x, 0.0]])
    terms: Array = np.vstack([moves[:3] + about_origin @ moves[3:], moves[3:]])
    return replace(station, world_from_station=pose, pose_terms=terms if terms.any() else None, doubt=doubt)


def untied_words(reading: HitSet, needed: Mapping[Any, Any]) -> str:
    """Why some of its hits wait; "" where none does."""
    untied = [found for found in needed.values() if isinstance(found, Untied) and found.id in reading.stations_counted]
    return " ".join(found.message for found in untied)
