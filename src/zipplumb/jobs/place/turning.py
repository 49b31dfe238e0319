"""Remaining turns while a detail is being moved, from the reflector on one of its targets."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...core.frames import Array
from ...core.placing import Turn, progress
from ...core.sheet import SheetRow
from ...core.units import Units
from ..state.results import JobResults
from .adjuster_lines import AdjusterRecipe
from .details import PlacedDetail
from .details_text import turns_text, way_text
from .placement import REACH_MM, Missing, Placing, told

ENOUGH_MM = 0.005  # nobody turns a screw by less than moves so far


@dataclass(frozen=True, eq=False)
class Turning:
    """``seen``: by row of a target, where it was looked at last; ``carries``: by row, (k, 3) how each turn carries it;
    ``turns``: those, each with its adjuster.

    ``sighted``: takes a place in the part (in the world, while nothing is aligned) to the axes in which the targets are
    told. ``at_height``: where these are not the part's, by row what is missing at each place of those axes.
    """

    seen: Mapping[int, Array]
    carries: Mapping[int, Array]
    turns: tuple[tuple[AdjusterRecipe, Turn], ...]
    placing: Placing
    units: Units
    sighted: Callable[[Array], Array]
    at_height: Mapping[int, tuple[SheetRow, float, float]]

    @classmethod
    def of(cls, state: JobResults, now: PlacedDetail) -> Turning | None:
        """None where nothing is to be turned."""
        plan = now.plan
        if plan is None or not plan.turns:
            return None
        by_name = {a.name: a for a in now.recipe.adjusters}
        carries = {row: plan.carries[:, k] for k, row in enumerate(now.seen)}
        turns = tuple((by_name[t.name], t) for t in plan.turns)
        heights = {} if now.recipe.belongs.in_system else {
            row: (state.row(row), float(now.nominal[row][2]), now.zones[row]) for row in now.seen
        }  # fmt: skip
        sighted = now.recipe.belongs.sighted(state)
        return cls(now.seen, carries, turns, Placing.of_job(state.job), state.job.units, sighted, heights)

    def told(self, row: int, place: Array) -> dict[str, Any]:
        """Remaining turns from the present position of a row's target; None for a target that was not observed before."""
        if row not in self.seen:
            return {}
        found = progress(self.carries[row], self.sighted(np.asarray(place)) - self.seen[row])
        adjuster, turn = self.turns[found.turn]
        share = 1 - found.done
        left = turns_text(share * turn.turns, adjuster.step)
        hand = adjuster.hand(share * turn.turns)
        way = way_text(adjuster, share * turn.move_mm, self.placing, self.units)
        enough = share * abs(turn.move_mm) < ENOUGH_MM and found.turn == len(self.turns) - 1
        return {
            "turning": {
                "name": adjuster.name, "left": left, "hand": hand, "way": way, "enough": enough, "astray": found.astray,
            }
        }  # fmt: skip

    def height_told(self, state: JobResults, place: Array) -> dict[str, Any]:
        """How far the target on which the reflector rests is from its height; nothing where it rests on none of them."""
        if not self.at_height or not np.isfinite(place).all():
            return {}
        here = self.sighted(np.asarray(place))
        row = min(self.at_height, key=lambda each: float(np.linalg.norm(self.seen[each] - here)))
        if np.linalg.norm(self.seen[row] - here) > REACH_MM:
            return {}
        of, height, zone = self.at_height[row]
        return told(state, Missing(of, np.array([0.0, 0.0, height - here[2]]), zone))
