"""Touches: the scalar conditions to which every alignment is reduced, each holding the part in one direction.

A touch says that a place seen in the world lies, in one direction of the part, where the
nominal is. A surface point is one touch, a point held in X, Y and Z is three, a plane is three.
Solved by Gauss-Newton in six small motions (a seventh for scale), level by level: what primary
touches hold is all that secondary ones must leave alone. In a best fit a level takes what it holds
firmly, and what it holds weakly is solved by it and the later ones together. In a datum system
precedence is strict (ISO 5459): a level takes all that its nominal geometry can hold, however weakly.

Turns are told as the length that they make at the touches' own distance from their middle, so
that everything is in mm and nothing depends on the choice of a unit.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..errors import AlignmentError
from ..frames import Array, Indices, Motion
from ..kernels import held_by, rotation, touches_seen

# singular value, by the root of the touches' number, below which nominal geometry holds nothing: a bore no turn about
# itself, though the real one leans a little
EXACT = 1e-6
NO_RANKS = np.empty(0, int)


@dataclass(frozen=True, eq=False)
class Touches:
    """n touches.

    Attributes
    ----------
    world : (n, 3) places seen, in the world
    part : (n, 3) nominal places, on the nominal shape where it should have been touched
    directions : (n, 3) units in the part, along which they hold
    u_mm : (n,) standard uncertainty along the direction; the fit is weighed by it
    row : (n,) number of the row that each belongs to
    level : (n,) 1 primary, 2 secondary, 3 tertiary
    """

    world: Array
    part: Array
    directions: Array
    u_mm: Array
    row: Indices
    level: Indices

    def __len__(self) -> int:
        return len(self.world)

    def residuals(self, pose: Pose) -> Array:
        """Signed distances (n,) along the directions, + beyond the nominal."""
        return np.einsum("ij,ij->i", pose.points(self.world) - self.part, self.directions)


@dataclass(frozen=True, eq=False)
class Pose:
    """part = scale * rotation @ world + translation."""

    motion: Motion
    scale: float = 1.0

    def points(self, world: Array) -> Array:
        return self.scale * world @ self.motion.rotation.T + self.motion.translation

    def stepped(self, step: Array, center: Array, length: float) -> Pose:
        """After a small motion (6,) or (7,) about ``center``: shifts, turns and scale as lengths."""
        turn = rotation(*(step[3:6] / length))
        factor = float(np.exp(step[6] / length)) if len(step) == 7 else 1.0
        moved = factor * turn @ (self.motion.translation - center) + center + step[:3]
        return Pose(Motion(turn @ self.motion.rotation, moved), self.scale * factor)


@dataclass(frozen=True, eq=False)
class Linear:
    """Touches seen from a pose: how each residual answers to small motions about ``center``.

    ``jacobian`` (n, 6 or 7), all entries lengths by lengths; ``length``: by which a turn is multiplied to become a length;
    ``rel`` (n, 3): the places seen, from the center.
    """

    residuals: Array
    jacobian: Array
    center: Array
    length: float
    rel: Array


def linearised(touches: Touches, pose: Pose, scale_free: bool = False) -> Linear:
    return Linear(*touches_seen(*_numbers(touches), *_numbers_of(pose), scale_free))


@dataclass(frozen=True, eq=False)
class Solved:
    """Where touches put the part.

    Attributes
    ----------
    pose : part from world
    linear : the touches, seen from there
    gain : (k, n) small motion about ``linear.center`` by the error of each touch
    loose : (k, m) motions that nothing holds, as columns
    rank : k - m
    """

    touches: Touches
    pose: Pose
    linear: Linear
    gain: Array
    loose: Array
    rank: int

    @property
    def spare(self) -> int:
        """Touches beyond those that hold something."""
        return len(self.touches) - self.rank

    @property
    def covariance(self) -> Array:
        """(k, k) of the small motion, from the touches' stated uncertainties; loose motions count as zero."""
        return (self.gain * self.touches.u_mm**2) @ self.gain.T

    @property
    def about_origin(self) -> Array:
        """(k, k): the small motion about the part's origin, in mm, rad and, where it is free, the scale."""
        x, y, z = self.linear.center / self.linear.length
        into = np.eye(len(self.gain))
        into[3:] /= self.linear.length
        into[:3, 3:6] = np.array([[0.0, -z, y], [z, 0.0, -x], [-y, x, 0.0]])
        if len(into) == 7:
            into[:3, 6] = -self.linear.center / self.linear.length
        return into

    @property
    def variance_factor(self) -> float:
        """Mean square of the residuals by their stated uncertainties; about 1 where these are right, NaN with none spare."""
        if self.spare < 1:
            return float("nan")
        return float(np.sum((self.linear.residuals / self.touches.u_mm) ** 2) / self.spare)

    def point_covariance(self, point_part: Array) -> Array:
        """(3, 3) mm² of where a point of the part lies."""
        into = self.lever(point_part)
        return into @ self.covariance @ into.T

    def lever(self, point_part: Array) -> Array:
        """(3, k): how a point of the part moves with the small motion."""
        x, y, z = (np.asarray(point_part, float) - self.linear.center) / self.linear.length
        turn = np.array([[0.0, z, -y], [-z, 0.0, x], [y, -x, 0.0]])
        scale = np.array([[x], [y], [z]]) if len(self.gain) == 7 else np.empty((3, 0))
        return np.hstack([np.eye(3), turn, scale])


def solve(touches: Touches, start: Pose, scale_free: bool = False, strict: bool = False) -> Solved:
    """The pose near ``start`` in which the touches leave least, primary ones first; ``strict``: as in a datum system.

    Motions that nothing holds stay as they were. Raises AlignmentError where it does not settle.
    """
    ranks = _nominal_ranks(touches, scale_free) if strict else NO_RANKS
    settled, turn, shift, scale, gain, loose = held_by(
        *_numbers(touches), np.ascontiguousarray(touches.u_mm, float), np.ascontiguousarray(touches.level, int),
        *_numbers_of(start), scale_free, ranks,
    )  # fmt: skip
    if not settled:
        raise AlignmentError(
            "The alignment did not settle.", "The measured features are kept.",
            "Look for a feature that was mistaken for another.",
        )  # fmt: skip
    pose = Pose(Motion(turn, shift), scale)
    return Solved(touches, pose, linearised(touches, pose, scale_free), gain, loose, len(gain) - loose.shape[1])


def _numbers(touches: Touches) -> tuple[Array, Array, Array]:
    return (
        np.ascontiguousarray(touches.world, float),
        np.ascontiguousarray(touches.part, float),
        np.ascontiguousarray(touches.directions, float),
    )


def _numbers_of(pose: Pose) -> tuple[Array, Array, float]:
    turn = np.ascontiguousarray(pose.motion.rotation, float)
    return turn, np.ascontiguousarray(pose.motion.translation, float), float(pose.scale)


def _nominal_ranks(touches: Touches, scale_free: bool) -> Indices:
    """How many motions each level takes, were everything where it should be."""
    ideal = replace(touches, world=touches.part)
    linear = linearised(ideal, Pose(Motion.identity()), scale_free)
    free, ranks = np.eye(linear.jacobian.shape[1]), list[int]()
    for level in np.unique(touches.level):
        rows = linear.jacobian[touches.level == level] @ free
        _, values, vt = np.linalg.svd(rows)
        ranks.append(int(np.sum(values > EXACT * np.sqrt(len(rows)))))
        free = free @ vt[ranks[-1] :].T
    return np.array(ranks)
