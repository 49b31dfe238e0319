"""Best fit with holds: features that hold the part in chosen directions, one by one or level by level."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..errors import AlignmentError
from ..frames import Array, Motion
from ..uncertainty import Source, Uncertainty
from .aligned import Alignment
from .contradiction import contradiction_of
from .hold import KEPT, Hold
from .ledger import ledger_of
from .places import ambiguity_words, chosen, places_of, rough_motions
from .touches import Solved


@dataclass(frozen=True, eq=False, kw_only=True)
class HoldsAlignment(Alignment):
    """``solved``: the touches that the holds came down to, and where they put the part."""

    solved: Solved


def align_holds(
    holds: Sequence[Hold],
    start: Motion | None = None,
    scale: float | None = 1.0,
    strict: bool = False,
    near: Motion | None = None,
    u_scale: float = 0.0,
) -> HoldsAlignment:
    """The part's place from features that hold it.

    Parameters
    ----------
    start : a rough part_from_world; by default places are looked for from all that the features tell
    scale : of world lengths, held; None where it is free
    strict : levels are datums of a drawing: each takes all that its nominal geometry can hold (ISO 5459)
    u_scale : standard uncertainty of a scale that is held
    near : a part_from_world that a person has chosen where several places are equally good

    Raises
    ------
    AlignmentError
        No holds, a feature that cannot hold as asked, an alignment that does not settle, or one in which
        a feature would have been touched from inside the material.

    Examples
    --------
    Three balls hold the part: the first in X, Y and Z, the second in Y and Z, the third in Z.

    >>> from zipplumb.core.shapes import Point
    >>> nominal = np.array([[0, 0, 0], [600, 0, 0], [0, 400, 0]], float)
    >>> actual = nominal + [2000.0, -500.0, 30.0]
    >>> ways = ("XYZ", "YZ", "Z")
    >>> holds = [Hold(f"Ball {k}", Point(nominal[k]), Point(actual[k]), tuple(ways[k]), 0.02) for k in range(3)]
    >>> found = align_holds(holds)
    >>> found.part_from_world.translation.round(6).tolist(), found.ledger.rank, found.ledger.spare
    ([-2000.0, 500.0, -30.0], 6, 0)
    """
    if not holds:
        raise AlignmentError("Nothing holds the part.", KEPT, "Choose features, and the directions in which they hold.")
    places = places_of(holds, [start] if start is not None else rough_motions(holds), scale, strict)
    best, others = chosen(holds, places, near)
    uncertainty = _uncertainty(holds, best)
    if u_scale and scale is not None:
        uncertainty = uncertainty.through(np.eye(7)[:, :6]) + Uncertainty(7, {Source("temperature"): u_scale * _of_scale(best)})
    names = [h.name for h in holds]
    contradiction = None if strict else contradiction_of(best, _of_residuals(holds, best), names)
    if contradiction is not None:
        uncertainty = contradiction.widened(uncertainty)
    doubt = " ".join(filter(None, (ambiguity_words(others), contradiction.words if contradiction else "")))
    residuals = {h.name: best.linear.residuals[best.touches.row == k] for k, h in enumerate(holds)}
    return HoldsAlignment(
        part_from_world=best.pose.motion, uncertainty=uncertainty, scale=best.pose.scale, residuals=residuals, solved=best,
        ledger=ledger_of(best, names, doubt, strict, uncertainty.covariance), doubt=doubt, others=others,
    )  # fmt: skip


def _uncertainty(holds: Sequence[Hold], solved: Solved) -> Uncertainty:
    """Uncertainty of the small motion at the part's origin: what each source does to the touches, through their gain."""
    return _of_residuals(holds, solved).through(-solved.about_origin @ solved.gain)


def _of_scale(solved: Solved) -> Array:
    """(7, 1): how the part moves about its origin, and grows, where the scale is larger than it was taken to be."""
    center = solved.linear.center
    away = np.einsum("ij,ij->i", solved.pose.points(solved.touches.world) - center, solved.touches.directions)
    moved = -solved.about_origin @ solved.gain @ away
    return np.concatenate([moved[:3] - center, moved[3:], [1.0]])[:, None]


def _of_residuals(holds: Sequence[Hold], solved: Solved) -> Uncertainty:
    """How all the touches' residuals may differ, by source."""
    count = len(solved.touches)
    total = Uncertainty(count)
    for k, hold in enumerate(holds):
        mine = solved.touches.row == k
        total = total + _residuals(k, hold, solved, mine).through(np.eye(count)[:, mine])
    return total


def _residuals(k: int, hold: Hold, solved: Solved, mine: Array) -> Uncertainty:
    """How the residuals of one hold's touches may differ, by source."""
    touches, count = solved.touches, int(mine.sum())
    if hold.feature is None:
        return Uncertainty(count, {Source("hold", f"{k + 1} {hold.name}"): np.diag(touches.u_mm[mine])})
    local = hold.feature.local
    x, y, z = local.inverse().points(touches.world[mine]).T
    levers = np.zeros((count, 3, 6))
    levers[:, [0, 1, 2], [0, 1, 2]] = 1.0
    levers[:, 0, 4], levers[:, 0, 5] = z, -y
    levers[:, 1, 3], levers[:, 1, 5] = -z, x
    levers[:, 2, 3], levers[:, 2, 4] = y, -x
    toward = touches.directions[mine] @ (solved.pose.scale * solved.pose.motion.rotation @ local.rotation)
    rows = np.zeros((count, hold.feature.uncertainty.size))
    rows[:, :6] = np.einsum("ni,nij->nj", toward, levers)
    found = hold.feature.uncertainty.through(rows)
    return found + Uncertainty(count, {s: np.full((count, 1), -u) for s, u in hold.nominal_terms.items()})
