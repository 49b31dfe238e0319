"""What a line scanner's maker states of it, and how a scanner is held: near, right or far."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

Held = Literal["near", "right", "far", "nothing"]
BORDER = 0.15  # of the clear range, at either end of which a hand that trembles loses the light


class ScannerHead(BaseModel):
    """As its maker states: the clear range along the light and the width of the line in its middle, mm; points a line, lines
    a second."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    nearest_mm: float = Field(gt=0, le=10_000)
    farthest_mm: float = Field(gt=0, le=10_000)
    width_mm: float | None = Field(None, gt=0, le=10_000)
    points: int | None = Field(None, gt=1, le=100_000)
    lines_s: float | None = Field(None, gt=0, le=100_000)

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.farthest_mm <= self.nearest_mm:
            raise ValueError("it is clear to where it begins")
        return self

    @property
    def apart_mm(self) -> float | None:
        """From one point of a line to the next, in the middle of the range."""
        return None if self.width_mm is None or self.points is None else self.width_mm / (self.points - 1)


@dataclass(frozen=True)
class HeldAt:
    """How far what the light meets is: ``away_mm`` along the light, and its ``share`` of the clear range, from 0 to 1."""

    held: Held
    away_mm: float
    share: float


def held_at(away_mm: float, nearest_mm: float, farthest_mm: float) -> HeldAt:
    """How a scanner is held whose light meets something so far away; NaN where nothing comes back."""
    if math.isnan(away_mm):
        return HeldAt("nothing", away_mm, math.nan)
    share = (away_mm - nearest_mm) / (farthest_mm - nearest_mm)
    held: Held = "near" if share < BORDER else "far" if share > 1 - BORDER else "right"
    return HeldAt(held, away_mm, min(max(share, 0.0), 1.0))
