"""The stand-in arm's bones: from joint angles to the last axis and back, and what its encoders get wrong.

Joints are given by an axis and a point on it with the arm stretched out along X (product of
exponentials; K. Lynch and F. Park, "Modern Robotics", 2017, chapter 4). The inverse is damped
least squares from where the arm is now (C. Wampler, IEEE SMC 16 (1986)), so that it moves as a
chain of joints must.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from ...core.frames import Array, Motion, unit
from ...core.kernels.compiled import COMPILED

COLUMN, UPPER, FORE, HANDLE = 320.0, 760.0, 700.0, 90.0
X, Y, Z = np.eye(3)
AXES = np.array([Z, Y, X, Y, X, Y, X])
POINTS = np.array([
    [0, 0, COLUMN], [0, 0, COLUMN], [UPPER, 0, COLUMN], [UPPER, 0, COLUMN], [UPPER + FORE, 0, COLUMN],
    [UPPER + FORE, 0, COLUMN], [UPPER + FORE + HANDLE, 0, COLUMN],
], float)  # fmt: skip
# the last axis with the arm stretched out: its z runs on along X, toward the tip
STRETCHED = Motion(np.array([[0, 0, 1.0], [0, 1.0, 0], [-1.0, 0, 0]]), np.array([UPPER + FORE + HANDLE, 0, COLUMN]))
LAST_Z = np.ascontiguousarray(STRETCHED.rotation[:, 2])
REST = np.array([0.3, 0.5, 0.0, -1.4, 0.0, 1.6, 0.0])
ITERATIONS, DAMPING = 60, 1e-8
EXACT_MM, EXACT_RAD = 2e-4, 5e-7
LONGEST_MM, LONGEST_RAD, LONGEST_TURN_RAD = 80.0, 0.3, 0.4  # of one step: the tip's way, its turn, and any joint's
MM_PER_RAD = 600.0  # how a turn weighs against a shift


@dataclass(frozen=True, eq=False)
class Encoders:
    """Readings of the joints: each is off by noise and by its residual eccentricity, rad."""

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


class JointChain:
    """6 or 7 joints; with 6 the handle does not roll."""

    def __init__(self, joints: int = 7):
        self.joints = joints
        self.angles = REST[:joints].copy()

    def last_axis(self, angles: Array) -> Motion:
        """base_from_last_axis."""
        turns, shifts = _carried(angles[None])
        return Motion(turns[0], shifts[0]) @ STRETCHED

    def last_axes(self, angles: Array) -> tuple[Array, Array]:
        """Poses of the last axis for many joint vectors (n, joints): rotations (n, 3, 3) and positions (n, 3)."""
        turns, shifts = _carried(angles)
        return turns @ STRETCHED.rotation, turns @ STRETCHED.translation + shifts

    def place(self, tip: Array, inward: Array, offset_mm: Array, roll_rad: float = 0.0) -> bool:
        """Move so that the tip is at ``tip`` with the last axis along ``inward``; False where it cannot reach.

        ``roll_rad``: by how much the handle is rolled about itself meanwhile; else it rolls as little as may be.
        """
        tip, offset_mm = np.ascontiguousarray(tip, float), STRETCHED.points(offset_mm)
        there, angles = _placed(self.angles, tip, unit(inward), offset_mm, float(roll_rad))
        if there:
            self.angles = angles
        return bool(there)

    def place_anew(self, tip: Array, inward: Array, offset_mm: Array) -> bool:
        """Like a hand that lets go and grasps again: from other postures, where the one it has gets stuck."""
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


@njit(**COMPILED)
def _links(angles, turns, shifts):
    """After every joint: how what stood at its place before stands now (Rodrigues' formula), into (k, 3, 3) and (k, 3)."""
    turn, shift = np.eye(3), np.zeros(3)
    own, apart = np.empty((3, 3)), np.empty(3)
    for k in range(len(angles)):
        x, y, z = AXES[k]
        s, c = np.sin(angles[k]), np.cos(angles[k])
        d = 1.0 - c
        own[0, 0], own[0, 1], own[0, 2] = c + d * x * x, d * x * y - s * z, d * x * z + s * y
        own[1, 0], own[1, 1], own[1, 2] = d * x * y + s * z, c + d * y * y, d * y * z - s * x
        own[2, 0], own[2, 1], own[2, 2] = d * x * z - s * y, d * y * z + s * x, c + d * z * z
        for i in range(3):
            apart[i] = POINTS[k, i] - own[i, 0] * POINTS[k, 0] - own[i, 1] * POINTS[k, 1] - own[i, 2] * POINTS[k, 2]
        for i in range(3):
            shifts[k, i] = shift[i] + turn[i, 0] * apart[0] + turn[i, 1] * apart[1] + turn[i, 2] * apart[2]
            for j in range(3):
                turns[k, i, j] = turn[i, 0] * own[0, j] + turn[i, 1] * own[1, j] + turn[i, 2] * own[2, j]
        turn, shift = turns[k], shifts[k]


@njit("Tuple((f8[:,:,::1], f8[:,::1]))(f8[:,::1])", **COMPILED)
def _carried(angles):
    """How the last joint of each posture (n, joints) carries what stood at it stretched out: (n, 3, 3) and (n, 3)."""
    n, joints = angles.shape
    turns, shifts = np.empty((joints, 3, 3)), np.empty((joints, 3))
    last, at = np.empty((n, 3, 3)), np.empty((n, 3))
    for i in range(n):
        _links(angles[i], turns, shifts)
        last[i], at[i] = turns[joints - 1], shifts[joints - 1]
    return last, at


@njit(**COMPILED)
def _shortened(vector, longest):
    size = np.sqrt(vector[0] ** 2 + vector[1] ** 2 + vector[2] ** 2)
    return vector if size <= longest else vector * (longest / size)


@njit(**COMPILED)
def _crossed(a, b):
    return np.array([a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]])


@njit("Tuple((b1, f8[::1]))(f8[::1], f8[::1], f8[::1], f8[::1], f8)", **COMPILED)
def _placed(start, tip, wanted, stretched_tip, roll_rad):
    """Whether the tip comes to a place, and the joint angles; stretched out it is at ``stretched_tip``."""
    joints, rolled, angles = len(start), 0.0, start.copy()
    turns, shifts = np.empty((joints, 3, 3)), np.empty((joints, 3))
    rows, answer = np.empty((7, joints)), np.empty(7)
    weight = 1.0 if roll_rad != 0.0 else 0.02  # held loosely where nothing is asked
    for _ in range(ITERATIONS):
        _links(angles, turns, shifts)
        turn, shift = turns[joints - 1], shifts[joints - 1]
        z, at = turn @ LAST_Z, turn @ stretched_tip + shift
        off, lean = _shortened(tip - at, LONGEST_MM), _shortened(_crossed(z, wanted), LONGEST_RAD)
        left = roll_rad - rolled
        if np.abs(off).max() < EXACT_MM and np.abs(lean).max() < EXACT_RAD and abs(left) < EXACT_RAD:
            return z @ wanted >= 0, angles
        for k in range(joints):
            axis = turns[k] @ AXES[k]
            arm = _crossed(axis, at - turns[k] @ POINTS[k] - shifts[k])
            about = axis @ z
            rows[:3, k], rows[3:6, k] = arm, MM_PER_RAD * (axis - about * z)
            rows[6, k] = MM_PER_RAD * weight * about
        answer[:3], answer[3:6], answer[6] = off, MM_PER_RAD * lean, MM_PER_RAD * weight * left
        normal = rows.T @ rows
        trace = 0.0
        for k in range(joints):
            trace += normal[k, k]
        for k in range(joints):
            normal[k, k] += DAMPING * trace / joints
        step = np.linalg.solve(normal, rows.T @ answer)
        step *= min(1.0, LONGEST_TURN_RAD / max(np.abs(step).max(), 1e-12))
        if roll_rad != 0.0:
            rolled += rows[6] @ step / (MM_PER_RAD * weight)
        angles = angles + step
    return False, start
