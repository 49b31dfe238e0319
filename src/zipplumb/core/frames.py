"""Rigid motions and coordinate systems.

A motion that takes part coordinates to world coordinates is called ``world_from_part``;
``world_from_part @ part_from_tip`` then reads true.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.spatial.transform import Rotation

from .kernels import carried

Array = NDArray[np.float64]
Indices = NDArray[np.int64]


def unit(vector: ArrayLike) -> Array:
    """Vector(s) of shape (..., 3) scaled to length one; ValueError for a zero vector."""
    v = np.asarray(vector, float)
    if v.ndim == 1:  # the common case, quickly
        size = math.sqrt(v @ v)
        if not size > 0:
            raise ValueError("a direction has no length")
        return v / size
    length = np.linalg.norm(v, axis=-1, keepdims=True)
    if not np.all(length > 0):
        raise ValueError("a direction has no length")
    return v / length


def cross(a: Array, b: Array) -> Array:
    """Cross product of vectors (..., 3), several times as quick as numpy's for few of them."""
    if a.ndim == b.ndim == 1:
        (a1, a2, a3), (b1, b2, b3) = a.tolist(), b.tolist()
        return np.array([a2 * b3 - a3 * b2, a3 * b1 - a1 * b3, a1 * b2 - a2 * b1])
    x, y, z = a[..., 0], a[..., 1], a[..., 2]
    i, j, k = b[..., 0], b[..., 1], b[..., 2]
    return np.stack([y * k - z * j, z * i - x * k, x * j - y * i], axis=-1)


def angle_between(a: Array, b: Array) -> float:
    """The angle between two directions without sense, 0 to π/2 rad."""
    (x, y, z) = cross(a, b).tolist()
    return math.atan2(math.sqrt(x * x + y * y + z * z), abs(float(a @ b)))


def perpendicular_pair(direction: ArrayLike) -> tuple[Array, Array]:
    """Unit vectors u, v (..., 3) with (u, v, direction) right-handed and orthonormal.

    Source: Duff et al., "Building an orthonormal basis, revisited", JCGT 6 (2017).
    """
    along = unit(direction)
    if along.ndim == 1:  # the common case, quickly
        x, y, z = along.tolist()
        sign = math.copysign(1.0, z)
        a = -1.0 / (sign + z)
        b = x * y * a
        return np.array([1.0 + sign * x * x * a, sign * b, -sign * x]), np.array([b, sign + y * y * a, -y])
    x, y, z = np.moveaxis(along, -1, 0)
    sign = np.copysign(1.0, z)
    a = -1.0 / (sign + z)
    b = x * y * a
    u = np.stack([1.0 + sign * x * x * a, sign * b, -sign * x], axis=-1)
    return u, np.stack([b, sign + y * y * a, -y], axis=-1)


@dataclass(frozen=True, eq=False)
class Motion:
    """A proper rigid motion x -> rotation @ x + translation (mm).

    Attributes
    ----------
    rotation : (3, 3) array, a proper rotation
    translation : (3,) array, mm

    Examples
    --------
    Frames are in the names, so that a product reads true:

    >>> world_from_part = Motion.from_axes([0, 1, 0], [-1, 0, 0], [0, 0, 1], [100, 0, 0])
    >>> part_from_tip = Motion(np.eye(3), np.array([5.0, 0, 0]))
    >>> world_from_tip = world_from_part @ part_from_tip
    >>> world_from_tip.points(np.zeros((1, 3))).tolist()
    [[100.0, 5.0, 0.0]]
    """

    rotation: Array
    translation: Array

    @classmethod
    def identity(cls) -> Motion:
        return cls(np.eye(3), np.zeros(3))

    @classmethod
    def from_axes(cls, x: ArrayLike, y: ArrayLike, z: ArrayLike, origin: ArrayLike) -> Motion:
        """The motion outer_from_inner of a system whose axes and origin are given in outer."""
        return cls(np.column_stack([x, y, z]).astype(float), np.asarray(origin, float))

    @classmethod
    def from_rotvec(cls, turn: ArrayLike, translation: ArrayLike) -> Motion:
        """From a rotation vector (rad about its own direction) and a translation in mm."""
        return cls(Rotation.from_rotvec(np.asarray(turn, float)).as_matrix(), np.asarray(translation, float))

    @property
    def rotvec(self) -> Array:
        """(3,) the rotation as a vector, rad about its own direction."""
        return Rotation.from_matrix(self.rotation).as_rotvec()

    @classmethod
    def from_quaternion(cls, wxyz: ArrayLike, translation: ArrayLike) -> Motion:
        """From a quaternion (w, x, y, z), normalised here, and a translation in mm."""
        return cls(rotations_from_quaternions(np.asarray(wxyz, float)[None])[0], np.asarray(translation, float))

    def __matmul__(self, other: Motion) -> Motion:
        return Motion(self.rotation @ other.rotation, self.rotation @ other.translation + self.translation)

    def inverse(self) -> Motion:
        return Motion(self.rotation.T, -self.rotation.T @ self.translation)

    def points(self, points: ArrayLike) -> Array:
        """Points (..., 3) moved."""
        return np.asarray(points, float) @ self.rotation.T + self.translation

    def vectors(self, vectors: ArrayLike) -> Array:
        """Directions (..., 3) turned."""
        return np.asarray(vectors, float) @ self.rotation.T

    def as_list(self) -> list[float]:
        """Sixteen numbers, row by row, for pages and files."""
        matrix = np.eye(4)
        matrix[:3, :3], matrix[:3, 3] = self.rotation, self.translation
        return matrix.ravel().tolist()

    @classmethod
    def from_list(cls, numbers: ArrayLike) -> Motion:
        """From sixteen numbers, row by row."""
        matrix = np.asarray(numbers, float).reshape(4, 4)
        return cls(matrix[:3, :3], matrix[:3, 3])


def small_motion(motion: Motion) -> Array:
    """Shifts (mm) and turns (rad) of a motion (6,) that is nearly none."""
    turn = (motion.rotation - motion.rotation.T)[[2, 0, 1], [1, 2, 0]] / 2
    return np.concatenate([motion.translation, turn])


def rotations_from_quaternions(wxyz: Array) -> Array:
    """Rotation matrices (n, 3, 3) of quaternions (n, 4) in the order w, x, y, z."""
    return np.asarray(Rotation.from_quat(wxyz, scalar_first=True).as_matrix())


def points_of_poses(poses: Array, offset_mm: ArrayLike) -> Array:
    """Tip positions for given poses of the last axis and a tip offset.

    Parameters
    ----------
    poses : (n, 7) array
        x, y, z (mm) and the quaternion w, x, y, z of the last axis in the instrument's frame.
    offset_mm : (3,) array
        Tip center in the last axis.

    Returns
    -------
    (n, 3) array in the instrument's frame, mm.
    """
    rows = np.ascontiguousarray(poses, float).reshape(-1, 7)
    return carried(rows, np.ascontiguousarray(offset_mm, float))
