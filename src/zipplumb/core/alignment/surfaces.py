"""Touches or scans laid upon surfaces by nearest points.

The core knows no CAD: it is given ``nearest``, which tells for points of the part the foot on
the nominal surface and the normal there. Each step holds every point along the normal of its
foot; the feet are then looked for again.
Source: Chen and Medioni, "Object modelling by registration of multiple range images", Image
and Vision Computing 10 (1992). Points are set aside by their distance in robust sigmas
(median absolute deviation; Rousseeuw and Leroy, "Robust Regression and Outlier Detection", 1987),
beyond a limit that narrows as the place is found, after Z. Zhang, "Iterative point matching for
registration of free-form curves and surfaces", Int. J. Computer Vision 13 (1994).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..errors import AlignmentError
from ..frames import Array, Motion
from ..kernels import rotation
from ..uncertainty import Source, Uncertainty
from ..units import mm
from .aligned import Alignment
from .contradiction import Contradiction, contradiction_of
from .ledger import HoldLedger, ledger_of
from .touches import Pose, Solved, Touches, linearised, solve

Nearest = Callable[[Array], tuple[Array, Array]]
FEWER, FEW, MANY = 250, 1500, 4_000  # points that are enough to look for another place, to find the place, to settle in it
LOOKED_MM, ROUGHLY_MM, CLOSELY_MM = 1e-2, 1e-4, 1e-6  # steps that are none, of so many
LOOKS, ROUNDS = 20, 60
PATCHES = 8  # of the form, along what was scanned
REJECT = 4.0  # robust sigmas beyond which a point of a scan is set aside
BETTER = 0.8  # another place that leaves so much less shows that the first was wrong
TURNS_DEG = 12.0  # by which other starts differ


@dataclass(frozen=True, eq=False, kw_only=True)
class SurfaceAlignment(Alignment):
    """Points upon surfaces.

    Attributes
    ----------
    solved : as of holds; every point is one touch along the normal of its foot
    deviations : (n,) of the points from the surface, mm, + on the normal's side
    used : (n,) bool; the others were set aside as not of these surfaces
    """

    solved: Solved
    deviations: Array
    used: NDArray[np.bool_]

    @property
    def rms(self) -> float:
        """Root mean square of the residuals of the points used."""
        return float(np.sqrt(np.mean(self.deviations[self.used] ** 2)))


@dataclass(frozen=True, eq=False)
class Errors:
    """How points err. ``u_mm``: each by its own; ``together``: by source, (n, 3, m) in the world, what moves them all with one
    standard uncertainty of each of the source's m components; ``form_mm``: how far a patch of the surface is off as a whole.

    Notes
    -----
    A part's own form is no error of single points: neighbours are off alike. To a patch of an eighth of what was scanned, and
    that faces one way, they are taken to be, and patches independently (common practice; no published value is known).
    """

    u_mm: float
    together: Mapping[Source, Array]
    form_mm: float = 0.0

    def of_motion(self, solved: Solved, used: NDArray[np.bool_], whose: int | str) -> Uncertainty:
        """Of the small motion by which the part is laid."""
        covariance = self.u_mm**2 * solved.gain @ solved.gain.T
        ways = solved.touches.directions @ solved.pose.motion.rotation
        shared = {source: -solved.gain @ np.einsum("ni,nim->nm", ways, moved[used]) for source, moved in self.together.items()}
        shared[Source("form", whose)] = -self.form_mm * _by_patch(solved.gain, solved.touches)
        return Uncertainty.of_covariance(Source("laid", whose), covariance) + Uncertainty(len(covariance), shared)


def _by_patch(gain: Array, touches: Touches) -> Array:
    """(6, p) sums of a gain (6, n) over the touches of each patch: of an eighth of their size, facing one way."""
    feet, ways = touches.part, touches.directions
    size = float(np.ptp(feet, axis=0).max()) / PATCHES
    faces = np.argmax(np.abs(ways), axis=1)
    signs = ways[np.arange(len(ways)), faces] > 0
    places = np.column_stack([np.floor(feet / size).astype(np.int64), faces, signs])
    _, patch = np.unique(places, axis=0, return_inverse=True)
    return np.array([np.bincount(patch.ravel(), row) for row in gain])


def align_surfaces(
    points_world: Array,
    nearest: Nearest,
    start: Motion,
    u_mm: float,
    reject: bool = True,
    look_round: bool = True,
    above_mm: Array | float = 0.0,
    whose: int | str = 0,
    names: Sequence[str] = (),
    errors: Errors | None = None,
    doubt: str = "",
) -> SurfaceAlignment:
    """Lay points upon surfaces.

    Parameters
    ----------
    points_world : (n, 3) on the surface, or tip centers above it; the place is sought with some of them, evenly taken
    nearest : (m, 3) points of the part -> feet (m, 3) and unit normals (m, 3)
    start : a rough part_from_world, from holds or picked targets
    u_mm : standard uncertainty of a point with the surface's own form
    reject : set points aside that are not of these surfaces (scans, not touches)
    look_round : where the points lie farther off than is stated, try other starts too, to see whether another place fits
        better
    above_mm : of each point, how far above its surface it stands: the radius of a tip that could not be taken off
    whose : names the source of its uncertainty
    names : of the points; where they are touches, those that contradict the others are told by these
    doubt : what is doubtful already
    errors : of the points, where they are known by source; left out, each errs by ``u_mm`` of its own

    Raises
    ------
    AlignmentError
        Fewer than six points, or points that are no numbers.
    """
    points = np.asarray(points_world, float).reshape(-1, 3)
    if len(points) < 6 or not np.all(np.isfinite(points)):
        raise AlignmentError(
            f"Six points at least hold a part by its surfaces; there are {len(points)} sound ones.",
            "The points are kept.", "Touch 3 on one surface, 2 on another and 1 on a third, or more.",
        )  # fmt: skip
    seen = _Seen(points, np.broadcast_to(np.asarray(above_mm, float), (len(points),)), nearest)
    few = seen.thinned(FEW)
    pose, cost = _settled(few, start, reject)
    if look_round and cost > u_mm:  # else all lies within what is stated, and to lie still nearer is chance
        for other_start in _round_about(start, few.points):
            other, _ = _settled(seen.thinned(FEWER), other_start, reject, LOOKS, LOOKED_MM)
            other_cost = few.cost(other, reject)
            if other_cost < BETTER * cost:
                pose, cost = _settled(few, other, reject)
                doubt = "From the start given it settled in a wrong place; another fits better. Check it on a surface."
    pose, _ = _settled(seen.thinned(MANY), pose, reject, rounds=12, least_mm=CLOSELY_MM)
    return _solved_result(seen, pose, u_mm, reject, doubt, whose, names, errors)


def settled_near(points_world: Array, nearest: Nearest, start: Motion) -> Motion:
    """Points (n, 3) laid upon surfaces near a start; what lies far off does not count."""
    return _settled(_Seen(points_world, np.zeros(len(points_world)), nearest), start, True, rounds=20)[0]


def _round_about(start: Motion, points: Array) -> list[Motion]:
    """Further starts: a start rotated slightly about the centroid of the points, both ways about each axis."""
    middle = start.points(points.mean(axis=0))
    turns = [sign * np.radians(TURNS_DEG) * axis for axis in np.eye(3) for sign in (1, -1)]
    spun = [Motion(rotation(*t), middle - rotation(*t) @ middle) for t in turns]
    return [s @ start for s in spun]


@dataclass(frozen=True, eq=False)
class _Seen:
    """Points, how far each stands above its surface, and the surfaces."""

    points: Array
    above: Array
    nearest: Nearest

    def thinned(self, most: int) -> _Seen:
        """Evenly about so many."""
        step = max(1, len(self.points) // most)
        return _Seen(self.points[::step], self.above[::step], self.nearest)

    def cost(self, pose: Motion, reject: bool) -> float:
        """What a place leaves: the robust mean of the deviations."""
        off = np.abs(self.touches(pose, 1.0)[1])
        usual = np.median(off[off <= _limit(off, reject)])
        return float(np.mean(np.minimum(off, REJECT * usual + 1e-12)))

    def touches(self, pose: Motion, u_mm: float) -> tuple[Touches, Array]:
        moved = pose.points(self.points)
        feet, normals = self.nearest(moved)
        feet = feet + self.above[:, None] * normals
        deviations = np.einsum("ij,ij->i", moved - feet, normals)
        n = len(moved)
        ones = np.ones(n, np.int64)
        return Touches(self.points, feet, normals, np.full(n, u_mm), np.zeros(n, np.int64), ones), deviations


def _limit(deviations: Array, reject: bool) -> float:
    """Beyond which a point is not of these surfaces."""
    return REJECT * max(1.4826 * float(np.median(np.abs(deviations))), 1e-9) if reject else np.inf


def _kept(deviations: Array, reject: bool) -> NDArray[np.bool_]:
    return np.abs(deviations) <= _limit(deviations, reject)


def _settled(
    seen: _Seen, start: Motion, reject: bool, rounds: int = ROUNDS, least_mm: float = ROUGHLY_MM
) -> tuple[Motion, float]:
    """The place near a start, and what it leaves: the robust mean of the deviations."""
    pose, limit = Pose(start), 0.0
    for _ in range(rounds):
        touches, deviations = seen.touches(pose.motion, 1.0)
        linear = linearised(touches, pose)
        # a large face settles first: were the limit at once what is usual on it, the others would be left out for good
        limit = max(_limit(deviations, reject), limit / 2)
        keep = np.abs(deviations) <= limit
        rows = linear.jacobian[keep]
        normal = rows.T @ rows
        step = -np.linalg.lstsq(normal, rows.T @ deviations[keep], rcond=1e-9)[0].astype(float)
        size = float(np.linalg.norm(step))
        if size > 0.3 * linear.length:  # feet that far away say little
            step = step * float(0.3 * linear.length / size)
        pose = pose.stepped(step, linear.center, linear.length)
        if size < least_mm:
            break
    return pose.motion, seen.cost(pose.motion, reject)


def _contradiction(solved: Solved, u_mm: float, names: Sequence[str]) -> Contradiction | None:
    """Touches that contradict each other, each a hold of its own."""
    count = len(solved.touches)
    each = replace(solved, touches=replace(solved.touches, row=np.arange(count)))
    stated = Uncertainty.of_covariance(Source("hits", "touches"), u_mm**2 * np.eye(count))
    return contradiction_of(each, stated, names)


def _solved_result(
    seen: _Seen,
    motion: Motion,
    u_mm: float,
    reject: bool,
    doubt: str,
    whose: int | str,
    names: Sequence[str],
    errors: Errors | None,
) -> SurfaceAlignment:
    touches, deviations = seen.touches(motion, u_mm)
    used = _kept(deviations, reject)
    some = Touches(*(getattr(touches, name)[used] for name in ("world", "part", "directions", "u_mm", "row", "level")))
    solved = solve(some, Pose(motion))
    rms = float(np.sqrt(np.mean(deviations[used] ** 2)))
    if not doubt and rms > 4 * u_mm and len(used) > 6:
        doubt = (
            f"The points lie {mm(rms, '.2g')} off on average where {mm(u_mm, '.2g')} is expected: "
            "it may have settled in a wrong place. Start nearer, or hold it by picked targets first."
        )
    if not doubt and used.mean() < 0.7:
        doubt = f"{100 * (1 - used.mean()):.0f} % of the points were set aside: they may belong to something else."
    if errors is None:
        own = Uncertainty.of_covariance(Source("laid", whose), solved.covariance)
    else:
        own = errors.of_motion(solved, used, whose)
    uncertainty = own.through(solved.about_origin)
    if names and not reject and (found := _contradiction(solved, u_mm, names)) is not None:
        uncertainty, doubt = found.widened(uncertainty), " ".join(filter(None, (doubt, found.words)))
    return SurfaceAlignment(
        part_from_world=solved.pose.motion, uncertainty=uncertainty,
        ledger=_ledger(solved, used, names, doubt, uncertainty.covariance),
        residuals=_residuals(deviations, used, names), doubt=doubt, rests_at=some.part,
        solved=solved, deviations=deviations, used=used,
    )  # fmt: skip


def _ledger(solved: Solved, used: NDArray[np.bool_], names: Sequence[str], doubt: str, covariance: Array) -> HoldLedger:
    """The ledger: by touch where these have names, else for all points together."""
    if not names:
        return ledger_of(solved, ["points"], doubt, covariance=covariance)
    each = replace(solved, touches=replace(solved.touches, row=np.arange(len(solved.touches))))
    good_names = [name for name, good in zip(names, used, strict=True) if good]
    return ledger_of(each, good_names, doubt, covariance=covariance)


def _residuals(deviations: Array, used: NDArray[np.bool_], names: Sequence[str]) -> dict[str, Array]:
    if not names:
        return {"points": deviations[used]}
    return {name: deviations[k : k + 1] for k, name in enumerate(names) if used[k]}
