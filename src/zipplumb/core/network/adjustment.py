"""Bundle adjustment of stations and points.

Unknown are six small motions of every station (seven where its scale is free), three coordinates of
every point and, where levels hold the stations, the two leans of the vertical. Gauss-Newton on the
normal equations: each point's 3 x 3 block is eliminated first (Schur complement), so the system that is
solved is as large as the stations alone. Source: B. Triggs et al., "Bundle adjustment: a modern synthesis"
(2000), section 6; the outlier statistic is W. Baarda's, "A testing procedure for use in geodetic networks"
(1968), for observations of three components; robust weights are P. J. Huber's (1964).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import combinations

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import cho_factor, cho_solve

from ..errors import AlignmentError
from ..frames import Array, Indices, Motion
from ..kernels import basis, disagreements, rotation, sighting_equations, whitening
from .observations import KEPT, KnownLength, KnownPoint, LevelSighting, Observation
from .start import first_poses

ITERATIONS = 50
TOLD = 50  # disagreements that are told by name
SETTLED = 1e-8  # sigmas, of all residuals together, by which the last step changes them
HUBER = 2.5  # sigmas of an observation's three components from which on it counts less


@dataclass(frozen=True, eq=False)
class Disagreement:
    """An observation and by how many sigmas it disagrees with all the others; ``off_mm`` (3,) in the station's axes."""

    station: str
    point: str
    off_mm: Array
    sigmas: float


@dataclass(frozen=True, eq=False)
class Network:
    """A solved network.

    Attributes
    ----------
    stations, points : names, in the order of what follows
    poses : world from station; ``scales``: of each station's lengths
    places : (p, 3) points in the world
    pose_covariances : (s, 6, 6) of a small slide (mm) of the station and turn (rad) about it, world axes
    pose_terms : (s, 6, m) the same by what all stations share: the poses' joint covariance is T T', T of all rows
    point_covariances : (p, 3, 3)
    sightings : (m,) station and point of each observation
    residuals : (m, 3) observed less worked out, in the station's axes, mm
    sigmas : (m,) by how many standard deviations each observation disagrees
    worst : the observations that disagree most, the worst first
    variance_factor : about 1 where the stated uncertainties are right; NaN with nothing spare
    spare : observations beyond the least number
    length_residuals : known less worked out, mm, in the order given
    by_station : root mean square of a station's residuals, mm
    sees : (s, p) bool, which station sees which point
    """

    stations: tuple[str, ...]
    points: tuple[str, ...]
    poses: tuple[Motion, ...]
    scales: Array
    places: Array
    pose_covariances: Array
    pose_terms: Array
    point_covariances: Array
    sightings: tuple[tuple[str, str], ...]
    residuals: Array
    sigmas: Array
    worst: tuple[Disagreement, ...]
    variance_factor: float
    spare: int
    length_residuals: Array
    by_station: dict[str, float]
    sees: NDArray[np.bool_]

    @cached_property
    def shared(self) -> dict[tuple[str, str], tuple[str, ...]]:
        """For each pair of stations, the common points: those that both see."""
        names, found = np.array(self.points), {}
        for i, j in combinations(range(len(self.stations)), 2):
            both = names[self.sees[i] & self.sees[j]]
            if len(both):
                found[self.stations[i], self.stations[j]] = tuple(both.tolist())
        return found

    def pose(self, station: str) -> Motion:
        return self.poses[self.stations.index(station)]

    def place(self, point: str) -> Array:
        return self.places[self.points.index(point)]


def adjust(
    observations: Sequence[Observation],
    known_points: Sequence[KnownPoint] = (),
    known_lengths: Sequence[KnownLength] = (),
    levels: Mapping[str, LevelSighting] | None = None,
    free_scale: Sequence[str] = (),
    robust: bool = False,
    world: str | None = None,
) -> Network:
    """Solve all station poses and point coordinates, with their uncertainties, from all observations.

    Parameters
    ----------
    known_points : where there are none, the world is a station's axes
    world : that station; by default the first that is named
    levels : by station, which way is up in its own axes, and the standard uncertainty of that; two or more
        stations hold each other level
    free_scale : stations whose lengths have a scale of their own (known lengths, points or other
        stations must tell it)
    robust : observations that disagree count less (Huber)

    Raises
    ------
    AlignmentError
        Nothing seen, stations that are not tied together, a point or station that is not known,
        readings that are no numbers, or an adjustment that does not settle.

    Examples
    --------
    The same four points seen from two stations, of which the second stands 3 m along X:

    >>> from zipplumb.core.network import InstrumentClass, Observation, covariance_of
    >>> maker = InstrumentClass(range_mm=0.01, range_per_m_mm=0.005, angle_rad=5e-6)
    >>> places = np.array([[0, 4000, 0], [2000, 5000, 500], [1000, 3000, 900], [2500, 3500, 200]], float)
    >>> seen = [
    ...     Observation(station, f"P{k}", place - [at, 0, 0], covariance_of(place - [at, 0, 0], maker))
    ...     for station, at in (("A", 0.0), ("B", 3000.0)) for k, place in enumerate(places)
    ... ]
    >>> found = adjust(seen)
    >>> (found.pose("B").translation.round(6) + 0.0).tolist(), found.spare
    ([3000.0, 0.0, 0.0], 6)
    """
    work = _Work(observations, known_points, known_lengths, levels or {}, free_scale, world)
    work.settle(robust)
    return work.network()


class _Work:
    """The adjustment at work: arrays by observation, station and point."""

    def __init__(self, observations, known_points, known_lengths, levels, free_scale, first):
        if not observations:
            raise AlignmentError("Nothing was seen.", KEPT, "Read points from two stations.")
        self.observations = list(observations)
        named = tuple(dict.fromkeys(o.station for o in observations))
        if first is not None and first not in named:
            raise AlignmentError(f"There is no station {first}.", KEPT, "Choose one of the stations.")
        self.stations = named if first is None else (first, *(n for n in named if n != first))
        self.points = tuple(dict.fromkeys(o.point for o in observations))
        station, point = ({n: k for k, n in enumerate(names)} for names in (self.stations, self.points))
        self._check(known_points, known_lengths, levels, free_scale, station, point)
        self.s: Indices = np.array([station[o.station] for o in observations])
        self.p: Indices = np.array([point[o.point] for o in observations])
        self.z = np.array([o.local for o in observations], float)
        self.spread = np.array([o.covariance for o in observations], float)
        self.white = whitening(self.spread)
        if not (np.isfinite(self.z).all() and np.isfinite(self.white).all()):
            raise AlignmentError(
                "A reading has no place, or no uncertainty.", KEPT, "State the instrument's, or read it again."
            )
        self.by_station = [np.flatnonzero(self.s == k) for k in range(len(self.stations))]
        seen = []
        for mine in self.by_station:
            at, first = np.unique(self.p[mine], return_index=True)
            seen.append((at, self.z[mine[first]]))
        world = {point[k.point]: np.asarray(k.world, float) for k in known_points}
        poses, self.places, anchor = first_poses(self.stations, self.points, seen, world)
        self.turn = np.array([pose.rotation for pose in poses])
        self.shift = np.array([pose.translation for pose in poses])
        self.scale = np.ones(len(self.stations))
        self.known = [(point[k.point], np.asarray(k.world, float), k.u_mm) for k in known_points]
        self.lengths = [(point[k.first], point[k.second], k.length_mm, k.u_mm) for k in known_lengths]
        self.level = [(station[n], np.asarray(level.up, float), level.u_rad) for n, level in levels.items()]
        self.anchored = anchor is None
        self.columns = np.full((len(self.stations), 7), -1)
        for k, name in enumerate(self.stations):
            free = ([] if k == anchor else list(range(6))) + ([6] if name in free_scale else [])
            self.columns[k, free] = np.arange(len(free)) + self.columns.max() + 1
        last = int(self.columns.max()) + 1
        leans = self._levelled() and not self.anchored
        self.leans = slice(last, last + 2 * leans)  # of the vertical, along two directions across it
        self.vertical = self._mean_vertical() if leans else np.array([0.0, 0.0, 1.0])
        # points with known lengths are tied to one another, so they are kept beside the stations
        self.kept = sorted({j for a, b, _, _ in self.lengths for j in (a, b)})
        self.first_kept = self.leans.stop
        self.size = self.first_kept + 3 * len(self.kept)

    @staticmethod
    def _check(known_points, known_lengths, levels, free_scale, station, point) -> None:
        names = [k.point for k in known_points] + [n for k in known_lengths for n in (k.first, k.second)]
        for name in names:
            if name not in point:
                raise AlignmentError(f"{name} was seen from no station.", KEPT, "Read it, or leave it out.")
        for name in (*levels, *free_scale):
            if name not in station:
                raise AlignmentError(f"There is no station {name}.", KEPT, "Choose one of the stations.")
        if any(not k.u_mm > 0 for k in (*known_points, *known_lengths)):
            raise AlignmentError("Something known has no uncertainty above zero.", KEPT, "Give one in mm.")

    # ---- one look ------------------------------------------------------------------------

    def _rel(self) -> tuple[Array, Array]:
        """Places seen from their station (m, 3): along the world's axes, and in the station's own."""
        rel = self.places[self.p] - self.shift[self.s]
        return rel, np.einsum("mji,mj->mi", self.turn[self.s], rel) / self.scale[self.s, None]

    def _residuals(self) -> Array:
        """Worked out less observed, in units of the uncertainty (m, 3)."""
        return np.einsum("mij,mj->mi", self.white, self._rel()[1] - self.z)

    def _others(self) -> Array:
        """Residuals of known points, known lengths and levels, in units of their uncertainty."""
        values = [(self.places[j] - world) / u for j, world, u in self.known]
        values += [[(np.linalg.norm(self.places[a] - self.places[b]) - length) / u] for a, b, length, u in self.lengths]
        if self._levelled():
            across = basis(self.vertical)[:, :2].T
            values += [across @ (self.turn[k] @ up - self.vertical) / u for k, up, u in self.level]
        return np.concatenate(values) if values else np.empty(0)

    def _levelled(self) -> bool:
        """A single level says nothing where the world is that station's own."""
        return len(self.level) > (0 if self.anchored else 1)

    def _mean_vertical(self) -> Array:
        """A first vertical: as the levels say together, each by its weight. With known points it is the world's Z."""
        mean = np.sum([self.turn[k] @ up / u**2 for k, up, u in self.level], axis=0)
        return np.asarray(mean / np.linalg.norm(mean))

    def _equations(self, weight: Array):
        """Blocks of the normal equations: stations (S, S), points (P, 3, 3), between them (P, 3, S), and right sides."""
        found = sighting_equations(*self._arrays(), weight, self.size)  # type: ignore[call-arg]
        stations, blocks, between, right_s, right_p = found
        self._levels(stations, right_s)
        for j, world, u in self.known:
            blocks[j] += np.eye(3) / u**2
            right_p[j] += (self.places[j] - world) / u**2
        self._keep(stations, blocks, between, right_s, right_p)
        return stations, blocks, between, right_s, right_p

    def _keep(self, system: Array, blocks: Array, between: Array, right: Array, right_p: Array) -> None:
        """Move the kept points beside the stations, and add the known lengths between them."""
        at = {j: slice(self.first_kept + 3 * k, self.first_kept + 3 * k + 3) for k, j in enumerate(self.kept)}
        for j, mine in at.items():
            system[mine, :], system[:, mine] = between[j], between[j].T
            system[mine, mine], right[mine] = blocks[j], right_p[j]
            between[j], blocks[j], right_p[j] = 0.0, np.eye(3), 0.0
        for a, b, length, u in self.lengths:
            gap = self.places[a] - self.places[b]
            size = float(np.linalg.norm(gap))
            row = np.zeros(self.size)
            row[at[a]], row[at[b]] = gap / size / u, -gap / size / u
            system += np.outer(row, row)
            right += row * (size - length) / u

    def _arrays(self):
        """The arrays passed to the compiled loops over the sightings."""
        return self.s, self.p, self.white, self.z, self.turn, self.shift, self.scale, self.places, self.columns

    def _levels(self, stations: Array, right: Array) -> None:
        if not self._levelled():
            return
        across = basis(self.vertical)[:, :2].T
        for k, up, u in self.level:
            x, y, z = self.turn[k] @ up
            rows = np.zeros((2, self.size))
            if self.columns[k, 3] >= 0:
                rows[:, self.columns[k, 3:6]] = across @ np.array([[0.0, z, -y], [-z, 0.0, x], [y, -x, 0.0]])  # by a turn
            if self.leans.stop > self.leans.start:
                rows[:, self.leans] = -np.eye(2)
            rows /= u
            stations += rows.T @ rows
            right += rows.T @ (across @ (self.turn[k] @ up - self.vertical) / u)

    def _reduced(self, weight: Array):
        """The system of stations and kept points after the other points are eliminated, and what gives these back."""
        stations, blocks, between, right_s, right_p = self._equations(weight)
        inverse = np.linalg.inv(blocks)
        eliminated = (inverse @ between).reshape(-1, self.size)
        system = stations - eliminated.T @ between.reshape(-1, self.size)
        return system, right_s - eliminated.T @ right_p.ravel(), inverse, eliminated, right_p

    def _factor(self, system: Array):
        scale = 1 / np.sqrt(np.maximum(np.diag(system), 1e-300))
        scaled = system * scale[:, None] * scale
        if self.size and np.linalg.eigvalsh(scaled)[0] < 1e-12:
            raise AlignmentError(
                "Part of the network is loose: the readings do not say how all stations lie to one another.", KEPT,
                "See more of the same points, well apart, or known points and lengths where a scale is free.",
            )  # fmt: skip
        return cho_factor(scaled), scale

    def _step(self, weight: Array) -> tuple[Array, Array]:
        """Motions of the stations (7 columns' worth) and of all points (p, 3)."""
        system, right, inverse, eliminated, right_p = self._reduced(weight)
        kept = np.empty(0)
        if self.size:
            self.factor, self.diagonal = self._factor(system)
            kept = cho_solve(self.factor, right * self.diagonal) * self.diagonal
        self.inverse, self.eliminated = inverse, eliminated
        answered = float(right @ kept) if self.size else 0.0
        self.changed = np.sqrt(max(answered + float(np.einsum("pi,pij,pj->", right_p, inverse, right_p)), 0.0))
        points = np.einsum("pij,pj->pi", inverse, right_p) - (eliminated @ kept).reshape(-1, 3)
        points[self.kept] = kept[self.first_kept :].reshape(-1, 3)
        return -kept, -points

    def _move(self, stations: Array, points: Array) -> None:
        self.places = self.places + points
        if self.leans.stop > self.leans.start:
            moved = self.vertical + basis(self.vertical)[:, :2] @ stations[self.leans]
            self.vertical = moved / np.linalg.norm(moved)
        for k in range(len(self.stations)):
            columns = self.columns[k]
            step = np.where(columns >= 0, stations[np.maximum(columns, 0)] if self.size else 0.0, 0.0)
            self.shift[k] = self.shift[k] + step[:3]
            self.turn[k] = rotation(*step[3:6]) @ self.turn[k]
            self.scale[k] *= np.exp(step[6])

    def settle(self, robust: bool) -> None:
        size, before = max(float(np.ptp(self.places, axis=0).max()), 1.0), 0.0
        for _ in range(ITERATIONS):
            weight = np.ones(len(self.s))
            if robust:
                norm = np.sqrt(np.sum(self._residuals() ** 2, axis=1) / 3)
                weight = np.minimum(1.0, HUBER / np.maximum(norm, 1e-12))
            stations, points = self._step(weight)
            self._move(stations, points)
            turns = np.concatenate([self.columns[:, 3:].ravel(), np.arange(self.leans.start, self.leans.stop)])
            unit = np.where(np.isin(np.arange(self.size), turns), size, 1.0)  # turns and scales as lengths
            moved = max(float(np.abs(points).max()), float(np.max(np.abs(stations) * unit, initial=0.0)))
            # steps shrink by a steady factor or faster, so the next one is known before it is taken
            coming = moved * min(1.0, 2 * moved / before) if before and not robust else moved
            if coming < 1e-12 * size + 1e-10 * np.sqrt(size) or (self.changed < SETTLED and not robust):
                return
            before = moved
        raise AlignmentError("The network did not settle.", KEPT, "Look for a point that was taken for another.")

    # ---- what it gives ---------------------------------------------------------------------

    def network(self) -> Network:
        q_stations, q_points, q_between = self._covariances()
        own = self._rel()[1]
        residuals = self.z - own
        sigmas = disagreements(*self._arrays(), np.ascontiguousarray(q_stations), np.ascontiguousarray(q_points), q_between)  # type: ignore[call-arg]
        order = np.argsort(-sigmas, kind="stable")
        spare = 3 * len(self.z) + len(self._others()) - self.first_kept - 3 * len(self.points)
        total = float(np.sum(self._residuals() ** 2) + np.sum(self._others() ** 2))
        names = self.observations
        pose_terms = self._pose_terms(q_stations)
        pose_covariances = pose_terms @ pose_terms.swapaxes(1, 2)
        rms = {n: float(np.sqrt(np.mean(np.sum(residuals[self.s == k] ** 2, axis=1)))) for k, n in enumerate(self.stations)}
        sees = np.zeros((len(self.stations), len(self.points)), bool)
        sees[self.s, self.p] = True
        bars = [length - np.linalg.norm(self.places[a] - self.places[b]) for a, b, length, _ in self.lengths]
        return Network(
            self.stations, self.points, tuple(Motion(r, t) for r, t in zip(self.turn, self.shift, strict=True)),
            self.scale, self.places, pose_covariances, pose_terms, q_points,
            tuple((o.station, o.point) for o in names), residuals, sigmas,
            tuple(Disagreement(names[k].station, names[k].point, residuals[k], float(sigmas[k])) for k in order[:TOLD]),
            total / spare if spare > 0 else float("nan"), spare, np.array(bars), rms, sees,
        )  # fmt: skip

    def _pose_terms(self, q_stations: Array) -> Array:
        moves = np.unique(self.columns[:, :6][self.columns[:, :6] >= 0])
        joint = q_stations[np.ix_(moves, moves)]
        size = 1 / np.sqrt(np.maximum(np.diag(joint), 1e-300))
        values, vectors = np.linalg.eigh(joint * size[:, None] * size)  # of mm and rad alike
        factor = vectors * np.sqrt(np.maximum(values, 0.0)) / size[:, None]
        terms = np.zeros((len(self.stations), 6, len(moves)))
        for k, columns in enumerate(self.columns[:, :6]):
            free = np.flatnonzero(columns >= 0)
            terms[k, free] = factor[np.searchsorted(moves, columns[free])]
        return terms

    def _covariances(self) -> tuple[Array, Array, Array]:
        """Covariances of stations (S, S), of points (P, 3, 3), and between them (P, 3, S)."""
        inverse, eliminated, count = self.inverse, self.eliminated, len(self.points)  # of the last step
        if self.size:
            stations = cho_solve(self.factor, np.eye(self.size)) * self.diagonal[:, None] * self.diagonal
        else:
            stations = np.zeros((0, 0))
        between = -(eliminated @ stations).reshape(count, 3, self.size)
        points = inverse - eliminated.reshape(count, 3, self.size) @ between.swapaxes(1, 2)
        for k, j in enumerate(self.kept):
            mine = slice(self.first_kept + 3 * k, self.first_kept + 3 * k + 3)
            points[j], between[j] = stations[mine, mine], stations[mine, :]
        return stations, points, between
