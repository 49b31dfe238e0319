"""What is left to be turned while a detail is being moved: by the reflector that rests on one of its targets."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...core.frames import Array
from ...core.placing import Turn, progress
from ...core.units import Units
from ..state.results import JobResults
from .adjuster_lines import AdjusterRecipe
from .details import PlacedDetail
from .details_text import turns_text, way_text
from .placement import Placing

ENOUGH_MM = 0.005  # nobody turns a screw by less than moves so far


@dataclass(frozen=True, eq=False)
class Turning:
    """``seen``: by row of a target, where it was looked at last; ``carries``: by row, (k, 3) how each turn carries it;
    ``turns``: those, each with its adjuster."""

    seen: Mapping[int, Array]
    carries: Mapping[int, Array]
    turns: tuple[tuple[AdjusterRecipe, Turn], ...]
    placing: Placing
    units: Units

    @classmethod
    def of(cls, state: JobResults, now: PlacedDetail) -> Turning | None:
        """None where nothing is to be turned, or where it is told in other axes than those of the active system."""
        plan = now.plan
        if plan is None or not plan.turns or not now.recipe.belongs.in_system:
            return None
        by_name = {a.name: a for a in now.recipe.adjusters}
        carries = {row: plan.carries[:, k] for k, row in enumerate(now.seen)}
        turns = tuple((by_name[t.name], t) for t in plan.turns)
        return cls(now.seen, carries, turns, Placing.of_job(state.job), state.job.units)

    def told(self, row: int, place_part: Array) -> dict[str, Any]:
        """What is left, by where the target of a row is now; nothing of a target that was not looked at."""
        if row not in self.seen:
            return {}
        found = progress(self.carries[row], np.asarray(place_part) - self.seen[row])
        adjuster, turn = self.turns[found.turn]
        share = 1 - found.done
        left = turns_text(share * turn.turns, adjuster.step)
        way = way_text(adjuster, share * turn.move_mm, self.placing, self.units)
        enough = share * abs(turn.move_mm) < ENOUGH_MM and found.turn == len(self.turns) - 1
        return {"turning": {"name": adjuster.name, "left": left, "way": way, "enough": enough, "astray": found.astray}}
