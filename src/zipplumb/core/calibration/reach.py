"""Which directions a pivot's sweeps have reached, and which are wanted.

The shaft leans out of the upright, in a direction named as seen from the arm: away from
it, or back and to the left or right. Common practice: from about 45° up to upright in three
directions, and a roll of the handle where it has one.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..frames import Array, Indices, cross, unit

WAYS = ("away from the arm", "back toward the arm and to the left", "back toward the arm and to the right")
BANDS_DEG = (0.0, 10.0, 20.0, 30.0, 50.0)  # of lean; the last one is "about 45°"
ROLL_DEG = 80.0


@dataclass(frozen=True, eq=False)
class Reach:
    """Counts of poses.

    Attributes
    ----------
    counts : (3, 4) poses by way (see WAYS) and band of lean (see BANDS_DEG)
    leans : (n, 2) of every pose: lean (rad) and the way it leans, 0 away from the arm, + to the left (rad)
    roll_rad : how far the handle was rolled
    rolls : the arm has such a roll
    away, left : (3,) in the instrument, level
    """

    counts: Array
    leans: Array
    roll_rad: float
    rolls: bool
    away: Array
    left: Array

    @property
    def missing(self) -> tuple[str, ...]:
        """The directions still missing, in words."""
        found = [f"swing {WAYS[k]}" for k in range(3) if not np.all(self.counts[k, 1:] > 0)]
        if self.rolls and self.roll_rad < np.radians(ROLL_DEG):
            found.append("roll the handle a quarter turn")
        return tuple(found)

    @property
    def share(self) -> float:
        """0 to 1: how much of what is wanted was reached."""
        reached = float(np.sum(self.counts[:, 1:] > 0)) / 9
        if not self.rolls:
            return reached
        return 0.75 * reached + 0.25 * min(1.0, self.roll_rad / np.radians(ROLL_DEG))

    @property
    def advice(self) -> str:
        """Advice on the next sweep."""
        if not self.missing:
            return "All directions are reached."
        first = self.missing[0]
        lean = ", from upright down to 45°" if first.startswith("swing") else ""
        return f"{first[0].upper()}{first[1:]}{lean}."

    def advice_across(self, weakest: Array) -> str:
        """Advice for a direction (3,) of the instrument that is poorly determined: lean that way."""
        if np.hypot(weakest @ self.away, weakest @ self.left) < 0.5:
            return "Lean the handle farther out on every side."
        both = [int(_sector(np.arctan2(s * weakest @ self.left, s * weakest @ self.away))) for s in (1, -1)]
        return f"Swing {WAYS[min(both, key=lambda k: self.counts[k, 1:].sum())]}, farther down."


def reach_of(turns: Array, offset: Array, seat: Array, roll: bool) -> Reach:
    """From rotations (n, 3, 3) of the last axis, the tip's offset in it, and the seat in the instrument."""
    shaft = unit(offset) if np.linalg.norm(offset) > 1e-6 else np.array([0.0, 0, 1])
    up = -turns @ shaft
    away = np.array([seat[0], seat[1], 0.0])
    away = unit(away) if np.linalg.norm(away) > 1 else np.array([1.0, 0, 0])
    left = np.array([-away[1], away[0], 0.0])
    lean = np.arccos(np.clip(up[:, 2], -1, 1))
    way = np.arctan2(up @ left, up @ away)
    sector = _sector(way)
    band = np.clip(np.searchsorted(np.radians(BANDS_DEG), lean, side="right") - 1, 0, 3)
    counts = np.zeros((3, 4))
    np.add.at(counts, (sector, band), 1)
    counts[:, 0] = counts[:, 0].sum()  # upright belongs to all
    return Reach(counts, np.column_stack([lean, way]), _rolled(turns, up), roll, away, left)


def _sector(way: Array) -> Indices:
    return np.round(np.mod(way, 2 * np.pi) / (2 * np.pi / 3)).astype(np.int64) % 3


def _rolled(turns: Array, up: Array) -> float:
    """Turn about the shaft itself: what is left when every pose is stood upright by the shortest way."""
    x, y, z = up.T
    # the shortest rotation that takes each shaft to z, applied to the axes' own x
    own = turns[:, :, 0]
    across = np.stack([y, -x, np.zeros_like(x)], axis=1)
    standing = (
        own * z[:, None] + cross(across, own) + across * (np.sum(across * own, axis=1) / np.maximum(1 + z, 1e-9))[:, None]
    )
    angle = np.sort(np.arctan2(standing[:, 1], standing[:, 0]))
    return float(2 * np.pi - np.diff(angle, append=angle[0] + 2 * np.pi).max())
