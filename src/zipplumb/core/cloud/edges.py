"""Edges in lines of light: where a straight run of points ends, jumps to another surface, or bends sharply.

Each run is laid straight from its own points, and its end sought where they leave that line. An edge lies between the last
sample on the run and the first that is not; where what follows is straight too, in which both meet.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d

from ..frames import Array, Indices, Motion, unit
from ..stripes import FIELDS, KIND, is_light
from .light import Chunk, placed

# samples on either side by which a bend is told, and how sharp it is at least; fewer near to where the light ends
BENDS = ((8, 0.35), (4, 0.6))
BEND_RAD = min(sharp for _, sharp in BENDS)
FEWEST, STRAIGHT, TAIL = 8, 16, 3  # samples of a run; by which its end is laid straight; at its end that may be off it
JOINED_MM, JOINED = 1.5, 6.0  # and usual steps: samples that are farther apart than both lie on two surfaces
SIGMAS, FINEST_MM = 4.0, 0.02  # off a run; below so much nothing is
MIXED = 2  # samples at most whose light is of both sides
BEYOND = 3  # samples after an edge: what follows there
FAN_STEPS, TINY = 2.5, 1e-12  # from the outermost samples
BESIDE, MOST_LOST, CHANCE = 10, 0.75, 1e-4  # samples on either side, the share of them lost at most, and how rare a chance is
SURELY = 5.0  # times what noise alone turns
FEW_LOST = 1.2  # samples sent for one that came back, from which on some are lost
MEET_STEPS = 4.0  # so near to the ends of two runs they meet


@dataclass(frozen=True, eq=False)
class Edges:
    """Places where runs of light end, in the world, mm.

    Attributes
    ----------
    points : (n, 3)
    inward : (n, 3) of length 1, along the line of light, from the edge back into its run
    ways : (n, 3) of length 1, of the light
    after : (n, 3) from the edge to what the line meets next; NaN where it meets nothing
    steps : (n,) over which an edge may lie anywhere: between neighbouring samples, wider where some are lost
    lines : (n,) number of the line of each in the scan
    """

    points: Array
    inward: Array
    ways: Array
    after: Array
    steps: Array
    lines: Indices

    def __len__(self) -> int:
        return len(self.points)

    def of(self, some: NDArray[Any]) -> Edges:
        return Edges(*(getattr(self, each.name)[some] for each in fields(self)))

    @classmethod
    def together(cls, parts: Iterable[Edges]) -> Edges:
        each = [*parts, cls.none()]
        return cls(*(np.concatenate([getattr(part, field.name) for part in each]) for field in fields(cls)))

    @classmethod
    def none(cls) -> Edges:
        nothing = np.empty((0, 3))
        return cls(nothing, nothing, nothing, nothing, np.empty(0), np.empty(0, np.int64))


@dataclass(frozen=True, eq=False)
class _Samples:
    """The light of a chunk: ``at`` (n, 2) in the scanner's plane, ``line`` (n,), and ``joined`` (n - 1,): the next sample lies
    on the same surface, also where some between them are lost; ``next_to``: none is. ``turn`` (n,) of the ray of each, and
    ``fan_step`` from ray to ray, rad."""

    at: Array
    line: Indices
    joined: NDArray[np.bool_]
    next_to: NDArray[np.bool_]
    turn: Array
    fan_step: float

    @classmethod
    def of(cls, chunk: Chunk) -> _Samples:
        packed = np.frombuffer(chunk.points, KIND).reshape(-1, FIELDS)
        line = np.repeat(np.arange(len(chunk.counts)), chunk.counts)
        kept = np.flatnonzero(is_light(packed) & ~chunk.aside[line])
        at, line = packed[kept, :2].astype(float), line[kept]
        one_line = np.diff(line) == 0
        next_to = (np.diff(kept) == 1) & one_line
        steps = np.linalg.norm(np.diff(at, axis=0), axis=1)
        usual = float(np.median(steps[next_to])) if next_to.any() else 0.0
        turn = np.arctan2(at[:, 0], at[:, 1])
        fan_step = float(np.median(np.abs(np.diff(turn))[next_to])) if next_to.any() else 0.0
        joined = steps < np.maximum(max(JOINED * usual, JOINED_MM), usual * _lost_by_chance(turn, one_line, fan_step))
        return cls(at, line, one_line & joined, next_to, turn, fan_step)


@dataclass(frozen=True, eq=False)
class _Ends:
    """The ends of runs, each laid straight: ``middle`` and ``way`` (m, 2), out of the run; ``step`` (m,) from one sample that
    came back to the next, and ``every`` of how many that were sent; ``last`` (m,) samples that are on it still."""

    middle: Array
    way: Array
    step: Array
    every: Array
    last: Indices

    @classmethod
    def of(cls, samples: _Samples, first: Indices, last: Indices, sign: int) -> _Ends:
        """``sign``: 1 for the ends of the runs, -1 for their beginnings."""
        at, end, length = samples.at, (last if sign > 0 else first), last - first + 1
        k = np.arange(TAIL + STRAIGHT)  # from the end inward
        places = at[np.clip(end[:, None] - sign * k, 0, len(at) - 1)]
        tail = np.minimum(length - FEWEST, TAIL)[:, None]
        middle, way, scatter = _straight(places, (k >= tail) & (k < np.minimum(tail + STRAIGHT, length[:, None])))
        stray = (_off(places, middle, way) > SIGMAS * np.maximum(scatter, FINEST_MM)[:, None]) & (k < tail)
        gone = stray & np.column_stack([np.ones(len(end), bool), stray[:, :-1]])  # one that strays among others is noise
        left = np.where(gone, k + 1, 0).max(axis=1)
        last_on = left[:, None]
        middle, way, _ = _straight(places, (k >= last_on) & (k < last_on + FEWEST))  # the nearest: it may be curved
        way = way * np.where(np.einsum("ij,ij->i", way, places[:, 0] - middle) < 0, -1.0, 1.0)[:, None]
        along = np.einsum("ikj,ij->ik", places - middle[:, None], way)
        each = np.arange(len(end))
        last = end - sign * left
        far = last - sign * (FEWEST - 1)
        step = (along[each, left] - along[each, left + FEWEST - 1]) / (FEWEST - 1)
        every = np.abs(samples.turn[last] - samples.turn[far]) / ((FEWEST - 1) * max(samples.fan_step, TINY))
        return cls(middle, way, step, np.where(every > FEW_LOST, every, 1.0), last)

    @property
    def width(self) -> Array:
        """(m,) over which an edge is spread: from one sample to the next, and wider where some are lost by chance, by how the
        number that is lost before the first that came back varies (a geometric distribution)."""
        sent = self.step / self.every
        return sent * np.sqrt(1 + 12 * self.every * (self.every - 1))

    def part(self, some: slice) -> _Ends:
        return _Ends(self.middle[some], self.way[some], self.step[some], self.every[some], self.last[some])


def _off(places: Array, middle: Array, way: Array) -> Array:
    """(m, k) how far places (m, k, 2) lie off lines."""
    rel = places - middle[:, None]
    return np.abs(way[:, :1] * rel[:, :, 1] - way[:, 1:] * rel[:, :, 0])


def _straight(places: Array, by: NDArray[np.bool_]) -> tuple[Array, Array, Array]:
    """Middles (m, 2), ways (m, 2) and scatter (m,) of the lines through some (m, k) of places (m, k, 2) each."""
    count = by.sum(axis=1)
    middle = (places * by[:, :, None]).sum(axis=1) / count[:, None]
    x, y = np.moveaxis((places - middle[:, None]) * by[:, :, None], 2, 0)
    xx, yy, xy = (x * x).sum(axis=1), (y * y).sum(axis=1), (x * y).sum(axis=1)
    turn = np.arctan2(2 * xy, xx - yy) / 2
    least = (xx + yy) / 2 - np.hypot((xx - yy) / 2, xy)
    return middle, np.column_stack([np.cos(turn), np.sin(turn)]), np.sqrt(np.maximum(least, 0) / np.maximum(count - 2, 1))


def _lost_by_chance(turn: Array, one_line: NDArray[np.bool_], fan_step: float) -> Array:
    """(n - 1,) so many samples one after the other may be lost by chance where of those beside as many are as are, as on a
    surface that gives little light back."""
    sent = np.where(one_line, np.abs(np.diff(turn)) / max(fan_step, TINY), 1.0)
    sums = np.concatenate([np.zeros(BESIDE + 1), np.cumsum(sent - 1), np.full(BESIDE, (sent - 1).sum())])
    k = np.arange(len(sent)) + BESIDE
    lost = np.minimum(sums[k] - sums[k - BESIDE], sums[k + 1 + BESIDE] - sums[k + 1])
    lost = np.clip(lost / (lost + BESIDE), 0, MOST_LOST)  # of those that were sent
    return np.where(lost > 1 - 1 / FEW_LOST, np.log(CHANCE) / np.log(np.maximum(lost, TINY)), 0.0)


def edges_of(chunk: Chunk, axis_from_scanner: Motion, world_from_station: Motion) -> Edges:
    """The edges in a chunk's lines."""
    samples = _Samples.of(chunk)
    first, last = _runs(samples)
    if not len(first):
        return Edges.none()
    ends, begins = _Ends.of(samples, first, last, 1), _Ends.of(samples, first, last, -1)
    places = _places(samples, ends, begins)
    last, steps = np.concatenate([ends.last, begins.last]), np.concatenate([ends.width, begins.width])
    inner = _within_the_fan(samples, last)
    at, inward = np.concatenate(places)[inner], -np.concatenate([ends.way, begins.way])[inner]
    beyond = np.concatenate([_beyond(samples, ends, 1), _beyond(samples, begins, -1)])[inner]
    line = samples.line[last[inner]]
    points, turned = placed(chunk, at, line, axis_from_scanner, world_from_station)
    ways = turned(unit(at))
    return Edges(points, turned(inward), ways, turned(beyond - at), steps[inner], line + chunk.first)


def _runs(samples: _Samples) -> tuple[Indices, Indices]:
    """First and last samples of the runs between gaps, jumps and bends."""
    if len(samples.at) < FEWEST:
        return np.empty(0, np.int64), np.empty(0, np.int64)
    breaks = np.flatnonzero(~samples.joined)
    first, last = np.concatenate([[0], breaks + 1]), np.concatenate([breaks, [len(samples.at) - 1]])
    bends = _bends(samples.at, first, last)
    first, last = np.sort(np.concatenate([first, bends])), np.sort(np.concatenate([last, bends]))
    long = last - first + 1 >= FEWEST
    return first[long], last[long]


def _bends(at: Array, first: Indices, last: Indices) -> Indices:
    """Samples where what lies before them and what lies after them turn most, and sharply."""
    k, stretch = np.arange(len(at)), np.repeat(np.arange(len(first)), last - first + 1)
    room = np.minimum(k - first[stretch], last[stretch] - k)  # samples on the narrower side
    sums = np.vstack([np.zeros(2), np.cumsum(at - at.mean(axis=0), axis=0)])
    chord, rel = np.zeros((len(at), 2)), np.zeros((len(at), 2))
    chord[1:-1], rel[1:-1] = at[2:] - at[:-2], at[1:-1] - at[:-2]
    off = (chord[:, 0] * rel[:, 1] - chord[:, 1] * rel[:, 0]) / np.maximum(np.hypot(*chord.T), TINY)
    off[room < 1] = 0.0  # a sample against its neighbours
    strays = np.concatenate([[0.0], np.cumsum(off**2)])
    found, widest = [], len(at)
    for window, sharp in BENDS:
        half, inner = window // 2, np.flatnonzero((room >= window) & (room < widest))
        middles = [(sums[inner + k + half] - sums[inner + k]) / half for k in (-window, -half, 1, half + 1)]
        before, behind = middles[1] - middles[0], middles[3] - middles[2]
        crossed = before[:, 0] * behind[:, 1] - before[:, 1] * behind[:, 0]
        each = np.abs(np.arctan2(crossed, np.einsum("ij,ij->i", before, behind)))
        left, right = strays[inner - 1] - strays[inner - window], strays[inner + window + 1] - strays[inner + 2]
        noise = np.sqrt(np.maximum(left, right) / (window - 1))
        shares = 1 / np.einsum("ij,ij->i", before, before) + 1 / np.einsum("ij,ij->i", behind, behind)
        chance = noise * np.sqrt(shares * 2 / half)
        turn = np.zeros(len(at))
        turn[inner] = np.where(each > SURELY * chance, each, 0.0)
        found.append(np.flatnonzero((turn > sharp) & (turn == maximum_filter1d(turn, window + 1))))
        widest = window
    return np.sort(np.concatenate(found))


def _places(samples: _Samples, ends: _Ends, begins: _Ends) -> tuple[Array, Array]:
    """Where runs end, and where they begin, (m, 2) each."""
    last, first = ends.last[:-1], begins.last[1:]  # on either side of what is between two runs
    one_line = samples.line[last] == samples.line[first]
    gaps = np.concatenate([[0], np.cumsum(~samples.next_to)])
    between = first - last - 1
    mixed = np.where(one_line & (gaps[first] == gaps[last]) & (between <= MIXED), between, 0)
    found = (
        _out_of(samples, ends, np.append(mixed, 0)),
        _out_of(samples, begins, np.insert(mixed, 0, 0)),
    )
    met, corner = _corners(samples, ends.part(slice(None, -1)), begins.part(slice(1, None)))
    met, corner = met & one_line, corner[met & one_line]
    found[0][:-1][met] = found[1][1:][met] = corner
    return found


def _out_of(samples: _Samples, ends: _Ends, mixed: Indices) -> Array:
    """(m, 2) half way from what is on the run to what is not.

    Light of both sides, between two runs, is passed over. Where samples are lost at random, the last that came back lies
    farther from the edge: by all that were sent but half of one.
    """
    lost = np.where(mixed > 0, 0.0, ends.step * (1 - 1 / ends.every))
    along = np.einsum("ij,ij->i", samples.at[ends.last] - ends.middle, ends.way)
    along = along + lost + ends.step / ends.every * (1 + mixed) / 2
    return ends.middle + along[:, None] * ends.way


def _corners(samples: _Samples, before: _Ends, behind: _Ends) -> tuple[NDArray[np.bool_], Array]:
    """Whether the line of each run meets that of the next where both end, and where (m, 2)."""
    crossed = before.way[:, 0] * behind.way[:, 1] - before.way[:, 1] * behind.way[:, 0]
    bent = np.abs(crossed) > np.sin(BEND_RAD)
    rel = behind.middle - before.middle
    far = (rel[:, 0] * behind.way[:, 1] - rel[:, 1] * behind.way[:, 0]) / np.where(bent, crossed, 1.0)
    place = before.middle + far[:, None] * before.way
    near = [np.linalg.norm(place - samples.at[end.last], axis=1) < MEET_STEPS * end.step for end in (before, behind)]
    return bent & near[0] & near[1], place


def _within_the_fan(samples: _Samples, some: Indices) -> NDArray[np.bool_]:
    """Which samples are not the outermost to which the light reaches: there it ends of itself. The samples of the chunk tell
    how far it reaches."""
    turn, near = samples.turn, FAN_STEPS * samples.fan_step
    return (turn[some] < turn.max() - near) & (turn[some] > turn.min() + near)


def _beyond(samples: _Samples, ends: _Ends, sign: int) -> Array:
    """(m, 2) what a line meets a few samples after its run; NaN where nothing comes back any more."""
    k = np.clip(ends.last + sign * BEYOND, 0, len(samples.at) - 1)
    return np.where((samples.line[k] == samples.line[ends.last])[:, None], samples.at[k], np.nan)
