"""A detail that lies on screws: how its nests go when these are turned."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from ...core.frames import Array, Motion
from ...core.placing.adjusters import Adjuster, answers_of


@dataclass
class OnScrews:
    """``play_mm`` of each screw; ``last``: which way each was turned last, on which its play lies."""

    nests: tuple[str, ...]
    screws: tuple[Adjuster, ...]
    play_mm: tuple[float, ...]
    last: dict[str, int] = field(default_factory=dict)

    @classmethod
    def of_data(cls, raw: Mapping[str, Any]) -> OnScrews:
        screws = tuple(
            Adjuster(a["name"], np.array(a["place"], float), np.array(a["direction"], float), float(a["mm_per_turn"]))
            for a in raw["adjusters"]
        )
        return cls(tuple(raw["nests"]), screws, tuple(float(a["play_mm"]) for a in raw["adjusters"]))

    def turned(self, turns: Mapping[str, float], nests: Mapping[str, Array]) -> dict[str, Array]:
        """Where its nests are after some turns, by screw. Raises KeyError for a screw that it has not."""
        if unknown := set(turns) - {s.name for s in self.screws}:
            raise KeyError(f"no screw {sorted(unknown)[0]}")
        moves = np.array(
            [self._moved(s, play, turns.get(s.name, 0.0)) for s, play in zip(self.screws, self.play_mm, strict=True)]
        )
        places = np.array([nests[name] for name in self.nests])
        about = places.mean(axis=0)
        motion, *_ = np.linalg.lstsq(answers_of(self.screws, about), moves, rcond=None)
        turn = Rotation.from_rotvec(motion[3:]).as_matrix()
        moved = Motion(turn, about + motion[:3] - turn @ about).points(places)
        return dict(zip(self.nests, moved, strict=True))

    def _moved(self, screw: Adjuster, play_mm: float, turns: float) -> float:
        way = int(np.sign(turns))
        if way == 0:
            return 0.0
        lost = play_mm if self.last.get(screw.name, way) != way else 0.0
        self.last[screw.name] = way
        return way * max(abs(turns) * screw.mm_per_turn - lost, 0.0)
