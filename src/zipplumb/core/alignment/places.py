"""Search for all poses of the part that satisfy the holds, and the choice among them.

From a start near one answer the touches find that one. A part that is nearly symmetric to what was touched
fits in several, and the right one is chosen by the sides from which it was touched, by how well the touches
fit, and by where centers lie along what they do not hold; where these leave several, a person has to say.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np
from scipy.spatial.transform import Rotation

from ..errors import AlignmentError
from ..features import axis_line, axis_of, center_point, point_of, spot_of
from ..frames import Array, Motion, unit
from ..shapes import Cone, Plane
from .aligned import Place
from .hold import KEPT, Hold, laid
from .ledger import motion_words
from .touches import Pose, Solved, solve

SIGNS = 6  # axes whose two senses are all tried
STARTS = 32
LIKELY = 0.8  # of the best start's score
TOLD = 0.05  # second singular value, by the first, from which directions tell the whole turn
TURNS = 12  # tried about the one direction that is told
SAME_START = 0.02  # rad, by which starts differ that surely lead to the same place
ALIKE = 1e-3  # two turns (rad), or two places by the touches' size, that are the same
EQUAL = 20.0  # of the weighted square sum: places that fit equally well
CLEARLY, ROOM_MM = 4.0, 1.0  # a place whose centers lie so much nearer to their nominals is the right one


def places_of(holds: Sequence[Hold], starts: Sequence[Motion], scale: float | None, strict: bool) -> list[Solved]:
    """All places that are found from some starts, the best first.

    Raises AlignmentError where none settles, or where in each a feature faces the wrong way.
    """
    factor, found, turned = 1.0 if scale is None else scale, list[Solved](), set[str]()
    held = laid(holds)
    for rough in starts:
        touches = held.touches(rough)
        begin = Pose(Motion(rough.rotation, rough.translation * factor), factor)
        try:
            one = solve(touches, begin, scale is None, strict)
        except AlignmentError:
            continue
        if wrong := _facing_wrong(holds, one.pose.motion):
            turned.update(wrong)
        elif not any(_same(holds, one, other) for other in found):
            found.append(one)
    if found:
        return sorted(found, key=_cost)
    if turned:
        raise AlignmentError(
            f"However the part lies, it would have been touched from inside the material: {', '.join(sorted(turned))}.",
            KEPT, "Look at the sides from which the features were touched, and at which is which.",
        )  # fmt: skip
    raise AlignmentError("The alignment did not settle.", KEPT, "Look for a feature that was mistaken for another.")


def chosen(holds: Sequence[Hold], places: Sequence[Solved], near: Motion | None) -> tuple[Solved, tuple[Place, ...]]:
    """The place that is right, and others that fit as well and are as likely; ``near``: a person's choice."""
    best = places[0]
    factor = max(1.0, best.variance_factor) if best.spare > 0 else 1.0
    equal = [p for p in places if _cost(p) - _cost(best) <= EQUAL * factor]
    if near is not None:
        return min(equal, key=lambda p: turn_between(p.pose.motion, near)), ()
    equal.sort(key=lambda p: _apart(holds, p))
    best = equal[0]
    limit = CLEARLY * _apart(holds, best) + ROOM_MM
    return best, tuple(
        place_beside(best.pose.motion, other.pose.motion) for other in equal[1:] if _apart(holds, other) <= limit
    )


def ambiguity_words(others: Sequence[Place]) -> str:
    """A sentence, where there are others."""
    if not others:
        return ""
    count = len(others) + 1
    return f"The holds fit {count} places equally well, so nothing judged here is proven. Say how the part lies."


def place_beside(best: Motion, other: Motion) -> Place:
    """Another place of the part, in words from the best. Both are part_from_world."""
    between = other @ best.inverse()
    turn = Rotation.from_matrix(between.rotation).as_rotvec()
    angle = float(np.linalg.norm(turn))
    if angle < ALIKE:
        return Place(motion_words(np.concatenate([between.translation, np.zeros(3)])), other)
    about = motion_words(np.concatenate([np.zeros(3), turn])).split(" through")[0].removeprefix("turns ")
    return Place(f"turned by {np.degrees(angle):.0f}° {about}", other)


def _cost(solved: Solved) -> float:
    return float(np.sum((solved.linear.residuals / solved.touches.u_mm) ** 2))


def _apart(holds: Sequence[Hold], solved: Solved) -> float:
    """How far centers, touched places and axes are from their nominals (mm, rms), also along what they do not hold."""
    ways = [(center_point(h.actual), spot_of(h.nominal), np.zeros(3)) for h in holds if point_of(h.actual) is not None]
    ways += [(_middle(h), axis_line(h.nominal).point, axis_line(h.nominal).direction) for h in holds if _has_axes(h)]
    if not ways:
        return 0.0
    actual, nominal, along = (np.array(side) for side in zip(*ways, strict=True))
    off = solved.pose.points(actual) - nominal
    off -= np.einsum("ij,ij->i", off, along)[:, None] * along
    return float(np.sqrt(np.mean(np.sum(off**2, axis=1))))


def _middle(hold: Hold) -> Array:
    """A place on a measured axis, in the middle of what was touched."""
    axis = axis_line(hold.actual)
    if hold.reach is None or not len(hold.reach):
        return axis.point
    return np.asarray(axis.point + ((hold.reach.mean(axis=0) - axis.point) @ axis.direction) * axis.direction)


def turn_between(one: Motion, other: Motion) -> float:
    return float(Rotation.from_matrix(one.rotation @ other.rotation.T).magnitude())


def _same(holds: Sequence[Hold], one: Solved, other: Solved) -> bool:
    if one.loose.shape[1] or other.loose.shape[1]:  # they may differ by what is loose: told by how the features lie
        first, second = (np.array([n @ s.pose.motion.rotation @ a for a, n in _directions(holds)]) for s in (one, other))
        return bool(np.all(np.abs(first - second) < 0.1))
    if turn_between(one.pose.motion, other.pose.motion) > ALIKE:
        return False
    middle = one.touches.world.mean(axis=0)[None]
    return float(np.linalg.norm(one.pose.points(middle) - other.pose.points(middle))) < ALIKE * max(one.linear.length, 1.0)


# ---- what the features tell of the part's turn --------------------------------------------------


def _facing(holds: Sequence[Hold]) -> list[tuple[str, Array, Array]]:
    """Names, and directions seen and nominal, of which the sense is known: from where the tip went, or from the shape."""
    found = []
    for hold in holds:
        if hold.facing is not None:
            found.append((hold.name, unit(hold.facing), hold.nominal.normal))
        elif isinstance(hold.actual, Plane) and isinstance(hold.nominal, Plane):
            found.append((hold.name, hold.actual.normal, hold.nominal.normal))
        elif isinstance(hold.actual, Cone) and isinstance(hold.nominal, Cone):
            found.append((hold.name, hold.actual.direction, hold.nominal.direction))
    return found


def _facing_wrong(holds: Sequence[Hold], part_from_world: Motion) -> list[str]:
    return [name for name, seen, nominal in _facing(holds) if nominal @ part_from_world.rotation @ seen < 0]


def _axes(holds: Sequence[Hold]) -> list[tuple[Array, Array]]:
    """Measured and nominal directions of axes whose sense is unknown."""
    return [
        (axis_line(h.actual).direction, axis_line(h.nominal).direction)
        for h in holds
        if _has_axes(h) and not (isinstance(h.actual, Cone) and isinstance(h.nominal, Cone))
    ]


def _directions(holds: Sequence[Hold]) -> list[tuple[Array, Array]]:
    return [(seen, nominal) for _, seen, nominal in _facing(holds)] + _axes(holds)


def _has_axes(hold: Hold) -> bool:
    return axis_of(hold.actual) is not None and axis_of(hold.nominal) is not None


def _has_centers(hold: Hold) -> bool:
    return point_of(hold.actual) is not None and point_of(hold.nominal) is not None


def rough_motions(holds: Sequence[Hold]) -> list[Motion]:
    """Rough places of the part, the likeliest first: centers upon centers, normals and axes upon theirs.

    Nothing tells the sense of an axis, so both are tried; and where the features tell one direction only, or
    none, so are turns about it, or all round.
    Source of the rotation: the singular values of G. Wahba's problem, SIAM Review 7 (1965).
    """
    pairs = [(center_point(h.actual), center_point(h.nominal)) for h in holds if _has_centers(h)]
    known = [(seen, nominal) for _, seen, nominal in _facing(holds)]
    axes = _axes(holds)
    places = pairs + [(axis_line(h.actual).point, axis_line(h.nominal).point) for h in holds if _has_axes(h)]
    places += [(spot_of(h.actual), h.nominal.point) for h in holds if isinstance(h.nominal, Plane)]
    scored = []
    for signs in itertools.product((1.0, -1.0), repeat=min(len(axes), SIGNS)):
        turned = [(s * a, n) for s, (a, n) in zip(signs, axes, strict=False)]
        scored += _turns(pairs, known + turned)
    best = max(score for score, _ in scored)
    likely = _unlike([turn for score, turn in sorted(scored, key=lambda pair: -pair[0]) if score >= LIKELY * best])
    evenly = np.unique(np.linspace(0, len(likely) - 1, STARTS).astype(int))
    actual, nominal = (np.array(side) for side in zip(*places, strict=True))
    return [Motion(turn, (nominal - actual @ turn.T).mean(axis=0)) for turn in (likely[k] for k in evenly)]


def _unlike(turns: Sequence[Array]) -> list[Array]:
    """The first of all that are nearly the same."""
    kept: list[Array] = []
    for turn in turns:
        cosine = (np.einsum("kij,ij->k", kept, turn) - 1) / 2 if kept else np.empty(0)
        if not np.any(cosine > np.cos(SAME_START)):
            kept.append(turn)
    return kept


def _turns(pairs, directions) -> list[tuple[float, Array]]:
    """Candidate rotations from the given directions, each with its agreement."""
    sum_, told = np.zeros((3, 3)), float(len(directions))
    if len(pairs) > 1:
        actual, nominal = (np.array(side) for side in zip(*pairs, strict=True))
        rel_a, rel_n = actual - actual.mean(axis=0), nominal - nominal.mean(axis=0)
        size = max(float(np.linalg.norm(rel_n)), 1e-9)
        sum_ += rel_n.T @ rel_a / size**2 * len(pairs)
        told += len(pairs)
    for actual, nominal in directions:
        sum_ += np.outer(nominal, actual)
    u, values, vt = np.linalg.svd(sum_)
    sign = float(np.sign(np.linalg.det(u) * np.linalg.det(vt))) or 1.0
    turn = (u * [1.0, 1.0, sign]) @ vt
    score = float(values @ [1.0, 1.0, sign])
    if not told or values[0] < 1e-9:
        return [(1.0, rotation) for rotation in Rotation.create_group("O").as_matrix()]
    if values[1] > TOLD * values[0]:
        return [(score, turn)]
    about = [Rotation.from_rotvec(angle * u[:, 0]).as_matrix() for angle in np.arange(TURNS) * 2 * np.pi / TURNS]
    return [(score, each @ turn) for each in about]
