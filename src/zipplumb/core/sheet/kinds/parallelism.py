"""Parallelism to a datum."""

from __future__ import annotations

from typing import Literal

from ..toleranced.orientation import SQUARE, OrientationRecipe


class ParallelismRecipe(OrientationRecipe):
    kind: Literal["parallelism"] = "parallelism"
    round_zone = True

    def angle(self, alike: bool) -> float:
        return 0.0 if alike else SQUARE


KIND = ParallelismRecipe
