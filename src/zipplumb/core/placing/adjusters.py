"""Which adjuster to turn, which way, how far; and what one turn really does, learned from the turns before.

A detail rests on its adjusters: where one of them touches, it goes along the adjuster's direction by as much as that was
turned. Turns are found by bounded least squares over the targets' zones (``scipy.optimize.lsq_linear``: Stark and Parker,
"Bounded-variable least-squares", Computational Statistics 10, 1995); what a turn does is tracked with a Kalman filter of two
numbers, its pitch and its backlash (R. E. Kalman, J. Basic Engineering 82, 1960).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.optimize import lsq_linear

from ..frames import Array
from .detail import Lies, moves_of, turns_as_lengths

TOGETHER = 1e3  # weight of the condition that adjusters do not work against each other
MOVED = 1e-6  # singular value, by the largest, below which the adjusters do not move the detail so
AT_END = 1e-6
COVERAGE = 2.0
SHARE = 0.5  # of what is uncertain of its play, below which a move is not asked for
PITCH_WITHIN = 0.5, 2.0  # times what is stated of a turn, between which what it does is looked for
AGAINST = 3.0  # standard deviations by which a move against what was turned is no chance
SETTABLE_TURNS = 0.02  # 7°: closer hardly any screw is set by hand (common practice)
LEAST_MM = 0.002  # a move smaller than that is not asked for
SETTLES_MM = 0.003  # by which a detail settles by itself from one look to the next


@dataclass(frozen=True, eq=False)
class Adjuster:
    """One screw, wedge or stack of shims.

    Attributes
    ----------
    place, direction : (3,) where it touches the detail, and the unit direction in which that goes when it is turned up
    mm_per_turn : as stated; of shims, the thickness of one
    least, most : turns that are left down (negative or zero) and up
    step : the smallest part of a turn that can be set; 0: any
    """

    name: str
    place: Array
    direction: Array
    mm_per_turn: float
    least: float = -np.inf
    most: float = np.inf
    step: float = 0.0


@dataclass(frozen=True, eq=False)
class Effect:
    """The effect of one adjuster: mm a turn and its backlash (mm), with their covariance (2, 2).

    ``stated_mm``: mm a turn, as stated; ``last``: which way it moved the detail last, 0 where that is not known; ``sense``: -1
    where it moves the detail the other way than is stated; ``against``: the last turn moved it against what was asked.
    """

    numbers: Array
    covariance: Array
    last: int = 0
    stated_mm: float = 1.0
    sense: int = 1
    against: bool = False

    @classmethod
    def stated(cls, adjuster: Adjuster, u_share: float = 0.1, backlash_mm: float = 0.05) -> Effect:
        """Before it was ever turned: as stated, to a tenth; its backlash is about as large as it is unknown."""
        u = np.array([u_share * adjuster.mm_per_turn, backlash_mm])
        return cls(np.array([adjuster.mm_per_turn, backlash_mm]), np.diag(u**2), stated_mm=adjuster.mm_per_turn)

    def lost(self, way: int) -> float:
        """Share of the backlash that is lost when it is turned that way: half of it where it is not known how it stands."""
        return 0.5 if self.last == 0 else float(way != self.last)

    def doubt_mm(self, way: int) -> float:
        """Standard uncertainty of what is lost when it is turned that way."""
        return self.lost(way) * float(np.sqrt(self.covariance[1, 1]))

    def turns_for(self, move_mm: float) -> float:
        """Turns by which it moves the detail so far."""
        way = int(np.sign(move_mm))
        return 0.0 if way == 0 else self.sense * (move_mm + way * self.lost(way) * self.numbers[1]) / self.numbers[0]

    def move_of(self, turns: float) -> float:
        """How far (mm) some turns move the detail; not at all while they only take up the backlash."""
        way = int(np.sign(self.sense * turns))
        return way * max(abs(turns) * self.numbers[0] - self.lost(way) * self.numbers[1], 0.0)


@dataclass(frozen=True)
class Turn:
    """An adjuster to be turned: by how many turns, up or down, and how far (mm) that moves the detail there."""

    name: str
    turns: float
    move_mm: float
    at_end: bool


@dataclass(frozen=True, eq=False)
class TurnPlan:
    """The planned turns, the longest move first.

    Attributes
    ----------
    left_mm : (n, 3) what is then still missing at each target: actual less nominal
    inside : every target is then in its zone; ``rests``: it is already, by more than is uncertain
    carries : (k, n, 3) how each of the turns by itself carries each target
    unmoved : (6, k) motions about the targets' middle, of unit size, that no adjuster makes
    fights : adjusters that can only be turned together with others, since there are more than motions
    """

    turns: tuple[Turn, ...]
    left_mm: Array
    inside: bool
    rests: bool
    unmoved: Array
    fights: tuple[str, ...]
    carries: Array


def answers_of(adjusters: Sequence[Adjuster], about: Array) -> Array:
    """(m, 6) how far each adjuster's contact goes along its direction with a small slide and turn of the detail."""
    places, directions = (np.array([getattr(a, name) for a in adjusters], float) for name in ("place", "direction"))
    return np.einsum("mi,mij->mj", directions, moves_of(places, about))


def plan_turns(
    found: Lies, nominal: Array, zones_mm: Array, adjusters: Sequence[Adjuster], effects: Sequence[Effect]
) -> TurnPlan:
    """The turns that bring a detail's targets the farthest into their zones.

    Parameters
    ----------
    found : how it lies; nominal : (n, 3) of the same targets; zones_mm : (n,) how far each may lie off
    effects : what each adjuster does, as far as is known
    """
    rests = bool(np.all(np.linalg.norm(found.off_mm, axis=1) + COVERAGE * found.u_at(nominal) <= zones_mm))
    into = turns_as_lengths(found.length_mm)
    answers = answers_of(adjusters, found.about) * into  # of motions whose turns are lengths
    u, s, vt = np.linalg.svd(answers, full_matrices=True)
    r = int(np.sum(s > MOVED * s[0]))
    back = vt[:r].T / s[:r] @ u[:, :r].T  # (6, m): the motion that moves of the adjusters make
    against = u[:, r:].T  # what the adjusters cannot do all at once
    rows = (moves_of(nominal, found.about) * into / np.asarray(zones_mm, float)[:, None, None]).reshape(-1, 6)
    missing = (-found.off_mm / np.asarray(zones_mm, float)[:, None]).ravel()
    lows, highs = bounds(adjusters, effects)
    a = np.vstack([rows @ back, TOGETHER * against])
    b = np.concatenate([missing, np.zeros(len(against))])
    solved = lsq_linear(a, b, (lows, highs), lsq_solver="exact", tol=1e-14).x
    seen = np.sqrt(np.einsum("mi,ij,mj->m", answers / into, found.covariance, answers / into))
    moves, turns = settable(solved, seen, adjusters, effects)
    left = found.off_mm + np.einsum("nij,j->ni", moves_of(nominal, found.about), into * (back @ moves))
    ordered = turns_told(adjusters, solved, moves, turns, (lows, highs))
    fights = tuple(a.name for a, row in zip(adjusters, against.T, strict=True) if np.linalg.norm(row) > MOVED)
    inside = bool(np.all(np.linalg.norm(left, axis=1) <= zones_mm))
    motions = into[:, None] * back * moves  # (6, m)
    carries = np.einsum("nij,jm->mni", moves_of(nominal, found.about), motions)
    if rests:
        return TurnPlan((), found.off_mm, inside, rests, vt[r:].T, fights, carries[:0])
    return TurnPlan(ordered, left, inside, rests, vt[r:].T, fights, in_that_order(carries, adjusters, ordered))


def turns_told(
    adjusters: Sequence[Adjuster], wanted_mm: Array, moves_mm: Array, turns: Array, bounds_mm: tuple[Array, Array]
) -> tuple[Turn, ...]:
    """Planned turns, the longest movement first, including those beyond the end of an adjuster."""
    ends = (wanted_mm <= bounds_mm[0] + AT_END) | (wanted_mm >= bounds_mm[1] - AT_END)
    told = [
        Turn(a.name, float(t), float(m), bool(e))
        for a, t, m, e in zip(adjusters, turns, moves_mm, ends, strict=True)
        if t != 0.0 or e
    ]
    return tuple(sorted(told, key=lambda turn: -abs(turn.move_mm)))


def in_that_order(carries: Array, adjusters: Sequence[Adjuster], turns: Sequence[Turn]) -> Array:
    """The rows of an array over adjusters (m, ...) that belong to some turns, in their order."""
    place = {a.name: k for k, a in enumerate(adjusters)}
    return np.asarray(carries[[place[turn.name] for turn in turns]])


def bounds(adjusters: Sequence[Adjuster], effects: Sequence[Effect]) -> tuple[Array, Array]:
    """How far (mm) each can move the detail, down and up."""
    pairs = list(zip(adjusters, effects, strict=True))
    lows = np.array([e.move_of(a.least) if np.isfinite(a.least) else -np.inf for a, e in pairs])
    highs = np.array([e.move_of(a.most) if np.isfinite(a.most) else np.inf for a, e in pairs])
    return lows - AT_END, highs + AT_END


def settable(moves_mm: Array, u_mm: Array, adjusters: Sequence[Adjuster], effects: Sequence[Effect]) -> tuple[Array, Array]:
    """Moves and turns as they can be set: in steps, and none too small to be worth it, or to have been seen (``u_mm``)."""
    moves, turns = np.zeros(len(moves_mm)), np.zeros(len(moves_mm))
    for k, (adjuster, effect) in enumerate(zip(adjusters, effects, strict=True)):
        if abs(moves_mm[k]) < max(LEAST_MM, float(u_mm[k]), SHARE * effect.doubt_mm(int(np.sign(moves_mm[k])))):
            continue  # turning it would rather spoil it
        turn = effect.turns_for(float(moves_mm[k]))
        if adjuster.step:
            turn = adjuster.step * round(turn / adjuster.step)
        elif abs(turn) < SETTABLE_TURNS:
            continue
        turns[k] = min(max(turn, adjuster.least), adjuster.most)
        moves[k] = effect.move_of(turns[k])
    return moves, turns


def learned(
    effects: Sequence[Effect], adjusters: Sequence[Adjuster], turns: Array, before: Lies, after: Lies
) -> tuple[Effect, ...]:
    """Updated response of each adjuster after one round of turns (m,), from the poses of the detail before and after."""
    answers = answers_of(adjusters, after.about)
    seen = answers @ (after.motion - before.motion)
    spread = np.einsum("mi,ij,mj->m", answers, before.covariance + after.covariance, answers) + SETTLES_MM**2
    return tuple(
        wiser(effect, float(turn), float(move), float(variance))
        for effect, turn, move, variance in zip(effects, turns, seen, spread, strict=True)
    )


def wiser(effect: Effect, turns: float, move_mm: float, variance: float) -> Effect:
    """Updated response of one adjuster from an observed movement.

    One that moved it against what was asked was turned the wrong way: nothing is learned from that but how its play lies. If
    the next turn does so too, it goes the other way than is stated.
    """
    way = int(np.sign(effect.sense * turns))
    if way == 0:
        return effect
    if way * move_mm < -AGAINST * np.sqrt(variance):
        if effect.against:
            return replace(effect, sense=-effect.sense, last=-way, against=False)
        return replace(effect, last=-way, against=True)
    row = np.array([effect.sense * turns, -way * effect.lost(way)])
    if effect.last == 0:  # anything from none to all of its play is lost
        variance += (effect.numbers[1] ** 2 + effect.covariance[1, 1]) / 12
    spread = float(row @ effect.covariance @ row) + variance
    gain = effect.covariance @ row / spread
    numbers = effect.numbers + gain * (move_mm - row @ effect.numbers)
    covariance = effect.covariance - np.outer(gain, row @ effect.covariance)
    least, most = (share * effect.stated_mm for share in PITCH_WITHIN)
    bounded = np.array([min(max(numbers[0], least), most), max(numbers[1], 0.0)])
    return replace(effect, numbers=bounded, covariance=covariance, last=way, against=False)
