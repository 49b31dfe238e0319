"""The stand-in arm's bones: from joint angles to the last axis and back, and what its encoders get wrong.

Joints are told by an axis and a point on it with the arm stretched out along X (product of
exponentials; K. Lynch and F. Park, "Modern Robotics", 2017, chapter 4). The inverse is damped
least squares from where the arm is now (C. Wampler, IEEE SMC 16 (1986)), so that it moves as a
chain of joints must.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from ...core.frames import Array, Motion, unit

COLUMN, UPPER, FORE, HANDLE = 320.0, 760.0, 700.0, 90.0
X, Y, Z = np.eye(3)
AXES = np.array([Z, Y, X, Y, X, Y, X])
SKEWS = np.array([[[0, -z, y], [z, 0, -x], [-y, x, 0]] for x, y, z in AXES])
SQUARES = SKEWS @ SKEWS
POINTS = np.array([
    [0, 0, COLUMN], [0, 0, COLUMN], [UPPER, 0, COLUMN], [UPPER, 0, COLUMN], [UPPER + FORE, 0, COLUMN],
    [UPPER + FORE, 0, COLUMN], [UPPER + FORE + HANDLE, 0, COLUMN],
], float)  # fmt: skip
# the last axis with the arm stretched out: its z runs on along X, toward the tip
STRETCHED = Motion(np.array([[0, 0, 1.0], [0, 1.0, 0], [-1.0, 0, 0]]), np.array([UPPER + FORE + HANDLE, 0, COLUMN]))
REST = np.array([0.3, 0.5, 0.0, -1.4, 0.0, 1.6, 0.0])
ITERATIONS, DAMPING = 60, 1e-8
EXACT_MM, EXACT_RAD = 2e-4, 5e-7


@dataclass(frozen=True, eq=False)
class Encoders:
    """What the arm believes its joints are: each is off by noise and by what is left of its eccentricity, rad."""

    noise_rad: Array
    eccentricity_rad: Array
    phase_rad: Array

    @classmethod
    def of_class(cls, random: np.random.Generator, joints: int, noise_rad: float, left_rad: float) -> Encoders:
        return cls(np.full(joints, noise_rad), random.normal(0, left_rad, joints), random.uniform(0, 2 * np.pi, joints))

    def read(self, angles: Array, random: np.random.Generator) -> Array:
        return (
            angles
            + self.eccentricity_rad * np.cos(angles + self.phase_rad)
            + random.normal(0, self.noise_rad, np.shape(angles))
        )


class Chain:
    """6 or 7 joints; with 6 the handle does not roll."""

    def __init__(self, joints: int = 7):
        self.joints = joints
        self.angles = REST[:joints].copy()

    def last_axis(self, angles: Array) -> Motion:
        """base_from_last_axis."""
        turns, shifts = self._links(angles)
        return Motion(turns[-1], shifts[-1]) @ STRETCHED

    def last_axes(self, angles: Array) -> tuple[Array, Array]:
        """The same for many (n, joints): rotations (n, 3, 3) and places (n, 3)."""
        turn, shift = np.broadcast_to(np.eye(3), (len(angles), 3, 3)), np.zeros((len(angles), 3))
        for k in range(self.joints):
            own = Rotation.from_rotvec(angles[:, k, None] * AXES[k]).as_matrix()
            shift = np.einsum("nij,nj->ni", turn, POINTS[k] - own @ POINTS[k]) + shift
            turn = turn @ own
        return turn @ STRETCHED.rotation, turn @ STRETCHED.translation + shift

    def _links(self, angles: Array) -> tuple[list[Array], list[Array]]:
        """After every joint: how what stood at its place before stands now."""
        turn, shift, turns, shifts = np.eye(3), np.zeros(3), [], []
        for k, (sine, cosine) in enumerate(zip(np.sin(angles).tolist(), np.cos(angles).tolist(), strict=True)):
            own = SQUARES[k] * (1 - cosine) + SKEWS[k] * sine + np.eye(3)
            shift = turn @ (POINTS[k] - own @ POINTS[k]) + shift
            turn = turn @ own
            turns.append(turn)
            shifts.append(shift)
        return turns, shifts

    def place(self, tip: Array, inward: Array, offset_mm: Array, roll_rad: float = 0.0) -> bool:
        """Move so that the tip is at ``tip`` with the last axis along ``inward``; False where it cannot reach.

        ``roll_rad``: by how much the handle is rolled about itself meanwhile; else it rolls as little as may be.
        """
        angles, wanted, rolled = self.angles.copy(), unit(inward), 0.0
        for _ in range(ITERATIONS):
            turns, shifts = self._links(angles)
            z = turns[-1] @ STRETCHED.rotation[:, 2]
            at = turns[-1] @ STRETCHED.points(offset_mm) + shifts[-1]
            off = np.concatenate([wanted_step(tip - at, 80.0), wanted_step(crossed(z, wanted), 0.3)])
            left = roll_rad - rolled
            if np.abs(off[:3]).max() < EXACT_MM and np.abs(off[3:]).max() < EXACT_RAD and abs(left) < EXACT_RAD:
                if z @ wanted < 0:
                    return False
                self.angles = angles
                return True
            every = np.array(turns)
            axes = np.einsum("kij,kj->ki", every, AXES[: self.joints])
            arms = at - np.einsum("kij,kj->ki", every, POINTS[: self.joints]) - np.array(shifts)
            about = axes @ z
            rows = np.vstack([crossed(axes, arms).T, 600 * (axes - about[:, None] * z).T, 600 * about[None]])
            weight = 1.0 if roll_rad else 0.02  # held loosely where nothing is asked
            rows[6] *= weight
            answer = np.concatenate([off[:3], 600 * off[3:], [600 * weight * left]])
            normal = rows.T @ rows + DAMPING * np.trace(rows.T @ rows) / self.joints * np.eye(self.joints)
            step = np.linalg.solve(normal, rows.T @ answer)
            step *= min(1.0, 0.4 / max(float(np.abs(step).max()), 1e-12))
            rolled += float(about @ step) if roll_rad else 0.0
            angles = angles + step
        return False

    def place_anew(self, tip: Array, inward: Array, offset_mm: Array) -> bool:
        """As a hand that lets go and grasps again: from other postures, where the one it has gets stuck."""
        before = self.angles
        for posture in _postures(tip):
            self.angles = posture[: self.joints]
            if self.place(tip, inward, offset_mm):
                return True
        self.angles = before
        return False


def _postures(tip: Array) -> list[Array]:
    """Elbow up before the tip, reaching out or folded, the wrist turned one way or the other."""
    toward = float(np.arctan2(tip[1], tip[0]))
    return [
        np.array([toward, s, 0.0, e, t, w, 0.0])
        for s in (0.5, -0.2)
        for e in (-1.4, -0.8)
        for t, w in ((0, 1.6), (0, -1.6), (1.5, 1.0))
    ]


def crossed(a: Array, b: Array) -> Array:
    """The vector product of rows, without the general one's overhead."""
    return a[..., [1, 2, 0]] * b[..., [2, 0, 1]] - a[..., [2, 0, 1]] * b[..., [1, 2, 0]]


def wanted_step(vector: Array, most: float) -> Array:
    size = float(np.linalg.norm(vector))
    return vector if size <= most else vector * (most / size)
