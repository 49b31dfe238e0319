"""The hold ledger: which freedoms are held, by what, how firmly, and what is loose.

A small motion is expressed as lengths (see ``touches``), so slides and turns compare. The share of a
row in a freedom is how much of that freedom's answer comes from it: gain times jacobian, which
adds up to one over all rows for every freedom that is held.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from ..frames import Array, cross, unit
from ..units import mm
from .touches import Solved

AXES = "XYZ"
ALONG, NEARLY, BETWEEN = 0.9999, 0.94, 0.25  # cosines: to 1° and 20° an axis, and of those that a direction lies between
FREEDOMS = tuple(f"slides along {a}" for a in AXES) + tuple(f"turns about {a}" for a in AXES)
Grip = Literal["firm", "weak", "loose"]
WEAK = 30.0  # times a touch's own uncertainty by which the worst motion is uncertain


@dataclass(frozen=True)
class Freedom:
    """One of six, about the axes of the part through the middle of the touches.

    ``held`` 0 to 1: 1 where nothing of it is loose; ``grip``: weak where what holds it lies badly for that.
    ``u``: standard uncertainty, mm or rad;
    infinite where it is loose. ``shares``: (row's name, share) of those that hold it, the
    largest first; a negative share pulls against the others.
    """

    name: str
    held: float
    u: float
    shares: tuple[tuple[str, float], ...]
    grip: Grip = "firm"


@dataclass(frozen=True, eq=False)
class Loose:
    """A motion that nothing holds: in words, and as a small motion (6,) of the part about its origin, mm and rad."""

    words: str
    motion: Array


@dataclass(frozen=True, eq=False)
class HoldLedger:
    """See the module.

    Attributes
    ----------
    freedoms : six, slides first
    rank, holds, spare : how many freedoms are held, how many holds there are, how many are more than needed
    loose : what nothing holds
    weakness : the worst-held motion in words where the holds lie so badly that it is doubtful, else ""; ``weak`` is it
    verdict : one sentence of what all this is worth
    """

    freedoms: tuple[Freedom, ...]
    rank: int
    holds: int
    spare: int
    loose: tuple[Loose, ...]
    weakness: str
    verdict: str
    weak: Loose | None = None


def ledger_of(
    solved: Solved, names: Sequence[str], doubt: str = "", strict: bool = False, covariance: Array | None = None
) -> HoldLedger:
    """The ledger of a solved alignment.

    Parameters
    ----------
    names : of its rows; ``doubt``: why it may be wrong
    strict : each row takes only what those before it left, so that what is over gives way and proves nothing
    covariance : (6, 6) or (7, 7) of the small motion about the part's origin, from all sources; by default from the touches'
    """
    spare = 0 if strict else solved.spare
    weak = _weakest(solved)
    weakness = "" if weak is None else _weakness(solved, weak)
    typical = float(np.median(solved.touches.u_mm))
    loose = _loose(solved.loose[:6], solved.linear.center, solved.linear.length)
    units = [1.0] * 3 + [1 / solved.linear.length] * 3
    told = solved.covariance if covariance is None else _about(covariance, solved.linear.center, solved.linear.length)
    freedoms = []
    for k in range(6):
        by_row = np.zeros(len(names))
        np.add.at(by_row, solved.touches.row, solved.gain[k] * solved.linear.jacobian[:, k])
        grip = float(np.sqrt(max(solved.covariance[k, k], 0.0)))
        u = float(np.sqrt(max(told[k, k], 0.0)))
        freedoms.append(_freedom(k, solved.loose[k], u * units[k], names, by_row, grip >= WEAK * typical))
    verdict = _verdict(spare, loose, weakness, doubt)
    return HoldLedger(tuple(freedoms), solved.rank, len(solved.touches), spare, loose, weakness, verdict, weak)


def ledger_of_conditions(rows: Array, names: Sequence[str], covariance: Array) -> HoldLedger:
    """The ledger where nothing is spare: every condition takes what is left, and no two take the same.

    Parameters
    ----------
    rows : (m, 6) the small motion, mm and rad about the part's origin, that each condition forbids
    names : of the m conditions, whose they are
    covariance : (6, 6) of the small motion
    """
    if len(rows):
        _, values, vt = np.linalg.svd(rows)
        rank = int(np.sum(values > 1e-9 * values[0]))
        gain, free = np.linalg.pinv(rows, rcond=1e-9), vt[rank:].T
    else:
        rank, gain, free = 0, np.empty((6, 0)), np.eye(6)
    loose = _loose(free, np.zeros(3), 1.0)
    whose = list(dict.fromkeys(names))
    freedoms = []
    for k in range(6):
        by_row = np.zeros(len(whose))
        np.add.at(by_row, [whose.index(n) for n in names], gain[k] * rows[:, k] if len(rows) else 0.0)
        freedoms.append(_freedom(k, free[k], float(np.sqrt(max(covariance[k, k], 0.0))), whose, by_row))
    return HoldLedger(tuple(freedoms), rank, len(rows), len(rows) - rank, loose, "", _verdict(0, loose, ""))


def _freedom(k: int, loose: Array, u: float, names: Sequence[str], by_row: Array, weak: bool = False) -> Freedom:
    held = float(1 - np.sum(loose**2))
    order = np.argsort(-np.abs(by_row), kind="stable")
    shares = tuple((names[r], float(by_row[r])) for r in order if abs(by_row[r]) > 0.005)
    grip: Grip = "loose" if held <= 1 - 1e-6 else "weak" if weak else "firm"
    return Freedom(FREEDOMS[k], min(max(held, 0.0), 1.0), u if grip != "loose" else float("inf"), shares, grip)


# ---- words ------------------------------------------------------------------------------------


def _axis_words(direction: Array) -> str:
    """A direction by the axes it lies along, or between; pages show which by swaying the part."""
    sizes = np.abs(direction)
    k = int(np.argmax(sizes))
    if sizes[k] > ALONG:
        return f"along {AXES[k]}"
    if sizes[k] > NEARLY:
        return f"nearly along {AXES[k]}"
    near = [AXES[i] for i in range(3) if sizes[i] > BETWEEN]
    return f"aslant between {', '.join(near[:-1])} and {near[-1]}"


def motion_words(motion: Array) -> str:
    """A small motion (6,) of the part about its origin, mm and rad, in words of the part's axes."""
    shift, turn = motion[:3], motion[3:6]
    angle = float(np.linalg.norm(turn))
    if angle * 1e6 < np.linalg.norm(shift) * 1e-3 or angle == 0:
        return f"slides {_axis_words(unit(shift))}"
    place = cross(turn, shift) / angle**2
    along = float(shift @ turn) / angle**2
    words = f"turns about an axis {_axis_words(turn / angle)}"
    return words if abs(along) < 1e-3 * max(float(np.linalg.norm(place)), 1.0) else f"{words}, sliding as it turns"


def about_origin(motion: Array, center: Array, length: float) -> Array:
    """Transforms a small motion, given as lengths about the centroid of the touches, to mm and rad about the part's origin."""
    turn = motion[3:6] / length
    return np.concatenate([motion[:3] - cross(turn, center), turn])


def _about(covariance: Array, center: Array, length: float) -> Array:
    """(6, 6) of the small motion as lengths about a point, from that about the part's origin (and the scale) in mm and rad."""
    x, y, z = center
    at = np.zeros((6, len(covariance)))
    at[:3, :3] = np.eye(3)
    at[:3, 3:6] = [[0.0, z, -y], [-z, 0.0, x], [y, -x, 0.0]]
    at[3:, 3:6] = length * np.eye(3)
    if len(covariance) == 7:
        at[:3, 6] = center
    return at @ covariance @ at.T


def _loose(free: Array, center: Array, length: float) -> tuple[Loose, ...]:
    """Slides first, along the part's axes where they can be, then turns through as few others as may be."""
    if not free.shape[1]:
        return ()
    _, values, vt = np.linalg.svd(free[3:6])
    rank = int(np.sum(values > 1e-7))
    slides, turns = _squared(free[:3] @ vt[rank:].T), free @ vt[:rank].T
    found = [np.concatenate([s, np.zeros(3)]) for s in slides]
    if rank:
        axes = _squared(turns[3:6])
        weights = np.linalg.lstsq(turns[3:6], axes.T, rcond=None)[0]
        found += list((turns @ weights).T)
    told = [about_origin(m, center, length) for m in found]
    return tuple(Loose(motion_words(m), m) for m in told)


def _squared(columns: Array) -> Array:
    """A basis (m, 3) of the space of some columns (3, m), along the part's axes as far as they lie in it."""
    if not columns.shape[1]:
        return np.empty((0, 3))
    u, values, _ = np.linalg.svd(columns)
    basis = u[:, : int(np.sum(values > 1e-7 * max(values[0], 1e-300)))]
    chosen: list[Array] = []
    for axis in np.eye(3)[np.argsort(-np.linalg.norm(basis, axis=1), kind="stable")]:
        within = basis @ (basis.T @ axis)
        for other in chosen:
            within = within - (within @ other) * other
        if np.linalg.norm(within) > 0.05 and len(chosen) < basis.shape[1]:
            chosen.append(unit(within))
    return np.array(chosen)


def _weakest(solved: Solved) -> Loose | None:
    """The most uncertain motion, where it is far more uncertain than the touches themselves."""
    values, vectors = np.linalg.eigh(solved.covariance[:6, :6])
    if np.sqrt(max(values[-1], 0.0)) < WEAK * np.median(solved.touches.u_mm):
        return None
    motion = about_origin(vectors[:, -1], solved.linear.center, solved.linear.length)
    return Loose(motion_words(motion), motion)


def _weakness(solved: Solved, weak: Loose) -> str:
    worst = float(np.sqrt(np.linalg.eigvalsh(solved.covariance[:6, :6])[-1]))
    typical = float(np.median(solved.touches.u_mm))
    return (
        f"It hardly holds how the part {weak.words}: there {mm(0.01, '.2g')} of a touch becomes "
        f"{mm(0.01 * worst / typical, '.2g')}. Hold it by something that reaches farther."
    )


def _verdict(spare_holds: int, loose: tuple[Loose, ...], weakness: str, doubt: str = "") -> str:
    if doubt:
        return doubt
    if loose:
        return "Something is loose: the part still " + " and ".join(m.words for m in loose) + "."
    if spare_holds == 0:
        return "All six freedoms are held and no hold is spare: the residuals are zero whatever was touched, and prove nothing."
    spare = f"{spare_holds} hold{'s are' if spare_holds > 1 else ' is'} spare"
    return f"All six freedoms are held, and {spare} to prove it." + (f" {weakness}" if weakness else "")
